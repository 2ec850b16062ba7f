//! Two steps where one does not do: what takes away what refuses, then what grants.
//!
//! What a pair does where the second step does nothing is what the first does alone, which is
//! counted once for all pairs that begin with it.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex};

use super::at_least::Gauge;
use super::{Candidate, Concerned, Effect, Extent, Places, Step, WaySearch, edited};
use crate::decision::Verdict;
use crate::edit::Edit;
use crate::engine::{Decider, Engine};
use crate::impact::Cell;
use crate::part::Lookup;
use crate::policy;
use crate::principal::Principal;

/// How many times as many pairs as are tried are collected before no more first steps are looked at.
const ENOUGH_PAIRS: usize = 4;

/// How many pairs, of those that are tried, each first step is worth at least: so many more of them
/// are not looked at.
const PAIRS_OF_EACH: usize = 10;

/// What the first step of a pair does.
#[derive(Debug)]
pub(super) struct First {
    pub(super) extent: Extent,
    /// The cells that it turns, by whose they are; where it turns very many, some of them.
    cells: BTreeMap<String, Vec<Cell>>,
    /// Whether it turns no others.
    pub(super) is_whole: bool,
    /// Whether rows were left out.
    pub(super) is_limited: bool,
}

impl First {
    /// The cells of the first step that a second step, which concerns no more than `second`, leaves as they
    /// are.
    pub(super) fn beside(
        &self,
        search: &WaySearch<'_>,
        second: &Extent,
    ) -> BTreeMap<String, Vec<Cell>> {
        let people: Option<BTreeSet<String>> = match &second.concerned {
            Concerned::Everybody => None,
            some => Some(search.whole().named(search.people(some))),
        };
        let mut left = self.cells.clone();
        for (who, cells) in &mut left {
            if people.as_ref().is_none_or(|people| people.contains(who)) {
                cells.retain(|cell| !search.is_among(&cell.place, &second.places));
            }
        }
        left
    }

    /// What these cells alone come to, where it is known that there are more.
    pub(super) fn much(&self, search: &WaySearch<'_>, second: &Extent) -> Effect {
        let mut effect = Effect { is_partial: true, ..Effect::default() };
        for (who, cells) in &self.beside(search, second) {
            effect.add_cells(who, search.estate(), cells);
        }
        effect.sort_levels();
        effect
    }
}

/// The extent of a second step, with those whom the first is about. Where the first is about
/// more than the path, the path may be one of many items to some session that the second does
/// not concern, and does not count by itself there.
fn and_into(first: &Extent, second: &Extent) -> Extent {
    let about: &[Principal] = match &first.concerned {
        Concerned::These(some) | Concerned::Only(some) => some,
        Concerned::Everybody => &[],
    };
    let into = [&second.into[..], about, &first.into].concat();
    let is_path_alone = second.is_path_alone && first.is_path_alone;
    Extent { into, is_path_alone, ..second.clone() }
}

impl WaySearch<'_> {
    /// Whether a row is that of the request's path, or is at or below some places.
    pub(super) fn is_among(&self, row: &str, places: &Places) -> bool {
        let scopes = &self.estate().scopes;
        row == self.request.on
            || match places {
                Places::Everywhere => true,
                Places::Below(all) => scopes
                    .nearest(row)
                    .is_some_and(|nearest| all.iter().any(|at| scopes.holds(*at, nearest))),
            }
    }

    /// Pairs to try where no single step does, no more than so many: one that takes away what refuses,
    /// and one that grants; and whether these are all. Of each first step that which grants most
    /// narrowly comes first, and of all first steps the narrowest are looked at. They are gauged
    /// already; cells are counted up to `most_cells`.
    #[must_use]
    pub fn pairs(&self, most: usize, most_cells: usize) -> (Vec<Candidate>, bool) {
        let Ok(query) = self.request.resolve(self.estate()) else { return (Vec::new(), true) };
        if self.wanted == Verdict::Deny {
            return (Vec::new(), true);
        }
        let mut lifts = self.lifts(&query, &self.met(&query));
        lifts.sort_by_cached_key(|lift| self.breadth(lift));
        let lifts = lifts.iter().flat_map(|lift| &lift.alternatives);
        let mut by_rank: Vec<(usize, Candidate)> = Vec::new();
        let mut is_complete = true;
        for (looked_at, (step, extent)) in lifts.enumerate() {
            if by_rank.len() > ENOUGH_PAIRS.saturating_mul(most) || looked_at > most / PAIRS_OF_EACH
            {
                is_complete = false;
                break;
            }
            let mut declared = self.declared.clone();
            let Some(after) = edited(&mut declared, self.estate(), step) else { continue };
            let engine = Engine::new(Arc::new(after));
            let Ok(query) = self.request.resolve(engine.estate()) else { continue };
            let inner = WaySearch {
                declared: &declared,
                engine: &engine,
                request: self.request,
                wanted: self.wanted,
                lookup: Lookup::new(&declared, engine.estate()),
                parts: Mutex::default(),
                numbers: Mutex::default(),
            };
            let mut decider = Decider::new(&engine);
            let mut seconds = inner.grants(&mut decider, &query, &inner.met(&query), false);
            let works = |second: &Candidate| {
                let mut each = second.alternatives.iter();
                let pair = |(other, its): &(Step, Extent)| {
                    self.works_soon(&step.and(other), (extent, &and_into(extent, its)))
                };
                second.is_sure || each.any(pair)
            };
            // What the first does has not to be found out where nothing is to follow it.
            if !seconds.iter().any(works) {
                continue;
            }
            let Some(first) = self.first(step, extent, most_cells) else { continue };
            let first = Arc::new(first);
            let mut lifted = 0;
            if most_cells < usize::MAX && self.only_opens(step) {
                // What is denied after the first step was denied before it.
                inner.gauge(&mut seconds);
                lifted = first.cells.values().map(Vec::len).sum();
            }
            seconds.sort_by_cached_key(|second| inner.breadth(second));
            by_rank.extend(seconds.into_iter().enumerate().map(|(rank, second)| {
                // Neither takes back what the other opens.
                let add = if inner.second_only_opens(&second) { lifted } else { 0 };
                let (at_least, is_sure) = (second.at_least + add, second.is_sure);
                let both = second.alternatives.into_iter();
                let both = both.map(|(other, its)| (step.and(&other), and_into(extent, &its)));
                let pair = Candidate {
                    first: Some(Arc::clone(&first)),
                    at_least,
                    is_sure,
                    ..Candidate::of(both.collect())
                };
                (rank, pair)
            }));
        }
        by_rank.sort_by_key(|(rank, _)| *rank);
        is_complete &= by_rank.len() <= most;
        by_rank.truncate(most);
        (by_rank.into_iter().map(|(_, pair)| pair).collect(), is_complete)
    }

    /// What a first step does; `None` where it cannot be made.
    fn first(&self, step: &Step, extent: &Extent, most_cells: usize) -> Option<First> {
        let mut found = None;
        for stage in &self.stages(extent, false, most_cells)? {
            let part = self.part(stage);
            let Some((declared, after)) = self.after(&part, step) else { continue };
            let (mut cells, mut count) = (BTreeMap::new(), 0);
            let is_limited =
                self.compare(&part, (&declared, &after), stage, most_cells, |who, turned| {
                    count += turned.len();
                    cells.insert(who.to_owned(), turned.to_vec());
                    count <= most_cells
                });
            let is_whole = count <= most_cells && stage == extent;
            found = Some(First { extent: extent.clone(), cells, is_whole, is_limited });
            if count > most_cells {
                break;
            }
        }
        found
    }

    /// Whether a step that takes away what refuses closes nothing to anybody.
    fn only_opens(&self, step: &Step) -> bool {
        let estate = self.estate();
        let grants_nothing = |name: &String| {
            estate.find_policy(name).is_some_and(|id| estate.policy(id).allows.is_empty())
        };
        step.edits.iter().all(|edit| match edit {
            // What is spared here is spared in denies.
            Edit::Unlimit { .. }
            | Edit::Spare { .. }
            | Edit::State { effect: policy::Effect::Allow, .. } => true,
            Edit::Detach { policies, .. } => policies.iter().all(grants_nothing),
            _ => false,
        })
    }

    /// Whether a step that grants closes nothing to anybody.
    fn second_only_opens(&self, second: &Candidate) -> bool {
        match second.gauge {
            Some(Gauge::Attaches(tie)) => self.estate().policy(tie.policy).denies.is_empty(),
            Some(Gauge::Allows(_)) => true,
            Some(Gauge::Joins(_) | Gauge::MayTakeUp(_)) => false,
            None => second.alternatives.iter().all(|(step, _)| step.edits.is_empty()),
        }
    }
}
