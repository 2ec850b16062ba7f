//! Adding a table at the end of a file of the estate: nothing that stands there is touched.
//!
//! A file is appended to and never replaced, so that its owner, its mode and its links stay, and
//! what somebody else appends at the same time is kept. Writers of one estate wait for each other.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use bexum_core::attribute::Value;
use bexum_core::declaration::Check;
use bexum_core::origin;

use crate::discover::estate_file;
use crate::edit::journal::Lock;
use crate::edit::written::{quoted, toml_value};
use crate::load::{Failure, Loaded};
use crate::problem::Problem;
use crate::texts::Folder;
use crate::workspace::Workspace;

/// Tries before a file that somebody else keeps changing is given up.
const MOST_TRIES: usize = 200;
/// Tries in which the file must be as it was read; after them it may have been appended to.
const PATIENT_TRIES: usize = 5;
/// The file for checks where none stands anywhere yet.
const NEW_FILE: &str = "checks.toml";

/// Why nothing was added.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AppendError {
    /// A file that would be no part of the estate.
    #[error("`{}` would be no file of this estate: {why}", .path.display())]
    Outside {
        /// As named.
        path: PathBuf,
        /// Why, in words.
        why: &'static str,
    },
    /// The name belongs to another expectation by now.
    #[error("something is called `{name}` already ({written}): choose another name")]
    Taken {
        /// The name.
        name: String,
        /// Its file and line.
        written: String,
    },
    /// The file is written in a way that leaves no room for a table at its end.
    #[error("`{}` cannot take a table at its end: nothing was written", .0.display())]
    NoRoom(PathBuf),
    /// The file may not be written.
    #[error("`{}` is read-only", .0.display())]
    ReadOnly(PathBuf),
    /// The file changes faster than it can be read.
    #[error("`{}` keeps changing: nothing was written", .0.display())]
    Changing(PathBuf),
    /// The estate as it is now does not load.
    #[error("the estate does not load any more: {}", first(.0))]
    Estate(Box<Failure>),
    /// The estate would not load with the new table.
    #[error("the estate would not load with it: {}", first(.0))]
    Refused(Box<Failure>),
    /// The new table would not ask what it is to ask.
    #[error("written down, it would not be the same question")]
    OtherQuestion,
    /// The system's word.
    #[error("cannot write `{}`: {error}", .path.display())]
    Write {
        /// Below the root.
        path: PathBuf,
        /// Why.
        error: io::Error,
    },
}

/// The first problem of a load, in words.
fn first(failure: &Failure) -> String {
    failure.problems.first().map(ToString::to_string).unwrap_or_default()
}

/// Writes a check into a file of the estate at `root`, at the end of the file or as a new one;
/// without a `file`, where the last check stands. Says which file it was, from the root.
///
/// The estate is read again, with every other writer of Bexum's shut out, and loaded with the new
/// table in it before anything is written; `is_same` then judges whether the check asks what it is
/// to ask.
///
/// # Errors
/// Every [`AppendError`]; then nothing has changed.
pub fn append_check(
    root: &Path,
    file: Option<&Path>,
    check: &Check,
    is_same: impl Fn(&Loaded) -> bool,
) -> Result<PathBuf, AppendError> {
    let choose = |loaded: &Loaded| {
        refuse_taken(loaded, &check.name.value)?;
        let last = || loaded.estate.checks.last().map(|check| check.origin);
        choose(loaded, file, last, NEW_FILE)
    };
    append(root, choose, &written(check), is_same)
}

/// Writes tables into a file of the estate at `root`, likewise: into `file`, or as a new one.
///
/// # Errors
/// Every [`AppendError`]; then nothing has changed.
pub fn append_tables(
    root: &Path,
    file: &Path,
    tables: &str,
    is_same: impl Fn(&Loaded) -> bool,
) -> Result<PathBuf, AppendError> {
    let choose = |loaded: &Loaded| choose(loaded, Some(file), || None, "");
    append(root, choose, tables, is_same)
}

fn append(
    root: &Path,
    choose: impl Fn(&Loaded) -> Result<PathBuf, AppendError>,
    tables: &str,
    is_same: impl Fn(&Loaded) -> bool,
) -> Result<PathBuf, AppendError> {
    let lock_failed = |error| AppendError::Write { path: root.to_path_buf(), error };
    let _lock = Lock::wait(root).map_err(lock_failed)?;
    let mut was_written = false;
    let mut last_file = PathBuf::new();
    for tries in 1..=MOST_TRIES {
        let workspace = Workspace::open(&Folder(root)).map_err(AppendError::Estate)?;
        let loaded = workspace.loaded();
        let file = choose(loaded)?;
        // Whoever replaced the file may have taken over what was written.
        if was_written && is_same(loaded) {
            return Ok(file);
        }
        last_file.clone_from(&file);
        let old = loaded.sources.find(&file).map(|source| source.text.as_str());
        let addition = addition(old.unwrap_or_default(), tables);
        let whole = format!("{}{addition}", old.unwrap_or_default());
        let with = workspace.with(vec![(file.clone(), Some(whole))]).map_err(|failure| {
            let is_syntax = |problem: &Problem| matches!(problem, Problem::Syntax { .. });
            match failure.problems.iter().any(is_syntax) {
                true => AppendError::NoRoom(file.clone()),
                false => AppendError::Refused(failure),
            }
        })?;
        if !is_same(with.loaded()) {
            return Err(AppendError::OtherQuestion);
        }
        match write(&root.join(&file), old, &addition, tries >= PATIENT_TRIES) {
            Ok(Outcome::Kept) => return Ok(file),
            Ok(Outcome::Replaced) => was_written = true,
            Ok(Outcome::Not) => {}
            Err(error) => return Err(AppendError::Write { path: file, error }),
        }
    }
    Err(AppendError::Changing(last_file))
}

fn refuse_taken(loaded: &Loaded, name: &str) -> Result<(), AppendError> {
    let estate = &loaded.estate;
    let taken = estate.checks.iter().map(|check| (&check.name, check.origin));
    let taken = taken.chain(estate.laws.iter().map(|law| (&law.name, law.origin)));
    let mut taken = taken.chain(estate.separations.iter().map(|s| (&s.name, s.origin)));
    match taken.find(|(known, _)| &***known == name) {
        Some((_, origin)) => {
            Err(AppendError::Taken { name: name.to_owned(), written: loaded.sources.shown(origin) })
        }
        None => Ok(()),
    }
}

/// The file to write to, under the name by which the estate knows it.
fn choose(
    loaded: &Loaded,
    file: Option<&Path>,
    last: impl Fn() -> Option<origin::Origin>,
    new: &str,
) -> Result<PathBuf, AppendError> {
    let sources = &loaded.sources;
    let file = match file {
        Some(file) => file.to_path_buf(),
        None => last().map_or(PathBuf::from(new), |origin| sources.get(origin.file).path.clone()),
    };
    let refuse = |why| Err(AppendError::Outside { path: file.clone(), why });
    let plain = match estate_file(&file) {
        Ok(plain) => plain,
        Err(why) => return refuse(why),
    };
    let path = sources.root.join(&plain);
    if path.parent().is_some_and(|folder| !folder.is_dir()) {
        return refuse("its folder does not exist");
    }
    let Ok(about) = path.symlink_metadata() else { return Ok(plain) };
    if !(about.is_file() || about.is_symlink() && path.is_file()) {
        return refuse("it is no regular file");
    }
    if path.metadata().is_ok_and(|about| about.permissions().readonly()) {
        return Err(AppendError::ReadOnly(plain));
    }
    // A link inside the estate is a file of it under another name.
    let is_it = |known: &PathBuf| known.canonicalize().ok() == path.canonicalize().ok();
    match sources.iter().find(|source| is_it(&sources.root.join(&source.path))) {
        Some(source) => Ok(source.path.clone()),
        None => refuse("it leads out of the estate"),
    }
}

/// What is put after the old text: the table, with an empty line before it. It begins with a line
/// break where there is an old text, so that it stands by itself whatever is appended meanwhile.
fn addition(old: &str, tables: &str) -> String {
    let line_end = if old.contains("\r\n") { "\r\n" } else { "\n" };
    let table = tables.replace('\n', line_end);
    match old {
        "" => table,
        old if old.ends_with('\n') => format!("{line_end}{table}"),
        _ => format!("{line_end}{line_end}{table}"),
    }
}

/// What came of writing.
enum Outcome {
    /// It stands in the file.
    Kept,
    /// It was written into a file that was replaced meanwhile.
    Replaced,
    /// The file is not the one that was read any more.
    Not,
}

/// Appends in one step, if the file is still the `old` one.
///
/// Where `may_be_longer`, the file may have been appended to since: the table stands by itself
/// after whatever that was.
fn write(
    path: &Path,
    old: Option<&str>,
    addition: &str,
    may_be_longer: bool,
) -> io::Result<Outcome> {
    let Some(old) = old else { return create(path, addition) };
    let mut file = match OpenOptions::new().append(true).open(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Outcome::Not),
        opened => opened?,
    };
    let now = fs::read(path)?;
    let is_longer = may_be_longer && now.starts_with(old.as_bytes()) && now.ends_with(b"\n");
    if now != old.as_bytes() && !is_longer {
        return Ok(Outcome::Not);
    }
    let before = file.metadata()?.len();
    if let Err(error) = file.write_all(addition.as_bytes()) {
        // A part of a table is worse than none: it goes, unless somebody has appended after it.
        if file.metadata()?.len() < before + addition.len() as u64 {
            file.set_len(before)?;
        }
        return Err(error);
    }
    file.sync_all()?;
    // Whoever replaced the file between our opening and writing it has not seen what we wrote.
    Ok(if is_at(&file, path) { Outcome::Kept } else { Outcome::Replaced })
}

/// Writes a new file, if there is none by now.
fn create(path: &Path, text: &str) -> io::Result<Outcome> {
    let mut file = match OpenOptions::new().write(true).create_new(true).open(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Ok(Outcome::Not),
        opened => opened?,
    };
    let written = file.write_all(text.as_bytes()).and_then(|()| file.sync_all());
    if let Err(error) = written {
        fs::remove_file(path)?;
        return Err(error);
    }
    Ok(Outcome::Kept)
}

/// Whether an open file is the one that a path leads to.
#[cfg(unix)]
fn is_at(file: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    let id = |about: fs::Metadata| (about.dev(), about.ino());
    file.metadata().map(id).ok() == fs::metadata(path).map(id).ok()
}

/// Whether an open file is the one that a path leads to: elsewhere an open file is not replaced.
#[cfg(not(unix))]
fn is_at(_file: &File, _path: &Path) -> bool {
    true
}

/// The table of a check.
fn written(check: &Check) -> String {
    let text = quoted;
    let list = |items: &[origin::Spanned<String>]| match items {
        [one] => text(&one.value),
        many => {
            let quoted: Vec<String> = many.iter().map(|item| text(&item.value)).collect();
            format!("[{}]", quoted.join(", "))
        }
    };
    let table = |entries: &[(origin::Spanned<String>, Value)]| {
        let pairs: Vec<String> = entries
            .iter()
            .map(|(name, value)| format!("{} = {}", name.value, toml_value(value)))
            .collect();
        format!("{{ {} }}", pairs.join(", "))
    };
    let mut lines = vec![
        "[[check]]".to_owned(),
        format!("name = {}", text(&check.name.value)),
        format!("who = {}", list(&check.who.value)),
        format!("does = {}", list(&check.does.value)),
        format!("on = {}", list(&check.on.value)),
    ];
    if let Some(role) = &check.take_up {
        lines.push(format!("as = {}", text(&role.value)));
    }
    for (key, names) in [("also", &check.also), ("under", &check.under)] {
        if !names.is_empty() {
            lines.push(format!("{key} = {}", list(names)));
        }
    }
    if !check.given.is_empty() {
        lines.push(format!("given = {}", table(&check.given)));
    }
    if !check.absent.is_empty() {
        lines.push(format!("absent = {}", list(&check.absent)));
    }
    if let Some(item) = check.item.as_ref().filter(|item| !item.is_empty()) {
        lines.push(format!("item = {}", table(item)));
    }
    lines.push(format!("expect = {}", text(check.expect.word())));
    if let Some(reason) = &check.reason {
        lines.push(format!("reason = {}", text(reason.value.word())));
    }
    lines.push(String::new());
    lines.join("\n")
}
