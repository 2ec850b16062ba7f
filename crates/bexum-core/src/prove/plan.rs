//! Which targets and which principals a law is about, found once for all principals.

use std::ops::Range;

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashSet;

use crate::catalogue::{ActionSet, TargetClass};
use crate::condition::Reference;
use crate::engine::Closure;
use crate::estate::Estate;
use crate::expectation::Law;
use crate::id::ScopeId;
use crate::pattern::matching::Braces;
use crate::pattern::path::{Brace, PathPattern, Segment};
use crate::pattern::residual::Below;
use crate::principal::{Principal, Subject};
use crate::request::TargetPlace;
use crate::truth::Truth;

/// A user, group, role or policy that is a target.
#[derive(Debug)]
pub(super) struct Placed<'e> {
    pub(super) place: TargetPlace,
    pub(super) path: &'e str,
}

/// Every identity that is a target, by place and path.
pub(super) fn identities(estate: &Estate) -> Vec<Placed<'_>> {
    let mut found: Vec<Placed<'_>> =
        estate.identities_at.iter().map(|(path, place)| Placed { place: *place, path }).collect();
    found.sort_unstable_by_key(|at| (at.place.scope(), at.path));
    found
}

/// A law and the targets that its `on` may lead to, whatever its braces stand for.
#[derive(Debug)]
pub(super) struct Plan<'e> {
    pub(super) law: &'e Law,
    /// Parts of the tree outside of which there is no target, in order and apart.
    pub(super) ranges: Vec<Range<usize>>,
    /// Scopes that may be targets themselves, and to which an action of the law applies.
    pub(super) scopes: FixedBitSet,
    /// Scopes whose items may be.
    pub(super) items: FixedBitSet,
    /// Identities that may be, by their place in the list of [`identities`].
    pub(super) identities: FixedBitSet,
    /// The actions of the law that apply to any of these.
    pub(super) actions: ActionSet,
}

impl<'e> Plan<'e> {
    pub(super) fn new(estate: &'e Estate, law: &'e Law, placed: &[Placed<'e>]) -> Self {
        let ranges = ranges(estate, law);
        let mut plan = Self {
            scopes: FixedBitSet::with_capacity(estate.scopes.len()),
            items: FixedBitSet::with_capacity(estate.scopes.len()),
            identities: FixedBitSet::with_capacity(placed.len()),
            actions: ActionSet::with_capacity(estate.catalogue.actions.len()),
            law,
            ranges,
        };
        for i in plan.ranges.clone().into_iter().flatten() {
            plan.look_at(estate, ScopeId::new(i));
        }
        for range in plan.ranges.clone() {
            let first = placed.partition_point(|at| at.place.scope().index() < range.start);
            let inside =
                placed[first..].iter().take_while(|at| at.place.scope().index() < range.end);
            for (i, at) in inside.enumerate() {
                let class = at.place.class(estate);
                if plan.may_match(at.path) && plan.counts(estate, class) {
                    plan.identities.insert(first + i);
                }
            }
        }
        plan
    }

    fn look_at(&mut self, estate: &Estate, id: ScopeId) {
        let scope = estate.scope(id);
        if self.may_match(&scope.path) && self.counts(estate, scope.class()) {
            self.scopes.insert(id.index());
        }
        let class = TargetClass::Item(scope.kind);
        if scope.holds_items() && self.may_lead_below(&scope.path) && self.counts(estate, class) {
            self.items.insert(id.index());
        }
    }

    /// Whether an action of the law applies to such targets; then they are counted.
    fn counts(&mut self, estate: &Estate, class: TargetClass) -> bool {
        let applicable = estate.catalogue.applicable(class);
        let some = !applicable.is_disjoint(&self.law.actions);
        if some {
            let mut both = applicable.clone();
            both.intersect_with(&self.law.actions);
            self.actions.union_with(&both);
        }
        some
    }

    fn may_match(&self, path: &str) -> bool {
        let segments: Vec<&str> = path.split('/').collect();
        self.law.on.matches(&segments, 0, &Anything) != Truth::False
    }

    fn may_lead_below(&self, path: &str) -> bool {
        let segments: Vec<&str> = path.split('/').collect();
        let below = |pattern: &PathPattern| pattern.below(&segments, 0, &Anything);
        let out = |pattern: &PathPattern| pattern.braces().next().is_none();
        self.law.on.plain.iter().any(|pattern| below(pattern) != Below::Nothing)
            && !self.law.on.excluded.iter().any(|p| out(p) && below(p) == Below::All)
    }

    /// How many targets there are; the items of a scope count as one.
    pub(super) fn targets(&self) -> usize {
        self.scopes.count_ones(..) + self.items.count_ones(..) + self.identities.count_ones(..)
    }

    /// Whether the law is about whom the closure belongs to, while it is as it is.
    pub(super) fn concerns(&self, closure: &Closure<'_>) -> bool {
        let among = |list: &[Subject]| {
            list.iter().any(|subject| match subject {
                Subject::Everyone => is_somebody(closure.principal),
                Subject::One(Principal::Group(group)) => {
                    is_somebody(closure.principal) && closure.groups.binary_search(group).is_ok()
                }
                Subject::One(one) => *one == closure.principal,
            })
        };
        among(&self.law.who) && !among(&self.law.except)
    }
}

/// Users and workloads; groups and roles are nobody in particular.
fn is_somebody(who: Principal) -> bool {
    matches!(who, Principal::User(_) | Principal::Workload(_))
}

/// Everybody whom any of these laws may be about, at any time: users and workloads before roles,
/// each by id.
pub(super) fn concerned<'l>(
    estate: &Estate,
    laws: impl Iterator<Item = &'l Law>,
) -> Vec<Principal> {
    let mut found: FxHashSet<Principal> = FxHashSet::default();
    let mut groups = FxHashSet::default();
    let mut waiting = Vec::new();
    for subject in laws.flat_map(|law| &law.who) {
        match subject {
            Subject::Everyone => {
                found.extend(estate.principals().filter(|who| is_somebody(*who)));
            }
            Subject::One(Principal::Group(group)) => waiting.push(*group),
            Subject::One(one) => {
                found.insert(*one);
            }
        }
    }
    while let Some(group) = waiting.pop() {
        if !groups.insert(group) {
            continue;
        }
        let body = estate.group(group);
        found.extend(body.matching.iter().map(|user| Principal::User(*user)));
        for member in body.members.iter().flatten() {
            match member.who {
                Principal::Group(inner) => waiting.push(inner),
                somebody => {
                    found.insert(somebody);
                }
            }
        }
    }
    let mut found: Vec<Principal> = found.into_iter().collect();
    found.sort_unstable_by_key(|who| (!is_somebody(*who), *who));
    found
}

/// The parts of the tree that the plain patterns of a law lead into.
fn ranges(estate: &Estate, law: &Law) -> Vec<Range<usize>> {
    let mut ranges: Vec<Range<usize>> =
        law.on.plain.iter().filter_map(|pattern| range(estate, pattern)).collect();
    ranges.sort_unstable_by_key(|range| (range.start, std::cmp::Reverse(range.end)));
    // Subtrees lie within each other or apart.
    ranges.dedup_by(|inner, outer| inner.start < outer.end);
    ranges
}

fn range(estate: &Estate, pattern: &PathPattern) -> Option<Range<usize>> {
    let literal: Vec<&str> = pattern
        .segments
        .iter()
        .map_while(|segment| match segment {
            Segment::Literal(name) => Some(&**name),
            _ => None,
        })
        .collect();
    if literal.is_empty() {
        return Some(0..estate.scopes.len());
    }
    let path = literal.join("/");
    if let Some(scope) = estate.scopes.find(&path) {
        return Some(estate.scopes.subtree(scope));
    }
    // Below what is declared there are only items and identities.
    let scope = estate.scopes.nearest(&path)?;
    Some(scope.index()..scope.index() + 1)
}

/// Braces of which nothing is known.
struct Anything;

impl Braces<Reference> for Anything {
    fn alternatives(&self, _: &Brace<Reference>, each: &mut dyn FnMut(Option<&str>)) {
        each(None);
    }
}
