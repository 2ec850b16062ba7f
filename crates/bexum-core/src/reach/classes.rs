//! Scopes at which some sessions can do the same, found without asking what that is: most scopes of
//! a large estate are like many others, and one of each kind is enough to be worked out.

use std::hash::Hash;
use std::rc::Rc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::{AccessTarget, TargetSort, Viewpoint};
use crate::attribute::Value;
use crate::catalogue::TargetClass;
use crate::condition::check::TargetAttribute;
use crate::condition::{Condition, Reference};
use crate::engine::{Decider, EvalContext, Index, Session, StatementInPlay};
use crate::id::{ActionId, AttributeId, KindId, PolicyId, ScopeId, StatementId};
use crate::pattern::matching::matches_segment;
use crate::pattern::path::Segment;
use crate::policy::{Effect, Statement};
use crate::request::{Query, Target, TargetPlace};
use crate::scope::ScopeType;
use crate::truth::Truth;

/// For each scope, its class for some sessions. Of two scopes of one class, each of the sessions
/// can do the same at both and at the items below both that the same patterns single out.
///
/// That is so because all that a decision there looks at is the same for both (spec section 6):
/// - they lie in one account and equally deep, and have one type and kind, so the same actions apply
///   at both, and to the items of both;
/// - of the statements that name one of these actions, the same are in play for the same of these
///   sessions, with the same anchors; the same ceilings bound them, and the lowest seal above both
///   stands equally deep;
/// - each name on the way is matched by the same segments of the patterns of these statements, so
///   every pattern still asks for the same below both;
/// - each comparison of these statements that asks for an attribute of the target comes to the same
///   for both, and both bear it or neither does; none of their conditions asks for a target's path or
///   name;
/// - for their items, nothing declared directly below either has a name that a segment of these
///   patterns matches, save `*` and `**`: a path that a pattern singles out begins with a name that
///   one of its segments matches, or with a fresh one, so what is declared takes none of them away.
#[derive(Debug)]
pub struct Classes {
    /// Of each scope, and whether its items are like those of others of the class too.
    of: Vec<Option<(u32, bool)>>,
    /// How many there are.
    count: u32,
}

impl Classes {
    /// Those of all scopes, for these sessions.
    #[must_use]
    pub fn new(index: &Index, sessions: &[Viewpoint]) -> Self {
        let accounts = index.estate().scopes.iter().filter(|(_, scope)| scope.parent.is_none());
        Self::joined(accounts.map(|(id, _)| Self::of_account(index, sessions, id)))
    }

    /// Those of all scopes, from those of every account in the order of the tree: accounts may be
    /// looked at in any order, and at the same time, as two of them share no class.
    #[must_use]
    pub fn joined(accounts: impl IntoIterator<Item = Self>) -> Self {
        let mut all = Self { of: Vec::new(), count: 0 };
        for Self { of, count } in accounts {
            let known = all.count;
            all.of.extend(of.into_iter().map(|one| one.map(|(class, like)| (known + class, like))));
            all.count += count;
        }
        all
    }

    /// Those of one account and all that is in it.
    #[must_use]
    pub fn of_account(index: &Index, sessions: &[Viewpoint], account: ScopeId) -> Self {
        let estate = index.estate();
        let mut finder = Finder::new(index, sessions);
        let ids = estate.scopes.subtree(account);
        let place = |id: ScopeId| id.index() - ids.start;
        let mut sights: Vec<Sight> = Vec::with_capacity(ids.len());
        let mut of: Vec<Option<(u32, bool)>> = Vec::with_capacity(ids.len());
        for id in ids.clone().map(ScopeId::new) {
            let above = estate.scope(id).parent.map(|parent| sights[place(parent)]);
            let sight = finder.sight(id, above);
            sights.push(sight);
            of.push(finder.class(sight, id).map(|class| (class, true)));
        }
        // What is declared directly below a scope takes its name from the items there.
        let scopes = ids.clone().map(|id| estate.scope(ScopeId::new(id)));
        let below = scopes.filter_map(|scope| Some((scope.parent?, scope.name())));
        let identities = estate
            .identities_at
            .iter()
            .filter(|(_, place)| ids.contains(&place.scope().index()))
            .filter_map(|(path, place)| Some((place.scope(), path.rsplit_once('/')?.1)));
        for (at, name) in below.chain(identities) {
            if let Some((_, has_like_items)) = &mut of[place(at)]
                && *has_like_items
            {
                *has_like_items = !finder.matters(sights[place(at)].in_play, at, name);
            }
        }
        Self { of, count: finder.classes.len() as u32 }
    }

    /// The class of a target; `None` where it may be like no other.
    #[must_use]
    pub fn of(&self, target: &AccessTarget) -> Option<u32> {
        let (class, has_like_items) = self.of[target.scope().index()]?;
        let is_like_others = match target.sort {
            TargetSort::Scope => true,
            TargetSort::Items | TargetSort::Pattern => has_like_items,
            TargetSort::Identity => false,
        };
        is_like_others.then_some(class)
    }
}

/// What the sessions see of a scope; scopes for which it is the same are alike to them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Sight {
    /// What is in play, by its number.
    in_play: u32,
    /// The names on the way down from the account, by how patterns match them.
    trail: u32,
    /// What is asked of the attributes of targets, and what that comes to.
    asked: u32,
}

/// A statement in play for one of the sessions, which is told by its number.
type Said = (usize, StatementInPlay);

/// What is in play for the sessions at a scope and wherever nothing more comes to it.
struct InPlay<'e> {
    /// In order.
    statements: Vec<Said>,
    /// The ceilings that bind a session: whose, by which policy, and where its patterns start.
    ceilings: Vec<(usize, PolicyId, usize)>,
    /// How deep the lowest seal stands; 0 where there is none.
    sealed_at: u32,
    /// The scopes at which something has come into play that has patterns which start at the root.
    from_the_root: Vec<ScopeId>,
    /// Attributes of targets that conditions ask for.
    attributes: Vec<AttributeId>,
    /// The comparisons that ask for them: of which statement, and which part of its condition.
    comparisons: Vec<(Said, usize)>,
    /// The names in patterns, each with a number that is the same for the same name everywhere.
    literals: FxHashMap<&'e str, u32>,
    /// Segments with stars or braces, each with such a number, too.
    mixed: Vec<(u32, Said, &'e Segment<Reference>)>,
    /// What has been found out about a name: by which segments it is matched, as a number.
    names: FxHashMap<&'e str, u32>,
}

/// What can bear on the targets of one type and kind, of what is in play at a scope.
#[derive(PartialEq, Eq, Hash)]
struct Bearing {
    of: (ScopeType, Option<KindId>),
    /// Those that name an action which applies, in order.
    statements: Vec<Said>,
    ceilings: Vec<(usize, PolicyId, usize)>,
    sealed_at: u32,
    from_the_root: Vec<ScopeId>,
}

/// What the statements of a [`Bearing`] ask for.
struct BearingAsks {
    /// The numbers of the segments in their patterns, in order.
    segments: Vec<u32>,
    /// Attributes of targets, in order.
    attributes: Vec<AttributeId>,
    /// Those of them that one comparison asks for together, in order.
    together: Vec<AttributeId>,
    for_paths: bool,
}

/// Something that comes into play at a scope: for which session, by which policy, and a number for
/// whether it grants, refuses or bounds.
type Coming = (usize, PolicyId, u32);
/// The segments that match a name, and how surely.
type Matched = Vec<(u32, Truth)>;
/// The values of attributes that are asked for, and whether each is there at all.
type Borne = Vec<(Option<Value>, bool)>;
/// What each comparison comes to, if it asks for one attribute alone; and, of each attribute, whether
/// it has a value and whether it is there, with the value itself where a comparison asks for two.
type Asked = (Vec<Option<Truth>>, Vec<(bool, bool, Option<Value>)>);
/// What tells a class: what can bear on its scopes, the names on the way down by how the segments
/// match them that matter, and what is asked of attributes.
type ClassKey = (u32, u32, Vec<(u32, u32, Truth)>, Asked);

/// Values, each with a number, and the other way round.
struct Kept<T> {
    all: Vec<Rc<T>>,
    numbers: FxHashMap<Rc<T>, u32>,
}

impl<T: Eq + Hash> Kept<T> {
    fn new() -> Self {
        Self { all: Vec::new(), numbers: FxHashMap::default() }
    }

    fn number(&mut self, value: T) -> u32 {
        if let Some(known) = self.numbers.get(&value) {
            return *known;
        }
        let (value, number) = (Rc::new(value), self.all.len() as u32);
        self.all.push(Rc::clone(&value));
        self.numbers.insert(value, number);
        number
    }

    fn get(&self, number: u32) -> &T {
        &self.all[number as usize]
    }
}

/// Stands for the trail above an account.
const NOTHING_ABOVE: u32 = u32::MAX;

struct Finder<'e> {
    index: &'e Index,
    decider: Decider<'e>,
    sessions: Vec<(Query<'static>, Session<'e>)>,
    /// The policies that have a pattern which starts at the root of all paths.
    from_the_root: FxHashSet<PolicyId>,
    in_play: Vec<InPlay<'e>>,
    /// The numbers of what is in play, by what it is at the parent, the trail, and what comes to it.
    numbers: FxHashMap<(u32, u32, Vec<Coming>), u32>,
    /// The numbers of names in patterns, and of other segments by their places in a statement.
    literals: FxHashMap<&'e str, u32>,
    segments: FxHashMap<(Said, usize), u32>,
    matched: Kept<Matched>,
    /// Of each trail, the one above it and the number of the last name's [`Matched`].
    trails: Kept<(u32, u32)>,
    borne: FxHashMap<(u32, Borne), u32>,
    asked: Kept<(u32, Asked)>,
    bearings: Kept<Bearing>,
    asks: Vec<BearingAsks>,
    /// The numbers of bearings, by what is in play, and the type and kind of a scope.
    bearing: FxHashMap<(u32, ScopeType, Option<KindId>), u32>,
    classes: FxHashMap<ClassKey, u32>,
    known: FxHashMap<(Sight, ScopeType, Option<KindId>), Option<u32>>,
}

impl<'e> Finder<'e> {
    fn new(index: &'e Index, sessions: &[Viewpoint]) -> Self {
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

    fn sight(&mut self, id: ScopeId, above: Option<Sight>) -> Sight {
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
    fn matched(&mut self, in_play: u32, name: &'e str) -> u32 {
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

    /// Whether a segment that bears on a scope's items matches a name.
    fn matters(&mut self, in_play: u32, at: ScopeId, name: &'e str) -> bool {
        let (matched, bearing) = (self.matched(in_play, name), self.bearing(in_play, at));
        let asks = &self.asks[bearing as usize];
        self.matched.get(matched).iter().any(|(segment, _)| asks.names(*segment))
    }

    /// The class of a scope of which this is seen; `None` where it may be like no other.
    fn class(&mut self, sight: Sight, id: ScopeId) -> Option<u32> {
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

impl BearingAsks {
    fn names(&self, segment: u32) -> bool {
        self.segments.binary_search(&segment).is_ok()
    }
}

/// The comparisons of a statement that ask for attributes of a target, with these attributes.
fn asked_of_targets(statement: &Statement) -> impl Iterator<Item = (usize, Vec<AttributeId>)> {
    let parts = statement.when.iter().flat_map(|when| when.leaves().map(move |part| (when, part)));
    let parts = parts.map(|(when, part)| (part, own_attributes(when, part)));
    parts.filter(|(_, own)| !own.is_empty())
}

fn own_attributes(when: &Condition, part: usize) -> Vec<AttributeId> {
    when.leaf_references(part).filter_map(of_target).collect()
}

/// Whether a condition asks for the path or the name of a target. What else is built in is the same
/// within an account, for scopes of one kind.
fn asks_for_paths(when: &Condition) -> bool {
    let path = Reference::Target(TargetAttribute::Path);
    let name = Reference::Target(TargetAttribute::Name);
    when.leaves().any(|part| when.leaf_references(part).any(|r| r == path || r == name))
}

/// The segments of a statement's patterns, in order.
fn named_segments(statement: &Statement) -> impl Iterator<Item = &Segment<Reference>> {
    let patterns = statement.on.plain.iter().chain(&statement.on.excluded);
    patterns.flat_map(|pattern| &pattern.segments)
}

fn starts_at_the_root(statement: &Statement) -> bool {
    statement.on.plain.iter().chain(&statement.on.excluded).any(|pattern| pattern.absolute)
}

/// The attribute that the estate or an item gives a target, if it is that of one.
fn of_target(reference: Reference) -> Option<AttributeId> {
    match reference {
        Reference::Target(TargetAttribute::Own(id)) => Some(id),
        Reference::Target(_) | Reference::Who(_) | Reference::Given(_) | Reference::Time => None,
    }
}

/// A session's circumstances, asked nowhere and for nothing.
pub(crate) fn nowhere(session: &Viewpoint) -> Query<'static> {
    Query {
        who: session.who,
        action: ActionId::new(0),
        target: Target {
            path: "",
            segments: Vec::new(),
            place: TargetPlace::Scope(ScopeId::new(0)),
            is_sample: false,
        },
        take_up: session.take_up,
        also: session.also.clone(),
        under: session.under.clone(),
        given: session.given.clone(),
        item: Vec::new(),
        item_is_open: true,
        time: session.time,
    }
}
