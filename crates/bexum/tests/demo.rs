//! `demo`, `init`, completions, the manual; what the README promises of them.

use crate::support::{AT, Folder};

#[test]
fn the_demo_walks_through_the_job() {
    let folder = Folder::new();
    let run = folder.run(&["demo", "veyra"]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    assert_eq!(run.err, "");
    assert!(run.out.starts_with("The demo estate is in veyra\n"));
    for said in [
        "$ bexum show scopes",
        "--also group:nightly-crew",
        "ALLOW",
        "DENY",
        "raw stays",
        "granted by",
        "it outranks",
        "6 laws: all hold",
        "no such request may be allowed, but this one is",
        "# quick-fix.toml",
    ] {
        assert!(run.out.contains(said), "`{said}` is not in the walk");
    }
    assert!(!run.out.contains('\u{1b}'), "a pipe gets no colour");
    // A step that cannot be asked would be answered with an error.
    assert!(!run.out.contains("error:"), "{}", run.out);
    assert_eq!(folder.run(&["-C", "veyra", "show"]).code, Some(0));
    // What was broken for a step is whole again.
    assert_eq!(folder.run(&["-C", "veyra", "prove", "--at-time", AT]).code, Some(0));
}

#[test]
fn nothing_is_written_over() {
    for command in ["demo", "init"] {
        let folder = Folder::new().with("mine/notes.txt", "mine").with("file", "mine");
        for at in ["mine", "file"] {
            let run = folder.run(&[command, at]);
            assert_eq!(run.code, Some(2), "{command} {at}");
            assert!(run.err.contains(&format!("`{at}` is")), "{}", run.err);
        }
        let left: Vec<_> = std::fs::read_dir(folder.file("mine")).expect("the folder").collect();
        assert_eq!(left.len(), 1);
    }
}

#[test]
fn a_fresh_estate_answers_its_first_question() {
    let folder = Folder::new();
    let run = folder.run(&["init", "here"]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    assert!(run.out.contains("bexum -C here ask user:ada store.list tarn/site/recordings"));
    let run = folder.run(&["-C", "here", "ask", "user:ada", "store.list", "tarn/site/recordings"]);
    assert_eq!(run.code, Some(0), "{}", run.err);
    let run = folder.run(&["-C", "here", "ask", "user:ben", "store.list", "tarn/site/recordings"]);
    assert_eq!(run.code, Some(1), "{}", run.err);
    let empty = Folder::new().with(".git/config", "[core]");
    assert_eq!(empty.run(&["init"]).code, Some(0));
    assert_eq!(empty.run(&["ask", "user:ada", "store.list", "tarn/site/recordings"]).code, Some(0));
}

#[test]
fn completions_and_manual() {
    let folder = Folder::new();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let run = folder.run(&["completions", shell]);
        assert_eq!(run.code, Some(0), "{shell}");
        assert!(run.out.contains("replay"), "{shell}");
    }
    let run = folder.run(&["man"]);
    assert!(run.out.contains(".TH bexum"), "{}", run.out);
    for command in COMMANDS {
        assert!(run.out.contains(&format!(".TH bexum-{command} ")), "{command}");
        assert!(folder.run(&["man", command]).out.contains("\\-\\-help"), "{command}");
    }
    assert!(folder.run(&["man", "aks"]).err.contains("did you mean `ask`?"));
}

const COMMANDS: [&str; 9] =
    ["ask", "reach", "prove", "replay", "show", "demo", "init", "completions", "man"];

#[cfg(unix)]
#[test]
fn every_example_in_a_help_runs_on_the_demo_estate() {
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_bexum"));
    let path = format!("{}:/usr/bin:/bin", program.parent().expect("a folder").display());
    let mut run_examples = 0;
    for command in COMMANDS {
        let folder = Folder::demo();
        std::fs::create_dir_all(folder.file(".local/share/bash-completion/completions"))
            .expect("a folder");
        let help = folder.run(&[command, "--help"]).out;
        let (_, examples) = help.split_once("Example").unwrap_or_else(|| panic!("{command}"));
        let lines = examples.lines().skip(1).map_while(|line| line.strip_prefix("  "));
        for line in lines {
            // A watch has no end.
            let line = line.trim_end_matches(" --watch");
            let mut shell = std::process::Command::new("/bin/sh");
            shell.env_clear().env("PATH", &path).env("HOME", folder.path()).args(["-c", line]);
            let run = crate::support::finish(shell.current_dir(folder.path()), b"");
            assert!(!run.err.contains("error:"), "{line}: {}", run.err);
            assert!(matches!(run.code, Some(0 | 1)), "{line}: {run:?}");
            run_examples += 1;
        }
    }
    assert!(run_examples > 20, "{run_examples}");
}

#[test]
fn help_has_examples_and_mistakes_have_hints() {
    let folder = Folder::new();
    for command in ["ask", "replay", "show", "demo", "init", "completions", "man"] {
        let run = folder.run(&[command, "--help"]);
        assert_eq!(run.code, Some(0));
        assert!(run.out.contains("Example"), "{command} --help has no example");
    }
    let run = folder.run(&["repaly"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("'replay'"), "{}", run.err);
}
