//! From a folder to an estate: discover, read, decode, build; every problem is kept.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use bexum_core::declaration::Declarations;
use bexum_core::fault::{Diagnostic, Fault};
use bexum_core::origin::{FileId, Origin};
use bexum_core::{Estate, estate};
use rayon::prelude::*;

use crate::decode::{self, Decoded};
use crate::discover::{self, Found, ROOT_FILE};
use crate::problem::{ESTATE_BYTES, FILE_BYTES, Problem};
use crate::source::{Source, Sources};

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
    build(sources, &declared)
}

/// Reads and decodes the estate at `root` without resolving names.
///
/// # Errors
/// Every problem of the load together: where files are broken, what the others declare is still
/// checked, save for names that may stand in the broken ones.
pub fn read(root: &Path) -> Result<(Sources, Declarations), Box<Failure>> {
    let (sources, problems) = read_texts(root)?;
    decode_all(sources, problems)
}

/// The estate as it would be if one of its files, or a new one, held this text.
///
/// # Errors
/// Every problem that it would have.
pub(crate) fn load_with(
    sources: &Sources,
    file: &Path,
    text: String,
) -> Result<Loaded, Box<Failure>> {
    let mut files: Vec<Source> = sources
        .iter()
        .filter(|source| source.path != file)
        .map(|source| Source::new(source.path.clone(), source.text.clone()))
        .collect();
    let place = files.partition_point(|source| source.path.as_path() < file);
    files.insert(place, Source::new(file.to_path_buf(), text));
    let root_path = sources.root_file.map(|id| &sources.get(id).path);
    let root_file = files.iter().position(|source| Some(&source.path) == root_path);
    let root_file = root_file.map(|place| FileId(place as u32));
    let sources = Sources { root: sources.root.clone(), files, root_file };
    let (sources, declared) = decode_all(sources, Vec::new())?;
    build(sources, &declared)
}

fn build(sources: Sources, declared: &Declarations) -> Result<Loaded, Box<Failure>> {
    match Estate::build(declared) {
        Ok(estate) => Ok(Loaded { sources, estate }),
        Err(faults) => {
            let problems = faults.into_iter().map(Problem::declared).collect();
            Err(Box::new(Failure { sources, problems }))
        }
    }
}

/// Finds the estate's files and reads them; those that cannot be read are told beside.
fn read_texts(root: &Path) -> Result<(Sources, Vec<Problem>), Box<Failure>> {
    let fail = |problem| {
        let sources = Sources { root: root.to_path_buf(), ..Sources::default() };
        Box::new(Failure { sources, problems: vec![problem] })
    };
    let real_root = root
        .canonicalize()
        .map_err(|error| fail(Problem::Unreadable { path: root.to_path_buf(), error }))?;
    let real_root_file = root_file(&real_root, root).map_err(fail)?;
    let (found, mut problems) = discover::discover(&real_root);
    // Sizes are asked before anything is read: a file that is beyond all use costs nothing.
    let mut whole: u64 = 0;
    for found in &found {
        whole += fs::metadata(&found.real).map_or(0, |about| about.len().min(FILE_BYTES));
    }
    if whole > ESTATE_BYTES {
        return Err(fail(Problem::EstateTooLarge { bytes: whole }));
    }
    let texts: Vec<Result<Source, Problem>> = found.par_iter().map(read_file).collect();
    let mut sources = Sources { root: root.to_path_buf(), ..Sources::default() };
    for (found, text) in found.iter().zip(texts) {
        match text {
            Ok(source) => {
                if found.real == real_root_file {
                    sources.root_file = Some(FileId(sources.files.len() as u32));
                }
                sources.files.push(source);
            }
            Err(problem) => problems.push(problem),
        }
    }
    Ok((sources, problems))
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

/// Decodes every file; the faults of all of them together.
fn decode_all(
    sources: Sources,
    mut problems: Vec<Problem>,
) -> Result<(Sources, Declarations), Box<Failure>> {
    let decoded: Vec<Decoded> = sources
        .files
        .par_iter()
        .enumerate()
        .map(|(i, source)| {
            let file = FileId(i as u32);
            decode::decode(file, &source.text, sources.root_file == Some(file))
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
    if let (false, false, Some(file)) = (has_estate, broken, sources.root_file) {
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
            | Fault::CheckRequest { .. }
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
