//! Declarations parted by the files they stand in.

use crate::declaration::Declarations;
use crate::origin::{FileId, Origin};

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
    };
}

/// Takes out what stands in these files, and what stands nowhere yet.
pub fn take_files(declared: &mut Declarations, files: &[FileId]) -> Declarations {
    let mut taken = Declarations { name: declared.name.clone(), ..Declarations::default() };
    let goes = |origin: Origin| origin == Origin::default() || files.contains(&origin.file);
    macro_rules! part {
        ($field:ident, |$one:ident| $origin:expr) => {
            let all = std::mem::take(&mut declared.$field);
            (taken.$field, declared.$field) = all.into_iter().partition(|$one| goes($origin));
        };
    }
    every_sort!(part);
    taken
}

/// Puts declarations together, in the order in which they stand in the files.
pub fn join_files(declared: &mut Declarations, more: Declarations) {
    macro_rules! join {
        ($field:ident, |$one:ident| $origin:expr) => {
            declared.$field.extend(more.$field);
            declared.$field.sort_by_key(|$one| $origin);
        };
    }
    every_sort!(join);
}
