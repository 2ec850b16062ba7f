//! The decision table of spec section 6, in its order.

use std::rc::Rc;

use rustc_hash::FxHashMap;

use super::closure::{Attached, CeilingAt, Closure, RoleClosure, Table};
use super::facts::Scene;
use super::index::Index;
use super::sink::{Bound, Candidate, Limit, Nothing, Obstacle, Sink};
use crate::decision::{Reading, Reason};
use crate::id::{RoleId, ScopeId, StatementId};
use crate::policy::Effect;
use crate::principal::{Principal, Subject};
use crate::request::Query;
use crate::time::Time;
use crate::truth::Truth;

/// How many windows of one principal are remembered; a log that jumps in time asks for more.
const WINDOWS_KEPT: usize = 8;

/// Answers queries, one at a time; keeps what it has worked out about principals.
#[derive(Debug)]
pub struct Decider<'e> {
    /// The index it asks.
    pub index: &'e Index<'e>,
    closures: FxHashMap<Principal, Vec<Rc<Closure<'e>>>>,
    role_closures: FxHashMap<RoleId, Vec<Rc<RoleClosure<'e>>>>,
    everyone: Option<Rc<Table>>,
}

impl<'e> Decider<'e> {
    /// A decider that knows nobody yet.
    #[must_use]
    pub fn new(index: &'e Index<'e>) -> Self {
        Self {
            index,
            closures: FxHashMap::default(),
            role_closures: FxHashMap::default(),
            everyone: None,
        }
    }

    /// The answer.
    pub fn decide(&mut self, query: &Query<'_>) -> Reason {
        self.decide_into(query, Reading::Strict, &mut Nothing)
    }

    /// The answer under a reading, telling `sink` what is met.
    pub fn decide_into<S: Sink>(
        &mut self,
        query: &Query<'_>,
        reading: Reading,
        sink: &mut S,
    ) -> Reason {
        let closure = self.closure_of(query);
        if let Principal::User(user) = query.who
            && !self.index.estate.user(user).enabled
        {
            return Reason::Disabled;
        }
        let taken = match query.take_up {
            Some(role) if !closure.can_take_up(role) => return Reason::RoleRefused,
            Some(role) => Some(self.role_closure(role, query.time)),
            None => None,
        };
        let everyone = taken.as_ref().map(|_| self.everyone());
        let all_roles = taken.as_ref().map(|taken| {
            let mut names = closure.role_names.clone();
            names.extend(&taken.role_names);
            names.sort_unstable();
            names.dedup();
            names
        });
        let scene = Scene {
            index: self.index,
            query,
            closure: &closure,
            roles: all_roles.as_deref().unwrap_or(&closure.role_names),
        };
        let mut walk = Walk { scene, reading, sink, action: query.action.index() };

        let taken_table = taken.as_ref().map(|taken| &taken.table);
        let mut denied = walk.meets(Effect::Deny, &closure.table);
        if let Some(table) = taken_table
            && (S::THOROUGH || !denied)
        {
            denied |= walk.meets(Effect::Deny, table);
        }
        if denied && !S::THOROUGH {
            return Reason::Denied;
        }
        let granted = match (&taken, &everyone) {
            (Some(taken), Some(everyone)) => {
                walk.scene.roles = &taken.role_names;
                // `everyone` grants to a role taken up as well; nothing else of the closure does.
                let everyone = walk.meets(Effect::Allow, everyone);
                let granted = (everyone && !S::THOROUGH) || walk.meets(Effect::Allow, &taken.table);
                walk.scene.roles = all_roles.as_deref().unwrap_or_default();
                everyone || granted
            }
            _ => walk.meets(Effect::Allow, &closure.table),
        };
        if !granted && !S::THOROUGH {
            return Reason::NotGranted;
        }
        let bounded = walk.is_bounded(&closure.table, taken_table);
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
        if !query.also.is_empty() {
            return Rc::new(Closure::new(self.index, query.who, &query.also, query.time));
        }
        let kept = self.closures.entry(query.who).or_default();
        if let Some(found) = kept.iter().find(|closure| closure.steady.holds(query.time)) {
            return Rc::clone(found);
        }
        if kept.len() == WINDOWS_KEPT {
            kept.remove(0);
        }
        let made = Rc::new(Closure::new(self.index, query.who, &[], query.time));
        kept.push(Rc::clone(&made));
        made
    }

    /// Who asks, and the role that is taken up, if one is.
    pub(crate) fn closures_of(
        &mut self,
        query: &Query<'_>,
    ) -> (Rc<Closure<'e>>, Option<Rc<RoleClosure<'e>>>) {
        let closure = self.closure_of(query);
        let taken = query.take_up.map(|role| self.role_closure(role, query.time));
        (closure, taken)
    }

    /// What is attached to `everyone` alone; asked for where a role is taken up.
    pub(crate) fn everyone(&mut self) -> Rc<Table> {
        let index = self.index;
        let made = || Rc::new(Table::new(index, [Subject::Everyone]));
        Rc::clone(self.everyone.get_or_insert_with(made))
    }

    pub(crate) fn role_closure(&mut self, role: RoleId, at: Time) -> Rc<RoleClosure<'e>> {
        let kept = self.role_closures.entry(role).or_default();
        if let Some(found) = kept.iter().find(|closure| closure.steady.holds(at)) {
            return Rc::clone(found);
        }
        if kept.len() == WINDOWS_KEPT {
            kept.remove(0);
        }
        let made = Rc::new(RoleClosure::new(self.index, role, at));
        kept.push(Rc::clone(&made));
        made
    }
}

struct Walk<'w, S> {
    scene: Scene<'w>,
    reading: Reading,
    sink: &'w mut S,
    action: usize,
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

impl<S: Sink> Walk<'_, S> {
    /// Whether a statement of `effect` in play counts; looks from the target upward.
    fn meets(&mut self, effect: Effect, table: &Table) -> bool {
        let estate = self.scene.index.estate;
        let mut met = false;
        let mut seal = None;
        for scope in estate.scopes.chain(self.scene.query.target.scope()) {
            for attached in table.attached_at(scope) {
                met |= self.meets_attached(effect, attached, seal);
                if met && !S::THOROUGH {
                    return true;
                }
            }
            // A seal stops allows from above; denies pass (spec section 6, "In play").
            if effect == Effect::Allow && estate.scope(scope).sealed && seal.is_none() {
                if !S::THOROUGH {
                    return met;
                }
                seal = Some(scope);
            }
        }
        met
    }

    fn meets_attached(
        &mut self,
        effect: Effect,
        attached: &Attached,
        seal: Option<ScopeId>,
    ) -> bool {
        let estate = self.scene.index.estate;
        let policy = estate.policy(attached.policy);
        let (actions, statements) = match effect {
            Effect::Allow => (&policy.allowed_actions, &policy.allows),
            Effect::Deny => (&policy.denied_actions, &policy.denies),
        };
        if !actions.contains(self.action) {
            return false;
        }
        let phase = attached.window.phase(self.scene.query.time);
        let obstacle = match seal {
            Some(seal) => Some(Obstacle::Seal(seal)),
            None if phase != crate::time::Phase::Open => Some(Obstacle::Window(phase)),
            None => None,
        };
        if obstacle.is_some() && !S::THOROUGH {
            return false;
        }
        let anchor = estate.scope(attached.scope).depth as usize;
        let mut met = false;
        for &id in statements {
            let Some(truth) = self.matches(id, anchor) else { continue };
            if S::THOROUGH {
                let candidate = Candidate {
                    statement: id,
                    policy: attached.policy,
                    attachment: attached.attachment,
                    subject: attached.subject,
                    scope: attached.scope,
                };
                if let Some(obstacle) = obstacle {
                    self.sink.obstructed(candidate, truth, obstacle, &self.scene);
                    continue;
                }
                self.sink.candidate(candidate, truth, &self.scene);
            }
            met |= self.reading.counts(effect, truth);
            if met && !S::THOROUGH {
                return true;
            }
        }
        met
    }

    /// What a statement comes to; `None` when its `do` does not match.
    fn matches(&self, id: StatementId, anchor: usize) -> Option<Truth> {
        let names = self.scene.index.estate.statement(id).actions.contains(self.action);
        names.then(|| self.scene.truth(id, anchor))
    }

    /// Whether any ceiling in play bounds the request.
    fn is_bounded(&mut self, own: &Table, taken: Option<&Table>) -> bool {
        let query = self.scene.query;
        let mut bounded = false;
        for &policy in &query.under {
            let limit = Limit { ceiling: None, policy, over: None };
            bounded |= self.bounds(limit, 0);
            if bounded && !S::THOROUGH {
                return true;
            }
        }
        let estate = self.scene.index.estate;
        let chain = estate.scopes.chain(query.target.scope()).map(Some);
        for over in std::iter::once(None).chain(chain) {
            let anchor = over.map_or(0, |scope| estate.scope(scope).depth as usize);
            let of_taken = taken.map_or(&[][..], |table| table.ceilings_over(over));
            let of_own = own.ceilings_over(over);
            // One that binds both who asks and the role taken up is still one.
            let fresh = of_taken.iter().filter(|entry| !of_own.contains(entry));
            for entry in of_own.iter().chain(fresh) {
                if !entry.window.holds(query.time) {
                    continue;
                }
                let CeilingAt { policy, ceiling, .. } = *entry;
                bounded |= self.bounds(Limit { ceiling: Some(ceiling), policy, over }, anchor);
                if bounded && !S::THOROUGH {
                    return true;
                }
            }
        }
        bounded
    }

    /// Whether one ceiling bounds the request (spec section 6, "A ceiling bounds").
    fn bounds(&mut self, limit: Limit, anchor: usize) -> bool {
        let policy = self.scene.index.estate.policy(limit.policy);
        let mut statements = Vec::new();
        let mut any = |walk: &Self, effect, ids: &[StatementId]| {
            let mut met = false;
            for &id in ids {
                let Some(truth) = walk.matches(id, anchor) else { continue };
                if S::THOROUGH {
                    statements.push((id, truth));
                }
                met |= walk.reading.counts(effect, truth);
                if met && !S::THOROUGH {
                    break;
                }
            }
            met
        };
        let denied =
            policy.denied_actions.contains(self.action) && any(self, Effect::Deny, &policy.denies);
        let allowed = policy.allows.is_empty()
            || (policy.allowed_actions.contains(self.action)
                && any(self, Effect::Allow, &policy.allows));
        let bounds = denied || !allowed;
        if S::THOROUGH {
            self.sink.bound(Bound { limit, bounds, statements }, &self.scene);
        }
        bounds
    }
}
