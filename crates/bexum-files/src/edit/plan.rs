//! Edits planned: which texts would stand in which files.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use bexum_core::catalogue::Catalogue;
use bexum_core::declaration::Declarations;
use bexum_core::edit::{
    Edit, EditFault, Places, apply, canonical, copy_of, differing_sorts, join, take, take_out,
};
use bexum_core::import::AlteredPeople;
use bexum_core::origin::{FileId, Origin};
use bexum_core::{Estate, Time};

use super::block::NewBlocks;
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

/// What is known of users and groups that are to be otherwise, before the estate that they are in is put
/// together.
#[derive(Debug)]
pub struct DraftedPeople(Option<Written>);

/// Drafts the files that differ where users and groups are otherwise than `declared`, any number of them
/// at once, and finds out what these declare then. Nothing is written.
///
/// # Errors
/// [`PlanError::Refused`], [`PlanError::Outside`] and [`PlanError::NotTheSame`].
pub fn draft_people(
    sources: &Sources,
    declared: &Declarations,
    people: AlteredPeople,
    file: Option<&Path>,
) -> Result<DraftedPeople, PlanError> {
    let file = new_file(file)?;
    if people.is_nothing() {
        return Ok(DraftedPeople(None));
    }
    let parts = people.into_parts(declared);
    Written::of(sources, declared, parts, file.as_deref(), 0, false).map(Some).map(DraftedPeople)
}

/// Plans that users and groups are otherwise than `declared`, as [`draft_people`] has it of these. Something
/// else is done with the texts that change while the estate is put together.
///
/// # Errors
/// [`PlanError::Refused`] and [`PlanError::NotTheSame`].
pub fn plan_people<R: Send>(
    before: &Arc<Estate>,
    sources: &Sources,
    mut declared: Declarations,
    people: DraftedPeople,
    meanwhile: impl FnOnce(&[(PathBuf, String)]) -> R + Send,
) -> Result<(Plan, R), PlanError> {
    let DraftedPeople(Some(mut written)) = people else {
        let after = Loaded { estate: Arc::clone(before), sources: again(sources) };
        let plan = Plan { files: Vec::new(), after, declared, notes: Vec::new() };
        return Ok((plan, meanwhile(&[])));
    };
    let gone = take_out(&mut declared, &written.was);
    let texts = std::mem::take(&mut written.texts);
    let put = written.put_into(&mut declared, sources)?;
    // That the files say what they are to say is found out while the estate is put together, and what
    // nobody needs any more is freed, which takes a while with many people.
    let Put { sources, meant, gone: more_gone } = put;
    let (built, (is_meant, done)) = rayon::join(
        || Estate::build_beside(&declared, before),
        || {
            let done = rayon::join(|| meant.hold_against(&declared), || meanwhile(&texts));
            drop((gone, more_gone));
            done
        },
    );
    is_meant?;
    let after = load::built(sources, built).map_err(PlanError::Refused)?;
    Ok((Plan { files: texts, after, declared, notes: Vec::new() }, done))
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
        let parts = differing_sorts(declared, wanted);
        let mut written = Written::of(sources, declared, parts, self.file, self.at, in_place)?;
        let texts = std::mem::take(&mut written.texts);
        let put = written.put_into(declared, sources)?;
        put.meant.hold_against(declared)?;
        *sources = put.sources;
        Ok((texts, applied.notes))
    }
}

/// Files brought in line with what is wanted, and read again.
#[derive(Debug)]
struct Written {
    /// The texts that change.
    texts: Texts,
    /// What is otherwise: as it was, and as it is then.
    was: Declarations,
    is: Declarations,
    /// What changes in files in which only blocks do.
    blocks: NewBlocks,
    sources: Sources,
    /// The other files that change, as these number them, and what they declare.
    whole: Vec<FileId>,
    read: Declarations,
    /// Which edit this is for, from 0.
    at: usize,
}

impl Written {
    /// Brings the files in line. `was` is declared before and `is` then, beside what else is `declared`,
    /// which stays. `in_place` says whether names may be others where they stand.
    fn of(
        sources: &Sources,
        declared: &Declarations,
        (was, is): (Declarations, Declarations),
        file: Option<&Path>,
        at: usize,
        in_place: bool,
    ) -> Result<Self, PlanError> {
        let changed = changed_texts(sources, declared, [&was, &is], file, in_place);
        let Some(ChangedTexts { files: texts, blocks }) = changed else {
            let path = sources.iter().next().map(|source| source.path.clone()).unwrap_or_default();
            return Err(PlanError::NotTheSame { path, at });
        };
        let laid = texts.iter().map(|(path, text)| (path.clone(), Some(text.clone()))).collect();
        let (new_sources, problems) =
            load::sources(sources.root.clone(), replace(sources.again(), laid));
        // Where only blocks change, these were read again alone.
        let in_blocks = |path| sources.number(path).is_some_and(|file| blocks.has(file));
        let changed = texts.iter().map(|(path, _)| path).filter(|path| !in_blocks(path));
        let whole: Vec<FileId> = changed.filter_map(|path| new_sources.number(path)).collect();
        let Some(read) = load::read_some(&new_sources, &whole) else {
            let failure = load::read_sources(new_sources, problems).err();
            let path = texts.into_iter().next().map(|(path, _)| path).unwrap_or_default();
            let not_the_same = PlanError::NotTheSame { path, at };
            return Err(failure.and_then(unread).unwrap_or(not_the_same));
        };
        Ok(Self { texts, was, is, blocks, sources: new_sources, whole, read, at })
    }

    /// Puts what the files declare then in the place of what they declared, where what was otherwise is
    /// taken out already.
    fn put_into(self, declared: &mut Declarations, old: &Sources) -> Result<Put, PlanError> {
        let Self { texts, mut was, mut is, mut blocks, sources, whole, read, at } = self;
        let path = texts.into_iter().next().map(|(path, _)| path).unwrap_or_default();
        let not_the_same = || PlanError::NotTheSame { path: path.clone(), at };
        // A file that is new may stand before others, which have other numbers then.
        if old.files.len() != sources.files.len() {
            let numbers = old.numbers_in(&sources).ok_or_else(not_the_same)?;
            let mut renumber = |origin: &mut Origin| {
                // What stands nowhere yet has the default place.
                if *origin != Origin::default() {
                    origin.file = numbers[origin.file.0 as usize];
                }
            };
            for all in [&mut *declared, &mut was, &mut is] {
                all.each_place(&mut renumber);
            }
            blocks.renumber(&mut renumber);
        }
        let in_blocks = blocks.old_places();
        let mut gone = vec![
            take(&mut is, |origin| in_blocks.contains(&origin)),
            take(&mut was, |origin| in_blocks.contains(&origin)),
        ];
        // What stands in the other files is what it was; in these, what it is to be.
        let mut in_whole = vec![false; sources.files.len()];
        whole.iter().for_each(|file| in_whole[file.0 as usize] = true);
        let goes = |origin: Origin| origin == Origin::default() || in_whole[origin.file.0 as usize];
        let mut to_be = take(&mut is, goes);
        gone.push(take(&mut was, goes));
        if is != was {
            return Err(not_the_same());
        }
        gone.push(was);
        if !whole.is_empty() {
            join(&mut to_be, take(declared, goes));
        }
        join(declared, is);
        let in_blocks = blocks.put(declared);
        join(declared, read);
        join(declared, in_blocks);
        Ok(Put { sources, meant: Meant { to_be, in_whole, path, at }, gone })
    }
}

/// What an edit made of the files is put in its place.
struct Put {
    sources: Sources,
    meant: Meant,
    /// What nobody needs any more.
    gone: Vec<Declarations>,
}

/// What files that were read again are to say.
struct Meant {
    to_be: Declarations,
    /// Whether each file is one of these.
    in_whole: Vec<bool>,
    /// The first file that changes.
    path: PathBuf,
    /// Which edit this is for, from 0.
    at: usize,
}

impl Meant {
    /// That this is what is declared there, wherever and in whatever order; with many people that takes
    /// its time.
    fn hold_against(self, declared: &Declarations) -> Result<(), PlanError> {
        let Self { mut to_be, in_whole, path, at } = self;
        to_be.name.clone_from(&declared.name);
        let is_there = |origin: Origin| in_whole[origin.file.0 as usize];
        let (is, to_be) =
            rayon::join(|| canonical(copy_of(declared, is_there)), || canonical(to_be));
        if is == to_be { Ok(()) } else { Err(PlanError::NotTheSame { path, at }) }
    }
}

/// Texts that are good TOML, but declare what no estate may: that is what the edit asked for.
fn unread(failure: Box<Failure>) -> Option<PlanError> {
    let is_syntax = |problem: &Problem| matches!(problem, Problem::Syntax { .. });
    (!failure.problems.iter().any(is_syntax)).then_some(PlanError::Refused(failure))
}

fn again(sources: &Sources) -> Sources {
    load::sources(sources.root.clone(), sources.again()).0
}

#[cfg(test)]
mod tests {
    use bexum_core::declaration::{Declarations, Named, User};
    use bexum_core::origin::{FileId, Origin, Spanned};

    use super::{Meant, PlanError};

    fn of(names: [&str; 2], file: u32) -> Declarations {
        let user = |(i, name): (usize, &str)| {
            let origin = Origin { file: FileId(file), start: i as u32, end: i as u32 + 1 };
            let name = Spanned::new(name.to_owned(), origin);
            Named { name, about: None, body: User::default() }
        };
        let users = names.into_iter().enumerate().map(user).collect();
        Declarations { users, ..Declarations::default() }
    }

    #[test]
    fn what_the_files_say_is_held_against_what_was_meant() {
        let held = |to_be: Declarations, in_whole: [bool; 2], is: &Declarations| {
            let meant = Meant { to_be, in_whole: in_whole.into(), path: "m.toml".into(), at: 0 };
            meant.hold_against(is)
        };
        let is = of(["ada", "bo"], 1);
        let in_other_order = of(["bo", "ada"], 0);
        assert!(held(in_other_order.clone(), [false, true], &is).is_ok());
        assert!(matches!(
            held(of(["ada", "cy"], 1), [false, true], &is),
            Err(PlanError::NotTheSame { .. })
        ));
        // What stands in a file that was not read again counts for none of it.
        assert!(held(in_other_order, [true, false], &is).is_err());
        assert!(held(Declarations::default(), [true, false], &is).is_ok());
    }
}
