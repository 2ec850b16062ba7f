//! All actions at once: what a principal can do on one target, as sets.
//!
//! The rules are those of [`evaluate`](super::evaluate), taken statement by statement instead of
//! action by action: a statement is asked once per target, and its whole set of actions is granted
//! or refused together.

use std::ops::Range;

use super::evaluate::Decider;
use super::facts::EvalContext;
use super::in_force::{InForce, in_force};
use super::index::Index;
use super::session::Session;
use super::subjects::SubjectSets;
use crate::catalogue::ActionSet;
use crate::id::{ActionId, PolicyId, ScopeId, StatementId};
use crate::policy::{Effect, Policy};
use crate::request::{Query, TargetPlace};
use crate::time::{Time, Window};
use crate::truth::Truth;

/// What somebody can do on one target; what is in neither set is denied.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Cells {
    /// Allowed for certain.
    pub allow: ActionSet,
    /// Denied as things are known, but allowed if all that is undecided came out in favour.
    pub depends: ActionSet,
}

impl Cells {
    /// Nothing at all, among `actions` many.
    #[must_use]
    pub fn nothing(actions: usize) -> Self {
        let none = ActionSet::with_capacity(actions);
        Self { allow: none.clone(), depends: none }
    }

    /// Whether everything is denied.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.allow.is_empty() && self.depends.is_empty()
    }
}

/// A statement that has a say about somebody's requests at a scope.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct StatementInPlay {
    pub(crate) id: StatementId,
    /// How many segments down its patterns start.
    pub(crate) anchor: usize,
    /// It sees the roles that an attachment's statements of this effect see: a ceiling's sees those
    /// that denies see.
    pub(crate) sees: Effect,
}

/// Actions that statements grant or refuse, under each of the two readings (see
/// [`Reading`](crate::Reading)).
struct Both {
    strict: ActionSet,
    hopeful: ActionSet,
}

impl<'e> Decider<'e> {
    /// Every statement that has a say for who asks at the query's scope, at the query's time: of
    /// what is attached there or above, of ceilings, of what bounds the session.
    pub(crate) fn statements_in_play(
        &self,
        session: &Session<'e>,
        query: &Query<'_>,
    ) -> Vec<StatementInPlay> {
        self.statements(session, query, |window| window.holds(query.time))
    }

    /// As [`Self::statements_in_play`], with what counts at other times only.
    pub(crate) fn statements_at_any_time(
        &self,
        session: &Session<'e>,
        query: &Query<'_>,
    ) -> Vec<StatementInPlay> {
        self.statements(session, query, |_| true)
    }

    fn statements(
        &self,
        session: &Session<'e>,
        query: &Query<'_>,
        counts: impl Fn(Window) -> bool,
    ) -> Vec<StatementInPlay> {
        let all = in_force(self.index, session, &query.under, query.target.scope());
        let mut found: Vec<StatementInPlay> = Vec::new();
        for InForce { sense, anchor, policy, .. } in all.into_iter().filter(|it| counts(it.window))
        {
            let ids = sense.statements(self.index.estate(), policy).into_iter().flatten();
            let sees = sense.sees();
            found.extend(ids.map(|id| StatementInPlay { id: *id, anchor, sees }));
        }
        found.sort_unstable();
        found.dedup();
        found
    }

    /// The parts of the tree, as ranges of scope indexes in order and apart, in which some
    /// attachment allows this session any of `wanted` at this time, or at any if none is given: nowhere
    /// else can it do them.
    pub(crate) fn where_allowed(
        &self,
        session: &Session<'e>,
        at: Option<Time>,
        wanted: &ActionSet,
    ) -> Vec<Range<usize>> {
        let estate = self.index.estate();
        let attached = self.index.attached_to(session.granting()).filter(|attached| {
            at.is_none_or(|at| attached.window.holds(at))
                && !estate.policy(attached.policy).allowed_actions.is_disjoint(wanted)
        });
        let mut ranges: Vec<Range<usize>> =
            attached.map(|attached| estate.scopes.subtree(attached.scope)).collect();
        ranges.sort_by_key(|range| range.start);
        // Subtrees lie within each other or apart.
        ranges.dedup_by(|inner, outer| inner.start < outer.end);
        ranges
    }

    /// Whether some attachment at a scope or above it allows this session any of `wanted`, at some
    /// time and on some target: else nothing there is allowed to it.
    pub(crate) fn may_be_allowed(
        &self,
        session: &Session<'e>,
        scope: ScopeId,
        wanted: &ActionSet,
    ) -> bool {
        let (estate, scope_index) = (self.index.estate(), &self.index.scope_index);
        let allows = |id| !estate.policy(id).allowed_actions.is_disjoint(wanted);
        scope_index.chain(scope).any(|(at, ..)| {
            let mut found = false;
            scope_index.attached_at(at).each_sought(session.subjects_of(Effect::Allow), |entry| {
                found = allows(entry.policy);
                found
            });
            found
        })
    }

    /// What the query's principal can do on its target, of the actions in `mask` (which must
    /// apply there); the query's own action is not looked at.
    pub fn reach(&mut self, query: &Query<'_>, mask: &ActionSet) -> Cells {
        let session = self.session(query);
        self.reach_in(&session, query, mask)
    }

    /// As [`Self::reach`], in a session that is known already.
    pub(crate) fn reach_in(
        &self,
        session: &Session<'e>,
        query: &Query<'_>,
        mask: &ActionSet,
    ) -> Cells {
        let all = self.index.estate().catalogue.actions.len();
        let mut cells = Cells::nothing(all);
        let is_granted = || self.may_be_allowed(session, query.target.scope(), mask);
        if session.is_refused(query.take_up) || !is_granted() {
            return cells;
        }
        for (action, part) in parts(self.index, query, mask) {
            let query = Query { action, ..query.clone() };
            let sets = Sets { context: self.context(session, &query), mask: &part };
            let mut granted = sets.granted(session);
            if granted.hopeful.is_empty() {
                continue;
            }
            sets.refuse(session, &mut granted);
            granted.hopeful.difference_with(&granted.strict);
            cells.allow.union_with(&granted.strict);
            cells.depends.union_with(&granted.hopeful);
        }
        cells
    }

    /// The actions in `mask` that a session is denied on the query's target for want of a statement
    /// that allows them, and for nothing else; those of one kind together, with the query by which
    /// such a statement is asked.
    pub(crate) fn not_granted<'q>(
        &self,
        session: &Session<'e>,
        query: &Query<'q>,
        mask: &ActionSet,
    ) -> Vec<(Query<'q>, ActionSet)> {
        if session.is_refused(query.take_up) {
            return Vec::new();
        }
        let each = parts(self.index, query, mask).into_iter().map(|(action, part)| {
            let query = Query { action, ..query.clone() };
            let sets = Sets { context: self.context(session, &query), mask: &part };
            let mut left = Both { strict: part.clone(), hopeful: part.clone() };
            sets.refuse(session, &mut left);
            left.strict.difference_with(&sets.granted(session).strict);
            (query, left.strict)
        });
        each.collect()
    }

    fn context<'s>(&self, session: &'s Session<'e>, query: &'s Query<'s>) -> EvalContext<'s>
    where
        'e: 's,
    {
        let roles = Some(session.roles());
        EvalContext { index: self.index, query, closure: &session.closure, roles }
    }
}

/// The mask, cut so that `target.kind` is the same for all actions of a part: for an item it is
/// the kind in the action asked.
pub(crate) fn parts(
    index: &Index,
    query: &Query<'_>,
    mask: &ActionSet,
) -> Vec<(ActionId, ActionSet)> {
    let catalogue = &index.estate().catalogue;
    let mut parts: Vec<(ActionId, ActionSet)> = Vec::new();
    for i in mask.ones() {
        let kind = catalogue.actions[i].kind;
        let whole = !matches!(query.target.place, TargetPlace::Item(_));
        let same =
            parts.iter_mut().find(|(first, _)| whole || catalogue.action(*first).kind == kind);
        match same {
            Some((_, set)) => set.insert(i),
            None => {
                let mut set = ActionSet::with_capacity(catalogue.actions.len());
                set.insert(i);
                parts.push((ActionId::new(i), set));
            }
        }
    }
    parts
}

struct Sets<'s> {
    context: EvalContext<'s>,
    mask: &'s ActionSet,
}

impl Sets<'_> {
    /// What attachments grant a session.
    fn granted(&self, session: &Session<'_>) -> Both {
        let roles = Some(session.roles_of(Effect::Allow));
        let sets = Sets { context: EvalContext { roles, ..self.context }, mask: self.mask };
        sets.attached(Effect::Allow, session.subjects_of(Effect::Allow))
    }

    /// Takes away what denies and ceilings refuse a session.
    fn refuse(&self, session: &Session<'_>, granted: &mut Both) {
        // What is not granted need not be refused.
        let sets = Sets { context: self.context, mask: &granted.hopeful.clone() };
        // A deny counts when it is not false; hopefully, only when it is true.
        let denied = sets.attached(Effect::Deny, session.subjects());
        granted.strict.difference_with(&denied.hopeful);
        granted.hopeful.difference_with(&denied.strict);
        sets.bound(session.subjects(), granted);
    }

    fn none(&self) -> Both {
        let none = ActionSet::with_capacity(self.context.index.estate().catalogue.actions.len());
        Both { strict: none.clone(), hopeful: none }
    }

    /// The actions of statements in play: `strict` of those that are true, `hopeful` of those that
    /// are not false.
    fn attached(&self, effect: Effect, subjects: SubjectSets<'_>) -> Both {
        let (estate, scope_index) = (self.context.index.estate(), &self.context.index.scope_index);
        let mut both = self.none();
        for (scope, anchor, sealed) in scope_index.chain(self.context.query.target.scope()) {
            scope_index.attached_at(scope).each_sought(subjects, |entry| {
                let window = || estate.attachments[entry.origin as usize].window;
                if !entry.windowed || window().holds(self.context.query.time) {
                    self.add(effect, entry.policy, anchor, &mut both);
                }
                false
            });
            if effect == Effect::Allow && sealed {
                break;
            }
        }
        both
    }

    fn add(&self, effect: Effect, policy: PolicyId, anchor: usize, both: &mut Both) {
        let policy: &Policy = self.context.index.estate().policy(policy);
        let (actions, statements) = match effect {
            Effect::Allow => (&policy.allowed_actions, &policy.allows),
            Effect::Deny => (&policy.denied_actions, &policy.denies),
        };
        if actions.is_disjoint(self.mask) {
            return;
        }
        for &id in statements {
            self.add_statement(id, anchor, both);
        }
    }

    fn add_statement(&self, id: StatementId, anchor: usize, both: &mut Both) {
        let actions = &self.context.index.estate().statement(id).actions;
        // What is certain already need not be asked again.
        if both.strict.has_common(actions, self.mask) {
            return;
        }
        let truth = self.context.truth(id, anchor);
        if truth == Truth::True {
            both.strict.add_common(actions, self.mask);
        }
        if truth != Truth::False {
            both.hopeful.add_common(actions, self.mask);
        }
    }

    /// Takes away what ceilings in play do not let through (spec section 6).
    fn bound(&self, subjects: SubjectSets<'_>, granted: &mut Both) {
        let query = self.context.query;
        let (estate, scope_index) = (self.context.index.estate(), &self.context.index.scope_index);
        for &policy in &query.under {
            self.pass(policy, 0, granted);
        }
        let chain =
            scope_index.chain(query.target.scope()).map(|(at, anchor, _)| (Some(at), anchor));
        let mut passed: Vec<(PolicyId, usize)> = Vec::new();
        for (over, anchor) in std::iter::once((None, 0)).chain(chain) {
            scope_index.each_ceiling(over, subjects, |entry| {
                let window = || estate.ceilings[entry.origin as usize].window;
                let is_in_force = !entry.windowed || window().holds(query.time);
                // One that binds several of the subjects passes the same again.
                if is_in_force && !passed.contains(&(entry.policy, anchor)) {
                    passed.push((entry.policy, anchor));
                    self.pass(entry.policy, anchor, granted);
                }
                false
            });
        }
    }

    fn pass(&self, policy: PolicyId, anchor: usize, granted: &mut Both) {
        let mut denied = self.none();
        self.add(Effect::Deny, policy, anchor, &mut denied);
        granted.strict.difference_with(&denied.hopeful);
        granted.hopeful.difference_with(&denied.strict);
        if !self.context.index.estate().policy(policy).allows.is_empty() {
            let mut allowed = self.none();
            self.add(Effect::Allow, policy, anchor, &mut allowed);
            granted.strict.intersect_with(&allowed.strict);
            granted.hopeful.intersect_with(&allowed.hopeful);
        }
    }
}
