//! An estate and its texts, to be changed text by text.

use std::path::PathBuf;
use std::sync::Arc;

use bexum_core::Estate;
use bexum_core::declaration::Declarations;
use rayon::prelude::*;

use crate::decode::Decoded;
use crate::load::{self, Failure, Loaded};
use crate::source::{Source, Sources};
use crate::texts::TextSource;
use crate::texts::laid::replace;

/// A loaded estate that keeps what each of its files declares, so that of a change only the texts
/// that differ are decoded again. It takes about twice the memory of the estate alone.
#[derive(Debug)]
pub struct Workspace {
    loaded: Loaded,
    parts: Vec<Arc<FileDeclarations>>,
}

/// What one file declares; it has no fault.
#[derive(Debug)]
struct FileDeclarations {
    estate: Option<String>,
    declared: Declarations,
}

impl FileDeclarations {
    fn of(decoded: &Decoded) -> Self {
        Self { estate: decoded.estate.clone(), declared: decoded.declared.clone() }
    }

    fn decoded(&self) -> Decoded {
        Decoded {
            estate: self.estate.clone(),
            declared: self.declared.clone(),
            ..Decoded::default()
        }
    }
}

impl Workspace {
    /// Loads an estate.
    ///
    /// # Errors
    /// Every problem of the load together.
    pub fn open(texts: &(impl TextSource + ?Sized)) -> Result<Self, Box<Failure>> {
        let (sources, problems) = load::read_texts(texts)?;
        Self::new(sources, problems, |_, _| None)
    }

    /// The estate.
    #[must_use]
    pub fn estate(&self) -> &Arc<Estate> {
        &self.loaded.estate
    }

    /// Its texts.
    #[must_use]
    pub fn sources(&self) -> &Sources {
        &self.loaded.sources
    }

    /// The estate and its texts, as [`load`](load::load) gives them.
    #[must_use]
    pub fn loaded(&self) -> &Loaded {
        &self.loaded
    }

    /// The estate as it would be with some texts replaced, added, or (`None`) taken away; paths are
    /// those below the root. This one stays as it is.
    ///
    /// # Errors
    /// Every problem that it would have.
    pub fn with(&self, files: Vec<(PathBuf, Option<String>)>) -> Result<Self, Box<Failure>> {
        let before = self.sources();
        let texts = replace(before.again(), files);
        let (sources, problems) = load::sources(before.root.clone(), texts);
        Self::new(sources, problems, |sources, place| {
            // What a file declares tells its places by its number, and the root's file is special.
            let is_same = |known: &Arc<Source>| Arc::ptr_eq(known, &sources.files[place]);
            let stays = before.files.get(place).is_some_and(is_same)
                && before.root_file == sources.root_file;
            stays.then(|| Arc::clone(&self.parts[place]))
        })
    }

    fn new(
        sources: Sources,
        problems: Vec<crate::Problem>,
        known: impl Fn(&Sources, usize) -> Option<Arc<FileDeclarations>> + Sync,
    ) -> Result<Self, Box<Failure>> {
        let both = |place: usize| match known(&sources, place) {
            Some(part) => (part.decoded(), part),
            None => {
                let decoded = load::decode_one(&sources, place);
                let part = FileDeclarations::of(&decoded);
                (decoded, Arc::new(part))
            }
        };
        let (decoded, parts): (Vec<Decoded>, Vec<Arc<FileDeclarations>>) =
            (0..sources.files.len()).into_par_iter().map(both).unzip();
        let (sources, declared) = load::gather(sources, problems, decoded)?;
        let loaded = load::build(sources, &declared)?;
        Ok(Self { loaded, parts })
    }
}
