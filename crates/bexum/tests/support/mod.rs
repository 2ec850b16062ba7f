//! Folders with estates in them, and runs of the program whose every stream is seen.

use std::ffi::OsStr;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use tempfile::TempDir;

/// A moment for estates whose answers would change with the years.
pub(crate) const AT: &str = "2026-10-05T20:00:00Z";

/// Everything that `show` can be asked about the demo estate: all lists, and a thing of each sort.
pub(crate) const SHOWN: [&str; 19] = [
    "scopes",
    "catalogue",
    "users",
    "groups",
    "roles",
    "policies",
    "attachments",
    "ceilings",
    "windows",
    "expectations",
    "user:lin",
    "group:visitors",
    "role:dish-keeper",
    "resource:veyra/survey/reducer",
    "policy:keep-raw",
    "kind:dish",
    "veyra/survey",
    "veyra/survey/maps/x",
    "veyra/people/staff",
];

/// A temporary folder.
pub(crate) struct Folder {
    dir: TempDir,
}

/// How a run ended, all of it.
#[derive(Debug, PartialEq)]
pub(crate) struct Run {
    pub(crate) code: Option<i32>,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Folder {
    /// An empty folder.
    pub(crate) fn new() -> Self {
        Self { dir: tempfile::tempdir().expect("a temporary folder") }
    }

    /// A folder with the smallest estate that loads.
    pub(crate) fn estate() -> Self {
        Self::new().with("bexum.toml", ESTATE)
    }

    /// A folder with the demo estate.
    pub(crate) fn demo() -> Self {
        let folder = Self::new();
        copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("demo"), folder.path());
        folder
    }

    /// A folder with a copy of another.
    pub(crate) fn copy_of(dir: &Path) -> Self {
        let folder = Self::new();
        copy(dir, folder.path());
        folder
    }

    pub(crate) fn path(&self) -> &Path {
        self.dir.path()
    }

    pub(crate) fn file(&self, name: impl AsRef<Path>) -> PathBuf {
        self.path().join(name)
    }

    /// Writes a file, its folders too.
    pub(crate) fn with(self, name: impl AsRef<Path>, content: impl AsRef<[u8]>) -> Self {
        let path = self.file(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("folders");
        std::fs::write(path, content).expect("a file");
        self
    }

    /// Adds to the estate's root file.
    pub(crate) fn and(self, more: &str) -> Self {
        let before = std::fs::read_to_string(self.file("bexum.toml")).expect("bexum.toml");
        self.with("bexum.toml", format!("{before}\n{more}"))
    }

    /// Runs the program in this folder.
    pub(crate) fn run(&self, args: &[&str]) -> Run {
        self.run_with(args, "")
    }

    /// Runs the program in this folder, with something on standard input.
    pub(crate) fn run_with<S: AsRef<OsStr>>(&self, args: &[S], input: impl AsRef<[u8]>) -> Run {
        finish(command().args(args).current_dir(self.path()), input.as_ref())
    }
}

/// The program in a bare environment.
pub(crate) fn command() -> Command {
    command_at(env!("CARGO_BIN_EXE_bexum"))
}

pub(crate) fn command_at(program: impl AsRef<OsStr>) -> Command {
    let mut command = Command::new(program);
    command.env_clear().env("COLUMNS", "100").env("RUST_BACKTRACE", "0");
    command
}

pub(crate) fn finish(command: &mut Command, input: &[u8]) -> Run {
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = loop {
        match command.spawn() {
            // A program that was just copied is still open in a process that another test started.
            Err(error) if error.kind() == std::io::ErrorKind::ExecutableFileBusy => {
                std::thread::yield_now();
            }
            started => break started.expect("the program starts"),
        }
    };
    let mut stdin = child.stdin.take().expect("a pipe");
    let input = input.to_vec();
    // Another thread, so that a program that answers while it reads blocks nobody.
    let writer = std::thread::spawn(move || {
        // A program that ends early does not read all of it.
        let _ = stdin.write_all(&input);
    });
    let output = child.wait_with_output().expect("the program ends");
    writer.join().expect("the writer ends");
    let run = Run {
        code: output.status.code(),
        out: String::from_utf8(output.stdout).expect("UTF-8 out"),
        err: String::from_utf8(output.stderr).expect("UTF-8 err"),
    };
    assert!(!run.err.contains("panicked"), "{}", run.err);
    run
}

/// The exit code of a run with nobody to read what it prints; that by itself is no error.
pub(crate) fn run_unread(args: &[&str], folder: &Path) -> Option<i32> {
    let mut child = command()
        .args(args)
        .current_dir(folder)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the program starts");
    drop(child.stdout.take());
    let output = child.wait_with_output().expect("the program ends");
    assert!(!String::from_utf8_lossy(&output.stderr).contains("error: "), "{output:?}");
    output.status.code()
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("the demo estate") {
        let entry = entry.expect("an entry");
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy(&entry.path(), &target);
        } else {
            std::fs::copy(entry.path(), target).expect("a copy");
        }
    }
}

/// The smallest estate with a bit of everything.
pub(crate) const ESTATE: &str = r#"[estate]
name = "Small"
format = 1

[kind.store]
observe = ["list", "read"]
alter = ["create"]
on-parent = ["create"]
items = ["file"]
[kind.file]
observe = ["open"]
alter = ["erase"]

[account.v]
[subscription."v/s"]
[resource."v/s/store"]
kind = "store"
attributes = { tier = "raw" }

[user.ines]
[user.tomas]
[group.crew]
members = ["user:ines"]

[policy.reader]
[[policy.reader.allow]]
do = ["store.list", "store.read", "file.open"]

[[attach]]
policy = "reader"
to = "group:crew"
at = "v/s"
"#;
