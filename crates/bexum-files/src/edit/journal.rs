//! Several files written together or not at all, whatever happens meanwhile.
//!
//! New texts are written into a folder of their own first ([`FOLDER`]), with the old ones beside
//! them; then a journal says which belong where; then each is moved to its place. Whoever comes
//! after a crash finds a journal, and finishes what it says, or none, and clears the folder: the
//! estate is the one before or the one after. Writers wait for each other.

use std::fs::{self, File};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use toml::de::DeTable;

use super::written::quoted;
use crate::source::Sources;
use crate::texts::{Folder, TextSource as _};

/// The folder, below the estate's root, in which texts wait to be moved to their places. As its name
/// starts with a `.`, nothing in it is of the estate.
pub const FOLDER: &str = ".bexum-edit";
const JOURNAL: &str = "journal";

/// Why nothing was written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum WriteError {
    /// A file is not as it was read.
    #[error("`{}` has changed since it was read: nothing was written", .0.display())]
    Changed(PathBuf),
    /// A file may not be written.
    #[error("`{}` is read-only: nothing was written", .0.display())]
    ReadOnly(PathBuf),
    /// The folder of a new file is not there.
    #[error("`{}` cannot be made: its folder does not exist", .0.display())]
    NoFolder(PathBuf),
    /// The system's word.
    #[error("cannot write `{}`: {error}; nothing was changed", .path.display())]
    Write {
        /// What was to be written.
        path: PathBuf,
        /// Why not.
        error: io::Error,
    },
}

/// The right to write into an estate; nobody else has it meanwhile.
#[derive(Debug)]
pub struct Lock {
    /// The lock is on the folder, so that it leaves nothing behind, and ends with the process.
    _folder: File,
    root: PathBuf,
}

impl Lock {
    /// Waits until nobody else writes, and finishes what somebody left undone.
    ///
    /// # Errors
    /// A folder that cannot be opened; something undone that can be neither finished nor undone.
    pub fn wait(root: &Path) -> io::Result<Self> {
        let folder = File::open(root)?;
        folder.lock()?;
        let lock = Self { _folder: folder, root: root.to_path_buf() };
        lock.finish()?;
        Ok(lock)
    }

    /// Finishes what a journal says, or clears what has none.
    fn finish(&self) -> io::Result<()> {
        let folder = self.root.join(FOLDER);
        if !folder.exists() {
            return Ok(());
        }
        let moves = match fs::read_to_string(folder.join(JOURNAL)) {
            Ok(text) => read_journal(&text)?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => Vec::new(),
            Err(error) => return Err(error),
        };
        if self.move_all(&moves).is_err() {
            self.move_back(&moves)?;
        }
        clear(&folder)
    }

    /// Moves every text that still waits to its place.
    fn move_all(&self, moves: &[PathBuf]) -> Result<(), (PathBuf, io::Error)> {
        for (i, place) in moves.iter().enumerate() {
            let waiting = self.root.join(FOLDER).join(i.to_string());
            if !waiting.exists() {
                continue;
            }
            let target = self.root.join(place);
            let moved = fs::rename(&waiting, &target).and_then(|()| sync_folder(&target));
            moved.map_err(|error| (place.clone(), error))?;
        }
        Ok(())
    }

    /// Puts the old texts back in place of those that were moved.
    fn move_back(&self, moves: &[PathBuf]) -> io::Result<()> {
        for (i, place) in moves.iter().enumerate() {
            let folder = self.root.join(FOLDER);
            if folder.join(i.to_string()).exists() {
                continue;
            }
            let (old, target) = (folder.join(format!("{i}.old")), self.root.join(place));
            match old.exists() {
                true => fs::rename(&old, &target)?,
                false => fs::remove_file(&target)?,
            }
            sync_folder(&target)?;
        }
        Ok(())
    }

    /// Writes texts into the estate, by path below the root: all of them, or none.
    ///
    /// # Errors
    /// Every [`WriteError`]: also where any file of the estate is not as it was in `sources`.
    pub fn write(&self, sources: &Sources, files: &[(PathBuf, String)]) -> Result<(), WriteError> {
        self.refuse_changed(sources)?;
        let failed = |path: &Path| {
            let path = path.to_path_buf();
            move |error| WriteError::Write { path, error }
        };
        let root = self.root.canonicalize().map_err(failed(&self.root))?;
        refuse_without_folder(&root, sources, files)?;
        let mut moves: Vec<PathBuf> = Vec::new();
        for (path, _) in files {
            let whole = root.join(path);
            if sources.find(path).is_none() {
                moves.push(path.clone());
                continue;
            }
            // What a link leads to is replaced, and not the link.
            let real = whole.canonicalize().map_err(failed(path))?;
            let about = real.metadata().map_err(failed(path))?;
            if about.permissions().readonly() {
                return Err(WriteError::ReadOnly(path.clone()));
            }
            moves.push(real.strip_prefix(&root).map_or(real.clone(), Path::to_path_buf));
        }
        let folder = root.join(FOLDER);
        let waiting = self.prepare(&folder, sources, files, &moves);
        if let Err((path, error)) = waiting {
            // Whatever is left of it the next writer clears.
            let _ = clear(&folder);
            return Err(WriteError::Write { path, error });
        }
        if let Err((path, error)) = self.move_all(&moves) {
            self.move_back(&moves).map_err(failed(&path))?;
            clear(&folder).map_err(failed(&path))?;
            return Err(WriteError::Write { path, error });
        }
        clear(&folder).map_err(failed(Path::new(FOLDER)))
    }

    /// Whether all files are as they were read.
    fn refuse_changed(&self, sources: &Sources) -> Result<(), WriteError> {
        let now = Folder(&self.root).texts();
        let now =
            now.map_err(|_| WriteError::Changed(PathBuf::from(crate::discover::ROOT_FILE)))?;
        let mut old = sources.iter();
        for file in &now.files {
            match old.next() {
                Some(known) if known.path == file.path && known.text == file.text => {}
                _ => return Err(WriteError::Changed(file.path.clone())),
            }
        }
        match (old.next(), now.problems.is_empty()) {
            (None, true) => Ok(()),
            (Some(gone), _) => Err(WriteError::Changed(gone.path.clone())),
            (None, false) => Err(WriteError::Changed(PathBuf::from(crate::discover::ROOT_FILE))),
        }
    }

    /// Writes the new texts, the old ones and the journal.
    fn prepare(
        &self,
        folder: &Path,
        sources: &Sources,
        files: &[(PathBuf, String)],
        moves: &[PathBuf],
    ) -> Result<(), (PathBuf, io::Error)> {
        fs::create_dir(folder).map_err(|error| (PathBuf::from(FOLDER), error))?;
        for (i, ((path, text), place)) in files.iter().zip(moves).enumerate() {
            let write = || -> io::Result<()> {
                let waiting = folder.join(i.to_string());
                write_file(&waiting, text)?;
                if let Some(old) = sources.find(path) {
                    let about = self.root.join(place).metadata()?;
                    fs::set_permissions(&waiting, about.permissions())?;
                    let kept = folder.join(format!("{i}.old"));
                    write_file(&kept, &old.text)?;
                    fs::set_permissions(&kept, about.permissions())?;
                }
                Ok(())
            };
            write().map_err(|error| (path.clone(), error))?;
        }
        let journal = || -> io::Result<()> {
            let unfinished = folder.join("journal.new");
            write_file(&unfinished, &journal(moves)?)?;
            fs::rename(&unfinished, folder.join(JOURNAL))?;
            sync_folder(&folder.join(JOURNAL))
        };
        journal().map_err(|error| (Path::new(FOLDER).join(JOURNAL), error))
    }
}

/// Refuses texts for new files in folders that are not there: so these would be refused when written.
///
/// # Errors
/// [`WriteError::NoFolder`].
pub fn refuse_without_folder(
    root: &Path,
    sources: &Sources,
    files: &[(PathBuf, String)],
) -> Result<(), WriteError> {
    let has_folder = |path: &Path| root.join(path).parent().is_none_or(Path::is_dir);
    let mut new = files.iter().filter(|(path, _)| sources.find(path).is_none());
    match new.find(|(path, _)| !has_folder(path)) {
        Some((path, _)) => Err(WriteError::NoFolder(path.clone())),
        None => Ok(()),
    }
}

/// Finishes or undoes what a writer left undone, if anything: the next command calls it.
///
/// # Errors
/// Something undone that can be neither finished nor undone.
pub fn recover(root: &Path) -> io::Result<()> {
    match root.join(FOLDER).exists() {
        true => Lock::wait(root).map(|_| ()),
        false => Ok(()),
    }
}

fn write_file(path: &Path, text: &str) -> io::Result<()> {
    let mut file = File::create(path)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

/// Makes the names in the folder of a path outlast a loss of power.
fn sync_folder(path: &Path) -> io::Result<()> {
    match path.parent() {
        Some(folder) if cfg!(unix) => File::open(folder)?.sync_all(),
        _ => Ok(()),
    }
}

/// Removes the folder: the journal first, since nothing is to be done any more.
fn clear(folder: &Path) -> io::Result<()> {
    match fs::remove_file(folder.join(JOURNAL)) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    match fs::remove_dir_all(folder) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// Where each text belongs, in their order.
fn journal(moves: &[PathBuf]) -> io::Result<String> {
    let mut lines = Vec::new();
    for place in moves {
        let place = place.to_str().ok_or_else(|| bad_name(place))?;
        lines.push(quoted(place));
    }
    Ok(format!("to = [{}]\n", lines.join(", ")))
}

fn bad_name(path: &Path) -> io::Error {
    io::Error::other(format!("`{}` is no name in UTF-8", path.display()))
}

fn read_journal(text: &str) -> io::Result<Vec<PathBuf>> {
    let unreadable = || io::Error::other(format!("`{FOLDER}/{JOURNAL}` cannot be read"));
    let document = DeTable::parse(text).map_err(|_| unreadable())?;
    let all = document.get_ref().get("to").and_then(|to| to.get_ref().as_array());
    let all = all.ok_or_else(unreadable)?;
    all.iter().map(|one| one.get_ref().as_str().map(PathBuf::from).ok_or_else(unreadable)).collect()
}
