//! `edit --write`: all files or none, whatever happens meanwhile.

use std::io::Write as _;
use std::path::Path;
use std::time::Duration;

use crate::edit::texts;
use crate::support::{Folder, command, finish};

const CHANGES: &str = "new group:lensing --place veyra/people\nadd user:sol --to group:lensing\nattach policy:archive-reader --to group:lensing --at veyra/survey/maps\nset user:sol full-name=Solveig\nseal veyra/outreach/gallery\nlimit policy:no-govern --over veyra/core\n";

/// The demo with edits of six files to be made.
fn demo() -> Folder {
    Folder::demo().with("changes.txt", CHANGES)
}

const WRITE: [&str; 6] = ["edit", "--from", "changes.txt", "--write", "--despite", "all of it"];

/// Killed at any moment: the next command finds the estate as it was, or as it is to be, and leaves
/// nothing behind.
#[test]
fn a_kill_leaves_the_estate_before_or_after() {
    let done = demo();
    let run = done.run(&WRITE);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    let after = texts(done.path());
    let before = texts(demo().path());
    assert_ne!(before, after);
    // How long a run takes here, so that kills fall into all of it.
    let started = std::time::Instant::now();
    assert_eq!(demo().run(&WRITE).code, Some(0));
    let whole = started.elapsed();
    let times: u32 = std::env::var("BEXUM_KILLS").map_or(40, |n| n.parse().expect("a number"));
    let (mut as_before, mut as_after, mut midway) = (0, 0, 0);
    for i in 0..times {
        let folder = demo();
        let mut child = command()
            .args(WRITE)
            .current_dir(folder.path())
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .expect("it starts");
        // The first half of a run only reads and works things out.
        let part = 0.5 + 0.6 * f64::from(i) / f64::from(times);
        std::thread::sleep(Duration::from_secs_f64(whole.as_secs_f64() * part));
        child.kill().expect("it is killed");
        child.wait().expect("it ends");
        midway += u32::from(folder.file(".bexum-edit").exists());
        let run = folder.run(&["show", "users"]);
        assert_eq!(run.code, Some(0), "{}", run.err);
        let left = texts(folder.path());
        assert!(!folder.file(".bexum-edit").exists(), "nothing is left behind");
        match left {
            left if left == before => as_before += 1,
            left if left == after => as_after += 1,
            left => panic!("neither before nor after: {left:?}"),
        }
    }
    // Seen with `--nocapture`.
    let told = format!("{as_before} as before, {as_after} as after, {midway} while writing\n");
    std::io::stderr().write_all(told.as_bytes()).expect("standard error");
}

/// A writer that stopped after its journal was written is finished; one that stopped before is undone.
#[test]
fn what_was_left_undone_is_finished_or_undone() {
    let before = texts(demo().path());
    let new = "[account.other]\n";
    for (with_journal, moved) in [(false, false), (true, false), (true, true)] {
        let folder = demo();
        let waiting = folder.file(".bexum-edit");
        std::fs::create_dir(&waiting).expect("a folder");
        let old = std::fs::read(folder.file("ceilings.toml")).expect("a text");
        std::fs::write(waiting.join("0.old"), old).expect("a text");
        std::fs::write(waiting.join("0"), "# none\n").expect("a text");
        std::fs::write(waiting.join("1"), new).expect("a text");
        if with_journal {
            let journal = "to = [\"ceilings.toml\", \"scopes/other.toml\"]\n";
            std::fs::write(waiting.join("journal"), journal).expect("a text");
        }
        if moved {
            std::fs::rename(waiting.join("0"), folder.file("ceilings.toml")).expect("a move");
        }
        assert_eq!(folder.run(&["show", "users"]).code, Some(0));
        assert!(!waiting.exists());
        let left = texts(folder.path());
        match with_journal {
            false => assert_eq!(left, before),
            true => {
                assert_eq!(left[Path::new("ceilings.toml")], "# none\n");
                assert_eq!(left[Path::new("scopes/other.toml")], new);
            }
        }
    }
    // What cannot be read is told, and nothing is done.
    let folder = demo().with(".bexum-edit/journal", "to = 1\n");
    let run = folder.run(&["show", "users"]);
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("cannot be read"), "{}", run.err);
    assert_eq!(texts(folder.path()).len(), before.len() + 1);
}

/// Two at once: each waits for the other, and neither is lost.
#[test]
fn two_edits_at_once_are_both_made() {
    let folder = Folder::demo();
    let names: Vec<String> = (0..6).map(|n| format!("user:new-{n}")).collect();
    std::thread::scope(|scope| {
        for name in &names {
            let path = folder.path();
            scope.spawn(move || {
                let args = ["edit", "new", name.as_str(), "--write"];
                let run = finish(command().args(args).current_dir(path), b"");
                assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
            });
        }
    });
    let shown = folder.run(&["show", "users"]).out;
    let all = names.iter().all(|name| shown.contains(name.trim_start_matches("user:")));
    assert!(all, "{shown}");
}

#[test]
fn files_keep_their_links_ends_and_modes() {
    use std::os::unix::fs::PermissionsExt as _;
    let users = "\u{feff}[user.ada]\r\nenabled = true\r\n# the end";
    let folder = Folder::estate().with("real/users.toml", users);
    std::os::unix::fs::symlink("real/users.toml", folder.file("a.toml")).expect("a link");
    let mode = std::fs::Permissions::from_mode(0o640);
    std::fs::set_permissions(folder.file("real/users.toml"), mode).expect("a mode");
    let run = folder.run(&["edit", "set", "user:ada", "full-name=Ada", "--write"]);
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert!(folder.file("a.toml").is_symlink());
    let real = folder.file("real/users.toml");
    assert_eq!(real.metadata().expect("a file").permissions().mode() & 0o777, 0o640);
    let text = std::fs::read_to_string(real).expect("a text");
    assert_eq!(text, "\u{feff}[user.ada]\r\nenabled = true\r\nfull-name = \"Ada\"\r\n# the end");
}

#[cfg(target_os = "linux")]
#[test]
fn a_full_disk_changes_nothing() {
    let folder = demo();
    let before = texts(folder.path());
    let users = before.iter().find(|(path, _)| path.ends_with("people/users.toml"));
    assert!(users.is_some_and(|(_, text)| text.len() > 1024), "one KiB is too little for it");
    // Files of more than one KiB cannot be written here.
    let script = "trap '' XFSZ; ulimit -f 1; exec \"$0\" \"$@\"";
    let mut run = std::process::Command::new("/bin/sh");
    run.args(["-c", script, env!("CARGO_BIN_EXE_bexum")]).args(WRITE).current_dir(folder.path());
    let output = run.output().expect("it ends");
    assert_eq!(output.status.code(), Some(2));
    let told = String::from_utf8_lossy(&output.stderr);
    assert!(told.contains("cannot write `") && told.contains("nothing was changed"), "{told}");
    assert_eq!(texts(folder.path()), before);
    let litter = folder.file(".bexum-edit");
    assert!(!litter.exists());
    let run = folder.run(&WRITE);
    assert_eq!(run.code, Some(0), "{}", run.err);
}

#[test]
fn what_cannot_be_written_changes_nothing() {
    let folder = demo();
    let users = folder.file("people/users.toml");
    let mut mode = users.metadata().expect("a file").permissions();
    mode.set_readonly(true);
    std::fs::set_permissions(&users, mode).expect("a mode");
    std::fs::write(folder.file("new.csv"), "userName\nzed\n").expect("a file");
    let before = texts(folder.path());
    let run = folder.run(&WRITE);
    assert_eq!(run.code, Some(2), "{}", run.out);
    assert!(run.err.contains("`people/users.toml` is read-only"), "{}", run.err);
    assert_eq!(texts(folder.path()), before);
    // What could not be written is not shown as if it could be.
    let new_user = ["edit", "new", "user:x"];
    let new_people = ["import", "new.csv", "--source", "registry"];
    for what in [&new_user[..], &new_people] {
        for write in [&[][..], &["--write"]] {
            let run = folder.run(&[what, &["--file", "nowhere/x.toml"], write].concat());
            assert_eq!(run.code, Some(2), "{}", run.out);
            assert!(run.err.contains("`nowhere/x.toml` cannot be made"), "{}", run.err);
            assert!(run.err.contains("its folder does not exist"), "{}", run.err);
            assert_eq!(texts(folder.path()), before);
        }
    }
}
