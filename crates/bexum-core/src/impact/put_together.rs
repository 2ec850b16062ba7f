//! Puts together what was found out about places, session by session.

use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::FxHashMap;

use super::alike::Shared;
use super::changes::{At, Changes, Lists, Numbered, RUN};
use super::everybody::{KnownChanges, OneSession, Person, Stretch, together, within};
use super::held::{HeldAtPlaces, ToldHeld, held_in, with_held};
use crate::each::{Each, in_parts};

/// What was found out, as it is put together.
struct Found {
    known: KnownChanges,
    /// By what is seen: the runs of places, each with all that comes to something else there, by its number
    /// among `whole`.
    runs: FxHashMap<u32, Vec<(u32, u32)>>,
    whole: Vec<Arc<[At]>>,
    /// How many places there are.
    places: u32,
}

/// Where a list's runs are: one of those that were found whole, by its number, or so many of the places that
/// were put together.
enum Run {
    Whole(u32),
    Own(Range<usize>),
}

/// A session's list, as it grows from place to place.
#[derive(Default)]
struct Growing {
    runs: Vec<Run>,
    /// The places of the runs that are not whole.
    own: Vec<At>,
    /// Where the last of them begins.
    latest: usize,
}

impl Growing {
    fn add(&mut self, at: At) {
        if self.own[self.latest..].last().is_some_and(|(place, _)| place / RUN != at.0 / RUN) {
            self.end_run();
        }
        self.own.push(at);
    }

    fn add_whole(&mut self, run: u32) {
        self.end_run();
        self.runs.push(Run::Whole(run));
    }

    fn end_run(&mut self) {
        let run = self.latest..self.own.len();
        self.latest = run.end;
        self.runs.extend((!run.is_empty()).then_some(Run::Own(run)));
    }
}

/// The lists that were put together.
struct Gathered {
    lists: Lists,
    /// The numbers of the whole runs that are in some list.
    whole: Vec<Option<u32>>,
    /// The runs of people who have one session, by its stretches, which many share.
    alone: FxHashMap<usize, Vec<u32>>,
}

impl Gathered {
    /// Adds a session with the runs of its list, whose numbers come back.
    fn add(&mut self, found: &Found, (who, role): (&str, &str), list: &Growing) -> Vec<u32> {
        let Self { lists, whole, .. } = self;
        let number = |run: &Run| match run {
            Run::Own(run) => lists.runs.number_of(&list.own[run.clone()]),
            Run::Whole(run) => *whole[*run as usize]
                .get_or_insert_with(|| lists.runs.number_of(&found.whole[*run as usize])),
        };
        let runs: Vec<u32> = list.runs.iter().map(number).collect();
        lists.add_runs(who, role, &runs);
        runs
    }

    /// Adds somebody's only session, if the list of its stretches is known.
    fn has_added(&mut self, who: &str, session: &OneSession) -> bool {
        let runs = self.alone.get(&session.stretches.as_ptr().addr());
        runs.inspect(|runs| self.lists.add_runs(who, &session.role, runs)).is_some()
    }
}

/// What comes to something else, of all sessions.
pub(super) fn changes(
    shared: &Shared<'_, '_>,
    people: &[Person<'_>],
    mut known: KnownChanges,
    each: Each<'_>,
) -> Changes {
    let told = Mutex::new(ToldHeld::of(std::mem::take(&mut known.changes)));
    let found = Found::of(known, shared.places.paths.len() as u32);
    let whole = vec![None; found.whole.len()];
    let gathered =
        Mutex::new(Gathered { lists: Lists::default(), whole, alone: FxHashMap::default() });
    let gathering = || gathered.lock().unwrap_or_else(PoisonError::into_inner);
    in_parts(people, together(people.len()), each, &|people| -> Vec<()> {
        for person in people {
            // What another session could do before is told of nobody who has no other.
            let alone = person.sessions.len() == 1;
            for (j, session) in person.sessions.iter().enumerate() {
                if alone && gathering().has_added(person.name, session) {
                    continue;
                }
                let list = found.list(shared, (person, j), &told);
                let mut gathered = gathering();
                let runs = gathered.add(&found, (person.name, &session.role), &list);
                if alone {
                    gathered.alone.insert(session.stretches.as_ptr().addr(), runs);
                }
            }
        }
        Vec::new()
    });
    let told = told.into_inner().unwrap_or_else(PoisonError::into_inner);
    let gathered = gathered.into_inner().unwrap_or_else(PoisonError::into_inner);
    gathered.lists.changes(told.changes.all, Arc::clone(&shared.places.paths))
}

impl Found {
    fn of(known: KnownChanges, places: u32) -> Self {
        let mut whole: Numbered<Arc<[At]>> = Numbered::default();
        let mut runs_of = |there: &[At]| -> Vec<(u32, u32)> {
            let runs = there.chunk_by(|(one, _), (other, _)| one / RUN == other / RUN);
            runs.map(|run| (run[0].0 / RUN, whole.number_of(run))).collect()
        };
        let runs = known.there.iter().map(|(seen, there)| (*seen, runs_of(there))).collect();
        Self { known, runs, whole: whole.all, places }
    }

    /// What comes to something else for a session.
    fn list<'p>(
        &self,
        shared: &Shared<'_, '_>,
        (person, session): (&'p Person<'_>, usize),
        told: &Mutex<ToldHeld<'p>>,
    ) -> Growing {
        let mut list = Growing::default();
        for stretch in person.sessions[session].stretches.iter() {
            let changed = || {
                let pieces = stretch.pieces.iter();
                pieces.flat_map(|(range, seen)| self.known.changes_at(*seen, range))
            };
            let held = match changed().next() {
                Some(_) => held_in(shared, (person, session), stretch, &self.known, told),
                None => HeldAtPlaces::default(),
            };
            if held.is_empty() {
                self.add(stretch, &mut list);
                continue;
            }
            changed().for_each(|at| list.add(with_held(*at, &held, told)));
        }
        list.end_run();
        list
    }

    /// Adds what comes to something else in a stretch.
    fn add(&self, stretch: &Stretch, list: &mut Growing) {
        for (range, seen) in stretch.pieces.iter() {
            let Some(runs) = self.runs.get(seen) else { continue };
            let first = runs.partition_point(|(run, _)| (run + 1) * RUN <= range.start);
            for (run, number) in runs[first..].iter().take_while(|(run, _)| run * RUN < range.end) {
                let all = run * RUN..((run + 1) * RUN).min(self.places);
                if range.start <= all.start && all.end <= range.end {
                    list.add_whole(*number);
                    continue;
                }
                let part: Range<u32> = range.start.max(all.start)..range.end.min(all.end);
                let some = within(&self.whole[*number as usize], &part);
                some.iter().for_each(|at| list.add(*at));
            }
        }
    }
}
