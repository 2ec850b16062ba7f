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
        assert!(run.out.contains("bexum"), "{shell}");
    }
    let run = folder.run(&["man"]);
    assert!(run.out.contains(".TH bexum"), "{}", run.out);
    for command in COMMANDS {
        assert!(run.out.contains(&format!(".TH bexum-{command} ")), "{command}");
        assert!(folder.run(&["man", command]).out.contains("\\-\\-help"), "{command}");
    }
    assert!(folder.run(&["man", "asc"]).err.contains("did you mean `ask`?"));
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

/// What bash would offer for a line that it has cut into words as it does.
#[cfg(unix)]
fn offered(folder: &Folder, words: &[&str], line: &str) -> Vec<String> {
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_bexum"));
    let path = format!("{}:/usr/bin:/bin", program.parent().expect("a folder").display());
    let quoted: Vec<String> = words.iter().map(|word| format!("'{word}'")).collect();
    let script = format!(
        "source <(bexum completions bash); COMP_WORDS=({}); COMP_CWORD={}; COMP_LINE='{line}'; _bexum; printf '%s\\n' \"${{COMPREPLY[@]}}\"",
        quoted.join(" "),
        words.len() - 1,
    );
    let mut shell = std::process::Command::new("/bin/bash");
    shell.env_clear().env("PATH", &path).args(["-c", &script]).current_dir(folder.path());
    let run = crate::support::finish(&mut shell, b"");
    run.out.lines().filter(|line| !line.is_empty()).map(str::to_owned).collect()
}

#[cfg(unix)]
#[test]
fn names_of_the_estate_complete_in_bash() {
    let folder = Folder::demo();
    let tab = |words: &[&str], line: &str| offered(&folder, words, line);
    let users = tab(&["bexum", "ask", "user", ":"], "bexum ask user:");
    assert!(
        users.contains(&"noor".to_owned()) && !users.contains(&"staff".to_owned()),
        "{users:?}"
    );
    assert_eq!(tab(&["bexum", "ask", "user", ":", "no"], "bexum ask user:no"), ["noor"]);
    assert_eq!(tab(&["bexum", "ask", "ro"], "bexum ask ro").len(), 3);
    let line = "bexum ask user:noor dish.p";
    assert_eq!(tab(&["bexum", "ask", "user", ":", "noor", "dish.p"], line), ["dish.point"]);
    let line = "bexum ask user:noor dish.point veyra/instruments/m";
    let words = ["bexum", "ask", "user", ":", "noor", "dish.point", "veyra/instruments/m"];
    assert!(tab(&words, line).contains(&"veyra/instruments/mesa/dish-1".to_owned()));
    let line = "bexum ask user:noor dish.point veyra --as ";
    let words = ["bexum", "ask", "user", ":", "noor", "dish.point", "veyra", "--as", ""];
    assert!(tab(&words, line).contains(&"role:dish-keeper".to_owned()), "{:?}", tab(&words, line));
    let line = "bexum ask user:noor dish.point veyra --under no-";
    let words = ["bexum", "ask", "user", ":", "noor", "dish.point", "veyra", "--under", "no-"];
    assert_eq!(tab(&words, line), ["no-govern"]);
    assert!(tab(&["bexum", "show", "polic"], "bexum show polic").contains(&"policies".to_owned()));
    assert_eq!(tab(&["bexum", "rep"], "bexum rep"), ["replay"]);

    // Where there is no estate, or a broken one, nothing is offered and nothing is said.
    let nowhere = Folder::new().with("bexum.toml", "x = ");
    assert!(offered(&nowhere, &["bexum", "ask", "user", ":"], "bexum ask user:").is_empty());
    let run = nowhere.run(&["words", "--", "bexum", "ask", ""]);
    assert_eq!((run.code, run.err.as_str()), (Some(0), ""));
    // The estate that is named is the one that counts.
    let named = folder.path().display().to_string();
    let run = nowhere.run(&["words", "--", "bexum", "-C", &named, "ask", "user:no"]);
    assert_eq!(run.out, "user:noor\n");
}
