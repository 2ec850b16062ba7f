//! Texts that stand in no folder: by name, or laid over others.

use std::path::PathBuf;
use std::sync::Arc;

use super::{TextSource, Texts};
use crate::problem::Problem;
use crate::source::Source;

/// Texts by their paths below the root, from wherever.
#[derive(Clone, Debug, Default)]
pub struct Named {
    /// What messages call the root.
    pub root: PathBuf,
    /// Each path once.
    pub files: Vec<(PathBuf, String)>,
}

impl TextSource for Named {
    fn texts(&self) -> Result<Texts, Problem> {
        let files = self.files.iter().map(|(path, text)| Source::new(path.clone(), text.clone()));
        let texts = Texts::whole(files.map(Arc::new).collect());
        match texts.root_file {
            Some(_) => Ok(texts),
            None => Err(Problem::NoEstate(self.root.clone())),
        }
    }

    fn root(&self) -> PathBuf {
        self.root.clone()
    }
}

/// Other texts with some replaced, added or taken away.
#[derive(Clone, Debug)]
pub struct Laid<'t, S: ?Sized> {
    /// The others.
    pub over: &'t S,
    /// By path below the root: the new text, or `None` for no such file.
    pub files: Vec<(PathBuf, Option<String>)>,
}

impl<S: TextSource + ?Sized> TextSource for Laid<'_, S> {
    fn texts(&self) -> Result<Texts, Problem> {
        Ok(replace(self.over.texts()?, self.files.clone()))
    }

    fn root(&self) -> PathBuf {
        self.over.root()
    }
}

/// The texts with some replaced, added or taken away; the others are shared, not copied.
pub(crate) fn replace(texts: Texts, files: Vec<(PathBuf, Option<String>)>) -> Texts {
    let Texts { files: mut all, root_file, problems } = texts;
    let root_path = root_file.map(|place| all[place].path.clone());
    for (path, text) in files {
        let place = all.partition_point(|source| source.path < path);
        let is_there = all.get(place).is_some_and(|source| source.path == path);
        match (text, is_there) {
            (Some(text), true) => all[place] = Arc::new(Source::new(path, text)),
            (Some(text), false) => all.insert(place, Arc::new(Source::new(path, text))),
            (None, true) => {
                all.remove(place);
            }
            (None, false) => {}
        }
    }
    let root_file = all.iter().position(|source| Some(&source.path) == root_path.as_ref());
    Texts { files: all, root_file, problems }
}
