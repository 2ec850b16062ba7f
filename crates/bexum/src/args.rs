//! The command line, as typed.

pub(crate) mod claims;
pub(crate) mod edit;
pub(crate) mod import;
pub(crate) mod review;
pub(crate) mod trim;
pub(crate) mod usage;
pub(crate) mod vet;
pub(crate) mod ways;

use std::path::PathBuf;

use clap::error::{ContextKind, ContextValue};
use clap::{Args as ClapArgs, CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};
use clap_complete::ArgValueCandidates;

use crate::command::complete;
use crate::exit::{self, Exit};
use crate::render::style::safe;
use crate::terminal;

/// Write identity policies as files, ask what they decide, and read why.
#[derive(Debug, Parser)]
#[command(name = "bexum", version, max_term_width = 100, after_help = exit::HELP)]
#[command(disable_help_subcommand = true)]
pub(crate) struct Args {
    /// The estate's folder; else the nearest one at or above the current folder
    #[arg(short = 'C', long = "estate", value_name = "DIR", global = true)]
    pub(crate) estate: Option<PathBuf>,
    /// When to use colour
    #[arg(long = "color", value_name = "WHEN", value_enum, default_value_t = Colour::Auto, global = true)]
    pub(crate) colour: Colour,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// When to use colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Colour {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// How to write the output.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    Text,
    /// For machines, in a versioned shape
    Json,
}

impl Format {
    /// Whether machines are to read it.
    pub(crate) fn is_json(self) -> bool {
        self == Self::Json
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Ask(Ask),
    Ways(Box<ways::Ways>),
    Replay(Replay),
    Reach(Reach),
    Impact(Impact),
    Edit(Box<edit::Edit>),
    Vet(Box<vet::Vet>),
    Usage(Box<usage::Usage>),
    Trim(Box<trim::Trim>),
    Review(Box<review::Review>),
    Claims(Box<claims::Claims>),
    Import(Box<import::Import>),
    Export(Box<import::Export>),
    Prove(Prove),
    Show(Show),
    Demo(Demo),
    Init(Init),
    /// Print a completion script for a shell
    ///
    /// In bash, zsh and fish it completes the names of the estate too: users, groups, roles,
    /// policies, actions, paths.
    #[command(
        after_help = "Example:\n  bexum completions bash > ~/.local/share/bash-completion/completions/bexum"
    )]
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Say what the last of these words may be; completion scripts ask this
    #[command(hide = true)]
    Words {
        /// The command line so far
        #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
        line: Vec<std::ffi::OsString>,
    },
    /// Print the manual: the page of the program and of every command, or of one
    #[command(after_help = "Examples:\n  bexum man > bexum.1\n  bexum man ask > bexum-ask.1")]
    Man {
        /// A command; else all of them
        command: Option<String>,
    },
}

/// Ask whether somebody may do something, and why
///
/// The answer comes first, then what decided it: which statement of which policy, how it reaches
/// this principal, where it is attached, what it outranked. A refusal says what is missing.
#[derive(Debug, ClapArgs)]
#[command(after_help = ASK_EXAMPLES)]
pub(crate) struct Ask {
    #[command(flatten)]
    pub(crate) question: Question,
    /// Keep the question and its answer as a `[[check]]` of this name, for `bexum prove`
    #[arg(long, value_name = "NAME")]
    pub(crate) save_check: Option<String>,
    /// The file for it, from the estate's root; else the one that holds the last check, or a new
    /// `checks.toml`
    #[arg(long, value_name = "FILE", requires = "save_check")]
    pub(crate) save_to: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) supposed: edit::Supposed,
    /// How to write the answer
    #[arg(long, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
}

/// A request.
#[derive(Clone, Debug, ClapArgs)]
pub(crate) struct Question {
    /// Who asks: user:NAME, resource:PATH, group:NAME or role:NAME
    #[arg(add = ArgValueCandidates::new(complete::who))]
    pub(crate) who: String,
    /// What for: an action, KIND.VERB
    #[arg(add = ArgValueCandidates::new(complete::actions))]
    pub(crate) action: String,
    /// On what: a path
    #[arg(add = ArgValueCandidates::new(complete::paths))]
    pub(crate) path: String,
    #[command(flatten)]
    pub(crate) circumstances: Circumstances,
    /// An attribute of the item itself
    #[arg(long, value_name = "KEY=VALUE")]
    pub(crate) item: Vec<String>,
}

/// Everything of a request but who, what and where.
#[derive(Clone, Debug, Default, ClapArgs)]
pub(crate) struct Circumstances {
    /// A role to take up
    #[arg(long = "as", value_name = "ROLE", add = ArgValueCandidates::new(complete::roles))]
    pub(crate) take_up: Option<String>,
    /// Suppose that the principal is in this group too
    #[arg(long, value_name = "GROUP", add = ArgValueCandidates::new(complete::groups))]
    pub(crate) also: Vec<String>,
    /// Bound this session by a policy
    #[arg(long, value_name = "POLICY", add = ArgValueCandidates::new(complete::policies))]
    pub(crate) under: Vec<String>,
    /// A circumstance: mfa=true, count=3, site=mesa, nets='["10.0.0.0/8"]'; `mfa=` says absent
    #[arg(long, value_name = "KEY=VALUE")]
    pub(crate) given: Vec<String>,
    /// Circumstances as a JSON object, from a file or `-` for standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) given_from: Option<PathBuf>,
    /// The claims of a token as circumstances: JSON, or a signed token, whose signature is not checked
    #[arg(long, value_name = "FILE")]
    pub(crate) claims: Option<PathBuf>,
    /// The moment of the request instead of now: 2026-03-01T08:00:00Z
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
}

const ASK_EXAMPLES: &str = "\
Examples:
  bexum ask user:ines recording.read veyra/survey/spectra/run-0412.fits
  bexum ask user:sol job.submit veyra/survey/reduction/nightly/x --also group:nightly-crew
  bexum ask user:noor secret.open veyra/core/vault/dish-keys/dish-1 --as role:dish-keeper --given mfa=true
  bexum ask user:ines recording.erase veyra/survey/spectra/run-0412.fits --format json
  bexum ask user:sol job.submit veyra/survey/reduction/imaging/cube-7 --save-check 'sol stays out'

Exit codes: 0 allowed, 1 denied, 2 error";

/// Answer many requests: one JSON object a line in, one answer a line out, in order
///
/// A line is {"who":…, "does":…, "on":…} with, optionally, "as", "also", "under", "given", "item"
/// and "id". A line that is an error is answered with {"id":…, "error":…}
/// and the run goes on. The last line on standard error says how many there were of each.
#[derive(Debug, ClapArgs)]
#[command(after_help = REPLAY_EXAMPLES)]
pub(crate) struct Replay {
    /// Requests as NDJSON; `-` or nothing reads standard input
    #[arg(value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// Name the statements that decided each answer
    #[arg(long)]
    pub(crate) why: bool,
    /// End with exit code 2 if any line was an error
    #[arg(long)]
    pub(crate) strict: bool,
    /// The time of requests that give none, instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
    /// How many threads answer; else as many as there are cores
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u8).range(1..=64))]
    pub(crate) threads: Option<u8>,
}

const REPLAY_EXAMPLES: &str = "\
Examples:
  bexum replay requests.ndjson > answers.ndjson
  echo '{\"who\":\"user:ines\",\"does\":\"store.list\",\"on\":\"veyra/survey/spectra\"}' | bexum replay --why";

/// Try every check, law and separation that the estate's files hold
///
/// A `[[check]]` is asked as it stands. A `[[never]]` or `[[always]]` is decided by analysis, for
/// everybody concerned, whatever the circumstances and the moment; when it is broken, one request
/// that breaks it is shown, with the least given that does. An `[[apart]]` says what nobody may
/// have together.
#[derive(Debug, ClapArgs)]
#[command(after_help = PROVE_EXAMPLES)]
pub(crate) struct Prove {
    /// Only those of these names; `*` stands for any letters
    #[arg(add = ArgValueCandidates::new(complete::expectations))]
    pub(crate) names: Vec<String>,
    /// How to write the report
    #[arg(long, value_enum, default_value_t = ProofFormat::Text)]
    pub(crate) format: ProofFormat,
    /// The time of checks that name none, instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
    /// Name everybody who breaks a law, with a request of each, not one alone
    #[arg(long)]
    pub(crate) everybody: bool,
    /// Try again at each change of a file
    #[arg(long)]
    pub(crate) watch: bool,
    #[command(flatten)]
    pub(crate) supposed: edit::Supposed,
}

/// How to write what came of expectations.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ProofFormat {
    /// For people
    Text,
    /// For machines, in a versioned shape
    Json,
    /// For build servers: JUnit XML
    Junit,
}

const PROVE_EXAMPLES: &str = "\
Examples:
  bexum prove
  bexum prove 'visitors*' --watch
  bexum prove --format junit > expectations.xml

Exit codes: 0 all hold, 1 some are broken or not decided, 2 error";

/// See effective access: all that somebody can do, everybody who can do something
///
/// With WHO: everything that this principal can do, over the tree of scopes; several, or --beside,
/// stand side by side, and --do or --level says which actions matter. With --at alone: who can do what there. With --do or --level: who can do
/// that, and where. Each cell is allowed, denied, or depends on circumstances that are not given.
/// What a role adds that somebody can take up stands apart, with the role's name.
#[derive(Debug, ClapArgs)]
#[command(after_help = REACH_EXAMPLES)]
pub(crate) struct Reach {
    /// Whose access: user:NAME, group:NAME, role:NAME or resource:PATH; several stand side by side
    #[arg(add = ArgValueCandidates::new(complete::who))]
    pub(crate) who: Vec<String>,
    /// One more column, the first principal in other circumstances: '--also group:crew', or with a
    /// principal of its own: 'user:sol --given mfa=true'
    #[arg(long, value_name = "OPTIONS", requires = "who", allow_hyphen_values = true)]
    pub(crate) beside: Vec<String>,
    /// Only here and below; without WHO, --do and --level: who can do what at this path
    #[arg(long = "at", value_name = "PATH", add = ArgValueCandidates::new(complete::paths))]
    pub(crate) path: Option<String>,
    /// Who can do this, and where: an action or a pattern of actions, as in `do`; with WHO, only
    /// these
    #[arg(long = "do", value_name = "ACTION", add = ArgValueCandidates::new(complete::actions))]
    pub(crate) action: Vec<String>,
    /// Who can do anything of this level, and where; with WHO, only what is of this level
    #[arg(long, value_name = "LEVEL", conflicts_with = "action", add = ArgValueCandidates::new(complete::levels))]
    pub(crate) level: Option<String>,
    /// Only what this principal would see: where it can do anything of level observe
    #[arg(long, requires = "who")]
    pub(crate) sees: bool,
    /// Only rows in which what stands side by side differs
    #[arg(long, requires = "who")]
    pub(crate) changed: bool,
    /// Leave out what is open only to somebody who takes up a role
    #[arg(long)]
    pub(crate) without_roles: bool,
    /// Name the actions instead of counting them
    #[arg(long)]
    pub(crate) full: bool,
    /// Name every route by which an action is held
    #[arg(long)]
    pub(crate) sources: bool,
    #[command(flatten)]
    pub(crate) circumstances: Circumstances,
    /// How to write it
    #[arg(long, value_enum, default_value_t = ReachFormat::Text)]
    pub(crate) format: ReachFormat,
    #[command(flatten)]
    pub(crate) supposed: edit::Supposed,
}

/// How to write effective access.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ReachFormat {
    /// For people
    Text,
    /// For machines, in a versioned shape
    Json,
    /// A row for each principal, role taken up, place and action that is not denied
    Csv,
    /// A page by itself, with a heat map and a search
    Html,
    /// The heat map alone
    Svg,
}

const REACH_EXAMPLES: &str = "\
Examples:
  bexum reach user:lin
  bexum reach user:lin --at veyra/survey/reduction --full --sources
  bexum reach user:sol --beside '--also group:nightly-crew'
  bexum reach user:ines user:rafi --changed
  bexum reach user:lin --level alter
  bexum reach user:juno --sees
  bexum reach --at veyra/core/vault/dish-keys
  bexum reach --do recording.erase
  bexum reach --level govern --format csv
  bexum reach user:lin --format html > lin.html";

/// What a change does: who can do more, who less, and where
///
/// Two estates are held beside each other, every session, place and action of both. BEFORE and AFTER
/// are each a folder with a `bexum.toml`, or a revision of the git repository that the estate lies
/// in: `HEAD~3`, `main`, a tag, or `main...` for where the two parted. Without AFTER it is the files
/// as they are, without BEFORE the last commit.
///
/// It is told for one moment, with what is given. What depends before and after on something that is
/// not given is told where some circumstances open it or close it, now or later; where that is not
/// decided, it counts as both. "No access changes" is said of all circumstances from now on.
#[derive(Debug, ClapArgs)]
#[command(after_help = IMPACT_EXAMPLES)]
pub(crate) struct Impact {
    /// The estate before the change: a folder, or a revision
    pub(crate) before: Option<String>,
    /// The estate after it: a folder, or a revision
    pub(crate) after: Option<String>,
    /// Only what this principal can do; repeatable
    #[arg(long, value_name = "WHO", add = ArgValueCandidates::new(complete::who))]
    pub(crate) who: Vec<String>,
    /// Only here and below
    #[arg(long = "at", value_name = "PATH", add = ArgValueCandidates::new(complete::paths))]
    pub(crate) path: Option<String>,
    /// Only these: an action or a pattern of actions, as in `do`; repeatable
    #[arg(long = "do", value_name = "ACTION", add = ArgValueCandidates::new(complete::actions))]
    pub(crate) action: Vec<String>,
    /// Only what is of this level in either estate
    #[arg(long, value_name = "LEVEL", add = ArgValueCandidates::new(complete::levels))]
    pub(crate) level: Option<String>,
    /// Exit with 1 if there is such a change; repeatable. What is not decided counts as both
    #[arg(long, value_enum, value_name = "WHAT")]
    pub(crate) fail_on: Vec<FailOn>,
    /// Whether this user or workload may make the change now, by the edit rights of the estate
    /// before: each thing that it touches; exit 1 if they may not. `--as` and `--given` are then
    /// theirs
    #[arg(long, value_name = "WHO", add = ArgValueCandidates::new(complete::who))]
    pub(crate) by: Option<String>,
    /// The same in other circumstances or at another moment besides: '--given mfa=true'; repeatable
    #[arg(long, value_name = "OPTIONS", allow_hyphen_values = true)]
    pub(crate) beside: Vec<String>,
    /// Which requests of a log (as `replay` reads them) are decided otherwise; repeatable, `-` reads
    /// standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Vec<PathBuf>,
    /// Take an estate that does not load for one without any access, if it is the one before
    #[arg(long)]
    pub(crate) from_broken: bool,
    /// Name every place
    #[arg(long)]
    pub(crate) full: bool,
    /// In csv: sessions with the same change together, by the first of them, with a column `count`
    #[arg(long)]
    pub(crate) together: bool,
    #[command(flatten)]
    pub(crate) circumstances: Circumstances,
    /// How to write it
    #[arg(long, value_enum, default_value_t = ImpactFormat::Text)]
    pub(crate) format: ImpactFormat,
}

/// What a run fails on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum FailOn {
    /// Somebody can do something more
    Gained,
    /// Somebody can do something less
    Lost,
    /// Either
    Any,
    /// A check, law or separation that held does so no longer, or a new one does not
    Broken,
}

/// How to write what a change does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ImpactFormat {
    /// For people
    Text,
    /// For machines, in a versioned shape
    Json,
    /// A row for each cell: who, role taken up, place, action, before, after
    Csv,
    /// For a comment on a proposed change: the answer, a short table, the rest folded away
    Markdown,
    /// A page by itself
    Html,
}

const IMPACT_EXAMPLES: &str = "\
Examples:
  bexum impact HEAD
  bexum impact HEAD~1 HEAD --level govern
  bexum impact main... --fail-on gained
  bexum impact HEAD --by user:tomas
  bexum impact HEAD --log requests.ndjson
  bexum impact HEAD --given mfa=false --beside '--given mfa=true'
  bexum impact main... --format markdown > comment.md
  bexum impact ../before ../after --format csv";

/// Show what is in the estate, or one thing of it
#[derive(Debug, ClapArgs)]
#[command(after_help = SHOW_EXAMPLES)]
pub(crate) struct Show {
    /// A list (scopes, catalogue, users, groups, roles, policies, attachments, ceilings, windows,
    /// expectations), `handover` with a user for what a new colleague needs to know, or one thing (user:ines, group:imaging, role:NAME, resource:PATH, policy:NAME, scope:PATH, a
    /// path, or kind:NAME); nothing for an overview
    #[arg(add = ArgValueCandidates::new(complete::things))]
    pub(crate) what: Option<String>,
    /// Of `handover`: user:NAME
    #[arg(value_name = "WHO", add = ArgValueCandidates::new(complete::who))]
    pub(crate) whom: Option<String>,
    /// See memberships and attachments as of this moment instead of now
    #[arg(long, value_name = "TIME")]
    pub(crate) at_time: Option<String>,
    /// How to write it
    #[arg(long, value_enum, default_value_t = ShowFormat::Text)]
    pub(crate) format: ShowFormat,
    #[command(flatten)]
    pub(crate) supposed: edit::Supposed,
}

/// How to write what is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ShowFormat {
    /// For people
    Text,
    /// For machines, in a versioned shape
    Json,
    /// A page by itself
    Html,
}

const SHOW_EXAMPLES: &str = "\
Examples:
  bexum show
  bexum show scopes
  bexum show windows
  bexum show user:ines
  bexum show handover user:ines --format html > ines.html
  bexum show policy:team-curator
  bexum show veyra/survey/spectra";

/// Write the demo estate and walk through the job on it
///
/// Each step shows a command as one would type it, and what it really prints.
#[derive(Debug, ClapArgs)]
#[command(after_help = "Examples:\n  bexum demo\n  bexum demo ~/veyra")]
pub(crate) struct Demo {
    /// A folder that does not exist yet, or an empty one; else a fresh temporary one
    pub(crate) dir: Option<PathBuf>,
}

/// Write a small commented estate to start from
#[derive(Debug, ClapArgs)]
#[command(
    after_help = "Example:\n  bexum init my-platform\n  bexum -C my-platform ask user:ada store.list tarn/site/recordings"
)]
pub(crate) struct Init {
    /// A folder that does not exist yet, or an empty one; else the current one
    pub(crate) dir: Option<PathBuf>,
}

/// Parses the command line.
///
/// # Errors
/// What is wrong with it; also where help or the version was asked for, which
/// [`explain`] tells apart.
pub(crate) fn parse() -> Result<Args, clap::Error> {
    let mut command = Args::command().mut_subcommands(|command| {
        let Some(examples) = command.get_after_help().map(ToString::to_string) else {
            return command;
        };
        command.after_help(examples.replace(' ', NO_BREAK))
    });
    let matches = command.try_get_matches_from_mut(std::env::args_os())?;
    Args::from_arg_matches(&matches).map_err(|error| error.format(&mut command))
}

/// Stands for the spaces in examples while help is laid out, so that commands are not cut in two
/// and can be pasted.
const NO_BREAK: &str = "\u{a0}";

/// Prints help and version to standard output, mistakes to standard error.
pub(crate) fn explain(mut unread: clap::Error) -> anyhow::Result<Exit> {
    // What was typed comes back in messages; it must not steer the terminal.
    let typed: Vec<(ContextKind, ContextValue)> = unread
        .context()
        .filter_map(|(kind, value)| match value {
            ContextValue::String(text) => Some((kind, ContextValue::String(safe(text)))),
            ContextValue::Strings(texts) => {
                Some((kind, ContextValue::Strings(texts.iter().map(|text| safe(text)).collect())))
            }
            _ => None,
        })
        .collect();
    for (kind, value) in typed {
        unread.insert(kind, value);
    }
    let text = unread.render().ansi().to_string().replace(NO_BREAK, " ");
    if unread.use_stderr() {
        terminal::print_error(&text);
        return Ok(Exit::Failed);
    }
    terminal::print(&text)?;
    Ok(Exit::Done)
}

/// The whole command, for completions and the manual.
pub(crate) fn command() -> clap::Command {
    Args::command()
}
