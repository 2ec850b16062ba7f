//! Requests of a log, each kept once.

use rustc_hash::FxHashSet;

use crate::condition::ast::Operator;
use crate::condition::{ConditionStep, Precomputed, Reference, Term};
use crate::engine::Index;
use crate::estate::Estate;
use crate::id::{ActionId, AttributeId, GroupId, PolicyId, RoleId};
use crate::principal::{Membership, Principal};
use crate::request::{Given, Query, resolve_target};
use crate::time::{Time, Window};

/// A request, owned; it means the same in every estate that has the same principals, scopes, actions
/// and policies, and the same numbers for attributes.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Logged {
    pub(crate) who: Principal,
    pub(crate) action: ActionId,
    pub(crate) path: Box<str>,
    take_up: Option<RoleId>,
    also: Box<[GroupId]>,
    under: Box<[PolicyId]>,
    given: Box<[(AttributeId, Given)]>,
    item: Box<[(AttributeId, Given)]>,
    time: Time,
}

impl Logged {
    fn of(query: &Query<'_>, time: Time) -> Self {
        Self {
            who: query.who,
            action: query.action,
            path: query.target.path.into(),
            take_up: query.take_up,
            also: query.also.as_slice().into(),
            under: query.under.as_slice().into(),
            given: query.given.as_slice().into(),
            item: query.item.as_slice().into(),
            time,
        }
    }

    /// As an estate is asked; `None` where it has no such target.
    pub(crate) fn query(&self, estate: &Estate) -> Option<Query<'_>> {
        Some(Query {
            who: self.who,
            action: self.action,
            target: resolve_target(estate, &self.path).ok()?,
            take_up: self.take_up,
            also: self.also.to_vec(),
            under: self.under.to_vec(),
            given: self.given.to_vec(),
            item: self.item.to_vec(),
            item_is_open: false,
            time: self.time,
        })
    }
}

/// When requests are asked, as far as it matters: moments between which no window opens or ends and no
/// condition turns are one.
#[derive(Clone, Debug)]
struct Stretches {
    /// In order; `None` where conditions hold the moment against what is no literal.
    bounds: Option<Vec<Time>>,
}

impl Stretches {
    fn of(estate: &Estate) -> Self {
        let mut bounds = Vec::new();
        let mut window =
            |window: Window| bounds.extend(window.from.into_iter().chain(window.until));
        let mut list = |all: &[Membership]| all.iter().for_each(|one| window(one.window));
        for group in &estate.groups {
            list(group.members.as_deref().unwrap_or_default());
        }
        for role in &estate.roles {
            list(&role.held_by);
            list(&role.taken_by);
        }
        estate.attachments.iter().for_each(|one| window(one.window));
        estate.ceilings.iter().for_each(|one| window(one.window));
        for when in estate.statements.iter().filter_map(|one| one.when.as_ref()) {
            for step in &when.program.steps {
                let is_time =
                    |term: Term| term.attribute().is_some_and(|one| one == Reference::Time);
                let literal = match *step {
                    ConditionStep::Compare(Term::Literal(place), operator, term)
                    | ConditionStep::Compare(term, operator, Term::Literal(place)) => {
                        (is_time(term)).then_some((place, operator))
                    }
                    ConditionStep::Compare(one, _, other) if is_time(one) || is_time(other) => {
                        return Self { bounds: None };
                    }
                    ConditionStep::Bare(Reference::Time) => return Self { bounds: None },
                    _ => None,
                };
                let Some((place, operator)) = literal else { continue };
                let is_plain = operator.is_ordering()
                    || matches!(operator, Operator::Equal | Operator::NotEqual);
                match (&when.program.literal(place).precomputed, is_plain) {
                    (Precomputed::Moment(time), true) => bounds.push(*time),
                    _ => match (&when.program.literal(place).value, is_plain) {
                        (crate::attribute::Value::Time(time), true) => bounds.push(*time),
                        _ => return Self { bounds: None },
                    },
                }
            }
        }
        bounds.sort_unstable();
        bounds.dedup();
        Self { bounds: Some(bounds) }
    }

    /// One moment for all of a stretch.
    fn moment(&self, at: Time) -> Time {
        let Some(bounds) = &self.bounds else { return at };
        match bounds.binary_search(&at) {
            Ok(_) => at,
            // Right after the bound before it, or before the first.
            Err(0) => bounds.first().map_or(Time(0), |first| Time(first.0 - 1)),
            Err(after) => Time(bounds[after - 1].0 + 1),
        }
    }
}

/// What a log asks for, each once: requests that differ only in when, and where that does not matter,
/// are one.
#[derive(Clone, Debug)]
pub struct Log {
    stretches: Stretches,
    seen: FxHashSet<Logged>,
    requests: u64,
}

impl Log {
    /// An empty one for an estate.
    #[must_use]
    pub fn new(index: &Index) -> Self {
        Self { stretches: Stretches::of(index.estate()), seen: FxHashSet::default(), requests: 0 }
    }

    /// One more request.
    pub fn add(&mut self, query: &Query<'_>) {
        self.requests += 1;
        let time = self.stretches.moment(query.time);
        self.seen.insert(Logged::of(query, time));
    }

    /// What another log of the same estate holds.
    pub fn merge(&mut self, other: Self) {
        self.requests += other.requests;
        self.seen.extend(other.seen);
    }

    /// How many requests there were.
    #[must_use]
    pub fn requests(&self) -> u64 {
        self.requests
    }

    pub(crate) fn each(&self) -> impl Iterator<Item = &Logged> {
        self.seen.iter()
    }
}
