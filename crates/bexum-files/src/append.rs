//! Adding a table at the end of a file of the estate: nothing that stands there is touched.

use std::fs;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use bexum_core::attribute::Value;
use bexum_core::declaration::Check;
use bexum_core::origin::{FileId, Written};

use crate::decode;
use crate::source::Sources;

/// Why nothing was added.
#[derive(Debug, thiserror::Error)]
pub enum AppendError {
    /// A file that would be no part of the estate.
    #[error("`{}` would be no file of this estate: {why}", .path.display())]
    Outside {
        /// As named.
        path: PathBuf,
        /// Why, in words.
        why: &'static str,
    },
    /// The file changed since it was read.
    #[error("`{}` has changed meanwhile: nothing was written", .0.display())]
    Changed(PathBuf),
    /// The file is written in a way that leaves no room for a table at its end.
    #[error("`{}` cannot take a table at its end: nothing was written", .0.display())]
    NoRoom(PathBuf),
    /// The system's word.
    #[error("cannot write `{}`: {error}", .path.display())]
    Write {
        /// Below the root.
        path: PathBuf,
        /// Why.
        error: io::Error,
    },
}

/// Writes a check into a file of the estate, below its root: at its end, or as a new file. The
/// old text stays as it is, to the byte; a file is replaced whole or not at all.
///
/// # Errors
/// Every [`AppendError`]; then nothing has changed.
pub fn append_check(sources: &Sources, file: &Path, check: &Check) -> Result<(), AppendError> {
    refuse_outside(sources, file)?;
    let known = sources.find(file);
    let old = known.map_or("", |source| &*source.text);
    let path = sources.root.join(file);
    let on_disk = match fs::read(&path) {
        Ok(bytes) => Some(bytes),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(error) => return Err(AppendError::Write { path: file.to_path_buf(), error }),
    };
    if on_disk.as_deref() != known.map(|source| source.text.as_bytes()) {
        return Err(AppendError::Changed(file.to_path_buf()));
    }
    let line_end = if old.contains("\r\n") { "\r\n" } else { "\n" };
    let mut text = old.to_owned();
    if !text.is_empty() {
        if !text.ends_with('\n') {
            text.push_str(line_end);
        }
        text.push_str(line_end);
    }
    text.push_str(&written(check).replace('\n', line_end));
    let is_root = file == Path::new(crate::discover::ROOT_FILE);
    let (before, after) =
        (decode::decode(FileId(0), old, is_root), decode::decode(FileId(0), &text, is_root));
    let sound = after.syntax.is_empty()
        && after.faults.len() == before.faults.len()
        && after.declared.checks.len() == before.declared.checks.len() + 1;
    if !sound {
        return Err(AppendError::NoRoom(file.to_path_buf()));
    }
    replace(&path, &text).map_err(|error| AppendError::Write { path: file.to_path_buf(), error })
}

fn refuse_outside(sources: &Sources, file: &Path) -> Result<(), AppendError> {
    let refuse = |why| Err(AppendError::Outside { path: file.to_path_buf(), why });
    let mut names = file.components().map(|part| match part {
        std::path::Component::Normal(name) => name.to_str(),
        _ => None,
    });
    if file.as_os_str().is_empty() || names.any(|name| name.is_none_or(|n| n.starts_with('.'))) {
        return refuse("name it from the estate's root, with no hidden folder on the way");
    }
    if file.extension().is_none_or(|extension| extension != "toml") {
        return refuse("its name must end in `.toml`");
    }
    let folder = file.parent().map(|folder| sources.root.join(folder));
    if folder.is_some_and(|folder| !folder.is_dir()) {
        return refuse("its folder does not exist");
    }
    Ok(())
}

/// The table of a check.
fn written(check: &Check) -> String {
    let text = |text: &str| toml::Value::String(text.to_owned()).to_string();
    let list = |items: &[Written<String>]| match items {
        [one] => text(&one.value),
        many => {
            let quoted: Vec<String> = many.iter().map(|item| text(&item.value)).collect();
            format!("[{}]", quoted.join(", "))
        }
    };
    let table = |entries: &[(Written<String>, Value)]| {
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

fn toml_value(value: &Value) -> String {
    match value {
        Value::Text(text) => toml::Value::String(text.to_string()).to_string(),
        Value::Integer(n) => n.to_string(),
        Value::Boolean(b) => b.to_string(),
        Value::Time(time) => time.to_string(),
        Value::List(items) => {
            let items: Vec<String> = items.iter().map(toml_value).collect();
            format!("[{}]", items.join(", "))
        }
    }
}

/// Writes beside the file, then puts the new one in the old one's place.
fn replace(path: &Path, text: &str) -> io::Result<()> {
    // A link stays a link: what it leads to is replaced.
    let path = if path.exists() { path.canonicalize()? } else { path.to_path_buf() };
    let folder = path.parent().unwrap_or(Path::new("."));
    let mut builder = tempfile::Builder::new();
    builder.prefix(".bexum-");
    #[cfg(unix)]
    let builder = {
        use std::os::unix::fs::PermissionsExt as _;
        builder.permissions(fs::Permissions::from_mode(0o666))
    };
    let mut file = builder.tempfile_in(folder)?;
    file.write_all(text.as_bytes())?;
    if path.exists() {
        file.as_file().set_permissions(fs::metadata(&path)?.permissions())?;
    }
    file.as_file().sync_all()?;
    file.persist(&path)?;
    Ok(())
}
