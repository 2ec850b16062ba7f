//! The smallest change after which a request is decided otherwise (spec-work section 9).
//!
//! Candidates come from what could grant, or from what refuses; each is made on declarations, and
//! counts only if the engine decides so on the estate that they make. What else a step does is
//! counted over all sessions and rows, as [impact](crate::impact) does. That is done on a
//! part of the estate that holds all that the step can concern, which is much smaller.

mod against;
mod candidates;
mod circumstances;
mod step;

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use rustc_hash::{FxHashMap, FxHashSet};

use crate::decision::Verdict;
use crate::declaration::{Declarations, List};
use crate::edit::{Edit, apply, same_files};
use crate::engine::{Closure, Decider, Engine, Index};
use crate::estate::Estate;
use crate::id::ScopeId;
use crate::impact::{Cell, Comparison, differences};
use crate::origin::Spanned;
use crate::part::{Besides, Lookup, Part, Places, Whole};
use crate::principal::Principal;
use crate::request::{Query, Request, RequestFault};
use crate::trace::Recorder;

pub use step::{Choice, Effect, Step, Way};

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

    /// That of a step that changes nothing but what can be done on the request's path.
    fn path_alone(concerned: Concerned) -> Self {
        let places = Places::Below(Vec::new());
        Self { is_path_alone: true, ..Self::new(concerned, places) }
    }

    /// The same, as far as it is about these.
    fn only(&self, people: Vec<Principal>) -> Self {
        Self { concerned: Concerned::Only(people), ..self.clone() }
    }

    /// That of options: they change nothing.
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

/// What came of a candidate that works.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tried {
    /// A way.
    Way(Way),
    /// One that does more than was asked about; how much more was not counted.
    Larger(Way),
}

/// How many principals are looked at before all whom a step concerns.
const SAMPLE: usize = 24;

/// How many times as many pairs as are tried are collected before no more first steps are looked at.
const ENOUGH_PAIRS: usize = 4;

/// How many pairs, of those that are tried, each first step is worth at least: so many more of them
/// are not looked at.
const PAIRS_OF_EACH: usize = 10;

/// Rows that are looked at around the request's path before all where a step has effects.
const NEAR: usize = 64;

/// Steps to try in their order: the first that works is the way.
#[derive(Clone, Debug)]
pub struct Candidate {
    alternatives: Vec<(Step, Extent)>,
}

impl Candidate {
    fn new(step: Step, extent: Extent) -> Self {
        Self { alternatives: vec![(step, extent)] }
    }
}

/// A search for ways from one decision to the other.
#[derive(Debug)]
pub struct Search<'s> {
    declared: &'s Declarations,
    engine: &'s Engine,
    request: &'s Request<'s>,
    wanted: Verdict,
    lookup: OnceLock<Lookup>,
    /// Parts of the estate that were made, by what they hold.
    parts: Mutex<FxHashMap<Extent, Arc<Part>>>,
    /// How many principals these are, as far as they were counted.
    numbers: Mutex<FxHashMap<Concerned, usize>>,
}

impl<'s> Search<'s> {
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
        let query = request.resolve(engine.estate())?;
        let wanted = match engine.decider().decide(&query).verdict() {
            Verdict::Allow => Verdict::Deny,
            Verdict::Deny => Verdict::Allow,
        };
        let (parts, numbers) = (Mutex::default(), Mutex::default());
        Ok(Self { declared, engine, request, wanted, lookup: OnceLock::new(), parts, numbers })
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
    pub fn breadth(&self, candidate: &Candidate) -> (usize, usize) {
        let extents = candidate.alternatives.iter().map(|(_, extent)| extent);
        let breadths = extents.map(|extent| {
            let places = match &extent.places {
                Places::Below(places) => usize::from(places.len() > 1),
                Places::Everywhere => 2,
            };
            (self.number(&extent.concerned), places)
        });
        breadths.max().unwrap_or_default()
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

    /// Tries a candidate: the first of its steps that works, with what it does.
    #[must_use]
    pub fn tried(&self, candidate: &Candidate) -> Option<Way> {
        match self.tried_within(candidate, &|| usize::MAX) {
            Some(Tried::Way(way)) => Some(way),
            _ => None,
        }
    }

    /// The same; what turns more cells than `most` says by then is not counted further. Cells add up
    /// over people, so a few of them are looked at first.
    #[must_use]
    pub fn tried_within(&self, candidate: &Candidate, most: &dyn Fn() -> usize) -> Option<Tried> {
        candidate.alternatives.iter().find_map(|(step, extent)| {
            let way = |effect| Way { step: step.clone(), effect, extent: extent.clone() };
            if step.edits.is_empty() {
                let works = self.works_in(self.index(), &step.asked(self.request));
                return works.then(|| Tried::Way(way(Effect::default())));
            }
            let who = self.estate().find_principal(&self.request.who)?;
            let alone = extent.only(vec![who]);
            let here = Extent { places: Places::Below(Vec::new()), ..alone.clone() };
            let after = |extent: &Extent| self.after(&self.part(extent), step);
            // What somebody is decided does not hang on others, nor on what lies elsewhere; but a step
            // may be about what lies there.
            let mut confirmed = after(&here).map(|after| (&here, after));
            if confirmed.is_none() {
                confirmed = after(&alone).map(|after| (&alone, after));
            }
            let (_, (_, estate)) = confirmed.as_ref()?;
            if !self.works_in(estate, &step.asked(self.request)) {
                return None;
            }
            let mut effect = Effect::default();
            let stages = self.stages(extent, &alone, most() < usize::MAX);
            for (i, extent) in stages.iter().enumerate() {
                let part = self.part(extent);
                let known = confirmed.take_if(|(of, _)| *of == extent).map(|(_, after)| after);
                let Some((declared, after)) = known.or_else(|| self.after(&part, step)) else {
                    // A smaller part may lack what the step is about.
                    if i + 1 < stages.len() {
                        continue;
                    }
                    return None;
                };
                effect = self.effect(&part, (&declared, &after), extent, most);
                if effect.size() > most() {
                    effect.is_partial = true;
                    return Some(Tried::Larger(way(effect)));
                }
            }
            Some(Tried::Way(way(effect)))
        })
    }

    /// What is gone through to see what a step does: all that it concerns; where it may be found to do
    /// too much, first less, as what it does there it does in any case.
    fn stages(&self, extent: &Extent, alone: &Extent, is_bound: bool) -> Vec<Extent> {
        let mut stages = Vec::new();
        if is_bound {
            let near = self.near(&extent.places);
            stages
                .extend(near.map(|at| Extent { places: Places::Below(vec![at]), ..alone.clone() }));
            stages.push(alone.clone());
            if self.number(&extent.concerned) > 2 * SAMPLE {
                let people = self.people(&extent.concerned).into_iter();
                stages.push(extent.only(people.take(SAMPLE).collect()));
            }
        }
        stages.push(extent.clone());
        stages
    }

    /// The largest scope around the request's path that has no more than some rows, where all these
    /// places have many more.
    fn near(&self, places: &Places) -> Option<ScopeId> {
        let estate = self.estate();
        let rows = |at: ScopeId| estate.scopes.subtree(at).len();
        let holds = |at: ScopeId| match places {
            Places::Everywhere => true,
            Places::Below(all) => all.iter().any(|one| estate.scopes.holds(*one, at)),
        };
        let around = estate.scopes.nearest(&self.request.on)?;
        let near = estate.scopes.chain(around).filter(|at| rows(*at) <= NEAR).last()?;
        (places.rows(estate) > 2 * NEAR && holds(near)).then_some(near)
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

    /// Pairs to try where no single step does, no more than so many: one that takes away what refuses,
    /// and one that grants; and whether these are all. Of each first step that which grants most
    /// narrowly comes first, and of all first steps the narrowest are looked at.
    #[must_use]
    pub fn pairs(&self, most: usize) -> (Vec<Candidate>, bool) {
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
            let inner = Search {
                declared: &declared,
                engine: &engine,
                request: self.request,
                wanted: self.wanted,
                lookup: OnceLock::new(),
                parts: Mutex::default(),
                numbers: Mutex::default(),
            };
            let mut decider = Decider::new(&engine);
            let mut seconds = inner.grants(&mut decider, &query, &inner.met(&query), false);
            seconds.sort_by_cached_key(|second| inner.breadth(second));
            by_rank.extend(seconds.into_iter().enumerate().map(|(rank, second)| {
                let both = second.alternatives.into_iter();
                let both = both.map(|(other, its)| (step.and(&other), extent.and(&its)));
                (rank, Candidate { alternatives: both.collect() })
            }));
        }
        by_rank.sort_by_key(|(rank, _)| *rank);
        is_complete &= by_rank.len() <= most;
        by_rank.truncate(most);
        (by_rank.into_iter().map(|(_, pair)| pair).collect(), is_complete)
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
    fn part(&self, extent: &Extent) -> Arc<Part> {
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
        let lookup = self.lookup.get_or_init(|| Lookup::new(self.declared, self.estate()));
        Whole { declared: self.declared, engine: self.engine, lookup }
    }

    fn make_part(&self, extent: &Extent) -> Part {
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
    fn after(&self, part: &Part, step: &Step) -> Option<(Declarations, Engine)> {
        let mut declared = part.declared.clone();
        self.add_policies(&mut declared, step);
        let estate = edited(&mut declared, part.engine.estate(), step)?;
        Some((declared, Engine::new(estate)))
    }

    /// What else comes of a step.
    fn effect(
        &self,
        part: &Part,
        after: (&Declarations, &Engine),
        extent: &Extent,
        most: &dyn Fn() -> usize,
    ) -> Effect {
        let mut effect = Effect::default();
        let estate = after.1.estate();
        effect.is_limited = self.compare(part, after, extent, Some(most()), |who, cells| {
            effect.add(0, who, estate, cells.iter().filter(|cell| cell.is_opened()));
            effect.add(1, who, estate, cells.iter().filter(|cell| cell.is_shut()));
            effect.size() <= most()
        });
        for levels in &mut effect.levels {
            levels.sort_unstable();
            levels.dedup();
        }
        effect
    }

    /// How many cells a way opens, and how many it closes, in other circumstances or at a later
    /// moment alone; those that cannot be decided count as both. `None` where it concerns more than
    /// `most` principals times scopes: that would take long.
    #[must_use]
    pub fn elsewhere(&self, way: &Way, most: usize) -> Option<[usize; 2]> {
        if way.step.edits.is_empty() {
            return Some([0, 0]);
        }
        let rows = way.extent.places.rows(self.estate()).max(1);
        if self.number(&way.extent.concerned).saturating_mul(rows) > most {
            return None;
        }
        let part = self.part(&way.extent);
        let (declared, after) = self.after(&part, &way.step)?;
        let mut found = [0, 0];
        self.compare(&part, (&declared, &after), &way.extent, None, |_, cells| {
            found[0] += cells.iter().filter(|cell| cell.is_gained && !cell.is_opened()).count();
            found[1] += cells.iter().filter(|cell| cell.is_lost && !cell.is_shut()).count();
            true
        });
        Some(found)
    }

    /// Compares everybody whom a step concerns, one after the other, until `each` says that it is
    /// enough; whether rows were left out. `most` is how many cells of one principal that turn at
    /// the moment are looked for; `None`: those that turn in any circumstances, all of them.
    fn compare(
        &self,
        part: &Part,
        (declared, after): (&Declarations, &Engine),
        extent: &Extent,
        most: Option<usize>,
        mut each: impl FnMut(&str, &[Cell]) -> bool,
    ) -> bool {
        let same = same_files(&part.declared, declared);
        let differences = differences(part.engine.estate(), after.estate(), &same);
        // What the question supposes of who asks is nothing to others.
        let (take_up, item, also, under) = (None, None, Vec::new(), Vec::new());
        let circumstances = Request { take_up, item, also, under, ..self.request.clone() };
        // They were sound when the question was asked, and no step changes what is declared of them.
        let Ok(comparison) = Comparison::new(&part.engine, after, &differences, circumstances)
        else {
            return true;
        };
        let people: Option<BTreeSet<String>> = match &extent.concerned {
            Concerned::Everybody => None,
            some => Some(self.whole().named(self.people(some))),
        };
        let mut compared = match most {
            Some(most) => comparison.compared_at_the_moment(most),
            None => comparison.compared(),
        };
        for who in comparison.everybody() {
            let counts = people.as_ref().is_none_or(|people| people.contains(&who));
            if !counts {
                continue;
            }
            let cells = match extent.is_path_alone {
                true => compared.cells_at(&who, &self.request.on),
                false => compared.cells_of(&who),
            };
            if !each(&who, &cells) {
                break;
            }
        }
        compared.limited().iter().any(|limited| !limited.is_empty())
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
