//! What somebody gains in one session and could do before in another one.

use std::collections::BTreeMap;
use std::num::NonZeroU32;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::FxHashMap;

use super::alike::{Concern, KnownProfile, Piece, SeenThere, Shared};
use super::changes::{At, Change, Numbered};
use super::everybody::{KnownChanges, Person, Stretch, Task, cover, within};
use super::place_classes::PlaceClasses;
use super::sessions::Compared;
use crate::catalogue::ActionSet;
use crate::id::ActionId;
use crate::reach;

/// Whether what rose was allowed before to another session of the person.
pub(super) struct HeldTask {
    pub(super) task: Task,
    pub(super) other: usize,
}

/// What has to be asked of other sessions.
pub(super) struct HeldTasks {
    pub(super) tasks: Vec<HeldTask>,
    /// What is seen of a session and of another at which place, and the task that tells what the other
    /// could do there.
    pub(super) alike: Vec<([u32; 2], u32, u32)>,
}

/// For each change that rose, and each other session of the same person of which something else is
/// seen that may allow anything: whether it did.
pub(super) fn held_tasks<'e>(
    shared: &Shared<'_, 'e>,
    people: &[Person<'_>],
    known: &KnownChanges,
    compared: &mut Compared<'_, 'e>,
    classes: &mut PlaceClasses<'_>,
) -> HeldTasks {
    let rises: Vec<bool> = known.changes.all.iter().map(|all| all.iter().any(rose)).collect();
    let mut covered: FxHashMap<[u32; 2], BTreeMap<u32, u32>> = FxHashMap::default();
    let mut numbered: FxHashMap<[SeenThere; 2], u32> = FxHashMap::default();
    let (mut tasks, mut alike) = (Vec::new(), Vec::new());
    each_other(shared, people, |(i, j), stretch, other, range, seen_of_both| {
        let left = cover(covered.entry(seen_of_both).or_default(), &range);
        if left.is_empty() {
            return;
        }
        let numbers = shared.numbers();
        let matters = seen_of_both.map(|seen| numbers.matters(seen));
        let changes = left.iter().flat_map(|left| known.changes_at(seen_of_both[0], left));
        for (place, _) in changes.filter(|(_, changes)| rises[*changes as usize]) {
            let there = [(0, j), (1, other)].map(|(k, session)| {
                let session = &people[i].sessions[session].session;
                let class = classes.of(&matters[k], *place, |parts| {
                    compared.told_at(shared, session, parts, *place)
                });
                numbers.seen_there(seen_of_both[k], class, shared.places.depth(*place))
            });
            let task = *numbered.entry(there).or_insert(tasks.len() as u32);
            alike.push((seen_of_both, *place, task));
            if task as usize == tasks.len() {
                let concern = Arc::clone(&stretch.concern);
                let (place, seen) = (*place, seen_of_both[0]);
                tasks.push(HeldTask {
                    task: Task { person: i, session: j, concern, place, seen },
                    other,
                });
            }
        }
    });
    HeldTasks { tasks, alike }
}

/// Calls `each` with every session (whose, and which), a stretch of it, another session of the same
/// person, and the places there at which something else is seen of the other that may allow anything,
/// with what is seen of both; the others by the names of their roles.
fn each_other<'p>(
    shared: &Shared<'_, '_>,
    people: &'p [Person<'_>],
    mut each: impl FnMut((usize, usize), &'p Stretch, usize, Range<u32>, [u32; 2]),
) {
    let with_others = people.iter().enumerate().filter(|(_, person)| person.sessions.len() > 1);
    for (i, person) in with_others {
        for (j, session) in person.sessions.iter().enumerate() {
            for stretch in session.stretches.iter() {
                for (other, pieces) in others(shared, person, j, stretch) {
                    each_pair(&stretch.pieces, &pieces, |range, seen_of_both| {
                        each((i, j), stretch, other, range, seen_of_both);
                    });
                }
            }
        }
    }
}

/// Calls `each` with the places at which something else is seen of two sessions.
fn each_pair(one: &[Piece], other: &[Piece], mut each: impl FnMut(Range<u32>, [u32; 2])) {
    let mut first = 0;
    for (range, seen) in one {
        while other.get(first).is_some_and(|(other, _)| other.end <= range.start) {
            first += 1;
        }
        let meeting = other[first..].iter().take_while(|(other, _)| other.start < range.end);
        for (its, other_seen) in meeting.filter(|(_, other_seen)| other_seen != seen) {
            each(range.start.max(its.start)..range.end.min(its.end), [*seen, *other_seen]);
        }
    }
}

fn rose(change: &Change) -> bool {
    change.before < change.after
}

/// The other sessions of a person that the estate before has and may allow something in a stretch of
/// one of them, and what is seen of them there; by the names of the roles.
fn others(
    shared: &Shared<'_, '_>,
    person: &Person<'_>,
    session: usize,
    stretch: &Stretch,
) -> Vec<(usize, Vec<Piece>)> {
    let others = person.sessions.iter().enumerate();
    let others = others.filter(|(i, other)| *i != session && other.session[0].is_some());
    let seen = others.filter_map(|(i, other)| {
        let of =
            |(concern, _): &&(Arc<Concern>, KnownProfile)| Arc::ptr_eq(concern, &stretch.concern);
        let (_, profile) = other.profiles.iter().find(of)?;
        let pieces = shared.known_pieces(profile, &stretch.range);
        let numbers = shared.numbers();
        let may_be_granted = |(_, seen): &&Piece| numbers.may_be_granted_before(*seen);
        let pieces: Vec<Piece> = pieces.iter().filter(may_be_granted).cloned().collect();
        (!pieces.is_empty()).then_some((i, pieces))
    });
    seen.collect()
}

/// The role of a session, as a number, that could do something before, if any could.
type Held = Option<NonZeroU32>;

/// By place: who could do before what rose there, change by change.
pub(super) type HeldAtPlaces = FxHashMap<u32, Vec<Held>>;

/// Changes with who could do before what rose, by what they are without it and the roles of the sessions
/// that could.
pub(super) struct ToldHeld<'p> {
    pub(super) changes: Numbered<Arc<[Change]>>,
    roles: Numbered<&'p str>,
    told: FxHashMap<u32, FxHashMap<Vec<Held>, u32>>,
}

impl ToldHeld<'_> {
    pub(super) fn of(changes: Numbered<Arc<[Change]>>) -> Self {
        Self { changes, roles: Numbered::default(), told: FxHashMap::default() }
    }

    /// The number of what comes to something else at a place, with who could do before what rose.
    fn with(&mut self, at: u32, by: &[Held]) -> u32 {
        let Self { changes, roles, told } = self;
        let told = told.entry(at).or_default();
        if let Some(known) = told.get(by) {
            return *known;
        }
        let all = changes.all[at as usize].iter().zip(by);
        let role = |by: NonZeroU32| roles.all[by.get() as usize - 1].into();
        let all = all.map(|(change, by)| Change { held_as: by.map(role), ..change.clone() });
        let all: Vec<Change> = all.collect();
        let number = changes.number_of(&all);
        told.insert(by.into(), number);
        number
    }
}

/// What comes to something else at a place, with who could do before what rose there.
pub(super) fn with_held((place, at): At, held: &HeldAtPlaces, told: &Mutex<ToldHeld<'_>>) -> At {
    match held.get(&place) {
        None => (place, at),
        Some(by) => (place, told.lock().unwrap_or_else(PoisonError::into_inner).with(at, by)),
    }
}

/// Who could do before what rose for a session: another session, the first by the name of its role.
pub(super) fn held_in<'p>(
    shared: &Shared<'_, '_>,
    (person, session): (&'p Person<'_>, usize),
    stretch: &Stretch,
    known: &KnownChanges,
    told: &Mutex<ToldHeld<'p>>,
) -> HeldAtPlaces {
    let mut by = HeldAtPlaces::default();
    if known.held.is_empty() {
        return by;
    }
    for (other, pieces) in others(shared, person, session, stretch) {
        let role = &person.sessions[other].role;
        let number = told.lock().unwrap_or_else(PoisonError::into_inner).roles.number(role);
        let role = NonZeroU32::MIN.saturating_add(number);
        each_pair(&stretch.pieces, &pieces, |range, seen_of_both| {
            let held = known.held.get(&seen_of_both).map_or(&[][..], |held| within(held, &range));
            for (place, held) in held {
                let by = by.entry(*place).or_insert_with(|| vec![None; held.len()]);
                for (by, _) in by.iter_mut().zip(&**held).filter(|(_, held)| **held) {
                    by.get_or_insert(role);
                }
            }
        });
    }
    by
}

impl<'e> Compared<'_, 'e> {
    /// Which of the changes of a session at a place rose and were allowed before to another session of
    /// the same person.
    pub(super) fn held(
        &mut self,
        shared: &Shared<'_, 'e>,
        people: &[Person<'_>],
        known: &KnownChanges,
        HeldTask { task, other }: &HeldTask,
    ) -> Box<[bool]> {
        let sessions = &people[task.person].sessions;
        let path = &*shared.places.paths[task.place as usize];
        let changes = known.changes_at(task.seen, &(task.place..task.place + 1));
        let Some((_, changes)) = changes.first() else { return Box::default() };
        let changes = &known.changes.all[*changes as usize];
        let Some(view) = &sessions[*other].session[0] else { return Box::default() };
        let mut allowed: FxHashMap<String, ActionSet> = FxHashMap::default();
        for (place, row) in self.rows(&sessions[task.session].session, path, task.concern.actions())
        {
            if let Some(target) = &row[0] {
                let cells = reach::cells_at(&mut self.sides[0].decider, view, target, None);
                allowed.insert(place[path.len()..].to_owned(), cells.allow);
            }
        }
        let catalogue = &self.comparison.before.estate().catalogue;
        let is_allowed = |change: &Change| {
            let action: Option<ActionId> = catalogue.find_action(&change.action);
            let there = allowed.get(&*change.rest);
            rose(change)
                && there.zip(action).is_some_and(|(there, action)| there.contains(action.index()))
        };
        changes.iter().map(is_allowed).collect()
    }
}
