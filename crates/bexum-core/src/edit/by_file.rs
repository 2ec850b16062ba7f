//! Declarations parted by the files they stand in.

use rustc_hash::FxHashSet;

use crate::declaration::Declarations;
use crate::impact::SameFiles;
use crate::origin::{FileId, Origin};

use super::canonical::Places;

macro_rules! every_sort {
    ($each:ident) => {
        $each!(attributes, |one| one.name.origin);
        $each!(services, |one| one.name.origin);
        $each!(kinds, |one| one.name.origin);
        $each!(scopes, |one| one.name.origin);
        $each!(users, |one| one.name.origin);
        $each!(groups, |one| one.name.origin);
        $each!(roles, |one| one.name.origin);
        $each!(policies, |one| one.name.origin);
        $each!(attachments, |one| one.origin);
        $each!(ceilings, |one| one.origin);
        $each!(checks, |one| one.origin);
        $each!(laws, |one| one.origin);
        $each!(separations, |one| one.origin);
        $each!(edit_rights, |one| one.origin);
        $each!(presets, |one| one.name.origin);
        $each!(vet, |one| one.origin);
        $each!(accepted, |one| one.origin);
        $each!(reviews, |one| one.name.origin);
        $each!(applications, |one| one.name.origin);
        $each!(sources, |one| one.name.origin);
    };
}

/// Takes out what stands at a place that goes; what stands nowhere yet has the default place.
pub fn take(declared: &mut Declarations, goes: impl Fn(Origin) -> bool) -> Declarations {
    let mut taken = Declarations { name: declared.name.clone(), ..Declarations::default() };
    macro_rules! part {
        ($field:ident, |$one:ident| $origin:expr) => {
            taken.$field = taken_of(&mut declared.$field, |$one| goes($origin));
        };
    }
    every_sort!(part);
    taken
}

/// Takes out those of a sort that go: most often all, or none.
fn taken_of<T>(all: &mut Vec<T>, goes: impl Fn(&T) -> bool) -> Vec<T> {
    match all.iter().filter(|one| goes(one)).count() {
        0 => Vec::new(),
        going if going == all.len() => std::mem::take(all),
        _ => all.extract_if(.., |one| goes(one)).collect(),
    }
}

/// What stands at some of the places.
pub fn copy_of(declared: &Declarations, is_wanted: impl Fn(Origin) -> bool) -> Declarations {
    let mut copy = Declarations { name: declared.name.clone(), ..Declarations::default() };
    macro_rules! part {
        ($field:ident, |$one:ident| $origin:expr) => {
            let wanted = || declared.$field.iter().filter(|$one| is_wanted($origin));
            copy.$field.reserve_exact(wanted().count());
            copy.$field.extend(wanted().cloned());
        };
    }
    every_sort!(part);
    copy
}

/// Takes out every sort of which anything differs after some edits: all of it as it was, and as it is then.
pub fn differing_sorts(
    declared: &mut Declarations,
    mut after: Declarations,
) -> (Declarations, Declarations) {
    let mut was = Declarations { name: declared.name.clone(), ..Declarations::default() };
    macro_rules! part {
        ($field:ident, |$one:ident| $origin:expr) => {
            match declared.$field == after.$field {
                true => after.$field = Vec::new(),
                false => was.$field = std::mem::take(&mut declared.$field),
            }
        };
    }
    every_sort!(part);
    (was, after)
}

/// Takes out what stands at the places at which these were declared.
pub fn take_out(declared: &mut Declarations, gone: &Declarations) -> Declarations {
    let mut taken = Declarations { name: declared.name.clone(), ..Declarations::default() };
    macro_rules! part {
        ($field:ident, |$one:ident| $origin:expr) => {
            if !gone.$field.is_empty() {
                let places: FxHashSet<Origin> = gone.$field.iter().map(|$one| $origin).collect();
                taken.$field = taken_of(&mut declared.$field, |$one| places.contains(&$origin));
            }
        };
    }
    every_sort!(part);
    taken
}

/// Calls `each` with every place in some of the files where something was written.
pub fn each_place_in(
    declared: &mut Declarations,
    is_wanted: impl Fn(FileId) -> bool,
    each: &mut dyn FnMut(&mut Origin),
) {
    // A thing stands in one file as a whole.
    macro_rules! part {
        ($field:ident, |$one:ident| $origin:expr) => {
            for $one in &mut declared.$field {
                if is_wanted($origin.file) {
                    $one.each_place(each);
                }
            }
        };
    }
    every_sort!(part);
}

/// What several files declare, in their order, without a name.
#[must_use]
pub fn gathered(parts: Vec<Declarations>) -> Declarations {
    let mut all = Declarations::default();
    macro_rules! reserve {
        ($field:ident, |$one:ident| $origin:expr) => {
            all.$field.reserve_exact(parts.iter().map(|part| part.$field.len()).sum());
        };
    }
    every_sort!(reserve);
    for mut part in parts {
        macro_rules! append {
            ($field:ident, |$one:ident| $origin:expr) => {
                all.$field.append(&mut part.$field);
            };
        }
        every_sort!(append);
    }
    all
}

/// Puts declarations together, in the order in which they stand in the files.
pub fn join(declared: &mut Declarations, more: Declarations) {
    macro_rules! join {
        ($field:ident, |$one:ident| $origin:expr) => {
            if !more.$field.is_empty() {
                // The shorter of the two is moved.
                let mut shorter = more.$field;
                if declared.$field.len() < shorter.len() {
                    std::mem::swap(&mut declared.$field, &mut shorter);
                }
                declared.$field.append(&mut shorter);
                declared.$field.sort_by_key(|$one| $origin);
            }
        };
    }
    every_sort!(join);
}

/// What cannot differ, where the second declarations are the first after some edits.
pub(crate) fn same_files(before: &Declarations, after: &Declarations) -> SameFiles {
    // What is new stands in no file yet.
    let mut differing: FxHashSet<Origin> = FxHashSet::from_iter([Origin::default()]);
    macro_rules! sort {
        ($field:ident, |$one:ident| $origin:expr) => {
            let (old, new) = (&before.$field[..], &after.$field[..]);
            let first = old.iter().zip(new).take_while(|(one, other)| one == other).count();
            let (old, new) = (&old[first..], &new[first..]);
            let last = old.iter().rev().zip(new.iter().rev());
            let last = last.take_while(|(one, other)| one == other).count();
            let between = old[..old.len() - last].iter().chain(&new[..new.len() - last]);
            differing.extend(between.map(|$one| $origin));
        };
    }
    every_sort!(sort);
    SameFiles { differing: Some(differing), ..SameFiles::default() }
}
