//! `bexum init`: a small commented estate to start from.

use std::fs;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, bail};
use include_dir::{Dir, include_dir};

use crate::command_line;
use crate::exit::Exit;
use crate::render::style::safe;
use crate::terminal;

static STARTER: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/starter");

pub(super) fn run(dir: Option<PathBuf>) -> anyhow::Result<Exit> {
    let here = dir.is_none();
    let dir = dir.unwrap_or_else(|| PathBuf::from("."));
    write_estate(&STARTER, &dir)?;
    let option = if here { String::new() } else { format!(" -C {}", quoted(&dir)) };
    terminal::print(&format!(
        "wrote an estate to {}\n\ntry:\n  bexum{option} show\n  bexum{option} ask user:ada store.list tarn/site/recordings\n",
        safe(&dir.display().to_string()),
    ))?;
    Ok(Exit::Done)
}

/// Writes embedded files into a folder that is not there yet, or in which nothing is to be seen;
/// never over anything that exists.
pub(super) fn write_estate(files: &Dir<'_>, dir: &Path) -> anyhow::Result<()> {
    let shown = safe(&dir.display().to_string());
    if dir.exists() && !dir.is_dir() {
        bail!("`{shown}` is there already and is no folder");
    }
    if dir.is_dir() {
        for entry in fs::read_dir(dir).with_context(|| format!("cannot read `{shown}`"))? {
            let name = entry.with_context(|| format!("cannot read `{shown}`"))?.file_name();
            // Hidden files (a repository's own) are no part of any estate.
            if !name.as_encoded_bytes().starts_with(b".") {
                bail!(
                    "`{shown}` is not empty: choose a folder that is, or one that does not exist yet"
                );
            }
        }
    }
    let is_new = !dir.exists();
    fs::create_dir_all(dir).with_context(|| format!("cannot make the folder `{shown}`"))?;
    if let Err(error) = files.extract(dir) {
        // Half an estate is worse than none, and would stand in the way of the next try. What
        // cannot be taken away again was not written either.
        take_away(files, dir);
        if is_new {
            let _ = fs::remove_dir(dir);
        }
        return Err(error).with_context(|| format!("cannot write into `{shown}`"));
    }
    Ok(())
}

/// Removes what was written of these files.
fn take_away(files: &Dir<'_>, dir: &Path) {
    for entry in files.entries() {
        let path = dir.join(entry.path());
        match entry.as_dir() {
            Some(folder) => {
                take_away(folder, dir);
                let _ = fs::remove_dir(path);
            }
            None => {
                let _ = fs::remove_file(path);
            }
        }
    }
}

/// A path as one would type it in a shell.
pub(super) fn quoted(path: &Path) -> String {
    command_line::quoted(&path.display().to_string())
}
