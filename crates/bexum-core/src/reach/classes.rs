//! Scopes at which some sessions can do the same, found without asking what that is: most scopes of
//! a large estate are like many others, and one of each kind is enough to be worked out.

use rustc_hash::{FxHashMap, FxHashSet};

use super::{AccessTarget, TargetSort, Viewpoint};
use crate::attribute::Value;
use crate::condition::Reference;
use crate::condition::check::TargetAttribute;
use crate::engine::{Decider, EvalContext, Index, Session, StatementInPlay};
use crate::estate::Estate;
use crate::id::{ActionId, AttributeId, KindId, PolicyId, ScopeId, StatementId};
use crate::pattern::matching::matches_segment;
use crate::pattern::path::Segment;
use crate::policy::Effect;
use crate::request::{Query, Target, TargetPlace};
use crate::scope::ScopeType;
use crate::truth::Truth;

/// For each scope, its class for some sessions. Of two scopes of one class, each of the sessions
/// can do the same at both and at the items below both that the same patterns single out.
///
/// That is so because all that a decision looks at is the same for both (spec section 6):
/// - they lie in one account and equally deep, and on the way down to each the same policies are
///   attached for the same of these sessions, the same ceilings bound them, and the same scopes are
///   sealed: so the same statements are in play, with the same anchors;
/// - each name on the way is matched by the same segments of the patterns in play there, so every
///   pattern still asks for the same below both;
/// - each comparison that asks for an attribute of the target comes to the same for both, and both
///   bear it or neither does; no condition asks for a target's path or name;
/// - they have one type and kind; and, for their items, nothing declared directly below either has
///   a name that a segment in play matches, save `*` and `**`: a path that a pattern singles out
///   begins with a name that one of its segments matches, or with a fresh one, so what is declared
///   takes none of them away.
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
        let mut known: FxHashMap<(Sight, ScopeType, Option<KindId>), u32> = FxHashMap::default();
        let mut sights: Vec<Sight> = Vec::with_capacity(ids.len());
        let mut of: Vec<Option<(u32, bool)>> = Vec::with_capacity(ids.len());
        for id in ids.clone().map(ScopeId::new) {
            let scope = estate.scope(id);
            let above = scope.parent.map(|parent| sights[place(parent)]);
            let sight = finder.sight(id, above);
            sights.push(sight);
            of.push((!finder.in_play[sight.in_play as usize].asks_for_paths).then(|| {
                let next = known.len() as u32;
                (*known.entry((sight, scope.scope_type, scope.kind)).or_insert(next), true)
            }));
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
                *has_like_items = !finder.matched(sights[place(at)].in_play, name).1;
            }
        }
        Self { of, count: known.len() as u32 }
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

/// What is in play for the sessions at a scope and wherever nothing more comes to it.
struct InPlay<'e> {
    asks_for_paths: bool,
    /// Attributes of targets that conditions ask for.
    attributes: Vec<AttributeId>,
    /// The comparisons that ask for them: whose, of which statement, and which part of its
    /// condition.
    comparisons: Vec<(usize, StatementInPlay, usize)>,
    /// The names in patterns, each with a number.
    literals: FxHashMap<&'e str, u32>,
    /// Segments with stars or braces: whose, of which statement, and the segment.
    mixed: Vec<(usize, StatementInPlay, &'e Segment<Reference>)>,
    /// What has been found out about a name: by which segments it is matched, as a number, and
    /// whether by any.
    names: FxHashMap<&'e str, (u32, bool)>,
}

/// Something that comes into play at a scope: for which session, by which policy, and a number for
/// whether it grants, refuses or bounds.
type Coming = (usize, PolicyId, u32);
/// The segments that match a name, and how surely.
type Matched = Vec<(u32, Truth)>;
/// The values of attributes that are asked for, and whether each is there at all.
type Borne = Vec<(Option<Value>, bool)>;
/// What each comparison comes to; and, of each attribute, whether it has a value and whether it is
/// there, with the value itself where a comparison asks for two.
type Asked = (Vec<Truth>, Vec<(bool, bool, Option<Value>)>);

struct Finder<'e> {
    index: &'e Index,
    decider: Decider<'e>,
    sessions: Vec<(Query<'static>, Session<'e>)>,
    /// The policies that have a pattern which starts at the root of all paths.
    from_the_root: FxHashSet<PolicyId>,
    in_play: Vec<InPlay<'e>>,
    /// The numbers of what is in play, by what it is at the parent, the trail, and what comes to it.
    numbers: FxHashMap<(u32, u32, Vec<Coming>), u32>,
    matched: FxHashMap<(u32, Matched), u32>,
    trails: FxHashMap<(u32, u32), u32>,
    borne: FxHashMap<(u32, Borne), u32>,
    asked: FxHashMap<(u32, Asked), u32>,
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
        let starts_there = |id: &StatementId| {
            let on = &estate.statement(*id).on;
            on.plain.iter().chain(&on.excluded).any(|pattern| pattern.absolute)
        };
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
            matched: FxHashMap::default(),
            trails: FxHashMap::default(),
            borne: FxHashMap::default(),
            asked: FxHashMap::default(),
        }
    }

    fn sight(&mut self, id: ScopeId, above: Option<Sight>) -> Sight {
        let Some(above) = above else {
            // Of two accounts nothing is shared.
            self.in_play.push(self.in_play_at(id));
            let in_play = self.in_play.len() as u32 - 1;
            let trail = self.trails.len() as u32;
            self.trails.insert((u32::MAX, in_play), trail);
            return Sight { in_play, trail, asked: self.asked(in_play, id) };
        };
        let (name, _) = self.matched(above.in_play, self.index.estate().scope(id).name());
        let next = self.trails.len() as u32;
        let trail = *self.trails.entry((above.trail, name)).or_insert(next);
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
                self.in_play.push(self.in_play_at(id));
                let new = self.in_play.len() as u32 - 1;
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
        let is_own = found.iter().any(|(_, policy, _)| self.from_the_root.contains(policy));
        found.extend(is_own.then_some((usize::MAX, PolicyId::new(0), id.0)));
        found
    }

    fn in_play_at(&self, id: ScopeId) -> InPlay<'e> {
        let estate = self.index.estate();
        let mut found = InPlay {
            asks_for_paths: false,
            attributes: Vec::new(),
            comparisons: Vec::new(),
            literals: FxHashMap::default(),
            mixed: Vec::new(),
            names: FxHashMap::default(),
        };
        for (i, (query, session)) in self.sessions.iter().enumerate() {
            let target = Target { place: TargetPlace::Scope(id), ..query.target.clone() };
            let query = Query { target, ..query.clone() };
            for said in self.decider.statements_in_play(session, &query) {
                add_statement(estate, i, said, &mut found);
            }
        }
        found.attributes.sort_unstable();
        found.attributes.dedup();
        found
    }

    /// By which segments of the patterns in play a name is matched, as a number, and whether by any;
    /// those that match every name are left out.
    fn matched(&mut self, in_play: u32, name: &'e str) -> (u32, bool) {
        let there = &self.in_play[in_play as usize];
        if let Some(known) = there.names.get(name) {
            return *known;
        }
        let mut matched: Matched = Vec::new();
        matched.extend(there.literals.get(name).map(|literal| (*literal, Truth::True)));
        for (number, (i, said, segment)) in (there.literals.len() as u32..).zip(&there.mixed) {
            let truth =
                matches_segment(segment, name, &self.context(*i, said, &self.sessions[*i].0));
            if truth != Truth::False {
                matched.push((number, truth));
            }
        }
        let is_any = !matched.is_empty();
        let next = self.matched.len() as u32;
        let number = *self.matched.entry((in_play, matched)).or_insert(next);
        self.in_play[in_play as usize].names.insert(name, (number, is_any));
        (number, is_any)
    }

    fn context<'s>(
        &'s self,
        session: usize,
        said: &StatementInPlay,
        query: &'s Query<'s>,
    ) -> EvalContext<'s> {
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
        for (i, said, part) in &there.comparisons {
            let Some(when) = &estate.statement(said.id).when else { continue };
            let own = when.leaf_references(*part).filter_map(of_target);
            let places: Vec<usize> =
                own.filter_map(|id| there.attributes.binary_search(&id).ok()).collect();
            if places.len() > 1 {
                places.into_iter().for_each(|at| attributes[at].2 = key.1[at].0.clone());
                continue;
            }
            let query = &self.sessions[*i].0;
            let target = Target { place: TargetPlace::Scope(id), ..query.target.clone() };
            let query = Query { target, ..query.clone() };
            truths.push(when.eval_leaf(*part, &self.context(*i, said, &query)));
        }
        let next = self.asked.len() as u32;
        let number = *self.asked.entry((in_play, (truths, attributes))).or_insert(next);
        self.borne.insert(key, number);
        number
    }
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

fn add_statement<'e>(
    estate: &'e Estate,
    session: usize,
    said: StatementInPlay,
    found: &mut InPlay<'e>,
) {
    let statement = estate.statement(said.id);
    if let Some(when) = &statement.when {
        for part in when.leaves() {
            let own: Vec<AttributeId> = when.leaf_references(part).filter_map(of_target).collect();
            // What is built in besides is the same within an account, for scopes of one kind.
            let path = Reference::Target(TargetAttribute::Path);
            let name = Reference::Target(TargetAttribute::Name);
            found.asks_for_paths |= when.leaf_references(part).any(|r| r == path || r == name);
            if !own.is_empty() {
                found.attributes.extend(own);
                found.comparisons.push((session, said, part));
            }
        }
    }
    for pattern in statement.on.plain.iter().chain(&statement.on.excluded) {
        for segment in &pattern.segments {
            match segment {
                Segment::Literal(text) => {
                    let next = found.literals.len() as u32;
                    found.literals.entry(text).or_insert(next);
                }
                Segment::Mixed(_) => found.mixed.push((session, said, segment)),
                Segment::Any | Segment::Rest => {}
            }
        }
    }
}
