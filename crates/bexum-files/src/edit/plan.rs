//! Edits planned: which texts would stand in which files.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use bexum_core::catalogue::Catalogue;
use bexum_core::declaration::Declarations;
use bexum_core::edit::{Edit, EditFault, apply, canonical, differing_sorts, join, take, take_out};
use bexum_core::import::AlteredPeople;
use bexum_core::origin::{FileId, Origin};
use bexum_core::{Estate, Time};

use super::sync::{ChangedTexts, changed_texts};
use crate::discover::estate_file;
use crate::load::{self, Failure, Loaded};
use crate::problem::Problem;
use crate::source::Sources;
use crate::texts::laid::replace;

/// What edits would make of an estate's files. Nothing is written.
#[derive(Debug)]
pub struct Plan {
    /// The texts of the files that change, by path below the root.
    pub files: Vec<(PathBuf, String)>,
    /// The estate as it would be.
    pub after: Loaded,
    /// What it declares.
    pub declared: Declarations,
    /// What stood there already, or needs a word, a sentence each.
    pub notes: Vec<String>,
}

/// Why edits cannot be done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlanError {
    /// One of them does not go with the estate.
    #[error("{fault}")]
    Edit {
        /// Which of them, from 0.
        at: usize,
        /// Why.
        fault: EditFault,
        /// The files as they were before that edit: places in the fault lie in these.
        sources: Box<Sources>,
    },
    /// The estate would not load any more.
    #[error("the estate would not load with it")]
    Refused(Box<Failure>),
    /// A file for new tables that would be none of the estate.
    #[error("`{}` would be no file of this estate: {why}", .path.display())]
    Outside {
        /// As named.
        path: PathBuf,
        /// Why, in words.
        why: &'static str,
    },
    /// The files would not say what the edit does. That is a fault of this program.
    #[error(
        "`{}` is written in a way that this edit cannot be done in: nothing was changed",
        .path.display()
    )]
    NotTheSame {
        /// The first file that would have changed.
        path: PathBuf,
        /// Which edit, from 0.
        at: usize,
    },
}

/// Plans edits, one after the other. `before` is the estate that `sources` and `declared` make;
/// `at_time` is when somebody asks to be let in. New tables go where their like stand last, or to `file`.
///
/// # Errors
/// Every [`PlanError`].
pub fn plan(
    before: &Estate,
    sources: &Sources,
    declared: Declarations,
    edits: &[Edit],
    file: Option<&Path>,
    at_time: Time,
) -> Result<Plan, PlanError> {
    let file = new_file(file)?;
    let mut now = State { sources: again(sources), declared };
    let mut notes = Vec::new();
    let mut changed: Vec<(PathBuf, String)> = Vec::new();
    for (at, edit) in one_key_each(edits) {
        let step =
            EditInTurn { catalogue: &before.catalogue, at, file: file.as_deref(), now: at_time };
        let (files, told) = step.make(&mut now, &edit)?;
        notes.extend(told.into_iter().filter(|note| !notes.contains(note)).collect::<Vec<_>>());
        for (path, text) in files {
            match changed.iter_mut().find(|(known, _)| *known == path) {
                Some((_, old)) => *old = text,
                None => changed.push((path, text)),
            }
        }
    }
    // What was changed and changed back is as it was.
    changed.retain(|(path, text)| sources.find(path).is_none_or(|source| source.text != *text));
    changed.sort();
    let State { sources, declared } = now;
    let built = Estate::build_beside(&declared, before);
    let after = load::built(sources, built).map_err(PlanError::Refused)?;
    Ok(Plan { files: changed, after, declared, notes })
}

/// Plans that users and groups are otherwise than `declared`, any number of them at once. Something else
/// is done with the texts that change while the estate is put together.
///
/// # Errors
/// Every [`PlanError`].
pub fn plan_people<R: Send>(
    before: &Arc<Estate>,
    sources: &Sources,
    mut declared: Declarations,
    people: AlteredPeople,
    file: Option<&Path>,
    meanwhile: impl FnOnce(&[(PathBuf, String)]) -> R + Send,
) -> Result<(Plan, R), PlanError> {
    let file = new_file(file)?;
    if people.is_nothing() {
        let after = Loaded { estate: Arc::clone(before), sources: again(sources) };
        let plan = Plan { files: Vec::new(), after, declared, notes: Vec::new() };
        return Ok((plan, meanwhile(&[])));
    }
    let (was, is) = people.into_parts(&declared);
    take_out(&mut declared, &was);
    let mut now = State { sources: again(sources), declared };
    let catalogue = &before.catalogue;
    let step = EditInTurn { catalogue, at: 0, file: file.as_deref(), now: Time::EARLIEST };
    let changed = step.bring(&mut now, was, is, false)?;
    let State { sources, declared } = now;
    let (built, done) =
        rayon::join(|| Estate::build_beside(&declared, before), || meanwhile(&changed));
    let after = load::built(sources, built).map_err(PlanError::Refused)?;
    Ok((Plan { files: changed, after, declared, notes: Vec::new() }, done))
}

/// The file that was named for new tables, if it would be one of the estate.
fn new_file(file: Option<&Path>) -> Result<Option<PathBuf>, PlanError> {
    let Some(file) = file else { return Ok(None) };
    match estate_file(file) {
        Ok(path) => Ok(Some(path)),
        Err(why) => Err(PlanError::Outside { path: file.to_path_buf(), why }),
    }
}

/// Several keys of one thing are set one after the other.
fn one_key_each(edits: &[Edit]) -> impl Iterator<Item = (usize, Edit)> + '_ {
    edits.iter().enumerate().flat_map(|(at, edit)| {
        let parts: Vec<Edit> = match edit {
            Edit::Set { target, keys } => keys
                .iter()
                .map(|key| Edit::Set { target: target.clone(), keys: vec![key.clone()] })
                .collect(),
            Edit::Unset { target, keys } => keys
                .iter()
                .map(|key| Edit::Unset { target: target.clone(), keys: vec![key.clone()] })
                .collect(),
            one => vec![one.clone()],
        };
        parts.into_iter().map(move |part| (at, part))
    })
}

/// One edit of several.
struct EditInTurn<'p> {
    catalogue: &'p Catalogue,
    /// Which, from 0.
    at: usize,
    file: Option<&'p Path>,
    now: Time,
}

type Texts = Vec<(PathBuf, String)>;

/// The files as they would be, and what they declare.
struct State {
    sources: Sources,
    declared: Declarations,
}

impl EditInTurn<'_> {
    /// Makes an edit; the texts that change, and what there is to say.
    fn make(&self, state: &mut State, edit: &Edit) -> Result<(Texts, Vec<String>), PlanError> {
        let State { sources, declared } = state;
        let mut wanted = declared.clone();
        let applied = apply(edit, &mut wanted, self.catalogue, self.now).map_err(|fault| {
            PlanError::Edit { at: self.at, fault, sources: Box::new(again(sources)) }
        })?;
        if wanted == *declared {
            return Ok((Vec::new(), applied.notes));
        }
        let in_place = matches!(edit, Edit::Rename { .. } | Edit::Delete { .. });
        let (was, is) = differing_sorts(declared, wanted);
        Ok((self.bring(state, was, is, in_place)?, applied.notes))
    }

    /// Brings the files in line with what is wanted; the texts that change. Beside what the state still
    /// declares, which stays, `was` is declared before, and `is` then. `in_place` says whether names may
    /// be others where they stand.
    fn bring(
        &self,
        state: &mut State,
        mut was: Declarations,
        mut is: Declarations,
        in_place: bool,
    ) -> Result<Texts, PlanError> {
        let State { sources, declared } = state;
        let changed = changed_texts(sources, declared, [&was, &is], self.file, in_place);
        let first = sources.iter().next().map(|source| source.path.clone()).unwrap_or_default();
        let Some(ChangedTexts { files, blocks }) = changed else {
            return Err(PlanError::NotTheSame { path: first, at: self.at });
        };
        let path = files.first().map_or(first, |(path, _)| path.clone());
        let not_the_same = || PlanError::NotTheSame { path: path.clone(), at: self.at };
        let numbers: Option<Vec<FileId>> =
            files.iter().map(|(path, _)| sources.number(path)).collect();
        let texts = files.iter().map(|(path, text)| (path.clone(), Some(text.clone()))).collect();
        let (new_sources, problems) =
            load::sources(sources.root.clone(), replace(sources.again(), texts));
        // A file that is new may stand before others, which have other numbers then.
        let Some(numbers) = numbers else {
            let read = load::read_sources(new_sources, problems);
            let read = read.map_err(|failure| unread(failure).unwrap_or_else(not_the_same))?;
            join(declared, is);
            if !declare_the_same(read.1.clone(), std::mem::take(declared)) {
                return Err(not_the_same());
            }
            (*sources, *declared) = read;
            return Ok(files);
        };
        // Where only blocks change, these were read again alone.
        let whole: Vec<FileId> = numbers.into_iter().filter(|file| !blocks.has(*file)).collect();
        let Some(read) = load::read_some(&new_sources, &whole) else {
            let failure = load::read_sources(new_sources, problems).err();
            return Err(failure.and_then(unread).unwrap_or_else(not_the_same));
        };
        let in_blocks = blocks.old_places();
        take(&mut is, |origin| in_blocks.contains(&origin));
        take(&mut was, |origin| in_blocks.contains(&origin));
        // What stands in the other files is what it was; in these, what it is to be.
        let mut in_whole = vec![false; new_sources.files.len()];
        whole.iter().for_each(|file| in_whole[file.0 as usize] = true);
        let goes = |origin: Origin| origin == Origin::default() || in_whole[origin.file.0 as usize];
        let mut to_be = take(&mut is, goes);
        take(&mut was, goes);
        if !whole.is_empty() {
            join(&mut to_be, take(declared, goes));
        }
        let mut read_part = read.clone();
        read_part.name.clone_from(&to_be.name);
        if is != was || !declare_the_same(read_part, to_be) {
            return Err(not_the_same());
        }
        join(declared, is);
        let in_blocks = blocks.put(declared);
        join(declared, read);
        join(declared, in_blocks);
        *sources = new_sources;
        Ok(files)
    }
}

/// Whether two declare the same, wherever and in whatever order; with many people both take their time.
fn declare_the_same(one: Declarations, other: Declarations) -> bool {
    let (one, other) = rayon::join(|| canonical(one), || canonical(other));
    one == other
}

/// Texts that are good TOML, but declare what no estate may: that is what the edit asked for.
fn unread(failure: Box<Failure>) -> Option<PlanError> {
    let is_syntax = |problem: &Problem| matches!(problem, Problem::Syntax { .. });
    (!failure.problems.iter().any(is_syntax)).then_some(PlanError::Refused(failure))
}

fn again(sources: &Sources) -> Sources {
    load::sources(sources.root.clone(), sources.again()).0
}
