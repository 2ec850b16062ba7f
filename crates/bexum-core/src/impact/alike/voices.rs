//! What a policy says in some sense about the actions that count, and what it asks.

use std::ops::Range;
use std::sync::OnceLock;

use super::numbers::AskedOfTarget;
use crate::catalogue::ActionSet;
use crate::condition::Reference;
use crate::condition::check::{TargetAttribute, WhoAttribute};
use crate::estate::Estate;
use crate::id::{AttributeId, PolicyId, StatementId};
use crate::impact::sessions::ActionsIn;
use crate::pattern::path::Segment;

/// In what sense a policy counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sense {
    Allows,
    Denies,
    Bounds,
}

/// The actions that count in a part, and what the policies have to say about them.
pub(in crate::impact) struct Concern {
    pub(in crate::impact) number: u32,
    /// In each estate; `None`: any.
    pub(super) actions: [Option<ActionSet>; 2],
    /// What each policy of each estate says, once it was asked.
    pub(super) says: [Vec<OnceLock<Box<Says>>>; 2],
    /// The places at which one of the actions may apply: to the scope, its items, or what is placed
    /// there.
    pub(in crate::impact) places: Vec<u32>,
}

/// What a policy says in each sense; `None` where it has no say.
pub(super) struct Says(pub(super) [Option<Voice>; 3]);

pub(super) struct Voice {
    /// Two voices of one estate with the same number say the same.
    pub(super) number: u32,
    /// What it asks about who asks.
    pub(super) asks: Asks,
    /// What it asks about who asks at places below names that no pattern could tell from another.
    pub(super) asks_below: Asks,
    /// What its braces ask about who asks.
    pub(super) in_braces: Vec<WhoAttribute>,
    /// All of who asks that any of it asks about.
    pub(super) of_who: Vec<WhoAttribute>,
    /// What it asks about the target.
    pub(super) of_target: AskedOfTarget,
    /// Comparisons of who asks with what the target bears, or of that alone.
    pub(super) with_target: WithTarget,
    /// Which part of it counts at places below names that no pattern could tell from another.
    pub(super) below: VoiceBelow,
}

/// Comparisons that ask about nothing but who asks and what the target bears: what they come to at a
/// place counts, and not what is compared.
#[derive(Clone, Default)]
pub(super) struct WithTarget {
    /// Whose conditions, and which part of each.
    pub(super) parts: Vec<(StatementId, usize)>,
    pub(super) of_who: Vec<WhoAttribute>,
    pub(super) of_target: Vec<AttributeId>,
}

/// What is asked about who asks.
#[derive(Clone, Default)]
pub(super) struct Asks {
    /// Comparisons that ask about nothing else: whose conditions, and which part of each.
    pub(super) parts: Vec<(StatementId, usize)>,
    /// Attributes that are held against something else.
    pub(super) attributes: Vec<WhoAttribute>,
}

/// What of what a policy says counts below names that no pattern could tell from another.
pub(super) enum VoiceBelow {
    /// All of it: it names one of the actions, or bounds.
    All,
    /// It only tells items apart, and its patterns end at such a name.
    Nothing,
    /// It only tells items apart, by patterns that are the same wherever they start.
    Anywhere {
        /// A number for these patterns.
        number: u32,
        /// What they ask about who asks.
        asks: Asks,
    },
    /// It only tells items apart, by patterns that hang on how many names they have passed.
    ByDepth,
}

impl Concern {
    pub(in crate::impact) fn actions(&self) -> ActionsIn<'_> {
        self.actions.each_ref().map(Option::as_ref)
    }

    /// The places of this concern that lie in a range.
    pub(in crate::impact) fn places_in(&self, range: Range<u32>) -> &[u32] {
        let from = self.places.partition_point(|place| *place < range.start);
        let until = self.places.partition_point(|place| *place < range.end);
        &self.places[from..until]
    }
}

/// All that policies of these names allow or deny in either estate, as one of them numbers it.
pub(super) fn actions_of(estates: [&Estate; 2], policies: &[Box<str>], of: &Estate) -> ActionSet {
    let mut set = ActionSet::with_capacity(of.catalogue.actions.len());
    for estate in estates {
        let found = policies.iter().filter_map(|name| estate.find_policy(name));
        for policy in found.map(|id| estate.policy(id)) {
            let named = policy.allowed_actions.ones().chain(policy.denied_actions.ones());
            let name = |i: usize| &estate.catalogue.actions[i].name;
            set.extend(
                named.filter_map(|i| of.catalogue.find_action(name(i))).map(|id| id.index()),
            );
        }
    }
    set
}

/// What a policy says in a sense about some actions, or any.
pub(super) fn voice(
    (estate_number, estate): (usize, &Estate),
    id: PolicyId,
    sense: Sense,
    wanted: Option<&ActionSet>,
    number_of: &mut dyn FnMut(Vec<Box<str>>) -> u32,
) -> Option<Voice> {
    let policy = estate.policy(id);
    let statements: Vec<&StatementId> = match sense {
        Sense::Allows => policy.allows.iter().collect(),
        Sense::Denies => policy.denies.iter().collect(),
        Sense::Bounds => policy.allows.iter().chain(&policy.denies).collect(),
    };
    let is_about = |id: &&&StatementId| {
        let actions = &estate.statement(***id).actions;
        wanted.is_none_or(|wanted| !actions.is_disjoint(wanted))
    };
    let about: Vec<&StatementId> = statements.iter().filter(is_about).copied().collect();
    let (mut asks, mut asks_below) = (Asks::default(), Asks::default());
    let mut of_target = AskedOfTarget::default();
    let mut with_target = WithTarget::default();
    let (mut patterns, mut in_braces): (Vec<Box<str>>, Vec<WhoAttribute>) = Default::default();
    // Those that are the same wherever they start.
    let (mut anywhere, mut asks_anywhere): (Vec<Box<str>>, Asks) = Default::default();
    let mut by_depth = false;
    let mut all_of_who: Vec<WhoAttribute> = Vec::new();
    for id in &statements {
        let on = &estate.statement(**id).on;
        for pattern in on.plain.iter().chain(&on.excluded) {
            if pattern.segments.iter().any(|segment| !matches!(segment, Segment::Rest)) {
                patterns.push(pattern.text.clone());
                let asked = pattern.braces().filter_map(|brace| of_who(brace.attribute));
                let asked: Vec<WhoAttribute> = asked.collect();
                asks.attributes.extend(&asked);
                in_braces.extend(&asked);
                all_of_who.extend(&asked);
                // A star for one name passes as many names as it meets.
                let passes = pattern.segments.iter().any(|one| matches!(one, Segment::Any));
                let is_anywhere = matches!(pattern.segments.first(), Some(Segment::Rest));
                let is_by_depth = pattern.absolute
                    || matches!(pattern.segments.first(), Some(Segment::Any))
                    || is_anywhere && passes;
                by_depth |= is_by_depth;
                // Where it begins with something else, such a name is no match.
                if is_anywhere || is_by_depth {
                    asks_below.attributes.extend(&asked);
                }
                if is_anywhere {
                    anywhere.push(pattern.text.clone());
                    asks_anywhere.attributes.extend(&asked);
                }
                for brace in pattern.braces() {
                    let asked = of_who(brace.attribute);
                    of_target.names_of_who |= asked.is_some();
                    of_target.names |= asked.is_none();
                }
            }
        }
    }
    // A ceiling bounds what it says nothing about.
    let mut below = VoiceBelow::All;
    let number = match about.is_empty() && sense != Sense::Bounds {
        false => {
            for id in &about {
                let Some(when) = &estate.statement(**id).when else { continue };
                for part in when.leaves() {
                    let asked: Vec<Reference> = when.leaf_references(part).collect();
                    let of_who: Vec<WhoAttribute> =
                        asked.iter().filter_map(|reference| of_who(*reference)).collect();
                    all_of_who.extend(&of_who);
                    let borne: Vec<AttributeId> =
                        asked.iter().filter_map(|reference| borne(*reference)).collect();
                    if !borne.is_empty() && of_who.len() + borne.len() == asked.len() {
                        with_target.parts.push((**id, part));
                        with_target.of_who.extend(of_who);
                        with_target.of_target.extend(borne);
                        continue;
                    }
                    asked.iter().for_each(|one| of_target.ask(estate_number, *one));
                    for asks in [&mut asks, &mut asks_below] {
                        match of_who.len() == asked.len() {
                            true => asks.parts.push((**id, part)),
                            false => asks.attributes.extend(&of_who),
                        }
                    }
                }
            }
            id.0 << 1
        }
        true if patterns.is_empty() => return None,
        true => {
            below = match anywhere.is_empty() {
                _ if by_depth => VoiceBelow::ByDepth,
                true => VoiceBelow::Nothing,
                false => VoiceBelow::Anywhere {
                    number: number_of(once(anywhere)),
                    asks: asks_anywhere.once(),
                },
            };
            number_of(once(patterns)) << 1 | 1
        }
    };
    of_target.attributes = once(of_target.attributes);
    let with_target = WithTarget {
        parts: once(with_target.parts),
        of_who: once(with_target.of_who),
        of_target: once(with_target.of_target),
    };
    let (asks, asks_below) = (asks.once(), asks_below.once());
    let (in_braces, of_who) = (once(in_braces), once(all_of_who));
    Some(Voice { number, asks, asks_below, in_braces, of_who, of_target, with_target, below })
}

impl Asks {
    fn once(self) -> Self {
        Self { parts: once(self.parts), attributes: once(self.attributes) }
    }
}

/// Each once, in order.
pub(super) fn once<T: Ord>(mut all: Vec<T>) -> Vec<T> {
    all.sort_unstable();
    all.dedup();
    all
}

pub(in crate::impact) fn of_who(reference: Reference) -> Option<WhoAttribute> {
    match reference {
        Reference::Who(attribute) => Some(attribute),
        Reference::Target(_) | Reference::Given(_) | Reference::Time => None,
    }
}

/// The attribute, if it is one that a target bears.
pub(super) fn borne(reference: Reference) -> Option<AttributeId> {
    match reference {
        Reference::Target(TargetAttribute::Own(id)) => Some(id),
        Reference::Target(_) | Reference::Who(_) | Reference::Given(_) | Reference::Time => None,
    }
}
