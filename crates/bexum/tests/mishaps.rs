//! What goes wrong around the program: readers that leave, full disks, several at once, hostile
//! names. No verdict changes by it, nothing is lost, nothing is half-written.

use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::support::{AT, Folder, command, finish, run_unread};

const DENIED: [&str; 4] = ["ask", "user:tomas", "file.open", "v/s/store/x"];
const ALLOWED: [&str; 4] = ["ask", "user:ines", "file.open", "v/s/store/x"];
const BROKEN_CHECK: &str = "[[check]]\nname = 'wrong'\nwho = 'user:ines'\ndoes = 'store.list'\non = 'v/s/store'\nexpect = 'deny'\n";

#[test]
fn a_reader_that_leaves_changes_no_verdict() {
    let folder = Folder::estate().and(BROKEN_CHECK).with("bad.ndjson", "{}\n".repeat(50_000));
    for (args, code) in [
        (&DENIED[..], 1),
        (&ALLOWED[..], 0),
        (&[&DENIED[..], &["--format", "json"]].concat()[..], 1),
        (&["prove"], 1),
        (&["prove", "--format", "json"], 1),
        (&["prove", "--format", "junit"], 1),
        (&["replay", "--strict", "bad.ndjson"], 2),
        (&["replay", "bad.ndjson"], 0),
        (&["show"], 0),
        (&["reach", "user:ines", "--format", "csv"], 0),
        (&["completions", "bash"], 0),
        (&["man"], 0),
        (&["--help"], 0),
    ] {
        assert_eq!(run_unread(args, folder.path()), Some(code), "{args:?}");
    }
}

#[test]
fn a_check_is_saved_whoever_reads_the_answer() {
    let folder = Folder::estate();
    let args = [&DENIED[..], &["--save-check", "kept"]].concat();
    assert_eq!(run_unread(&args, folder.path()), Some(1));
    assert_eq!(folder.run(&["prove", "kept"]).code, Some(0));
}

#[cfg(target_os = "linux")]
#[test]
fn output_that_cannot_be_written_is_an_error() {
    let folder = Folder::estate();
    for args in [
        &["--help"][..],
        &["--version"],
        &["ask", "--help"],
        &DENIED,
        &ALLOWED,
        &["prove"],
        &["show"],
        &["completions", "zsh"],
        &["man"],
        &["reach", "user:ines", "--format", "csv"],
        &["reach", "user:ines", "--format", "json"],
    ] {
        let full = std::fs::OpenOptions::new().write(true).open("/dev/full").expect("/dev/full");
        let mut run = command();
        let output = run.args(args).current_dir(folder.path()).stdin(Stdio::null()).stdout(full);
        let output = output.stderr(Stdio::piped()).output().expect("the program ends");
        assert_eq!(output.status.code(), Some(2), "{args:?}");
        assert!(String::from_utf8_lossy(&output.stderr).contains("error: "), "{args:?}");
    }
}

fn save(folder: &Folder, name: &str) -> Command {
    let mut run = command();
    run.args(DENIED).args(["--save-check", name]).current_dir(folder.path());
    run.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
    run
}

#[test]
fn two_saves_at_once_are_both_kept() {
    let folder = Folder::estate();
    for pair in 0..60 {
        let names = [format!("left {pair}"), format!("right {pair}")];
        let runs = names.each_ref().map(|name| save(&folder, name).spawn().expect("a start"));
        for run in runs {
            let output = run.wait_with_output().expect("the program ends");
            assert_eq!(output.status.code(), Some(1), "{output:?}");
        }
    }
    let run = folder.run(&["prove"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert!(run.out.contains("120 checks"), "{}", run.out);
}

#[test]
fn of_two_saves_under_one_name_one_is_refused() {
    let folder = Folder::estate();
    for pair in 0..20 {
        let name = format!("both {pair}");
        // Into two files, which would be a name declared twice.
        let runs = ["one.toml", "two.toml"]
            .map(|file| save(&folder, &name).args(["--save-to", file]).spawn().expect("a start"));
        let mut codes: Vec<Option<i32>> = runs
            .into_iter()
            .map(|run| run.wait_with_output().expect("the program ends").status.code())
            .collect();
        codes.sort_unstable();
        assert_eq!(codes, [Some(1), Some(2)]);
    }
    assert!(folder.run(&["prove"]).out.contains("20 checks"));
}

#[test]
fn what_an_editor_appends_meanwhile_is_kept() {
    let folder = Folder::estate().with("checks.toml", "# by hand\n");
    let path = folder.file("checks.toml");
    std::thread::scope(|scope| {
        let editor = scope.spawn(|| {
            for line in 0..300 {
                let mut file = std::fs::OpenOptions::new().append(true).open(&path).expect("it");
                file.write_all(format!("# line {line}\n").as_bytes()).expect("a line");
                std::thread::sleep(std::time::Duration::from_millis(1));
            }
        });
        for i in 0..40 {
            let mut run = save(&folder, &format!("saved {i}"));
            let run = run.args(["--save-to", "checks.toml"]).spawn().expect("a start");
            let output = run.wait_with_output().expect("the program ends");
            assert_eq!(output.status.code(), Some(1), "{output:?}");
        }
        editor.join().expect("the editor ends");
    });
    let text = std::fs::read_to_string(&path).expect("the file");
    assert_eq!(text.matches("# line ").count(), 300);
    assert!(folder.run(&["prove"]).out.contains("40 checks"));
}

#[test]
fn a_save_that_would_break_the_estate_is_refused() {
    let folder = Folder::estate();
    let before = std::fs::read(folder.file("bexum.toml")).expect("the file");
    let odd = ["--at-time", "0001-01-01T00:00:00+23:59", "--save-check", "odd"];
    let run = folder.run(&[&DENIED[..], &odd].concat());
    assert_eq!(run.code, Some(2), "{}", run.err);
    assert!(!folder.file("checks.toml").exists());
    assert_eq!(std::fs::read(folder.file("bexum.toml")).expect("the file"), before);
}

#[test]
fn a_line_break_in_a_value_is_the_same_in_any_file() {
    for line_end in ["\n", "\r\n"] {
        let folder = Folder::estate().with("checks.toml", format!("# notes{line_end}"));
        let note = "note=one\ntwo\r\nthree\u{202e}";
        let args = ["--given", note, "--save-check", "kept", "--save-to", "./checks.toml"];
        let run = folder.run(&[&DENIED[..], &args].concat());
        assert_eq!(run.code, Some(1), "{}", run.err);
        let text = std::fs::read_to_string(folder.file("checks.toml")).expect("the file");
        assert!(text.contains(r#"note = "one\ntwo\r\nthree\u202E""#), "{text}");
        assert_eq!(folder.run(&["prove"]).code, Some(0));
    }
}

#[cfg(unix)]
#[test]
fn a_save_changes_nothing_but_the_text() {
    use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
    let folder = Folder::estate().with("real.toml", "# notes\n").with("locked.toml", "");
    std::fs::hard_link(folder.file("real.toml"), folder.file("other-name")).expect("a link");
    symlink("real.toml", folder.file("z-link.toml")).expect("a link");
    let mode = |name: &str, mode| {
        let to = std::fs::Permissions::from_mode(mode);
        std::fs::set_permissions(folder.file(name), to).expect("a mode");
    };
    mode("real.toml", 0o640);
    mode("locked.toml", 0o444);
    let about = |name: &str| {
        let about = std::fs::metadata(folder.file(name)).expect("it is there");
        (about.ino(), about.mode(), about.nlink())
    };
    let before = about("real.toml");
    let to = |name, file| {
        folder.run(&[&DENIED[..], &["--save-check", name, "--save-to", file]].concat())
    };
    assert_eq!(to("a", "z-link.toml").code, Some(1));
    assert_eq!(about("real.toml"), before);
    assert_eq!(folder.run(&["prove", "a"]).code, Some(0));

    let run = to("b", "locked.toml");
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("`locked.toml` is read-only"), "{}", run.err);

    let made = Command::new("/usr/bin/env").args(["mkfifo"]).arg(folder.file("pipe.toml")).status();
    assert!(made.is_ok_and(|status| status.success()), "mkfifo");
    let run = to("c", "pipe.toml");
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("no regular file"), "{}", run.err);
    let hidden = std::fs::read_dir(folder.path()).expect("the folder").filter(|entry| {
        entry.as_ref().is_ok_and(|e| e.file_name().as_encoded_bytes().starts_with(b"."))
    });
    assert_eq!(hidden.count(), 0);
}

#[cfg(target_os = "linux")]
#[test]
fn a_start_that_fails_leaves_nothing_in_the_way() {
    let folder = Folder::new();
    // Files of more than one KiB cannot be written here, as on a full disk.
    let limited = |dir: &str| {
        let script = format!("trap '' XFSZ; ulimit -f 1; exec \"$0\" {dir}");
        let mut run = Command::new("/bin/sh");
        run.args(["-c", &script, env!("CARGO_BIN_EXE_bexum")]).current_dir(folder.path());
        finish(&mut run, b"")
    };
    let run = limited("demo here");
    assert_eq!(run.code, Some(2), "{}", run.err);
    assert!(!folder.file("here").exists());
    assert_eq!(folder.run(&["init", "here"]).code, Some(0));
}

#[test]
fn foreign_text_does_not_steer_a_terminal() {
    let esc = "\u{1b}[2J\u{202e}x\ny";
    let folder = Folder::estate();
    let name = format!("{esc}.toml");
    std::fs::write(folder.file(&name), BROKEN_CHECK).expect("a file of that name");
    let missing = format!("/nowhere/{esc}");
    let dir = folder.file(format!("new{esc}")).display().to_string();
    for args in [
        &["prove"][..],
        &["show", "expectations"],
        &["-C", &missing, "show"],
        &["show", esc],
        &[esc],
        &["--wrong", esc],
        &["ask", "user:ines", "store.list", esc],
        &["ask", "user:ines", "store.list", "v/s/store", "--save-check", "a", "--save-to", esc],
        &["ask", "user:ines", "store.list", "v/s/store", "--save-check", "b", "--save-to", &name],
        &["ask", "user:ines", "store.list", "v/s/store", "--given-from", esc],
        &["ask", "user:ines", "store.list", "v/s/store", "--at-time", esc],
        &["reach", "user:ines", "--sources"],
        &["reach", "user:ines", "--format", "json"],
        &["reach", esc, "--format", "csv"],
        &["replay", esc],
        &["init", &dir],
        &["init", &dir],
        &["completions", esc],
        &["prove", "--format", "json"],
    ] {
        let run = folder.run(args);
        let steers = |c: char| c != '\n' && (c.is_control() || c == '\u{202e}');
        for text in [&run.out, &run.err] {
            assert!(!text.contains(steers), "{args:?}: {text:?}");
            assert!(!text.lines().any(|line| line.starts_with('y')), "{args:?}: {text}");
        }
    }
    std::fs::write(folder.file("a\u{1b}[31m.toml"), "x = ").expect("a file");
    let run = folder.run(&["show"]);
    assert!(run.err.contains("a\\u{1b}[31m.toml:1:"), "{}", run.err);
}

#[test]
fn a_file_beyond_all_use_is_refused_unread() {
    let folder = Folder::estate();
    let file = std::fs::File::create(folder.file("huge.toml")).expect("a file");
    file.set_len((32 << 20) + 1).expect("a hole");
    let run = folder.run(&["show"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("`huge.toml` is larger than 32 MiB"), "{}", run.err);
    assert!(run.err.contains("cut it into several files"), "{}", run.err);
}

/// A chain of groups, the user in the first of them.
fn chain(length: usize) -> Folder {
    let mut text = String::from("[group.g0]\nmembers = 'user:tomas'\n");
    for i in 1..length {
        text.push_str(&format!("[group.g{i}]\nmembers = 'group:g{}'\n", i - 1));
    }
    let last = length - 1;
    text.push_str(&format!("[[attach]]\npolicy = 'reader'\nto = 'group:g{last}'\nat = 'v'\n"));
    Folder::estate().with("chain.toml", text)
}

#[test]
fn long_ways_are_shortened_in_the_middle() {
    let folder = chain(1500);
    for args in [&["show", "user:tomas"][..], &["show"], &["show", "groups"], &DENIED] {
        let run = folder.run(args);
        let most = 1500 * 1000;
        assert!(run.out.len() < most, "{args:?}: {} bytes", run.out.len());
    }
    let run = folder.run(&DENIED);
    assert_eq!(run.code, Some(0));
    let words: Vec<&str> = run.out.split_whitespace().collect();
    assert!(words.join(" ").contains("group:g4 → … 1490 more … → group:g1495"), "{}", run.out);
}

#[test]
fn a_long_name_is_no_long_work() {
    let names = format!("{}{}", "word ".repeat(60_000), "w".repeat(300_000));
    let folder = Folder::estate().and(&format!("[user.long]\nfull-name = '{names}'\n"));
    let run = folder.run(&["show", "users"]);
    assert_eq!(run.code, Some(0));
    assert!(run.out.len() > 600_000);
}

#[test]
fn circumstances_without_end_are_refused() {
    if !Path::new("/dev/zero").exists() {
        return;
    }
    let args = ["--given-from", "/dev/zero", "--at-time", AT];
    let run = Folder::estate().run(&[&DENIED[..], &args].concat());
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("larger than 16 MiB"), "{}", run.err);
}

#[cfg(unix)]
#[test]
fn a_root_file_that_is_none_says_why() {
    use std::os::unix::fs::symlink;
    let shown = |folder: &Folder| {
        let run = folder.run(&["-C", ".", "show"]);
        assert_eq!(run.code, Some(2));
        run.err
    };
    let folder = Folder::new();
    symlink("nowhere", folder.file("bexum.toml")).expect("a link");
    assert!(shown(&folder).contains("its `bexum.toml` is a link that leads nowhere"));
    let folder = Folder::new();
    std::fs::create_dir(folder.file("bexum.toml")).expect("a folder");
    assert!(shown(&folder).contains("its `bexum.toml` is a folder"));
    let folder = Folder::new();
    let made =
        Command::new("/usr/bin/env").args(["mkfifo"]).arg(folder.file("bexum.toml")).status();
    assert!(made.is_ok_and(|status| status.success()), "mkfifo");
    assert!(shown(&folder).contains("its `bexum.toml` is no regular file"));
}

/// Estates in which everything that has to be quoted is: every command that is printed, pasted into
/// a shell, does what is said.
#[cfg(unix)]
#[test]
fn printed_commands_can_be_pasted_in_every_width() {
    let folder = Folder::estate().with(
        "checks.toml",
        r#"
[[check]]
name = "odd"
who = ["user:ines", "user:tomas"]
does = "file.open"
on = ["v/s/store/it's $HOME `x`", "v/s/store/~a\u202Eb=\u2028", "v/s/store/#!&;|"]
given = { note = "line\nbreak\ttab \\ 'q' \"d\"", word = "true", empty = "", nets = ["a b"] }
absent = ["gone"]
item = { mark = "=~*?\u001b[2J" }
expect = "deny"
reason = "denied"
[[never]]
name = "nobody opens"
who = "everyone"
does = "file.open"
on = "/v/s/store/**"
when = "given.a-very-long-name-of-a-circumstance-that-wraps = 'one two' and not given.b"
"#,
    );
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_bexum"));
    let path = format!("{}:/usr/bin:/bin", program.parent().expect("a folder").display());
    for width in ["40", "80", "160"] {
        let mut run = command();
        run.env("COLUMNS", width).args(["prove", "--everybody"]).current_dir(folder.path());
        let report = finish(&mut run, b"");
        assert_eq!(report.code, Some(1), "{}", report.err);
        let typed: Vec<&str> =
            report.out.lines().filter_map(|line| line.trim_start().strip_prefix("$ ")).collect();
        assert!(typed.len() >= 8, "{}", report.out);
        for line in typed {
            let line = line.to_owned() + " --format json";
            let mut shell = Command::new("/bin/bash");
            shell.env_clear().env("PATH", &path).args(["-c", &line]);
            let run = finish(shell.current_dir(folder.path()), b"");
            let answer: serde_json::Value = serde_json::from_str(&run.out)
                .unwrap_or_else(|error| panic!("{line}: {error}: {}", run.err));
            // A broken law was allowed; of the check, ines is allowed and tomas is not.
            let denied = line.contains("user:tomas") && !line.contains("--also");
            assert_eq!(answer["verdict"], if denied { "deny" } else { "allow" }, "{line}");
        }
    }
}

#[test]
fn everybody_who_breaks_a_law_is_named_on_demand() {
    let law = "[[never]]\nname = 'x'\nwho = 'everyone'\ndoes = 'store.list'\non = '/v/s/store'\n";
    let folder = Folder::estate().and(law).and("[group.crew2]\nmembers = 'user:tomas'\n[[attach]]\npolicy = 'reader'\nto = 'user:tomas'\nat = 'v'\n");
    let run = folder.run(&["prove", "--everybody"]);
    assert_eq!(run.code, Some(1));
    assert!(run.out.contains("2 principals break it:"), "{}", run.out);
    assert!(
        run.out.contains("$ bexum ask user:ines") && run.out.contains("$ bexum ask user:tomas")
    );
    assert!(!folder.run(&["prove"]).out.contains("break it:"));
}

#[test]
fn a_law_about_nothing_is_skipped_for_build_servers() {
    let law = "[[never]]\nname = 'x'\nwho = 'user:ines'\ndoes = 'store.list'\non = '/v/s/stroe'\n";
    let folder = Folder::estate().and(law);
    let run = folder.run(&["prove", "--format", "junit"]);
    assert_eq!(run.code, Some(0));
    assert!(run.out.contains("<skipped"), "{}", run.out);
    assert!(folder.run(&["prove"]).out.contains("warning: law \"x\" is about nothing"));
}
