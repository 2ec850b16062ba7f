//! What a change does to everybody: sessions and places that are alike are compared once.
//!
//! In three steps: each session gets a number for each place where the change may matter, the same number
//! where everything that a decision looks at is the same ([`alike`]); for each number and kind of place one
//! session is compared; then its result is given to all sessions with that number. Whether a person could do
//! before, in another session, what they gain is found out the same way, by pairs of numbers.
//!
//! [`alike`]: super::alike

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::{FxHashMap, FxHashSet};

use super::Comparison;
use super::alike::{Concern, KnownProfile, Piece, SeenThere, Shared};
use super::changes::{At, Change, Changes, Numbered};
use super::compare::Turn;
use super::held::{HeldTask, HeldTasks, held_tasks};
use super::place_classes::PlaceClasses;
use super::put_together::changes;
use super::sessions::{Compared, InBoth, RolesChanged};
use super::touches::{TouchedPart, TouchedPlace};
use crate::each::{Each, in_parts};
use crate::engine::Index;
use crate::reach::Limited;

/// What a change does to everybody.
#[derive(Debug, Default)]
pub struct Impact {
    /// The cells that come to something else.
    pub changes: Changes,
    /// Who can take up which roles, newly or no longer.
    pub roles: Vec<(String, RolesChanged)>,
    /// Where not all items that patterns single out were told apart, in each estate.
    pub limited: super::LimitedIn,
}

/// How many things one thread does together.
const TOGETHER: usize = 64;

/// Somebody, with all sessions that they have in either estate.
pub(super) struct Person<'n> {
    pub(super) name: &'n str,
    pub(super) sessions: Vec<OneSession>,
}

/// One of the sessions.
pub(super) struct OneSession {
    pub(super) role: String,
    pub(super) session: InBoth,
    /// Where the change may matter to it, and for which actions.
    pub(super) stretches: Arc<[Stretch]>,
    /// The policies that count for it, for each set of actions that is compared for any session of the
    /// person.
    pub(super) profiles: Vec<(Arc<Concern>, KnownProfile)>,
}

/// Neighbouring places with the same actions to compare, and the session's number at each.
pub(super) struct Stretch {
    pub(super) concern: Arc<Concern>,
    pub(super) range: Range<u32>,
    pub(super) pieces: Arc<[Piece]>,
}

/// One comparison to make: a session of a person, at a place, for some actions; with the session's number
/// there.
#[derive(Clone)]
pub(super) struct Task {
    pub(super) person: usize,
    pub(super) session: usize,
    pub(super) concern: Arc<Concern>,
    pub(super) place: u32,
    pub(super) seen: u32,
}

/// The results of the comparisons.
#[derive(Default)]
pub(super) struct KnownChanges {
    /// By the session's number: the places at which something changes, and what.
    pub(super) there: FxHashMap<u32, Vec<At>>,
    pub(super) changes: Numbered<Arc<[Change]>>,
    /// By the numbers of two sessions of a person: the places at which the second could do before what the
    /// first gains, and which of these changes.
    pub(super) held: FxHashMap<[u32; 2], Vec<HeldAt>>,
}

/// A place, and which of the changes there another session could do before.
pub(super) type HeldAt = (u32, Arc<[bool]>);

/// The part of what was found out by places that lies in a range.
pub(super) fn within<'a, T>(all: &'a [(u32, T)], range: &Range<u32>) -> &'a [(u32, T)] {
    let from = all.partition_point(|(place, _)| *place < range.start);
    let until = all.partition_point(|(place, _)| *place < range.end);
    &all[from..until]
}

impl KnownChanges {
    /// What comes to something else at some places for those of whom this is seen.
    pub(super) fn changes_at(&self, seen: u32, range: &Range<u32>) -> &[At] {
        self.there.get(&seen).map_or(&[], |there| within(there, range))
    }
}

/// How many of so many make one portion of work: a portion shares its caches, and portions are spread over
/// the cores.
pub(super) fn together(count: usize) -> usize {
    (count / 16).clamp(1, TOGETHER).max(count / 64)
}

impl<'e> Comparison<'e> {
    fn classes<'c>(&'c self, shared: &'c Shared<'c, 'e>) -> PlaceClasses<'c> {
        let estates = [self.before, self.after].map(Index::estate);
        PlaceClasses::new(estates, self.targets.each_ref(), &shared.places)
    }

    /// What the change does to these of everybody, in all their sessions.
    #[must_use]
    pub fn impact(&self, names: &[String], each: Each<'_>) -> Impact {
        if names.is_empty() {
            return Impact::default();
        }
        let shared = Shared::new(self);
        let mut limited: super::LimitedIn = [Limited::new(), Limited::new()];
        let (mut people, mut roles) = (Vec::new(), Vec::new());
        for (person, changed) in in_parts(names, together(names.len()), each, &|names| {
            let mut compared = self.compared();
            names.iter().map(|name| compared.person(&shared, name)).collect()
        }) {
            if changed != RolesChanged::default() {
                roles.push((person.name.to_owned(), changed));
            }
            people.push(person);
        }
        shared.has_everybody();
        let mut known = KnownChanges::default();
        let mut classes = self.classes(&shared);
        let mut compared = self.compared();
        let Tasks { tasks, alike } = tasks(&shared, &people, &mut compared, &mut classes);
        // Most results are like others: only one of each is kept.
        let results: Mutex<Numbered<Arc<[Change]>>> = Mutex::default();
        let found: Vec<(Option<u32>, [bool; 2])> =
            in_parts(&tasks, together(tasks.len()), each, &|tasks| {
                let mut compared = self.compared();
                compared.at_place = shared.at_places.taken();
                let done = |task: &Task| {
                    let (changes, is_limited) = compared.done(&shared, &people, task);
                    let number = |changes: Vec<Change>| {
                        let mut results = results.lock().unwrap_or_else(PoisonError::into_inner);
                        results.number_of(&changes[..])
                    };
                    ((!changes.is_empty()).then(|| number(changes)), is_limited)
                };
                let found = tasks.iter().map(done).collect();
                shared.at_places.put_back(compared.at_place);
                found
            });
        drop(tasks);
        known.changes = results.into_inner().unwrap_or_else(PoisonError::into_inner);
        for (seen, place, task) in alike {
            let (changes, is_limited) = found[task as usize];
            known.there.entry(seen).or_default().extend(changes.map(|number| (place, number)));
            let scopes = shared.places.scopes[place as usize].into_iter().zip(is_limited);
            for (limited, (scope, is_limited)) in limited.iter_mut().zip(scopes) {
                limited.extend(scope.filter(|_| is_limited));
            }
        }
        known.there.values_mut().for_each(|there| there.sort_unstable());
        let HeldTasks { tasks, alike } =
            held_tasks(&shared, &people, &known, &mut compared, &mut classes);
        let found = in_parts(&tasks, together(tasks.len()), each, &|tasks| {
            let mut compared = self.compared();
            let held = |task: &HeldTask| compared.held(&shared, &people, &known, task);
            tasks.iter().map(held).collect()
        });
        let found: Vec<Arc<[bool]>> = found.into_iter().map(Arc::from).collect();
        for (seen_of_both, place, task) in alike {
            let held = &found[task as usize];
            if held.contains(&true) {
                known.held.entry(seen_of_both).or_default().push((place, Arc::clone(held)));
            }
        }
        known.held.values_mut().for_each(|held| held.sort_unstable_by_key(|(place, _)| *place));
        Impact { changes: changes(&shared, &people, known, each), roles, limited }
    }
}

/// The comparisons to make.
struct Tasks {
    tasks: Vec<Task>,
    /// For each number and place, the task whose result holds there.
    alike: Vec<(u32, u32, u32)>,
}

/// One task for each class of places and each number that sessions have there: the first such session's.
fn tasks<'e>(
    shared: &Shared<'_, 'e>,
    people: &[Person<'_>],
    compared: &mut Compared<'_, 'e>,
    classes: &mut PlaceClasses<'_>,
) -> Tasks {
    let mut covered: FxHashMap<u32, BTreeMap<u32, u32>> = FxHashMap::default();
    let mut known: FxHashMap<SeenThere, u32> = FxHashMap::default();
    let numbers = shared.numbers();
    let (mut tasks, mut alike) = (Vec::new(), Vec::new());
    // Many sessions share theirs.
    let mut done: FxHashSet<*const Stretch> = FxHashSet::default();
    for (i, person) in people.iter().enumerate() {
        for (j, session) in person.sessions.iter().enumerate() {
            if !done.insert(session.stretches.as_ptr()) {
                continue;
            }
            for stretch in session.stretches.iter() {
                for (range, seen) in stretch.pieces.iter() {
                    let left = cover(covered.entry(*seen).or_default(), range);
                    if left.is_empty() {
                        continue;
                    }
                    let matters = numbers.matters(*seen);
                    let left = left.into_iter().flat_map(|left| stretch.concern.places_in(left));
                    for place in left {
                        let class = classes.of(&matters, *place, |parts| {
                            compared.told_at(shared, &session.session, parts, *place)
                        });
                        let there = numbers.seen_there(*seen, class, shared.places.depth(*place));
                        let task = *known.entry(there).or_insert(tasks.len() as u32);
                        alike.push((*seen, *place, task));
                        if task as usize == tasks.len() {
                            tasks.push(Task {
                                person: i,
                                session: j,
                                concern: Arc::clone(&stretch.concern),
                                place: *place,
                                seen: *seen,
                            });
                        }
                    }
                }
            }
        }
    }
    // Much of what is found out for one session holds for the next at the same place.
    let mut order: Vec<u32> = (0..tasks.len() as u32).collect();
    order.sort_by_key(|task| {
        let task = &tasks[*task as usize];
        (task.place, task.concern.number)
    });
    let mut rank = vec![0; tasks.len()];
    order.iter().zip(0..).for_each(|(task, at)| rank[*task as usize] = at);
    alike.iter_mut().for_each(|(.., task)| *task = rank[*task as usize]);
    let tasks = order.into_iter().map(|task| tasks[task as usize].clone()).collect();
    Tasks { tasks, alike }
}

/// Adds a range to ranges that lie apart; what of it was in none of them.
pub(super) fn cover(covered: &mut BTreeMap<u32, u32>, range: &Range<u32>) -> Vec<Range<u32>> {
    let mut left = Vec::new();
    let (mut from, mut until) = (range.start, range.end);
    let touching: Vec<(u32, u32)> = covered
        .range(..=range.end)
        .rev()
        .take_while(|(_, end)| **end >= range.start)
        .map(|(start, end)| (*start, *end))
        .collect();
    let mut next = range.start;
    for (start, end) in touching.into_iter().rev() {
        if next < start {
            left.push(next..start.min(range.end));
        }
        next = next.max(end);
        covered.remove(&start);
        (from, until) = (from.min(start), until.max(end));
    }
    if next < range.end {
        left.push(next..range.end);
    }
    covered.insert(from, until);
    left
}

impl<'e> Compared<'_, 'e> {
    /// Somebody's sessions, and what counts of them; and the roles that they can newly take up, or no
    /// longer.
    fn person<'n>(&mut self, shared: &Shared<'_, 'e>, name: &'n str) -> (Person<'n>, RolesChanged) {
        let of_both = self.sessions(name);
        let roles = RolesChanged::of(&of_both);
        let (mut standings, mut concerned) = (Vec::new(), Vec::new());
        for session in of_both.values() {
            let parts = self.concerned(name, session).parts;
            let standing = self.standing(shared, session);
            standings.push(standing);
            concerned.push(self.known_concerned(shared, (standing, &parts), |compared| {
                compared.stretches(shared, session, &parts)
            }));
        }
        // What each session concerns, and where: the others are asked about it, too.
        let concerns = shared.concerns(&concerned);
        let all = of_both.into_iter().zip(standings).zip(concerned);
        let sessions = all.map(|(((role, session), standing), concerned)| {
            let of = |at| self.known_profile(shared, (&session, standing), (&concerns, at));
            let profiles: Vec<KnownProfile> = (0..concerns.all.len()).map(of).collect();
            let stretches = shared.stretches(&concerned, &concerns, &profiles);
            let of_concerns = concerns.all.iter().map(|(concern, _)| Arc::clone(concern));
            let profiles = of_concerns.zip(profiles).collect();
            OneSession { role, session, stretches, profiles }
        });
        let mut sessions: Vec<OneSession> = sessions.collect();
        // Only what rises may have been held by another session.
        if sessions.len() < 2 {
            sessions.iter_mut().for_each(|one| one.profiles.clear());
        }
        (Person { name, sessions }, roles)
    }

    /// The places at which one of the estates may allow a session something that counts.
    fn stretches(
        &mut self,
        shared: &Shared<'_, 'e>,
        session: &InBoth,
        concerned: &[TouchedPart],
    ) -> Vec<(Arc<Concern>, Range<u32>)> {
        let is_bounded = !self.comparison.request.under.is_empty();
        let policy = |part: &TouchedPart| match is_bounded {
            true => None,
            false => part.policy.clone(),
        };
        let mut parts: Vec<(Range<u32>, Option<Box<str>>)> = Vec::new();
        for part in concerned {
            let policy = policy(part);
            let Some(range) = self.range(shared, &part.place) else { continue };
            let concern = shared.concern(&policy.clone().map(|policy| vec![policy]));
            for other in self.allowed(shared, session, &concern, &range) {
                let both = range.start.max(other.start)..range.end.min(other.end);
                if !both.is_empty() {
                    parts.push((both, policy.clone()));
                }
            }
        }
        let mut bounds: Vec<u32> =
            parts.iter().flat_map(|(range, _)| [range.start, range.end]).collect();
        bounds.sort_unstable();
        bounds.dedup();
        let mut stretches: Vec<(Arc<Concern>, Range<u32>)> = Vec::new();
        for range in bounds.windows(2).map(|both| both[0]..both[1]) {
            let within = parts.iter().filter(|(part, _)| part.contains(&range.start));
            let mut policies: Vec<&Option<Box<str>>> = within.map(|(_, policy)| policy).collect();
            if policies.is_empty() {
                continue;
            }
            policies.sort_unstable();
            policies.dedup();
            let concern = shared.concern(&policies.into_iter().cloned().collect());
            match stretches.last_mut() {
                Some((known, last)) if last.end == range.start && Arc::ptr_eq(known, &concern) => {
                    last.end = range.end;
                }
                _ => stretches.push((concern, range)),
            }
        }
        stretches
    }

    fn range(&self, shared: &Shared<'_, 'e>, place: &TouchedPlace) -> Option<Range<u32>> {
        let (TouchedPlace::Below(path) | TouchedPlace::At(path)) = place else {
            return Some(shared.places.all());
        };
        let found = self.sides.iter().enumerate().find_map(|(i, side)| {
            let id = side.decider.index.estate().scopes.find(path)?;
            Some(shared.places.of(i, id))
        })?;
        Some(match place {
            TouchedPlace::At(_) => found..found + 1,
            _ => shared.places.below(found),
        })
    }

    /// What comes to something else at a place; and in which estates not all items there were told
    /// apart.
    fn done(
        &mut self,
        shared: &Shared<'_, 'e>,
        people: &[Person<'_>],
        task: &Task,
    ) -> (Vec<Change>, [bool; 2]) {
        let session = &people[task.person].sessions[task.session].session;
        let path = &*shared.places.paths[task.place as usize];
        let actions = task.concern.actions();
        let mut found: Vec<Change> = Vec::new();
        let mut add = |rest: &str, turns: Vec<Turn>| {
            found.extend(turns.into_iter().map(|turn| Change {
                rest: rest.into(),
                action: turn.action,
                before: turn.before,
                after: turn.after,
                is_gained: turn.is_gained,
                is_lost: turn.is_lost,
                is_decided: turn.is_decided,
                held_as: None,
            }));
        };
        match self.asking_at(shared, session, &task.concern, task.place) {
            Some(asking) => {
                let here = self.rows_here(session, &asking, path, actions);
                for row in &here.rows {
                    add(&row.rest, self.compare_here(session, &asking, row, actions));
                }
            }
            None => {
                for (shown, row) in self.rows(session, path, actions) {
                    add(&shown[path.len()..], self.compare(session, &row, actions));
                }
            }
        }
        let limited = self.sides.each_mut().map(|side| std::mem::take(&mut side.limited));
        (found, limited.map(|limited| !limited.is_empty()))
    }
}
