//! From a folder to an estate: discover, read, decode, build; every problem is kept.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use bexum_core::declaration::Declarations;
use bexum_core::fault::{Diagnostic, Fault};
use bexum_core::origin::{FileId, Origin, Place};
use bexum_core::{Estate, estate};
use rayon::prelude::*;

use crate::decode::{self, Decoded};
use crate::discover::{self, Found, ROOT_FILE};
use crate::source::{Source, Sources};

/// Largest file, in bytes: places in a file are 32-bit.
pub const FILE_BYTES: u64 = 1 << 30;

/// One thing that keeps an estate from being loaded.
#[derive(Debug, thiserror::Error)]
pub enum Problem {
    /// The folder has no `bexum.toml`.
    #[error("`{}` is no estate: it has no `bexum.toml`", .0.display())]
    NoEstate(PathBuf),
    /// A file or folder that cannot be read.
    #[error("cannot read `{}`: {error}", path.display())]
    Unreadable {
        /// Below the root.
        path: PathBuf,
        /// The system's word.
        error: io::Error,
    },
    /// A file that is not UTF-8.
    #[error("`{}` is not UTF-8: byte {byte} on line {line} belongs to no character", path.display())]
    NotUtf8 {
        /// Below the root.
        path: PathBuf,
        /// The first wrong byte, from 1.
        byte: usize,
        /// Its line, from 1.
        line: usize,
    },
    /// A file beyond all use.
    #[error("`{}` is larger than {FILE_BYTES} bytes", .0.display())]
    TooLarge(PathBuf),
    /// More files than any estate has.
    #[error("this folder holds {count} files in `.toml`: an estate has at most {most}")]
    TooManyFiles {
        /// How many.
        count: usize,
        /// How many may be.
        most: usize,
    },
    /// A link that leads nowhere.
    #[error("link `{}` leads nowhere: {error}", path.display())]
    LinkNowhere {
        /// Below the root.
        path: PathBuf,
        /// The system's word.
        error: io::Error,
    },
    /// A link out of the estate.
    #[error("link `{}` leads out of the estate, to `{}`", path.display(), to.display())]
    LinkOutside {
        /// Below the root.
        path: PathBuf,
        /// Where to.
        to: PathBuf,
    },
    /// A file that is no TOML.
    #[error("{message}")]
    Syntax {
        /// The TOML reader's word.
        message: String,
        /// Where.
        place: Place,
        /// The first of two, when something stands twice.
        first: Option<Place>,
    },
    /// A fault of what the files declare.
    #[error("{}", .0.fault)]
    Declared(Box<Diagnostic>),
}

impl Problem {
    pub(crate) fn declared(diagnostic: Diagnostic) -> Self {
        Self::Declared(Box::new(diagnostic))
    }

    /// Where it shows, if in a file that could be read.
    #[must_use]
    pub fn place(&self) -> Option<Place> {
        match self {
            Self::Syntax { place, .. } => Some(*place),
            Self::Declared(diagnostic) => Some(diagnostic.place),
            _ => None,
        }
    }

    /// What to do about it, where the message does not say so itself.
    #[must_use]
    pub fn hint(&self) -> Option<String> {
        match self {
            Self::NoEstate(_) => Some(
                "go to an estate's folder, name one with `-C DIR`, or start one with `bexum init DIR`"
                    .to_owned(),
            ),
            Self::NotUtf8 { .. } => Some("save the file as UTF-8".to_owned()),
            Self::LinkNowhere { .. } => Some("remove the link or mend its target".to_owned()),
            Self::LinkOutside { .. } => {
                Some("an estate is whole by itself: copy the files into it".to_owned())
            }
            Self::Unreadable { .. } => {
                Some("an estate is read whole or not at all: allow reading it, or move it away".to_owned())
            }
            Self::Declared(diagnostic) => diagnostic.fault.hint(),
            _ => None,
        }
    }
}

/// Why an estate could not be loaded: every problem, those of whole files first, then by place.
#[derive(Debug, thiserror::Error)]
#[error("the estate in `{}` cannot be loaded", .sources.root.display())]
pub struct Failure {
    /// What could be read.
    pub sources: Sources,
    /// Never empty.
    pub problems: Vec<Problem>,
}

/// An estate and the text it came from.
#[derive(Debug)]
pub struct Loaded {
    /// The files.
    pub sources: Sources,
    /// What they declare.
    pub estate: estate::Estate,
}

/// Loads the estate at `root`.
///
/// # Errors
/// Every problem of the load together.
pub fn load(root: &Path) -> Result<Loaded, Box<Failure>> {
    let (sources, declared) = read(root)?;
    match Estate::build(&declared) {
        Ok(estate) => Ok(Loaded { sources, estate }),
        Err(faults) => {
            let problems = faults.into_iter().map(Problem::declared).collect();
            Err(Box::new(Failure { sources, problems }))
        }
    }
}

/// Reads and decodes the estate at `root` without resolving names.
///
/// # Errors
/// Every problem of the load together: where files are broken, what the others declare is still
/// checked, save for names that may stand in the broken ones.
pub fn read(root: &Path) -> Result<(Sources, Declarations), Box<Failure>> {
    let fail = |problem| {
        let sources = Sources { root: root.to_path_buf(), files: Vec::new() };
        Box::new(Failure { sources, problems: vec![problem] })
    };
    let real_root = root
        .canonicalize()
        .map_err(|error| fail(Problem::Unreadable { path: root.to_path_buf(), error }))?;
    let real_root_file = real_root.join(ROOT_FILE).canonicalize();
    let Ok(real_root_file) = real_root_file.and_then(|file| {
        if file.is_file() { Ok(file) } else { Err(io::ErrorKind::NotFound.into()) }
    }) else {
        return Err(fail(Problem::NoEstate(root.to_path_buf())));
    };
    let (found, mut problems) = discover::discover(&real_root);
    let texts: Vec<Result<Source, Problem>> = found.par_iter().map(read_file).collect();
    let mut files = Vec::with_capacity(texts.len());
    let mut root_file = None;
    for (found, text) in found.iter().zip(texts) {
        match text {
            Ok(source) => {
                if found.real == real_root_file {
                    root_file = Some(FileId(files.len() as u32));
                }
                files.push(source);
            }
            Err(problem) => problems.push(problem),
        }
    }
    let sources = Sources { root: root.to_path_buf(), files };
    let decoded: Vec<Decoded> = sources
        .files
        .par_iter()
        .enumerate()
        .map(|(i, source)| {
            let file = FileId(i as u32);
            decode::decode(file, &source.text, root_file == Some(file))
        })
        .collect();
    let mut declared = Declarations::default();
    let mut has_estate = false;
    let mut faults = Vec::new();
    for part in decoded {
        has_estate |= part.estate.is_some();
        declared.name = part.estate.unwrap_or(declared.name);
        decode::merge(&mut declared, part.declared);
        problems.extend(part.syntax);
        faults.extend(part.faults);
    }
    let broken = !problems.is_empty();
    if let (false, false, Some(file)) = (has_estate, broken, root_file) {
        let top = Origin { file, start: 0, end: 0 };
        faults.push(Diagnostic::new(Fault::EstateMissing, top));
    }
    if !broken && faults.is_empty() {
        return Ok((sources, declared));
    }
    if let Err(more) = Estate::build(&declared) {
        faults.extend(more.into_iter().filter(|fault| !broken || stands_alone(&fault.fault)));
    }
    faults.sort_by_key(|fault| fault.place);
    problems.extend(faults.into_iter().map(Problem::declared));
    problems.sort_by_key(Problem::place);
    Err(Box::new(Failure { sources, problems }))
}

/// Whether a fault would be one whatever stood in the files that could not be read.
fn stands_alone(fault: &Fault) -> bool {
    !matches!(
        fault,
        Fault::Undeclared { .. }
            | Fault::Orphan { .. }
            | Fault::NoAction { .. }
            | Fault::EmptyCeiling(_)
            | Fault::VerbUnlisted { .. }
    )
}

fn read_file(found: &Found) -> Result<Source, Problem> {
    let unreadable = |error| Problem::Unreadable { path: found.shown.clone(), error };
    let size = fs::metadata(&found.real).map_err(unreadable)?.len();
    if size > FILE_BYTES {
        return Err(Problem::TooLarge(found.shown.clone()));
    }
    let bytes = fs::read(&found.real).map_err(unreadable)?;
    match String::from_utf8(bytes) {
        Ok(text) => Ok(Source::new(found.shown.clone(), text)),
        Err(error) => {
            let good = error.utf8_error().valid_up_to();
            let line = error.as_bytes()[..good].iter().filter(|b| **b == b'\n').count() + 1;
            Err(Problem::NotUtf8 { path: found.shown.clone(), byte: good + 1, line })
        }
    }
}
