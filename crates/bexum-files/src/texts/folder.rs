//! The texts of a folder.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rayon::prelude::*;

use super::{TextSource, Texts};
use crate::discover::{self, FileSystem, FoundFile, ROOT_FILE};
use crate::problem::{ESTATE_BYTES, FILE_BYTES, Problem};
use crate::source::Source;

/// The folder of an estate, with everything below it (spec section 2).
#[derive(Clone, Copy, Debug)]
pub struct Folder<'p>(pub &'p Path);

impl TextSource for Folder<'_> {
    fn texts(&self) -> Result<Texts, Problem> {
        let root = self.0;
        let real_root = root
            .canonicalize()
            .map_err(|error| Problem::Unreadable { path: root.to_path_buf(), error })?;
        let real_root_file = root_file(&real_root, root)?;
        let (found, mut problems) = discover::discover(&real_root, &FileSystem);
        // Sizes are asked before anything is read: a file that is beyond all use costs nothing.
        let mut whole: u64 = 0;
        for found in &found {
            whole += fs::metadata(&found.real).map_or(0, |about| about.len().min(FILE_BYTES));
        }
        if whole > ESTATE_BYTES {
            return Err(Problem::EstateTooLarge { bytes: whole });
        }
        let read: Vec<Result<Source, Problem>> = found.par_iter().map(read_file).collect();
        let (mut files, mut root_file) = (Vec::with_capacity(read.len()), None);
        for (found, text) in found.iter().zip(read) {
            match text {
                Ok(source) => {
                    if found.real == real_root_file {
                        root_file = Some(files.len());
                    }
                    files.push(Arc::new(source));
                }
                Err(problem) => problems.push(problem),
            }
        }
        Ok(Texts { files, root_file, problems })
    }

    fn root(&self) -> PathBuf {
        self.0.to_path_buf()
    }
}

/// The canonical path of the root's `bexum.toml`, or why it cannot be used.
fn root_file(real_root: &Path, root: &Path) -> Result<PathBuf, Problem> {
    let file = real_root.join(ROOT_FILE);
    let unusable = |why| Problem::RootFile { root: root.to_path_buf(), why };
    match file.symlink_metadata() {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(Problem::NoEstate(root.to_path_buf()));
        }
        Err(error) => return Err(Problem::Unreadable { path: PathBuf::from(ROOT_FILE), error }),
        Ok(_) => {}
    }
    let Ok(real) = file.canonicalize() else {
        return Err(unusable("is a link that leads nowhere"));
    };
    match real.metadata() {
        Ok(about) if about.is_file() => Ok(real),
        Ok(about) if about.is_dir() => Err(unusable("is a folder")),
        Ok(_) => Err(unusable("is no regular file")),
        Err(error) => Err(Problem::Unreadable { path: PathBuf::from(ROOT_FILE), error }),
    }
}

fn read_file(found: &FoundFile) -> Result<Source, Problem> {
    let unreadable = |error| Problem::Unreadable { path: found.shown.clone(), error };
    let size = fs::metadata(&found.real).map_err(unreadable)?.len();
    if size > FILE_BYTES {
        return Err(Problem::TooLarge(found.shown.clone()));
    }
    Source::read(found.shown.clone(), fs::read(&found.real).map_err(unreadable)?)
}
