//! `bexum demo`: the demo estate, and a walk through the job on it.
//!
//! Each step runs this very program on the estate just written, so that what is shown is what the
//! command prints.

use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::Context as _;
use include_dir::{Dir, include_dir};

use super::init::{quoted, write_estate};
use crate::exit::Exit;
use crate::render::style::{self, paint, safe};
use crate::terminal;

static DEMO: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/demo");

/// What is said before a command, and the command's arguments.
struct DemoStep {
    say: &'static str,
    run: &'static [&'static str],
    /// A file that is there for this step alone.
    with: Option<(&'static str, &'static str)>,
    /// Whether the estate as it was is the last commit of a git repository, for this step alone.
    under_git: bool,
}

/// Rights given in haste.
const QUICK_FIX: &str = r#"[policy.quick-fix]
about = "so that the nightly run can fetch pointing keys"
[[policy.quick-fix.allow]]
do = "secret.open"
when = "given.ip within '10.20.0.0/16'"

[[attach]]
policy = "quick-fix"
to = "role:reader"
at = "veyra/core/vault/dish-keys"
"#;

/// Steps with a moment of their own would change their answers as the years pass.
const AT: &str = "2026-10-05T20:00:00Z";
/// The moment from which the log of half a year is looked at.
const LOOKED_AT: &str = "2026-11-26T00:00:00Z";

const WALK: &[DemoStep] = &[
    DemoStep {
        say: "The platform as a tree of scopes. Rights are given at a scope and reach downward.",
        run: &["show", "scopes"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Sol helps out with the nightly run. Can she submit a job to it?",
        run: &["ask", "user:sol", "job.submit", "veyra/survey/reduction/nightly/spectra-0412"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "The nearest miss names the group. Before adding her: what if she were in it?",
        run: &[
            "ask",
            "user:sol",
            "job.submit",
            "veyra/survey/reduction/nightly/spectra-0412",
            "--also",
            "group:nightly-crew",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "And what should still not work: the same crew member, one namespace further.",
        run: &[
            "ask",
            "user:sol",
            "job.submit",
            "veyra/survey/reduction/imaging/cube-7",
            "--also",
            "group:nightly-crew",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Tomas tidies the archive, so one group lets him erase. Everyone is held to another rule.",
        run: &[
            "ask",
            "user:tomas",
            "recording.erase",
            "veyra/survey/spectra/imaging/run-0412.fits",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Lin sees all of the cluster, and operates one namespace of it. Above:",
        run: &["ask", "user:lin", "job.cancel", "veyra/survey/reduction/transit/search-3"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "What would have it allowed, and what else would each way open? The least comes first.",
        run: &[
            "ways",
            "user:lin",
            "job.cancel",
            "veyra/survey/reduction/transit/search-3",
            "--at-time",
            AT,
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "The fourth is to put her into the team. Seen before it is made:",
        run: &[
            "ways",
            "user:lin",
            "job.cancel",
            "veyra/survey/reduction/transit/search-3",
            "--at-time",
            AT,
            "--apply",
            "4",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Below:",
        run: &["ask", "user:lin", "job.cancel", "veyra/survey/reduction/nightly/spectra-0412"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Mirek wants to point a dish. Nobody said what the wind does, and doubt never grants.",
        run: &["ask", "user:mirek", "dish.point", "veyra/instruments/mesa/dish-1"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "With the wind known:",
        run: &[
            "ask",
            "user:mirek",
            "dish.point",
            "veyra/instruments/mesa/dish-1",
            "--given",
            "wind=12",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "The keys to the dishes are sealed off. Amara runs the platform; the seal shuts her out.",
        run: &[
            "ask",
            "user:amara",
            "secret.open",
            "veyra/core/vault/dish-keys/dish-1",
            "--given",
            "device.managed=true",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Noor opens them as a dish keeper, with a second factor, from the site's network.",
        run: &[
            "ask",
            "user:noor",
            "secret.open",
            "veyra/core/vault/dish-keys/dish-1",
            "--as",
            "role:dish-keeper",
            "--given",
            "mfa=true",
            "--given",
            "ip=10.20.4.7",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Juno is a guest of the transit team; a ceiling bounds whatever visitors are given.",
        run: &[
            "ask",
            "user:juno",
            "job.submit",
            "veyra/survey/reduction/transit/search-3",
            "--at-time",
            AT,
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Everything that Lin can do in the survey, level by level:",
        run: &["reach", "user:lin", "--at", "veyra/survey"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Before and after, side by side: Sol, and Sol in the crew.",
        run: &[
            "reach",
            "user:sol",
            "--beside",
            "--also group:nightly-crew",
            "--at",
            "veyra/survey/reduction",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Who can erase recordings, and where? What depends is said.",
        run: &["reach", "--do", "recording.erase"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "What must work and what must not is written down, with laws about everybody. All of it, tried:",
        run: &["prove", "--at-time", AT],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "One evening somebody adds a policy in haste. A law knows who else gets in by it:",
        run: &["prove", "no key*", "--at-time", AT],
        with: Some(("quick-fix.toml", QUICK_FIX)),
        under_git: false,
    },
    DemoStep {
        say: "And held against the last commit, what it does to everybody; a check of proposed changes fails on it:",
        run: &["impact", "HEAD", "--fail-on", "gained", "--at-time", AT],
        with: Some(("quick-fix.toml", QUICK_FIX)),
        under_git: true,
    },
    DemoStep {
        say: "A colleague arrives. What would change in the files, and what can they do then?",
        run: &[
            "edit",
            "new",
            "user:pim",
            "--full-name",
            "Pim Adair",
            "--place",
            "veyra/people",
            "--manager",
            "user:tomas",
            "--attribute",
            "team=imaging",
            "--write",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "What would they read, if they were in the imaging group?",
        run: &[
            "ask",
            "user:pim",
            "recording.read",
            "veyra/survey/spectra/imaging/run-0412.fits",
            "--suppose",
            "add user:pim --to group:imaging",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Tomas owns the imaging group, but not these files. May he let them in? Nothing is opened that he cannot do himself, so it is written:",
        run: &["edit", "add", "user:pim", "--to", "group:imaging", "--by", "user:tomas", "--write"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "A policy like another, without the right to write:",
        run: &[
            "edit",
            "copy",
            "policy:team-curator",
            "policy:team-reader",
            "--drop",
            "recording.put",
            "--write",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "And attached to them for a season, which ends by itself:",
        run: &[
            "edit",
            "attach",
            "policy:team-reader",
            "--to",
            "user:pim",
            "--at",
            "veyra/survey",
            "--lasting",
            "90d",
            "--write",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "One page for them: what they are in, what they can do, until when, whom to ask.",
        run: &["show", "handover", "user:pim"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Dag left in spring, and is disabled. What is still there of him goes, too:",
        run: &["edit", "delete", "user:dag", "--with-uses", "--hand-over", "user:tomas"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "And unasked: what is not right here? What is known and fine was accepted, with a reason.",
        run: &["vet", "--at-time", AT],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "What is over hides what is not. All that mends it, seen before it is made:",
        run: &["vet", "--fix", "over", "--at-time", AT],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "A log of half a year says what was used, and what never:",
        run: &["usage", "log.ndjson", "--by", "membership", "--at-time", LOOKED_AT],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "What may go from two groups, so that all of the log still works and nobody gains anything:",
        run: &[
            "trim",
            "group:archive-keepers",
            "group:imaging",
            "--log",
            "log.ndjson",
            "--at-time",
            LOOKED_AT,
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "But the owners know better: they are asked, with what helps to answer.",
        run: &[
            "review",
            "new",
            "imaging-2026-q4",
            "--of",
            "group:imaging",
            "--by",
            "owners",
            "--until",
            "2026-12-10",
            "--log",
            "log.ndjson",
            "--at-time",
            LOOKED_AT,
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Tomas answers,",
        run: &[
            "review",
            "answer",
            "imaging-2026-q4",
            "user:petra",
            "--of",
            "group:imaging",
            "remove",
            "--by",
            "user:tomas",
            "--why",
            "works at the dishes",
            "--at-time",
            "2026-11-27T10:00:00Z",
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "and what follows is an edit like any other.",
        run: &["review", "close", "imaging-2026-q4", "--at-time", "2026-12-11T00:00:00Z"],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Lin cannot sign in to the gallery, although she is in imaging:",
        run: &["claims", "user:lin", "gallery", "--at-time", AT],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "The personnel office has everybody: its people carry its name from now on.",
        run: &[
            "import",
            "office/october.json",
            "--source",
            "office",
            "--adopt",
            "--write",
            "--at-time",
            AT,
        ],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "In November Eun has left, and is no longer in the list. What that closes:",
        run: &["import", "office/november.csv", "--source", "office", "--at-time", LOOKED_AT],
        with: None,
        under_git: false,
    },
    DemoStep {
        say: "Everything that reaches one person, and from where:",
        run: &["show", "user:lin", "--at-time", AT],
        with: None,
        under_git: false,
    },
];

/// A git repository in the demo's folder with one commit, gone when it is dropped.
struct Repository(PathBuf);

impl Repository {
    /// `None` where `git` is missing or fails.
    fn new(dir: &Path) -> Option<Self> {
        let git = |arguments: &[&str]| {
            let mut command = Command::new("git");
            command.arg("-C").arg(dir).args([
                "-c",
                "user.name=demo",
                "-c",
                "user.email=demo@example.org",
            ]);
            let output = command.args(arguments).output();
            output.is_ok_and(|output| output.status.success()).then_some(())
        };
        git(&["init", "--quiet"])?;
        let repository = Self(dir.join(".git"));
        git(&["add", "--all"])?;
        git(&[
            "commit",
            "--quiet",
            "--no-gpg-sign",
            "--no-verify",
            "--message",
            "the estate as it was",
        ])?;
        Some(repository)
    }
}

impl Drop for Repository {
    fn drop(&mut self) {
        // A folder that stays behind is only untidy.
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

pub(super) fn run(dir: Option<PathBuf>) -> anyhow::Result<Exit> {
    let dir = match dir {
        Some(dir) => dir,
        None => tempfile::Builder::new()
            .prefix("veyra-")
            .tempdir()
            .context("cannot make a temporary folder")?
            .keep(),
    };
    write_estate(&DEMO, &dir)?;
    terminal::print(&format!(
        "The demo estate is in {}\n",
        paint(style::NAME, &safe(&dir.display().to_string()))
    ))?;
    let program = std::env::current_exe().context("cannot find this program")?;
    for step in WALK {
        let typed: Vec<String> = step.run.iter().map(|arg| quoted(arg.as_ref())).collect();
        terminal::print(&format!("\n{}\n", paint(style::HEADING, &format!("# {}", step.say))))?;
        let repository = if step.under_git { Repository::new(&dir) } else { None };
        if step.under_git && repository.is_none() {
            terminal::print("(left out: there is no `git` here)\n")?;
            continue;
        }
        if let Some((name, text)) = step.with {
            std::fs::write(dir.join(name), text)
                .with_context(|| format!("cannot write `{name}`"))?;
            terminal::print(&format!("{}\n{text}\n", paint(style::QUIET, &format!("# {name}"))))?;
        }
        let typed = format!("$ bexum {}\n", typed.join(" "));
        terminal::print(&paint(style::QUIET, &typed))?;
        let output = Command::new(&program)
            .args(step.run)
            .args(["--color", "always"])
            .env("COLUMNS", terminal::width().to_string())
            .current_dir(&dir)
            .output()
            .context("cannot run a step")?;
        terminal::print(&String::from_utf8_lossy(&output.stdout))?;
        terminal::print(&String::from_utf8_lossy(&output.stderr))?;
        if let Some((name, _)) = step.with {
            std::fs::remove_file(dir.join(name))
                .with_context(|| format!("cannot take `{name}` away again"))?;
        }
    }
    terminal::print(&format!(
        "\n{}\n  cd {}\n  bexum show\n  bexum ask --help\n",
        paint(style::HEADING, "# Now you: change a file, ask again."),
        quoted(&dir),
    ))?;
    Ok(Exit::Done)
}
