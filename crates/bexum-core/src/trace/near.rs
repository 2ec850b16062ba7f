//! What nearly allowed a request: policies attached elsewhere or to others, memberships at
//! another time. This looks through all attachments, which only an explanation may do.

use crate::decision::{Reading, Reason};
use crate::engine::{Closure, Decider, EvalContext, Index, NullSink};
use crate::id::{AttachmentId, GroupId, PolicyId, ScopeId, StatementId};
use crate::principal::{Principal, Subject};
use crate::prove::{Possible, possible};
use crate::request::Query;
use crate::time::{Phase, Time, Window};
use crate::truth::Truth;

/// Most near misses worth showing.
const MOST: usize = 5;

/// A policy with an allow statement for the action that did not come into play.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NearMiss {
    /// The statement.
    pub statement: StatementId,
    /// The policy.
    pub policy: PolicyId,
    /// What it lacks.
    pub shortfall: Shortfall,
}

/// What a near miss lacks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Shortfall {
    /// It is attached above the target, to others.
    ToOthers {
        /// The attachment.
        attachment: AttachmentId,
        /// The lowest of its scopes above the target.
        scope: ScopeId,
    },
    /// It is attached to this principal, but not at or above the target.
    Elsewhere {
        /// The attachment.
        attachment: AttachmentId,
        /// The subject that it names.
        subject: Subject,
        /// The scope of it that shares most with the target.
        scope: ScopeId,
    },
    /// It is attached nowhere.
    Unattached,
}

/// A group or role that the principal would be in at another time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Lapse {
    /// Who stands in it: the principal, or a group or role of it.
    pub who: Principal,
    /// The group or role.
    pub into: Principal,
    /// When it stands there.
    pub window: Window,
    /// Where the request's moment lies.
    pub phase: Phase,
}

/// Most groups that are tried.
const MOST_TRIED: usize = 20;

/// Whether a query is allowed: for certain, or in some circumstances, as far as can be found out.
pub(super) fn help(decider: &mut Decider<'_>, query: &Query<'_>) -> Truth {
    if decider.decide(query) == Reason::Granted {
        return Truth::True;
    }
    match decider.decide_into(query, Reading::Hopeful, &mut NullSink) {
        Reason::Granted if !matches!(possible(decider, query), Possible::No) => Truth::Undecided,
        _ => Truth::False,
    }
}

/// Groups that might have the query allowed: those that a policy is attached to which nearly
/// allowed it, or whose members may take up a role that was refused.
pub(super) fn groups_to_try(
    index: &Index,
    query: &Query<'_>,
    near: &[NearMiss],
    closure: &Closure<'_>,
) -> Vec<GroupId> {
    let estate = index.estate();
    let attached = near.iter().filter_map(|miss| match miss.shortfall {
        Shortfall::ToOthers { attachment, .. } => Some(attachment),
        _ => None,
    });
    let attached = attached.flat_map(|id| estate.attachment(id).to.iter().map(|to| to.value));
    let attached = attached.filter_map(|subject| match subject {
        Subject::One(Principal::Group(id)) => Some(id),
        _ => None,
    });
    let able = query.take_up.into_iter().flat_map(|role| {
        let role = estate.role(role);
        let able = role.taken_by.iter().chain(&role.held_by);
        able.filter_map(|member| match member.who {
            Principal::Group(id) if member.window.holds(query.time) => Some(id),
            _ => None,
        })
    });
    let mut groups: Vec<GroupId> = Vec::new();
    for group in attached.chain(able) {
        if closure.groups.binary_search(&group).is_err() && !groups.contains(&group) {
            groups.push(group);
        }
    }
    groups.truncate(MOST_TRIED);
    groups
}

/// Whether a refused query would be answered better at the time of a membership.
pub(super) fn would_help(
    decider: &mut Decider<'_>,
    query: &Query<'_>,
    reason: Reason,
    lapse: &Lapse,
) -> bool {
    let at = match (lapse.phase, lapse.window.from, lapse.window.until) {
        (Phase::Future, Some(from), _) => from,
        (Phase::Past, _, Some(until)) => Time(until.0 - 1),
        _ => return false,
    };
    let then = decider.decide(&Query { time: at, ..query.clone() });
    let supposed = match lapse.into {
        Principal::Group(group) => {
            let mut supposed = query.clone();
            supposed.also.push(group);
            decider.decide(&supposed)
        }
        _ => reason,
    };
    [then, supposed].contains(&Reason::Granted)
}

/// Memberships and role holdings of a closure that do not hold at a moment.
#[must_use]
pub fn lapses(index: &Index, closure: &Closure<'_>, at: Time) -> Vec<Lapse> {
    let mut found = Vec::new();
    let groups = closure.groups.iter().map(|group| Principal::Group(*group));
    let roles = closure.roles.iter().map(|role| Principal::Role(*role));
    let mut holders: Vec<Principal> =
        std::iter::once(closure.principal).chain(groups).chain(roles).collect();
    holders.sort_unstable();
    holders.dedup();
    for who in holders {
        let mut note = |into, window: Window| {
            let phase = window.phase(at);
            if phase != Phase::Open {
                found.push(Lapse { who, into, window, phase });
            }
        };
        for standing in index.groups_of.get(&who).into_iter().flatten() {
            if closure.groups.binary_search(&standing.into).is_err() {
                note(Principal::Group(standing.into), standing.window);
            }
        }
        let held = index.held_roles_of.get(&who).into_iter().flatten();
        let takeable = index.takeable_roles_of.get(&who).into_iter().flatten();
        for standing in held.chain(takeable) {
            if !closure.can_take_up(standing.into) {
                note(Principal::Role(standing.into), standing.window);
            }
        }
    }
    found
}

/// The nearest policies that would have allowed it.
pub(super) fn misses(index: &Index, query: &Query<'_>, closure: &Closure<'_>) -> Vec<NearMiss> {
    let estate = index.estate();
    let context = EvalContext { index, query, closure, roles: None };
    let target = query.target.scope();
    let is_sought = |subject: Subject| match subject {
        Subject::Everyone => true,
        Subject::One(Principal::Group(id)) => closure.groups.binary_search(&id).is_ok(),
        Subject::One(Principal::Role(id)) => closure.roles.binary_search(&id).is_ok(),
        Subject::One(principal) => principal == closure.principal,
    };
    // Ranked: what is attached above comes before what is attached elsewhere, near before far.
    let mut found: Vec<(u8, usize, NearMiss)> = Vec::new();
    let mut attached = vec![false; estate.policies.len()];
    let mut with_action = vec![false; estate.policies.len()];
    for (i, policy) in estate.policies.iter().enumerate() {
        with_action[i] = policy.allowed_actions.contains(query.action.index());
    }
    for (i, attachment) in estate.attachments.iter().enumerate() {
        let id = AttachmentId::new(i);
        for policy in attachment.policies.iter().map(|written| written.value) {
            attached[policy.index()] = true;
            if !with_action[policy.index()] {
                continue;
            }
            let sought = attachment.to.iter().map(|to| to.value).find(|to| is_sought(*to));
            let scopes = attachment.at.iter().map(|at| at.value);
            let above = scopes
                .clone()
                .filter(|scope| estate.scopes.holds(*scope, target))
                .max_by_key(|scope| estate.scope(*scope).depth);
            match (sought, above) {
                (None, Some(scope)) => {
                    let anchor = estate.scope(scope).depth as usize;
                    let matching = estate.policy(policy).allows.iter().find(|statement| {
                        let statement = estate.statement(**statement);
                        statement.actions.contains(query.action.index())
                            && statement.on.matches(&query.target.segments, anchor, &context)
                                == Truth::True
                    });
                    if let Some(&statement) = matching {
                        let shortfall = Shortfall::ToOthers { attachment: id, scope };
                        let distance = query.target.segments.len() - anchor;
                        found.push((0, distance, NearMiss { statement, policy, shortfall }));
                    }
                }
                (Some(subject), None) => {
                    let shared = |scope: &ScopeId| {
                        let path = &estate.scope(*scope).path;
                        path.split('/')
                            .zip(&query.target.segments)
                            .take_while(|(a, b)| a == *b)
                            .count()
                    };
                    let Some(scope) = scopes.max_by_key(shared) else { continue };
                    let Some(statement) = naming(index, policy, query) else { continue };
                    let shortfall = Shortfall::Elsewhere { attachment: id, subject, scope };
                    let apart = usize::MAX - shared(&scope);
                    found.push((1, apart, NearMiss { statement, policy, shortfall }));
                }
                _ => {}
            }
        }
    }
    // What another policy includes, or a ceiling is made of, has its use.
    let included = estate.policies.iter().flat_map(|policy| &policy.include).copied();
    let limits = estate.ceilings.iter().flat_map(|c| c.policies.iter().map(|p| p.value));
    for used in included.chain(limits) {
        attached[used.index()] = true;
    }
    for (i, policy) in estate.policies.iter().enumerate() {
        if with_action[i] && !attached[i] && !policy.is_empty() {
            let Some(statement) = naming(index, PolicyId::new(i), query) else { continue };
            let miss =
                NearMiss { statement, policy: PolicyId::new(i), shortfall: Shortfall::Unattached };
            found.push((2, 0, miss));
        }
    }
    found.sort_by_key(|(rank, distance, miss)| (*rank, *distance, miss.statement));
    found.dedup_by_key(|(rank, _, miss)| (*rank, miss.policy));
    found.into_iter().map(|(_, _, miss)| miss).take(MOST).collect()
}

/// The first allow statement of the policy that names the action.
fn naming(index: &Index, policy: PolicyId, query: &Query<'_>) -> Option<StatementId> {
    let allows = &index.estate().policy(policy).allows;
    let named =
        |id: &&StatementId| index.estate().statement(**id).actions.contains(query.action.index());
    allows.iter().find(named).copied()
}
