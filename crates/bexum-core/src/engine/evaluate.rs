//! The decision table of spec section 6, in its order.

use std::rc::Rc;

use super::closure::{Closure, RoleClosure};
use super::closure_cache::ClosureCache;
use super::facts::EvalContext;
use super::index::Index;
use super::scope_index::Entry;
use super::session::Session;
use super::sink::{Bound, Candidate, LimitingPolicy, NullSink, Obstacle, Sink};
use super::subjects::SubjectSets;
use crate::decision::{Reading, Reason};
use crate::id::{AttachmentId, CeilingId, GroupId, RoleId, ScopeId};
use crate::policy::Effect;
use crate::principal::Principal;
use crate::request::Query;
use crate::time::{Phase, Time};
use crate::truth::Truth;

/// Answers queries, one at a time; keeps what it has worked out about principals.
#[derive(Debug)]
pub struct Decider<'e> {
    /// The index it asks.
    pub index: &'e Index,
    pub(super) closures: ClosureCache<Closure<'e>>,
    role_closures: ClosureCache<RoleClosure<'e>>,
}

impl<'e> Decider<'e> {
    /// A decider that knows nobody yet.
    #[must_use]
    pub fn new(index: &'e Index) -> Self {
        Self { index, closures: ClosureCache::default(), role_closures: ClosureCache::default() }
    }

    /// The answer.
    pub fn decide(&mut self, query: &Query<'_>) -> Reason {
        self.decide_into(query, Reading::Strict, &mut NullSink)
    }

    /// The answer under a reading, telling `sink` what is met.
    pub fn decide_into<S: Sink>(
        &mut self,
        query: &Query<'_>,
        reading: Reading,
        sink: &mut S,
    ) -> Reason {
        let session = self.session(query);
        self.decide_session(&session, query, reading, sink)
    }

    /// The answer, were all about who asks as this closure says; `sink` is told what is met.
    pub(crate) fn decide_for<S: Sink>(
        &mut self,
        query: &Query<'_>,
        closure: Closure<'e>,
        sink: &mut S,
    ) -> Reason {
        let session = Session::with(self, Rc::new(closure), query.take_up, query.time);
        self.decide_session(&session, query, Reading::Strict, sink)
    }

    /// The answer in a session that is known already.
    pub(crate) fn decide_session<S: Sink>(
        &self,
        session: &Session<'e>,
        query: &Query<'_>,
        reading: Reading,
        sink: &mut S,
    ) -> Reason {
        let (closure, subjects) = (&session.closure, session.subjects());
        if closure.is_disabled {
            return Reason::Disabled;
        }
        if query.take_up.is_some_and(|role| !closure.can_take_up(role)) {
            return Reason::RoleRefused;
        }
        let context =
            EvalContext { index: self.index, query, closure, roles: Some(session.roles()) };
        let mut walk = StatementWalk { context, reading, sink };

        let denied = walk.meets(Effect::Deny, subjects);
        if denied && !S::THOROUGH {
            return Reason::Denied;
        }
        walk.context.roles = Some(session.roles_of(Effect::Allow));
        let granted = walk.meets(Effect::Allow, session.subjects_of(Effect::Allow));
        walk.context.roles = context.roles;
        if !granted && !S::THOROUGH {
            return Reason::NotGranted;
        }
        let bounded = walk.is_bounded(subjects);
        if denied {
            Reason::Denied
        } else if !granted {
            Reason::NotGranted
        } else if bounded {
            Reason::OverCeiling
        } else {
            Reason::Granted
        }
    }

    /// All about who asks, as the query supposes it.
    pub fn closure_of(&mut self, query: &Query<'_>) -> Rc<Closure<'e>> {
        self.closure_for(query.who, &query.also, query.time)
    }

    /// All about somebody who is supposed to be in some groups as well, at a moment.
    pub fn closure_for(&mut self, who: Principal, also: &[GroupId], at: Time) -> Rc<Closure<'e>> {
        let index = self.index;
        if !also.is_empty() {
            return Rc::new(Closure::new(index, who, also, at));
        }
        let number = index.scope_index.subject_ids.number(who);
        self.closures.get(number, at, || Closure::new(index, who, &[], at))
    }

    /// Who asks, and whose statements count for them.
    pub(crate) fn session(&mut self, query: &Query<'_>) -> Session<'e> {
        self.session_of(query.who, &query.also, query.take_up, query.time)
    }

    /// The session of somebody with a role taken up or none, whatever they ask.
    pub(crate) fn session_of(
        &mut self,
        who: Principal,
        also: &[GroupId],
        take_up: Option<RoleId>,
        at: Time,
    ) -> Session<'e> {
        Session::of(self, who, also, take_up, at)
    }

    pub(crate) fn role_closure(&mut self, role: RoleId, at: Time) -> Rc<RoleClosure<'e>> {
        let index = self.index;
        let number = (role.index(), index.estate().roles.len());
        self.role_closures.get(number, at, || RoleClosure::new(index, role, at))
    }
}

struct StatementWalk<'w, S> {
    context: EvalContext<'w>,
    reading: Reading,
    sink: &'w mut S,
}

impl Reading {
    /// Whether a statement of this effect counts.
    fn counts(self, effect: Effect, truth: Truth) -> bool {
        match (self, effect) {
            (Self::Strict, Effect::Allow) | (Self::Hopeful, Effect::Deny) => truth == Truth::True,
            (Self::Strict, Effect::Deny) | (Self::Hopeful, Effect::Allow) => truth != Truth::False,
        }
    }
}

impl<S: Sink> StatementWalk<'_, S> {
    /// Whether one statement of this effect that counts is enough.
    const fn is_enough(effect: Effect) -> bool {
        match effect {
            Effect::Allow => !S::ALL_ALLOWS,
            Effect::Deny => !S::THOROUGH,
        }
    }

    /// Whether a statement of `effect` in play counts; looks from the target upward.
    fn meets(&mut self, effect: Effect, subjects: SubjectSets<'_>) -> bool {
        let Index { scope_index, action_index, .. } = self.context.index;
        let action = self.context.query.action;
        if !action_index.is_named(effect, action) {
            return false;
        }
        let wanted = action_index.policies(effect, action);
        let mut met = false;
        let mut seal = None;
        for (scope, anchor, sealed) in scope_index.chain(self.context.query.target.scope()) {
            scope_index.attached_at(scope).each_wanted(subjects, wanted, |entry| {
                met |= self.meets_entry(effect, &entry, (scope, anchor), seal);
                met && Self::is_enough(effect)
            });
            if met && Self::is_enough(effect) {
                return true;
            }
            // A seal stops allows from above; denies pass (spec section 6, "In play").
            if effect == Effect::Allow && sealed && seal.is_none() {
                if !S::THOROUGH {
                    return met;
                }
                seal = Some(scope);
            }
        }
        met
    }

    fn meets_entry(
        &mut self,
        effect: Effect,
        entry: &Entry,
        (scope, anchor): (ScopeId, usize),
        seal: Option<ScopeId>,
    ) -> bool {
        let (estate, action_index) =
            (self.context.index.estate(), &self.context.index.action_index);
        let phase = match entry.windowed {
            true => {
                let window = estate.attachments[entry.origin as usize].window;
                window.phase(self.context.query.time)
            }
            false => Phase::Open,
        };
        let obstacle = match seal {
            Some(seal) => Some(Obstacle::Seal(seal)),
            None if phase != Phase::Open => Some(Obstacle::Window(phase)),
            None => None,
        };
        if obstacle.is_some() && !S::THOROUGH {
            return false;
        }
        let mut met = false;
        for id in action_index.statements(entry.policy, effect, self.context.query.action) {
            let truth = self.context.truth(id, anchor);
            if !Self::is_enough(effect) {
                let candidate = Candidate {
                    statement: id,
                    policy: entry.policy,
                    attachment: AttachmentId::new(entry.origin as usize),
                    subject: self.context.index.scope_index.subject_ids.subject(entry.subject_id),
                    scope,
                };
                if let Some(obstacle) = obstacle {
                    self.sink.obstructed(candidate, truth, obstacle, &self.context);
                    continue;
                }
                self.sink.candidate(candidate, truth, &self.context);
            }
            met |= self.reading.counts(effect, truth);
            if met && Self::is_enough(effect) {
                return true;
            }
        }
        met
    }

    /// Whether any ceiling in play bounds the request.
    fn is_bounded(&mut self, subjects: SubjectSets<'_>) -> bool {
        let query = self.context.query;
        let (estate, scope_index) = (self.context.index.estate(), &self.context.index.scope_index);
        let mut bounded = false;
        for &policy in &query.under {
            let limit = LimitingPolicy { ceiling: None, policy, over: None };
            bounded |= self.bounds(limit, 0);
            if bounded && !S::THOROUGH {
                return true;
            }
        }
        let chain =
            scope_index.chain(query.target.scope()).map(|(at, anchor, _)| (Some(at), anchor));
        for (over, anchor) in std::iter::once((None, 0)).chain(chain) {
            // One that binds several of the subjects is asked for each of them: it is still one.
            scope_index.each_ceiling(over, subjects, |entry| {
                let ceiling = CeilingId::new(entry.origin as usize);
                if !entry.windowed || estate.ceiling(ceiling).window.holds(query.time) {
                    let limit =
                        LimitingPolicy { ceiling: Some(ceiling), policy: entry.policy, over };
                    bounded |= self.bounds(limit, anchor);
                }
                bounded && !S::THOROUGH
            });
            if bounded && !S::THOROUGH {
                return true;
            }
        }
        bounded
    }

    /// Whether one ceiling bounds the request (spec section 6, "A ceiling bounds").
    fn bounds(&mut self, limit: LimitingPolicy, anchor: usize) -> bool {
        let action_index = &self.context.index.action_index;
        let action = self.context.query.action;
        let mut statements = Vec::new();
        let mut any = |effect| {
            let mut met = false;
            for id in action_index.statements(limit.policy, effect, action) {
                let truth = self.context.truth(id, anchor);
                if !Self::is_enough(effect) {
                    statements.push((id, truth));
                }
                met |= self.reading.counts(effect, truth);
                if met && Self::is_enough(effect) {
                    break;
                }
            }
            met
        };
        let denied = any(Effect::Deny);
        let allowed = !action_index.has_any(limit.policy, Effect::Allow) || any(Effect::Allow);
        let bounds = denied || !allowed;
        if S::ALL_ALLOWS {
            self.sink.bound(Bound { limit, bounds, statements }, &self.context);
        }
        bounds
    }
}
