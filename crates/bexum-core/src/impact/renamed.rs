//! Things that are gone under one name and there under another: told as one.

use std::collections::{BTreeMap, BTreeSet};
use std::mem::{Discriminant, discriminant};

use super::change::{Difference, Thing};
use super::{Cell, Outcome};
use crate::estate::Estate;

/// What a thing is, and all that it says of itself and of what is below it.
type Alike = (Discriminant<Thing>, Vec<(String, String)>);

/// Things by what they say.
type BySaying<'d> = BTreeMap<Vec<(String, String)>, Vec<(&'d Thing, Alike)>>;

/// A thing that is called otherwise.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Renamed {
    /// As it was called.
    pub from: Thing,
    /// As it is called.
    pub to: Thing,
    /// The path that it stood at and the one it stands at, if it is a place or has one.
    paths: Option<(String, String)>,
}

/// Each thing that is gone of which one new thing, and no other, says the same: a user, group, role
/// or policy with the same keys, a scope with the same in it.
#[must_use]
pub fn renamed(before: &Estate, after: &Estate, differences: &[Difference]) -> Vec<Renamed> {
    let is_gone = |one: &Difference| one.after.is_none();
    let is_new = |one: &Difference| one.before.is_none();
    if !differences.iter().any(is_gone) || !differences.iter().any(is_new) {
        return Vec::new();
    }
    let side = |is_there: fn(&&Difference) -> bool| {
        let all: Vec<&Difference> = differences.iter().filter(is_there).collect();
        let mut found: BySaying<'_> = BTreeMap::new();
        for one in &all {
            if let Some(alike) = alike(one, &all) {
                found.entry(alike.1.clone()).or_default().push((&one.thing, alike));
            }
        }
        found
    };
    let gone = side(|one| one.after.is_none());
    let mut new = side(|one| one.before.is_none());
    let mut found = Vec::new();
    for (says, old) in gone {
        let Some(new) = new.remove(&says) else { continue };
        let ([(from, one)], [(to, other)]) = (&old[..], &new[..]) else { continue };
        if one.0 == other.0 {
            let paths = path(before, from).zip(path(after, to));
            found.push(Renamed { from: (*from).clone(), to: (*to).clone(), paths });
        }
    }
    found
}

/// What makes a thing that is new or gone like another one; `None` of what has no name of its own,
/// and of a scope in one that is new or gone as well.
fn alike(one: &Difference, all: &[&Difference]) -> Option<Alike> {
    let says = match &one.thing {
        Thing::User(_) | Thing::Group(_) | Thing::Role(_) | Thing::Policy(_) => {
            vec![(String::new(), one.says.clone())]
        }
        Thing::Scope(path) => {
            let scopes = || {
                all.iter().filter_map(|one| match &one.thing {
                    Thing::Scope(other) => Some((other, &one.says)),
                    _ => None,
                })
            };
            let lies_in = |inner: &str, outer: &str| {
                inner.strip_prefix(outer).is_some_and(|rest| rest.starts_with('/'))
            };
            if scopes().any(|(other, _)| lies_in(path, other)) {
                return None;
            }
            let below = scopes().filter(|(other, _)| *other == path || lies_in(other, path));
            below.map(|(other, says)| (other[path.len()..].to_owned(), says.clone())).collect()
        }
        _ => return None,
    };
    Some((discriminant(&one.thing), says))
}

fn path(estate: &Estate, thing: &Thing) -> Option<String> {
    let place = match thing {
        Thing::Scope(path) => return Some(path.clone()),
        Thing::Policy(name) => estate.policy(estate.find_policy(name)?).place?,
        _ => estate.identity(estate.find_principal(&thing.to_string())?)?.place?,
    };
    let name = match thing {
        Thing::User(name) | Thing::Group(name) | Thing::Role(name) | Thing::Policy(name) => name,
        _ => return None,
    };
    Some(format!("{}/{name}", estate.scope(place).path))
}

impl Renamed {
    /// The cell as it would be called under the new name.
    fn of(&self, cell: &Cell) -> Cell {
        let mut cell = cell.clone();
        let (from, to) = (self.from.to_string(), self.to.to_string());
        if cell.who == from {
            cell.who.clone_from(&to);
        }
        if let (Thing::Role(from), Thing::Role(to)) = (&self.from, &self.to)
            && cell.role == *from
        {
            cell.role.clone_from(to);
        }
        if let Some((from, to)) = &self.paths {
            let moved = |path: &str| {
                let rest = path.strip_prefix(from.as_str())?;
                (rest.is_empty() || rest.starts_with('/')).then(|| format!("{to}{rest}"))
            };
            if let Some(place) = moved(&cell.place) {
                cell.place = place;
            }
            if let Some(who) = cell.who.strip_prefix("resource:").and_then(moved) {
                cell.who = format!("resource:{who}");
            }
        }
        cell
    }
}

/// The cells without those that are lost under an old name and gained, the same, under the new one;
/// and of how many that is so.
#[must_use]
pub fn told_as_one(cells: &[Cell], renamed: &[Renamed]) -> (Vec<Cell>, usize) {
    let key = |cell: &Cell, outcome: Outcome| {
        let Cell { who, role, place, action, .. } = cell.clone();
        (who, role, place, action, outcome)
    };
    let gained = cells.iter().enumerate().filter(|(_, cell)| cell.before == Outcome::Deny);
    let gained: BTreeMap<_, usize> = gained.map(|(i, cell)| (key(cell, cell.after), i)).collect();
    let mut paired: BTreeSet<usize> = BTreeSet::new();
    for (i, cell) in cells.iter().enumerate().filter(|(_, cell)| cell.after == Outcome::Deny) {
        let new = renamed.iter().fold(cell.clone(), |cell, one| one.of(&cell));
        if let Some(other) = gained.get(&key(&new, cell.before))
            && !paired.contains(other)
        {
            paired.extend([i, *other]);
        }
    }
    let left = cells.iter().enumerate().filter(|(i, _)| !paired.contains(i));
    (left.map(|(_, cell)| cell.clone()).collect(), paired.len() / 2)
}
