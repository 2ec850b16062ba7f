//! What some sessions see of the scopes of an account, one after the other down the tree.

use std::hash::Hash;
use std::rc::Rc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::bearing::{Bearing, BearingAsks, ClassKey};
use super::nowhere;
use crate::attribute::Value;
use crate::condition::check::TargetAttribute;
use crate::condition::{Condition, Reference};
use crate::engine::{Decider, EvalContext, Index, Session, StatementInPlay};
use crate::id::{AttributeId, KindId, PolicyId, ScopeId, StatementId};
use crate::pattern::matching::matches_segment;
use crate::pattern::path::Segment;
use crate::policy::{Effect, Statement};
use crate::reach::Viewpoint;
use crate::request::{Query, Target, TargetPlace};
use crate::scope::ScopeType;
use crate::truth::Truth;

/// What the sessions see of a scope; scopes for which it is the same are alike to them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) struct Sight {
    /// What is in play, by its number.
    pub(super) in_play: u32,
    /// The names on the way down from the account, by how patterns match them.
    pub(super) trail: u32,
    /// What is asked of the attributes of targets, and what that comes to.
    pub(super) asked: u32,
}

/// A statement in play for one of the sessions, which is told by its number.
pub(super) type Said = (usize, StatementInPlay);

/// What is in play for the sessions at a scope and wherever nothing more comes to it.
pub(super) struct InPlay<'e> {
    /// In order.
    pub(super) statements: Vec<Said>,
    /// The ceilings that bind a session: whose, by which policy, and where its patterns start.
    pub(super) ceilings: Vec<(usize, PolicyId, usize)>,
    /// How deep the lowest seal stands; 0 where there is none.
    pub(super) sealed_at: u32,
    /// The scopes at which something has come into play that has patterns which start at the root.
    pub(super) from_the_root: Vec<ScopeId>,
    /// Attributes of targets that conditions ask for.
    pub(super) attributes: Vec<AttributeId>,
    /// The comparisons that ask for them: of which statement, and which part of its condition.
    pub(super) comparisons: Vec<(Said, usize)>,
    /// The names in patterns, each with a number that is the same for the same name everywhere.
    pub(super) literals: FxHashMap<&'e str, u32>,
    /// Segments with stars or braces, each with such a number, too.
    pub(super) mixed: Vec<(u32, Said, &'e Segment<Reference>)>,
    /// What has been found out about a name: by which segments it is matched, as a number.
    pub(super) names: FxHashMap<&'e str, u32>,
}

/// Something that comes into play at a scope: for which session, by which policy, and a number for
/// whether it grants, refuses or bounds.
pub(super) type Coming = (usize, PolicyId, u32);
/// The segments that match a name, and how surely.
pub(super) type Matched = Vec<(u32, Truth)>;
/// The values of attributes that are asked for, and whether each is there at all.
pub(super) type Borne = Vec<(Option<Value>, bool)>;
/// What each comparison comes to, if it asks for one attribute alone; and, of each attribute, whether
/// it has a value and whether it is there, with the value itself where a comparison asks for two.
pub(super) type Asked = (Vec<Option<Truth>>, Vec<(bool, bool, Option<Value>)>);

/// Values, each with a number, and the other way round.
pub(super) struct Kept<T> {
    pub(super) all: Vec<Rc<T>>,
    pub(super) numbers: FxHashMap<Rc<T>, u32>,
}

impl<T: Eq + Hash> Kept<T> {
    pub(super) fn new() -> Self {
        Self { all: Vec::new(), numbers: FxHashMap::default() }
    }

    pub(super) fn number(&mut self, value: T) -> u32 {
        if let Some(known) = self.numbers.get(&value) {
            return *known;
        }
        let (value, number) = (Rc::new(value), self.all.len() as u32);
        self.all.push(Rc::clone(&value));
        self.numbers.insert(value, number);
        number
    }

    pub(super) fn get(&self, number: u32) -> &T {
        &self.all[number as usize]
    }
}

/// Stands for the trail above an account.
pub(super) const NOTHING_ABOVE: u32 = u32::MAX;

pub(super) struct Finder<'e> {
    pub(super) index: &'e Index,
    pub(super) decider: Decider<'e>,
    pub(super) sessions: Vec<(Query<'static>, Session<'e>)>,
    /// The policies that have a pattern which starts at the root of all paths.
    pub(super) from_the_root: FxHashSet<PolicyId>,
    pub(super) in_play: Vec<InPlay<'e>>,
    /// The numbers of what is in play, by what it is at the parent, the trail, and what comes to it.
    pub(super) numbers: FxHashMap<(u32, u32, Vec<Coming>), u32>,
    /// The numbers of names in patterns, and of other segments by their places in a statement.
    pub(super) literals: FxHashMap<&'e str, u32>,
    pub(super) segments: FxHashMap<(Said, usize), u32>,
    pub(super) matched: Kept<Matched>,
    /// Of each trail, the one above it and the number of the last name's [`Matched`].
    pub(super) trails: Kept<(u32, u32)>,
    pub(super) borne: FxHashMap<(u32, Borne), u32>,
    pub(super) asked: Kept<(u32, Asked)>,
    pub(super) bearings: Kept<Bearing>,
    pub(super) asks: Vec<BearingAsks>,
    /// The numbers of bearings, by what is in play, and the type and kind of a scope.
    pub(super) bearing: FxHashMap<(u32, ScopeType, Option<KindId>), u32>,
    pub(super) classes: FxHashMap<ClassKey, u32>,
    pub(super) known: FxHashMap<(Sight, ScopeType, Option<KindId>), Option<u32>>,
}

impl<'e> Finder<'e> {
    pub(super) fn new(index: &'e Index, sessions: &[Viewpoint]) -> Self {
        let mut decider = Decider::new(index);
        let sessions = sessions.iter().map(|one| {
            let query = nowhere(one);
            let session = decider.session(&query);
            (query, session)
        });
        let sessions = sessions.collect();
        let estate = index.estate();
        let starts_there = |id: &StatementId| starts_at_the_root(estate.statement(*id));
        let from_the_root = (0..estate.policies.len()).map(PolicyId::new).filter(|id| {
            let policy = estate.policy(*id);
            policy.allows.iter().chain(&policy.denies).any(starts_there)
        });
        Self {
            index,
            decider,
            sessions,
            from_the_root: from_the_root.collect(),
            in_play: Vec::new(),
            numbers: FxHashMap::default(),
            literals: FxHashMap::default(),
            segments: FxHashMap::default(),
            matched: Kept::new(),
            trails: Kept::new(),
            borne: FxHashMap::default(),
            asked: Kept::new(),
            bearings: Kept::new(),
            asks: Vec::new(),
            bearing: FxHashMap::default(),
            classes: FxHashMap::default(),
            known: FxHashMap::default(),
        }
    }

    pub(super) fn sight(&mut self, id: ScopeId, above: Option<Sight>) -> Sight {
        let Some(above) = above else {
            // Of two accounts nothing is shared.
            let in_play = self.add_in_play(id, None);
            let trail = self.trails.number((NOTHING_ABOVE, in_play));
            return Sight { in_play, trail, asked: self.asked(in_play, id) };
        };
        let name = self.matched(above.in_play, self.index.estate().scope(id).name());
        let trail = self.trails.number((above.trail, name));
        let coming = self.coming(id);
        if coming.is_empty() {
            let own = &self.index.estate().scope(id).attributes;
            let wanted = &self.in_play[above.in_play as usize].attributes;
            let bears_some = wanted.iter().any(|attribute| own.has(*attribute));
            let asked = if bears_some { self.asked(above.in_play, id) } else { above.asked };
            return Sight { in_play: above.in_play, trail, asked };
        }
        let key = (above.in_play, trail, coming);
        let in_play = match self.numbers.get(&key) {
            Some(known) => *known,
            None => {
                let new = self.add_in_play(id, Some(above.in_play));
                self.numbers.insert(key, new);
                new
            }
        };
        Sight { in_play, trail, asked: self.asked(in_play, id) }
    }

    /// What is attached at exactly this scope, or over it, for the sessions; a seal stands for
    /// itself.
    fn coming(&self, id: ScopeId) -> Vec<Coming> {
        let (estate, scope_index) = (self.index.estate(), &self.index.scope_index);
        let mut found: Vec<Coming> = Vec::new();
        found.extend(estate.scope(id).sealed.then_some((usize::MAX, PolicyId::new(0), u32::MAX)));
        for (i, (query, session)) in self.sessions.iter().enumerate() {
            for (effect, sort) in [(Effect::Allow, 0), (Effect::Deny, 1)] {
                scope_index.attached_at(id).each_sought(session.subjects_of(effect), |entry| {
                    if estate.attachments[entry.origin as usize].window.holds(query.time) {
                        found.push((i, entry.policy, sort));
                    }
                    false
                });
            }
            scope_index.each_ceiling(Some(id), session.subjects(), |entry| {
                if estate.ceilings[entry.origin as usize].window.holds(query.time) {
                    found.push((i, entry.policy, 2));
                }
                false
            });
        }
        found.sort_unstable();
        found.dedup();
        // Patterns that start at the root ask for names further up, which no trail has followed for
        // them: such a scope is like no other.
        let is_own = self.has_from_the_root(&found);
        found.extend(is_own.then_some((usize::MAX, PolicyId::new(0), id.0)));
        found
    }

    fn has_from_the_root(&self, coming: &[Coming]) -> bool {
        coming.iter().any(|(_, policy, _)| self.from_the_root.contains(policy))
    }

    /// Adds what is in play at a scope, and says its number.
    fn add_in_play(&mut self, id: ScopeId, above: Option<u32>) -> u32 {
        let (estate, scope_index) = (self.index.estate(), &self.index.scope_index);
        let seals = scope_index.chain(id).filter(|(.., is_sealed)| *is_sealed);
        let above = above.map(|above| &self.in_play[above as usize].from_the_root);
        let mut found = InPlay {
            statements: Vec::new(),
            ceilings: Vec::new(),
            sealed_at: seals.map(|(at, ..)| estate.scope(at).depth).max().unwrap_or(0),
            from_the_root: above.cloned().unwrap_or_default(),
            attributes: Vec::new(),
            comparisons: Vec::new(),
            literals: FxHashMap::default(),
            mixed: Vec::new(),
            names: FxHashMap::default(),
        };
        found.from_the_root.extend(self.has_from_the_root(&self.coming(id)).then_some(id));
        for (i, (query, session)) in self.sessions.iter().enumerate() {
            let target = Target { place: TargetPlace::Scope(id), ..query.target.clone() };
            let query = Query { target, ..query.clone() };
            let statements = self.decider.statements_in_play(session, &query);
            found.statements.extend(statements.into_iter().map(|said| (i, said)));
            let overs = scope_index.chain(id).map(|(at, anchor, _)| (Some(at), anchor));
            for (over, anchor) in std::iter::once((None, 0)).chain(overs) {
                scope_index.each_ceiling(over, session.subjects(), |entry| {
                    if estate.ceilings[entry.origin as usize].window.holds(query.time) {
                        found.ceilings.push((i, entry.policy, anchor));
                    }
                    false
                });
            }
        }
        found.ceilings.sort_unstable();
        found.ceilings.dedup();
        for at in 0..found.statements.len() {
            self.add_statement(found.statements[at], &mut found);
        }
        found.attributes.sort_unstable();
        found.attributes.dedup();
        self.in_play.push(found);
        self.in_play.len() as u32 - 1
    }

    fn add_statement(&mut self, said: Said, found: &mut InPlay<'e>) {
        let statement = self.index.estate().statement(said.1.id);
        for (part, own) in asked_of_targets(statement) {
            found.attributes.extend(own);
            found.comparisons.push((said, part));
        }
        for (place, segment) in named_segments(statement).enumerate() {
            match segment {
                Segment::Literal(text) => {
                    let next = (self.literals.len() + self.segments.len()) as u32;
                    let number = *self.literals.entry(text).or_insert(next);
                    found.literals.insert(text, number);
                }
                Segment::Mixed(_) => {
                    let next = (self.literals.len() + self.segments.len()) as u32;
                    let number = *self.segments.entry((said, place)).or_insert(next);
                    found.mixed.push((number, said, segment));
                }
                Segment::Any | Segment::Rest => {}
            }
        }
    }

    /// By which segments of the patterns in play a name is matched, as a number; those that match
    /// every name are left out.
    pub(super) fn matched(&mut self, in_play: u32, name: &'e str) -> u32 {
        let there = &self.in_play[in_play as usize];
        if let Some(known) = there.names.get(name) {
            return *known;
        }
        let mut matched: Matched = Vec::new();
        matched.extend(there.literals.get(name).map(|literal| (*literal, Truth::True)));
        for (number, said, segment) in &there.mixed {
            let truth =
                matches_segment(segment, name, &self.context(*said, &self.sessions[said.0].0));
            if truth != Truth::False {
                matched.push((*number, truth));
            }
        }
        matched.sort_unstable_by_key(|(number, _)| *number);
        let number = self.matched.number(matched);
        self.in_play[in_play as usize].names.insert(name, number);
        number
    }

    fn context<'s>(&'s self, (session, said): Said, query: &'s Query<'s>) -> EvalContext<'s> {
        let (_, session) = &self.sessions[session];
        EvalContext {
            index: self.index,
            query,
            closure: &session.closure,
            roles: Some(session.roles_of(said.sees)),
        }
    }

    /// What is asked of the attributes of a scope and comes to, as a number.
    fn asked(&mut self, in_play: u32, id: ScopeId) -> u32 {
        let estate = self.index.estate();
        let there = &self.in_play[in_play as usize];
        let borne = there.attributes.iter().map(|attribute| {
            let chain = || estate.scopes.chain(id).map(|at| &estate.scope(at).attributes);
            let value = chain().find_map(|attributes| attributes.value(*attribute));
            (value.cloned(), chain().any(|attributes| attributes.has(*attribute)))
        });
        let key = (in_play, borne.collect::<Borne>());
        if let Some(known) = self.borne.get(&key) {
            return *known;
        }
        let mut attributes: Vec<_> =
            key.1.iter().map(|(value, is_there)| (value.is_some(), *is_there, None)).collect();
        let mut truths = Vec::new();
        for (said, part) in &there.comparisons {
            let Some(when) = &estate.statement(said.1.id).when else { continue };
            let own = own_attributes(when, *part);
            if own.len() > 1 {
                for place in own.iter().filter_map(|id| there.attributes.binary_search(id).ok()) {
                    attributes[place].2 = key.1[place].0.clone();
                }
                truths.push(None);
                continue;
            }
            let query = &self.sessions[said.0].0;
            let target = Target { place: TargetPlace::Scope(id), ..query.target.clone() };
            let query = Query { target, ..query.clone() };
            truths.push(Some(when.eval_leaf(*part, &self.context(*said, &query))));
        }
        let number = self.asked.number((in_play, (truths, attributes)));
        self.borne.insert(key, number);
        number
    }
}

/// The comparisons of a statement that ask for attributes of a target, with these attributes.
pub(super) fn asked_of_targets(
    statement: &Statement,
) -> impl Iterator<Item = (usize, Vec<AttributeId>)> {
    let parts = statement.when.iter().flat_map(|when| when.leaves().map(move |part| (when, part)));
    let parts = parts.map(|(when, part)| (part, own_attributes(when, part)));
    parts.filter(|(_, own)| !own.is_empty())
}

fn own_attributes(when: &Condition, part: usize) -> Vec<AttributeId> {
    when.leaf_references(part).filter_map(of_target).collect()
}

/// Whether a condition asks for the path or the name of a target. What else is built in is the same
/// within an account, for scopes of one kind.
pub(super) fn asks_for_paths(when: &Condition) -> bool {
    let path = Reference::Target(TargetAttribute::Path);
    let name = Reference::Target(TargetAttribute::Name);
    when.leaves().any(|part| when.leaf_references(part).any(|r| r == path || r == name))
}

/// The segments of a statement's patterns, in order.
pub(super) fn named_segments(statement: &Statement) -> impl Iterator<Item = &Segment<Reference>> {
    let patterns = statement.on.plain.iter().chain(&statement.on.excluded);
    patterns.flat_map(|pattern| &pattern.segments)
}

pub(super) fn starts_at_the_root(statement: &Statement) -> bool {
    statement.on.plain.iter().chain(&statement.on.excluded).any(|pattern| pattern.absolute)
}

/// The attribute that the estate or an item gives a target, if it is that of one.
fn of_target(reference: Reference) -> Option<AttributeId> {
    match reference {
        Reference::Target(TargetAttribute::Own(id)) => Some(id),
        Reference::Target(_) | Reference::Who(_) | Reference::Given(_) | Reference::Time => None,
    }
}
