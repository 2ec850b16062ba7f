//! From texts to an estate: read, decode, build; every problem is kept.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use bexum_core::Estate;
use bexum_core::declaration::Declarations;
use bexum_core::diagnostic::Diagnostic;
use bexum_core::edit::gathered;
use bexum_core::fault::{Fault, LocatedFault};
use bexum_core::origin::{FileId, Origin};
use rayon::prelude::*;

use crate::decode::{self, Decoded};
use crate::problem::Problem;
use crate::source::Sources;
use crate::texts::{Folder, TextSource, Texts};

/// Why an estate could not be loaded: every problem, those of whole files first, then by place.
#[derive(Debug, thiserror::Error)]
#[error("the estate in `{}` cannot be loaded", .sources.root.display())]
pub struct Failure {
    /// What could be read.
    pub sources: Sources,
    /// Never empty.
    pub problems: Vec<Problem>,
}

impl Failure {
    /// The problems as whoever shows them takes them.
    pub fn diagnostics(&self) -> impl Iterator<Item = Diagnostic> + '_ {
        self.problems.iter().map(Problem::diagnostic)
    }
}

/// An estate and the text it came from.
#[derive(Debug)]
pub struct Loaded {
    /// The files.
    pub sources: Sources,
    /// What they declare.
    pub estate: Arc<Estate>,
}

/// Loads the estate in a folder.
///
/// # Errors
/// Every problem of the load together.
pub fn load(root: &Path) -> Result<Loaded, Box<Failure>> {
    load_from(&Folder(root))
}

/// Loads the estate that these texts make.
///
/// # Errors
/// Every problem of the load together.
pub fn load_from(texts: &(impl TextSource + ?Sized)) -> Result<Loaded, Box<Failure>> {
    let (sources, declared) = read(texts)?;
    build(sources, &declared)
}

/// Loads an estate and keeps what is declared; to be compared with another, beside that
/// ([`Estate::build_beside`](bexum_core::Estate::build_beside)).
///
/// # Errors
/// Every problem of the load together.
pub fn load_declared(
    texts: &(impl TextSource + ?Sized),
    other: Option<&Estate>,
) -> Result<(Loaded, Declarations), Box<Failure>> {
    let (sources, declared) = read(texts)?;
    let estate = match other {
        None => Estate::build(&declared),
        Some(other) => Estate::build_beside(&declared, other),
    };
    Ok((built(sources, estate)?, declared))
}

/// As [`load_declared`], while something else is done with the files and what is declared in them; that is
/// of use only if the estate loads.
///
/// # Errors
/// Every problem of the load together.
pub fn load_while<R: Send>(
    texts: &(impl TextSource + ?Sized),
    meanwhile: impl FnOnce(&Sources, &Declarations) -> R + Send,
) -> Result<(Loaded, Declarations, R), Box<Failure>> {
    let (sources, declared) = read(texts)?;
    let (estate, done) =
        rayon::join(|| Estate::build(&declared), || meanwhile(&sources, &declared));
    Ok((built(sources, estate)?, declared, done))
}

/// Reads and decodes an estate without resolving names.
///
/// # Errors
/// Every problem of the load together: where files are broken, what the others declare is still
/// checked, save for names that may stand in the broken ones.
pub fn read(texts: &(impl TextSource + ?Sized)) -> Result<(Sources, Declarations), Box<Failure>> {
    let (sources, problems) = read_texts(texts)?;
    read_sources(sources, problems)
}

/// Decodes texts that were read.
pub(crate) fn read_sources(
    sources: Sources,
    problems: Vec<Problem>,
) -> Result<(Sources, Declarations), Box<Failure>> {
    let decoded = decode_all(&sources);
    gather(sources, problems, decoded)
}

/// Reads the texts; those that cannot be read are told beside.
pub(crate) fn read_texts(
    texts: &(impl TextSource + ?Sized),
) -> Result<(Sources, Vec<Problem>), Box<Failure>> {
    let root = texts.root();
    match texts.texts() {
        Ok(texts) => Ok(sources(root, texts)),
        Err(problem) => {
            let sources = Sources { root, ..Sources::default() };
            Err(Box::new(Failure { sources, problems: vec![problem] }))
        }
    }
}

pub(crate) fn sources(root: PathBuf, texts: Texts) -> (Sources, Vec<Problem>) {
    let Texts { files, root_file, problems } = texts;
    let root_file = root_file.map(|place| FileId(place as u32));
    (Sources { root, files, root_file }, problems)
}

pub(crate) fn build(sources: Sources, declared: &Declarations) -> Result<Loaded, Box<Failure>> {
    built(sources, Estate::build(declared))
}

pub(crate) fn built(
    sources: Sources,
    estate: Result<Estate, Vec<LocatedFault>>,
) -> Result<Loaded, Box<Failure>> {
    match estate {
        Ok(estate) => Ok(Loaded { sources, estate: Arc::new(estate) }),
        Err(faults) => {
            let problems = faults.into_iter().map(Problem::declared).collect();
            Err(Box::new(Failure { sources, problems }))
        }
    }
}

/// One file of an estate, decoded.
pub(crate) fn decode_one(sources: &Sources, place: usize) -> Decoded {
    let file = FileId(place as u32);
    decode::decode(file, &sources.files[place].text, sources.root_file == Some(file))
}

/// What some of the files declare; `None` where one of them has a fault.
pub(crate) fn read_some(sources: &Sources, files: &[FileId]) -> Option<Declarations> {
    let parts = files.par_iter().map(|file| {
        let part = decode_one(sources, file.0 as usize);
        (part.syntax.is_empty() && part.faults.is_empty()).then_some(part.declared)
    });
    parts.collect::<Option<Vec<_>>>().map(gathered)
}

fn decode_all(sources: &Sources) -> Vec<Decoded> {
    (0..sources.files.len()).into_par_iter().map(|place| decode_one(sources, place)).collect()
}

/// What all files declare together, or the faults of all of them.
pub(crate) fn gather(
    sources: Sources,
    mut problems: Vec<Problem>,
    decoded: Vec<Decoded>,
) -> Result<(Sources, Declarations), Box<Failure>> {
    let mut parts = Vec::with_capacity(decoded.len());
    let mut name = None;
    let mut has_estate = false;
    let mut faults = Vec::new();
    for part in decoded {
        has_estate |= part.estate.is_some();
        name = part.estate.or(name);
        parts.push(part.declared);
        problems.extend(part.syntax);
        faults.extend(part.faults);
    }
    let mut declared = gathered(parts);
    declared.name = name.unwrap_or_default();
    let broken = !problems.is_empty();
    if let (false, false, Some(file)) = (has_estate, broken, sources.root_file) {
        let top = Origin { file, start: 0, end: 0 };
        faults.push(LocatedFault::new(Fault::EstateMissing, top));
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
            | Fault::CheckRequest { .. }
    )
}
