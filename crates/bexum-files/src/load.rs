//! From a folder to an estate: discover, read, decode, build; every problem is kept.

use std::fs;
use std::io;
use std::path::Path;

use bexum_core::declaration::Declarations;
use bexum_core::fault::{Diagnostic, Fault};
use bexum_core::origin::{FileId, Origin};
use bexum_core::{Estate, estate};
use rayon::prelude::*;

use crate::decode::{self, Decoded};
use crate::discover::{self, Found, ROOT_FILE};
use crate::problem::{FILE_BYTES, Problem};
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
