//! What of all that is in play at a scope can bear on targets of its type and kind.

use super::finder::{
    Asked, Finder, NOTHING_ABOVE, Said, Sight, asked_of_targets, asks_for_paths, named_segments,
    starts_at_the_root,
};
use crate::catalogue::TargetClass;
use crate::id::{AttributeId, KindId, PolicyId, ScopeId};
use crate::pattern::path::Segment;
use crate::scope::ScopeType;
use crate::truth::Truth;

/// What can bear on the targets of one type and kind, of what is in play at a scope.
#[derive(PartialEq, Eq, Hash)]
pub(super) struct Bearing {
    pub(super) of: (ScopeType, Option<KindId>),
    /// Those that name an action which applies, in order.
    pub(super) statements: Vec<Said>,
    pub(super) ceilings: Vec<(usize, PolicyId, usize)>,
    pub(super) sealed_at: u32,
    pub(super) from_the_root: Vec<ScopeId>,
}

/// What the statements of a [`Bearing`] ask for.
pub(super) struct BearingAsks {
    /// The numbers of the segments in their patterns, in order.
    pub(super) segments: Vec<u32>,
    /// Attributes of targets, in order.
    pub(super) attributes: Vec<AttributeId>,
    /// Those of them that one comparison asks for together, in order.
    pub(super) together: Vec<AttributeId>,
    pub(super) for_paths: bool,
}

/// What tells a class: what can bear on its scopes, the names on the way down by how the segments
/// match them that matter, and what is asked of attributes.
pub(super) type ClassKey = (u32, u32, Vec<(u32, u32, Truth)>, Asked);

impl<'e> Finder<'e> {
    /// Whether a segment that bears on a scope's items matches a name.
    pub(super) fn matters(&mut self, in_play: u32, at: ScopeId, name: &'e str) -> bool {
        let (matched, bearing) = (self.matched(in_play, name), self.bearing(in_play, at));
        let asks = &self.asks[bearing as usize];
        self.matched.get(matched).iter().any(|(segment, _)| asks.names(*segment))
    }

    /// The class of a scope of which this is seen; `None` where it may be like no other.
    pub(super) fn class(&mut self, sight: Sight, id: ScopeId) -> Option<u32> {
        let scope = self.index.estate().scope(id);
        if let Some(known) = self.known.get(&(sight, scope.scope_type, scope.kind)) {
            return *known;
        }
        let bearing = self.bearing(sight.in_play, id);
        let class = (!self.asks[bearing as usize].for_paths).then(|| {
            let names = self.names_that_matter(sight, bearing, scope.depth);
            let key = (bearing, scope.depth, names, self.asked_that_matters(sight, bearing));
            let next = self.classes.len() as u32;
            *self.classes.entry(key).or_insert(next)
        });
        self.known.insert((sight, scope.scope_type, scope.kind), class);
        class
    }

    /// What can bear on targets of a scope's type and kind, of what is in play, as a number.
    fn bearing(&mut self, in_play: u32, id: ScopeId) -> u32 {
        let estate = self.index.estate();
        let scope = estate.scope(id);
        let of = (in_play, scope.scope_type, scope.kind);
        if let Some(known) = self.bearing.get(&of) {
            return *known;
        }
        let there = &self.in_play[in_play as usize];
        let classes = [scope.class(), TargetClass::Item(scope.kind)];
        let applicable = classes.map(|class| estate.catalogue.applicable(class));
        let bears = |said: &&Said| {
            let actions = &estate.statement(said.1.id).actions;
            applicable.iter().any(|applicable| !actions.is_disjoint(applicable))
        };
        let statements: Vec<Said> = there.statements.iter().filter(bears).copied().collect();
        let is_from_the_root =
            statements.iter().any(|(_, said)| starts_at_the_root(estate.statement(said.id)));
        let bearing = Bearing {
            of: (scope.scope_type, scope.kind),
            statements,
            ceilings: there.ceilings.clone(),
            sealed_at: there.sealed_at,
            from_the_root: if is_from_the_root { there.from_the_root.clone() } else { Vec::new() },
        };
        let number = self.bearings.number(bearing);
        if number as usize == self.asks.len() {
            self.asks.push(self.asks_of(self.bearings.get(number)));
        }
        self.bearing.insert(of, number);
        number
    }

    fn asks_of(&self, bearing: &Bearing) -> BearingAsks {
        let mut asks = BearingAsks {
            segments: Vec::new(),
            attributes: Vec::new(),
            together: Vec::new(),
            for_paths: false,
        };
        for said in &bearing.statements {
            let statement = self.index.estate().statement(said.1.id);
            asks.for_paths |= statement.when.as_ref().is_some_and(asks_for_paths);
            for (_, own) in asked_of_targets(statement) {
                if own.len() > 1 {
                    asks.together.extend(&own);
                }
                asks.attributes.extend(own);
            }
            for (place, segment) in named_segments(statement).enumerate() {
                asks.segments.extend(match segment {
                    Segment::Literal(text) => self.literals.get(&**text),
                    _ => self.segments.get(&(*said, place)),
                });
            }
        }
        for attributes in [&mut asks.attributes, &mut asks.together] {
            attributes.sort_unstable();
            attributes.dedup();
        }
        asks.segments.sort_unstable();
        asks.segments.dedup();
        asks
    }

    /// The names on the way down from the account to a scope, by their depths, as far as segments match
    /// them that matter.
    fn names_that_matter(&self, sight: Sight, bearing: u32, depth: u32) -> Vec<(u32, u32, Truth)> {
        let asks = &self.asks[bearing as usize];
        let (mut found, mut depth, mut trail) = (Vec::new(), depth, sight.trail);
        loop {
            let (above, name) = *self.trails.get(trail);
            if above == NOTHING_ABOVE {
                return found;
            }
            let matched = self.matched.get(name).iter().filter(|(at, _)| asks.names(*at));
            found.extend(matched.map(|(segment, truth)| (depth, *segment, *truth)));
            (depth, trail) = (depth - 1, above);
        }
    }

    /// What is asked of attributes, as far as it matters.
    fn asked_that_matters(&self, sight: Sight, bearing: u32) -> Asked {
        let there = &self.in_play[sight.in_play as usize];
        let (asks, bearing) = (&self.asks[bearing as usize], self.bearings.get(bearing));
        let (_, (truths, attributes)) = self.asked.get(sight.asked);
        let comparisons = there.comparisons.iter().zip(truths);
        let truths = comparisons
            .filter(|((said, _), _)| bearing.statements.binary_search(said).is_ok())
            .map(|(_, truth)| *truth);
        let attributes = there.attributes.iter().zip(attributes);
        let attributes = attributes
            .filter(|(attribute, _)| asks.attributes.binary_search(attribute).is_ok())
            .map(|(attribute, (has_value, is_there, value))| {
                let is_compared = asks.together.binary_search(attribute).is_ok();
                (*has_value, *is_there, value.clone().filter(|_| is_compared))
            });
        (truths.collect(), attributes.collect())
    }
}

impl BearingAsks {
    fn names(&self, segment: u32) -> bool {
        self.segments.binary_search(&segment).is_ok()
    }
}
