//! The smallest change after which a request is decided otherwise (spec-work section 9).
//!
//! Candidates come from what could grant, or from what refuses; each is made on declarations, and
//! counts only if the engine decides so on the estate that they make. What else a step does is
//! counted over all sessions and rows, as [impact](crate::impact) does. That is done on a
//! part of the estate that holds all that the step can concern, which is much smaller.

mod against;
mod at_least;
mod candidates;
mod circumstances;
mod further;
mod pairs;
mod step;
mod tried;

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rustc_hash::{FxHashMap, FxHashSet};

use crate::decision::Verdict;
use crate::declaration::{Declarations, List};
use crate::each::Each;
use crate::edit::{Edit, apply, same_files};
use crate::engine::{Closure, Decider, Engine, Index};
use crate::estate::Estate;
use crate::impact::{Cell, Compared, Comparison, differences};
use crate::origin::Spanned;
use crate::part::{Besides, EstatePart, Lookup, Places, Whole};
use crate::principal::Principal;
use crate::request::{Query, Request, RequestFault};
use crate::trace::Recorder;

use at_least::Gauge;
use pairs::First;
pub use step::{Choice, Effect, Step, Way};
pub use tried::Tried;
use tried::{NEAR, SAMPLE};

/// How many principals are compared together.
const SHARE: usize = 64;

/// Whom a step can concern.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Concerned {
    /// Everybody who is one of these, or comes to one of them.
    These(Vec<Principal>),
    /// These alone, though it may concern others.
    Only(Vec<Principal>),
    Everybody,
}

/// What a step can concern at most.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Extent {
    concerned: Concerned,
    places: Places,
    /// The groups and roles that it puts somebody into.
    into: Vec<Principal>,
    /// Whether it changes nothing but what can be done on the request's path.
    is_path_alone: bool,
}

impl Extent {
    fn new(concerned: Concerned, places: Places) -> Self {
        Self { concerned, places, into: Vec::new(), is_path_alone: false }
    }

    /// The extent of a step that changes nothing but what can be done on the request's path.
    fn path_alone(concerned: Concerned) -> Self {
        let places = Places::Below(Vec::new());
        Self { is_path_alone: true, ..Self::new(concerned, places) }
    }

    /// This extent, cut to these people.
    fn only(&self, people: Vec<Principal>) -> Self {
        Self { concerned: Concerned::Only(people), ..self.clone() }
    }

    /// The extent of options, which change nothing.
    fn nothing() -> Self {
        Self::new(Concerned::These(Vec::new()), Places::Below(Vec::new()))
    }

    /// Everything that either of two steps concerns.
    fn and(&self, other: &Self) -> Self {
        let concerned = match (&self.concerned, &other.concerned) {
            (Concerned::These(one), Concerned::These(other)) => {
                Concerned::These(merged(one, other))
            }
            // A pair is made of whole extents.
            _ => Concerned::Everybody,
        };
        let places = match (&self.places, &other.places) {
            (Places::Below(one), Places::Below(other)) => Places::Below(merged(one, other)),
            _ => Places::Everywhere,
        };
        Self {
            concerned,
            places,
            into: merged(&self.into, &other.into),
            is_path_alone: self.is_path_alone && other.is_path_alone,
        }
    }
}

fn merged<T: Copy + Ord>(one: &[T], other: &[T]) -> Vec<T> {
    let mut all = [one, other].concat();
    all.sort_unstable();
    all.dedup();
    all
}

/// Steps to try in their order: the first that works is the way.
#[derive(Clone, Debug)]
pub struct Candidate {
    alternatives: Vec<(Step, Extent)>,
    /// What the first of them does, where it can be told how much that is at least.
    gauge: Option<Gauge>,
    /// How many cells it turns at least, as far as that was [found out](Search::gauge).
    at_least: usize,
    /// Whether it is known that the first of them can be made and works.
    is_sure: bool,
    /// Of a pair: what its first step does; how far the alternatives reach is how far the second
    /// does.
    first: Option<Arc<First>>,
}

impl Candidate {
    fn new(step: Step, extent: Extent) -> Self {
        Self::of(vec![(step, extent)])
    }

    fn of(alternatives: Vec<(Step, Extent)>) -> Self {
        Self { alternatives, gauge: None, at_least: 0, is_sure: false, first: None }
    }
}

/// Where things stand in an estate, for searches: found out once, beside its engine.
#[derive(Debug)]
pub struct WayLookup(Lookup);

impl WayLookup {
    /// What is looked up in an estate and in its declarations.
    #[must_use]
    pub fn new(declared: &Declarations, estate: &Estate) -> Self {
        Self(Lookup::new(declared, estate))
    }
}

/// A search for ways from one decision to the other.
#[derive(Debug)]
pub struct WaySearch<'s> {
    declared: &'s Declarations,
    engine: &'s Engine,
    request: &'s Request<'s>,
    wanted: Verdict,
    lookup: Lookup,
    /// Parts of the estate that were made, by what they hold.
    parts: Mutex<FxHashMap<Extent, Arc<EstatePart>>>,
    /// How many principals these are, as far as they were counted.
    numbers: Mutex<FxHashMap<Concerned, usize>>,
}

impl<'s> WaySearch<'s> {
    /// Gets ready. `engine` decides the estate that is `declared`. What the ways lead to is what
    /// the request does not come to now.
    ///
    /// # Errors
    /// A request that is none.
    pub fn new(
        declared: &'s Declarations,
        engine: &'s Engine,
        request: &'s Request<'s>,
    ) -> Result<Self, RequestFault> {
        Self::with(declared, WayLookup::new(declared, engine.estate()), engine, request)
    }

    /// The same, with what is known of the estate.
    ///
    /// # Errors
    /// A request that is none.
    pub fn with(
        declared: &'s Declarations,
        WayLookup(lookup): WayLookup,
        engine: &'s Engine,
        request: &'s Request<'s>,
    ) -> Result<Self, RequestFault> {
        let query = request.resolve(engine.estate())?;
        let wanted = match engine.decider().decide(&query).verdict() {
            Verdict::Allow => Verdict::Deny,
            Verdict::Deny => Verdict::Allow,
        };
        let (parts, numbers) = (Mutex::default(), Mutex::default());
        Ok(Self { declared, engine, request, wanted, lookup, parts, numbers })
    }

    /// What the ways lead to.
    #[must_use]
    pub fn wanted(&self) -> Verdict {
        self.wanted
    }

    fn index(&self) -> &'s Index {
        self.engine
    }

    fn estate(&self) -> &'s Estate {
        self.engine.estate()
    }

    /// Whether the request comes to what is wanted in an estate, asked so.
    fn works_in(&self, index: &Index, request: &Request<'_>) -> bool {
        let Ok(query) = request.resolve(index.estate()) else { return false };
        Decider::new(index).decide(&query).verdict() == self.wanted
    }

    /// Every single step that may do.
    #[must_use]
    pub fn singles(&self) -> Vec<Candidate> {
        let Ok(query) = self.request.resolve(self.estate()) else { return Vec::new() };
        let mut decider = Decider::new(self.index());
        let met = self.met(&query);
        let mut found = match self.wanted {
            Verdict::Allow => {
                let mut found = self.grants(&mut decider, &query, &met, true);
                found.extend(self.lifts(&query, &met));
                found
            }
            Verdict::Deny => self.closings(&query, &met),
        };
        let mut known: BTreeSet<String> = BTreeSet::new();
        found.retain(|one| {
            one.alternatives.first().is_some_and(|(step, _)| known.insert(step.text()))
        });
        found
    }

    /// How far a candidate reaches, in a rough order: what reaches less is tried sooner, so that of
    /// what reaches far less has to be counted.
    #[must_use]
    pub fn breadth(&self, candidate: &Candidate) -> (usize, usize, usize) {
        let extents = candidate.alternatives.iter().map(|(_, extent)| extent);
        let breadths = extents.map(|extent| {
            let places = match &extent.places {
                Places::Below(places) => usize::from(places.len() > 1),
                Places::Everywhere => 2,
            };
            (candidate.at_least, self.number(&extent.concerned), places)
        });
        breadths.max().unwrap_or_default()
    }

    /// How many principals a candidate concerns.
    #[must_use]
    pub fn principals(&self, candidate: &Candidate) -> usize {
        let extents = candidate.alternatives.iter().map(|(_, extent)| extent);
        extents.map(|extent| self.number(&extent.concerned)).max().unwrap_or_default()
    }

    /// How many principals a step concerns.
    fn number(&self, concerned: &Concerned) -> usize {
        let locked = || self.numbers.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(number) = locked().get(concerned) {
            return *number;
        }
        let number = self.people(concerned).len();
        locked().insert(concerned.clone(), number);
        number
    }

    /// Everybody with sessions whom a step concerns.
    fn people(&self, concerned: &Concerned) -> Vec<Principal> {
        let mut people: Vec<Principal> = match concerned {
            Concerned::These(seeds) => self.whole().below(seeds).into_iter().collect(),
            Concerned::Only(people) => people.clone(),
            Concerned::Everybody => self.estate().principals().collect(),
        };
        people.retain(|who| !matches!(who, Principal::Group(_)));
        people.sort_unstable();
        people
    }

    /// What a request meets, were the user enabled and the role one that can be taken up.
    fn met(&self, query: &Query<'_>) -> Recorder {
        let mut closure = Closure::new(self.index(), query.who, &query.also, query.time);
        closure.is_disabled = false;
        if let Some(role) = query.take_up.filter(|role| !closure.can_take_up(*role)) {
            closure.takeable.push(role);
            closure.takeable.sort_unstable();
        }
        let mut met = Recorder::default();
        Decider::new(self.index()).decide_for(query, closure, &mut met);
        met
    }

    /// The part of the estate in which a step is tried.
    fn part(&self, extent: &Extent) -> Arc<EstatePart> {
        let locked = || self.parts.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(part) = locked().get(extent) {
            return Arc::clone(part);
        }
        let part = Arc::new(self.make_part(extent));
        locked().insert(extent.clone(), Arc::clone(&part));
        part
    }

    /// The estate, of which parts are made.
    fn whole(&self) -> Whole<'_> {
        Whole { declared: self.declared, engine: self.engine, lookup: &self.lookup }
    }

    fn make_part(&self, extent: &Extent) -> EstatePart {
        let Extent { concerned, places, into, .. } = extent;
        let (estate, request) = (self.estate(), self.request);
        let mut seeds: Vec<Principal> = match (concerned, places) {
            (Concerned::Everybody, Places::Everywhere) => return self.whole().as_part(),
            (Concerned::Everybody, _) => estate.principals().collect(),
            (Concerned::These(seeds), _) => self.whole().below(seeds).into_iter().collect(),
            (Concerned::Only(people), _) => people.clone(),
        };
        let named = [&*request.who].into_iter().chain(request.take_up.as_deref());
        let named = named.chain(request.also.iter().map(|group| &**group));
        seeds.extend(named.filter_map(|name| estate.find_principal(name)));
        seeds.extend(into);
        let besides = Besides { path: Some(&request.on), policies: &request.under };
        self.whole().part(&seeds, places, besides)
    }

    /// Adds the policies that a step names, where they are missing.
    fn add_policies(&self, declared: &mut Declarations, step: &Step) {
        let named = step.edits.iter().flat_map(|edit| match edit {
            Edit::Attach { policies, .. } => &policies[..],
            Edit::State { policy, .. } | Edit::Spare { policy, .. } => std::slice::from_ref(policy),
            _ => &[],
        });
        let before = declared.policies.len();
        self.whole().add_policies(&mut declared.policies, named.map(String::as_str));
        let known: FxHashSet<String> =
            declared.scopes.iter().map(|one| one.name.value.clone()).collect();
        for policy in &mut declared.policies[before..] {
            // Those that stand in its rows are in the part already.
            policy.body.place = None;
            let is_there = |at: &Spanned<String>| known.contains(&at.value);
            let fewer = |list: &mut List| list.value.retain(is_there);
            policy.body.attachable.iter_mut().for_each(fewer);
        }
    }

    /// The part of the estate after a step; `None` where it cannot be made.
    fn after(&self, part: &EstatePart, step: &Step) -> Option<(Declarations, Engine)> {
        let mut declared = part.declared.clone();
        self.add_policies(&mut declared, step);
        let estate = edited(&mut declared, part.engine.estate(), step)?;
        Some((declared, Engine::new(estate)))
    }

    /// How many cells a way opens, and how many it closes, in other circumstances or at a later
    /// moment alone; those that cannot be decided count as both. `None` where that would take long: it
    /// concerns more than `most` principals, or a quarter as many principals times scopes, or circumstances
    /// are looked for in more steps than `most_steps`. Those whom it concerns are shared out by `each`.
    #[must_use]
    pub fn elsewhere(
        &self,
        way: &Way,
        (most, most_steps): (usize, usize),
        each: Each<'_>,
    ) -> Option<[usize; 2]> {
        if way.step.edits.is_empty() {
            return Some([0, 0]);
        }
        let rows = match way.extent.is_path_alone {
            true => 1,
            // A scope has some rows more: its items, and who stands there.
            false => way.extent.places.rows(self.estate()).max(1).saturating_mul(4),
        };
        if self.number(&way.extent.concerned).saturating_mul(rows) > most {
            return None;
        }
        let part = self.part(&way.extent);
        let (declared, after) = self.after(&part, &way.step)?;
        let (comparison, people) = self.beside(&part, (&declared, &after), &way.extent)?;
        let comparison = comparison.within_steps(most_steps);
        let (opens, closes) = match way.extent.is_path_alone {
            false => {
                let changes = comparison.impact(&people, each).changes;
                let opens = changes.count(|one| one.is_gained && !one.is_opened());
                (opens, changes.count(|one| one.is_lost && !one.is_shut()))
            }
            true => {
                let shares: Vec<&[String]> = people.chunks(SHARE).collect();
                let (opens, closes) = (AtomicUsize::new(0), AtomicUsize::new(0));
                each(shares.len(), &|share| {
                    let mut compared = comparison.compared();
                    for who in shares[share] {
                        let cells = compared.cells_at(who, &self.request.on);
                        let gained = cells.iter().filter(|one| one.is_gained && !one.is_opened());
                        let lost = cells.iter().filter(|one| one.is_lost && !one.is_shut());
                        opens.fetch_add(gained.count(), Ordering::Relaxed);
                        closes.fetch_add(lost.count(), Ordering::Relaxed);
                    }
                });
                (opens.into_inner(), closes.into_inner())
            }
        };
        (!comparison.is_spent()).then_some([opens, closes])
    }

    /// Compares everybody whom a step concerns at the moment, one after the other, until `each` says
    /// that it is enough; whether rows were left out. `most` is how many cells of one principal are
    /// looked for.
    fn compare(
        &self,
        part: &EstatePart,
        after: (&Declarations, &Engine),
        extent: &Extent,
        most: usize,
        mut each: impl FnMut(&str, &[Cell]) -> bool,
    ) -> bool {
        let Some((comparison, people)) = self.beside(part, after, extent) else { return true };
        let path = self.estate().scopes.nearest(&self.request.on);
        // A part has rows elsewhere, without all that is tied there.
        let counts = |row: &str| {
            self.is_among(row, &extent.places) || self.estate().scopes.find(row) == path
        };
        let mut compared = comparison.compared_at_the_moment(most, Some(&counts));
        for who in people {
            let cells = self.turned(&mut compared, &who, extent);
            if !each(&who, &cells) {
                break;
            }
        }
        compared.limited().iter().any(|limited| !limited.is_empty())
    }

    /// The cells of somebody that a step turns.
    fn turned(&self, compared: &mut Compared<'_, '_>, who: &str, extent: &Extent) -> Vec<Cell> {
        match extent.is_path_alone {
            true => compared.cells_at(who, &self.request.on),
            false => compared.cells_of(who),
        }
    }

    /// A part of the estate without a step and with it, and those whom the step concerns.
    fn beside<'c>(
        &'c self,
        part: &'c EstatePart,
        (declared, after): (&Declarations, &'c Engine),
        extent: &Extent,
    ) -> Option<(Comparison<'c>, Vec<String>)> {
        let same = same_files(&part.declared, declared);
        let differences = differences(part.engine.estate(), after.estate(), &same);
        // What the question supposes of who asks is nothing to others.
        let (take_up, item, also, under) = (None, None, Vec::new(), Vec::new());
        let circumstances = Request { take_up, item, also, under, ..self.request.clone() };
        // They were sound when the question was asked, and no step changes what is declared of them.
        let comparison = Comparison::new(&part.engine, after, &differences, circumstances).ok()?;
        let mut everybody = comparison.everybody().to_vec();
        if !matches!(extent.concerned, Concerned::Everybody) {
            let people = self.whole().named(self.people(&extent.concerned));
            everybody.retain(|who| people.contains(who));
        }
        Some((comparison, everybody))
    }
}

/// The better before the other, each once: what does less, then by text.
pub fn rank(ways: &mut Vec<Way>) {
    ways.sort_by_cached_key(|way| (way.effect.size(), way.step.text()));
    ways.dedup_by(|one, other| one.step == other.step);
}

/// The estate after some edits; `None` where it would be none.
fn edited(declared: &mut Declarations, before: &Estate, step: &Step) -> Option<Estate> {
    for edit in &step.edits {
        // Nobody asks to be let in here, so no moment matters.
        apply(edit, declared, &before.catalogue, crate::time::Time(0)).ok()?;
    }
    Estate::build_beside(declared, before).ok()
}
