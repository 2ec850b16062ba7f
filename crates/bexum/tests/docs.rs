//! Every console block of the README and of `docs/` is run, and must print what is written there;
//! a block of TOML that names a file (`toml file=NAME`) is written before.
//!
//! `BEXUM_DOCS=overwrite cargo test -p bexum docs` writes what is printed now, for a person to read
//! before committing it.

use std::path::{Path, PathBuf};

use crate::support::{Folder, command, command_at, finish};

/// Pages with console blocks, below the root of the repository.
const PAGES: [&str; 13] = [
    "README.md",
    "docs/edit.md",
    "docs/language.md",
    "docs/decisions.md",
    "docs/reach.md",
    "docs/prove.md",
    "docs/impact.md",
    "docs/applications.md",
    "docs/people.md",
    "docs/review.md",
    "docs/usage.md",
    "docs/vet.md",
    "docs/ways.md",
];

#[test]
fn console_blocks_print_what_they_say() {
    let overwrite = std::env::var("BEXUM_DOCS").is_ok_and(|value| value == "overwrite");
    for page in PAGES {
        let path = root().join(page);
        let text = std::fs::read_to_string(&path).unwrap_or_else(|e| panic!("{page}: {e}"));
        let (said, blocks) = rerun(&text);
        assert!(blocks > 0, "{page} has console blocks");
        if overwrite {
            std::fs::write(&path, said).expect("the page");
        } else {
            assert_eq!(text, said, "{page} says something else than the program");
        }
    }
}

/// The page with every console block as it comes out now, and how many there are.
fn rerun(text: &str) -> (String, usize) {
    let folder = Folder::demo();
    let mut out = String::new();
    let mut blocks = 0;
    let mut lines = text.lines();
    while let Some(line) = lines.next() {
        out.push_str(line);
        out.push('\n');
        // A block of TOML that names a file is written, for the blocks after it.
        if let Some(name) = line.strip_prefix("```toml file=") {
            let body: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
            std::fs::write(folder.file(name), body.join("\n") + "\n").expect("a file");
            out.push_str(&format!("{}\n```\n", body.join("\n")));
        }
        if line != "```console" {
            continue;
        }
        blocks += 1;
        for inner in lines.by_ref() {
            if inner == "```" {
                out.push_str("```\n");
                break;
            }
            let path = || std::env::var_os("PATH").unwrap_or_default();
            if let Some(typed) = inner.strip_prefix("$ git ") {
                let mut git = command_at("git");
                git.env("PATH", path()).env("GIT_CONFIG_GLOBAL", "/dev/null");
                git.args(["-c", "user.name=x", "-c", "user.email=x@example.org"]);
                let run = finish(git.args(words(typed)).current_dir(folder.path()), b"");
                out.push_str(&format!("{inner}\n{}{}", run.out, run.err));
            }
            let Some(typed) = inner.strip_prefix("$ bexum ") else { continue };
            let mut run = command();
            run.env("PATH", path());
            let run = finish(run.args(words(typed)).current_dir(folder.path()), b"");
            out.push_str(&format!("{inner}\n{}{}", run.out, run.err));
        }
    }
    (out, blocks)
}

/// Words as a shell splits them: single quotes keep what is in them together.
fn words(typed: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quoted = false;
    for c in typed.chars() {
        match c {
            '\'' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            c => words.last_mut().expect("never empty").push(c),
        }
    }
    words
}

/// The table of rules in `docs/vet.md` is made from the registry.
#[test]
fn the_rules_stand_in_the_docs() {
    let path = root().join("docs/vet.md");
    let text = std::fs::read_to_string(&path).expect("docs/vet.md");
    let (start, end) = ("<!-- rules: made from the program -->\n", "<!-- end of rules -->");
    let (before, rest) = text.split_once(start).expect("the start of the table");
    let (_, after) = rest.split_once(end).expect("its end");
    let mut table = String::from("| rule | matters as | finds |\n| --- | --- | --- |\n");
    for rule in bexum_core::vet::RULES {
        table.push_str(&format!(
            "| `{}` | {} | {} |\n",
            rule.name,
            rule.severity.word(),
            rule.finds
        ));
    }
    let said = format!("{before}{start}{table}{end}{after}");
    if std::env::var("BEXUM_DOCS").is_ok_and(|value| value == "overwrite") {
        std::fs::write(&path, said).expect("the page");
    } else {
        assert_eq!(text, said, "docs/vet.md says something else than the program");
    }
}

#[test]
fn pictures_are_linked() {
    let folder = root().join("docs/screenshots");
    let readme = std::fs::read_to_string(root().join("README.md")).expect("README.md");
    for entry in std::fs::read_dir(folder).expect("docs/screenshots") {
        let name = entry.expect("an entry").file_name().into_string().expect("a name");
        assert!(
            readme.contains(&format!("docs/screenshots/{name}")),
            "{name} is linked from the README"
        );
    }
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}
