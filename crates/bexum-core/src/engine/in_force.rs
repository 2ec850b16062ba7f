//! The policies that have a say about what a session can do at a place.

use super::index::Index;
use super::session::Session;
use crate::catalogue::ActionSet;
use crate::estate::Estate;
use crate::id::{PolicyId, ScopeId, StatementId};
use crate::policy::Effect;
use crate::time::Window;

/// In what sense a policy is in play.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Sense {
    Allows,
    Denies,
    Bounds,
    /// A ceiling without an allow.
    BoundsByDenies,
}

impl Sense {
    /// How its statements see the roles of who asks.
    pub(crate) fn sees(self) -> Effect {
        if self == Self::Allows { Effect::Allow } else { Effect::Deny }
    }

    /// Whether what a policy says in this sense has to do with some of these actions: a ceiling has, with
    /// all.
    pub(crate) fn is_about(self, estate: &Estate, policy: PolicyId, actions: &ActionSet) -> bool {
        let policy = estate.policy(policy);
        match self {
            Self::Allows => !policy.allowed_actions.is_disjoint(actions),
            Self::Denies => !policy.denied_actions.is_disjoint(actions),
            Self::Bounds | Self::BoundsByDenies => true,
        }
    }

    /// The statements of a policy that count in this sense: what it allows, and what it denies.
    pub(crate) fn statements(self, estate: &Estate, policy: PolicyId) -> [&[StatementId]; 2] {
        let policy = estate.policy(policy);
        match self {
            Self::Allows => [&policy.allows, &[]],
            Self::Denies => [&[], &policy.denies],
            Self::Bounds | Self::BoundsByDenies => [&policy.allows, &policy.denies],
        }
    }
}

/// What grants, refuses or bounds.
#[derive(Clone, Copy, Debug)]
pub(crate) struct InForce {
    pub(crate) sense: Sense,
    /// How many segments down its patterns start.
    pub(crate) anchor: usize,
    pub(crate) policy: PolicyId,
    pub(crate) window: Window,
    /// Whether a seal stops it (spec section 6): then its patterns tell items apart, and no more.
    pub(crate) is_stopped: bool,
}

/// Everything that is attached to a session's subjects at a scope or above it, and every ceiling that
/// bounds them there, whenever it counts; and these policies, which bound the session itself.
pub(crate) fn in_force(
    index: &Index,
    session: &Session<'_>,
    under: &[PolicyId],
    scope: ScopeId,
) -> Vec<InForce> {
    let (estate, scope_index) = (index.estate(), &index.scope_index);
    let mut found = Vec::new();
    let bound = |policy: PolicyId, anchor: usize, window: Window| {
        let sense = match estate.policy(policy).allows.is_empty() {
            true => Sense::BoundsByDenies,
            false => Sense::Bounds,
        };
        InForce { sense, anchor, policy, window, is_stopped: false }
    };
    found.extend(under.iter().map(|policy| bound(*policy, 0, Window::ALWAYS)));
    let overs = scope_index.chain(scope).map(|(at, anchor, _)| (Some(at), anchor));
    for (over, anchor) in std::iter::once((None, 0)).chain(overs) {
        scope_index.each_ceiling(over, session.subjects(), |entry| {
            let window = estate.ceilings[entry.origin as usize].window;
            found.push(bound(entry.policy, anchor, window));
            false
        });
    }
    let mut is_sealed = false;
    for (at, anchor, sealed) in scope_index.chain(scope) {
        for sense in [Sense::Allows, Sense::Denies] {
            // A seal stops allows from above.
            let is_stopped = is_sealed && sense == Sense::Allows;
            scope_index.attached_at(at).each_sought(session.subjects_of(sense.sees()), |entry| {
                let window = estate.attachments[entry.origin as usize].window;
                found.push(InForce { sense, anchor, policy: entry.policy, window, is_stopped });
                false
            });
        }
        is_sealed |= sealed;
    }
    found
}
