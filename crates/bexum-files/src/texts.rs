//! Where the texts of an estate come from: a folder, a revision of a repository, texts by name, or
//! any of these with some texts replaced. What is read from them is the same.

mod folder;
pub(crate) mod laid;
mod revision;

use std::path::{Path, PathBuf};
use std::sync::Arc;

pub use folder::Folder;
pub use laid::{Laid, Named};
pub use revision::{Revision, RevisionError};

use crate::discover::ROOT_FILE;
use crate::problem::Problem;
use crate::source::{Source, Sources};

/// A place that holds the texts of an estate.
pub trait TextSource {
    /// Reads all of them. A text that cannot be read is told among the problems, beside the others.
    ///
    /// # Errors
    /// Why there is no estate at all.
    fn texts(&self) -> Result<Texts, Problem>;

    /// The estate's root folder, as messages name it.
    fn root(&self) -> PathBuf;
}

/// The texts of an estate, and those that could not be read.
#[derive(Debug)]
pub struct Texts {
    /// In the order of their paths below the root.
    pub files: Vec<Arc<Source>>,
    /// Which of them is the root's `bexum.toml`, if it could be read.
    pub root_file: Option<usize>,
    /// Why others could not be read.
    pub problems: Vec<Problem>,
}

impl Texts {
    /// These texts, all of which could be read; the root's `bexum.toml` is the one of that name.
    fn whole(mut files: Vec<Arc<Source>>) -> Self {
        files.sort_by(|a, b| a.path.cmp(&b.path));
        let root_file = files.iter().position(|file| file.path == Path::new(ROOT_FILE));
        Self { files, root_file, problems: Vec::new() }
    }
}

impl Sources {
    /// The texts once more, as they were read.
    pub(crate) fn again(&self) -> Texts {
        let root_file = self.root_file.map(|file| file.0 as usize);
        Texts { files: self.files.clone(), root_file, problems: Vec::new() }
    }
}
