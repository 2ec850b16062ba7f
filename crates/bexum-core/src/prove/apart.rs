//! Separation of duty: who has two things that nobody may have together.

use super::moments::{moments, timeline};
use crate::engine::{Closure, Index, RoleClosure, SubjectSet};
use crate::expectation::{Duty, Separation};
use crate::id::{AttachmentId, PolicyId, RoleId, ScopeId};
use crate::principal::Principal;
use crate::time::Time;

/// Two things that somebody has at one time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Overlap {
    /// Who.
    pub who: Principal,
    /// When, for one.
    pub time: Time,
    /// The first of the two, in the order of the list.
    pub first: Has,
    /// The other of the two duties.
    pub second: Has,
}

/// How somebody has something.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Has {
    /// By being in the group.
    Group(crate::id::GroupId),
    /// By holding the role.
    Holds(RoleId),
    /// By being able to take the role up.
    CanTakeUp(RoleId),
    /// By being able to take up another role that brings it.
    ComesWith {
        /// The role.
        role: RoleId,
        /// The one that can be taken up.
        taken_up: RoleId,
    },
    /// By an attachment that reaches.
    Reached {
        /// What was named.
        policy: PolicyId,
        /// The attachment, of the policy or of one that includes it.
        attachment: AttachmentId,
        /// The scope that it is attached at.
        scope: ScopeId,
        /// The role that has to be taken up for it.
        by_taking_up: Option<RoleId>,
    },
}

/// The first overlap of somebody, if there is one at any time.
#[must_use]
pub fn overlaps(
    index: &Index,
    separation: &Separation,
    who: Principal,
    now: Time,
) -> Option<Overlap> {
    for closure in timeline(index, who, now) {
        let looks_at_policies =
            separation.any_two_of.iter().any(|duty| matches!(duty, Duty::Policy(_)));
        let looks_at_roles = separation.any_two_of.iter().any(|duty| matches!(duty, Duty::Role(_)));
        let taken: Vec<(RoleId, Vec<RoleClosure<'_>>)> = if looks_at_policies || looks_at_roles {
            closure.takeable.iter().map(|role| (*role, over_time(index, &closure, *role))).collect()
        } else {
            Vec::new()
        };
        let mut bounds = Vec::new();
        for role in taken.iter().flat_map(|(_, all)| all) {
            bounds.extend(role.valid_during.from.iter().chain(&role.valid_during.until));
        }
        if looks_at_policies {
            let of_roles = taken.iter().flat_map(|(_, all)| all);
            let sought = of_roles.clone().map(|taken| &taken.subjects).chain([&closure.subjects]);
            for attached in sought.flat_map(|sought| index.attached_to(sought)) {
                bounds.extend(attached.window.from.iter().chain(&attached.window.until));
            }
        }
        bounds.sort_unstable();
        bounds.dedup();
        for time in moments(closure.valid_during, now, &bounds) {
            let seen = Holdings { index, separation, closure: &closure, taken: &taken, time };
            let mut had = separation.any_two_of.iter().filter_map(|duty| seen.has(*duty));
            if let (Some(first), Some(second)) = (had.next(), had.next()) {
                return Some(Overlap { who, time, first, second });
            }
        }
    }
    None
}

/// What a role brings, at each time while the closure is as it is.
fn over_time<'e>(index: &'e Index, closure: &Closure<'e>, role: RoleId) -> Vec<RoleClosure<'e>> {
    let mut found = Vec::new();
    let mut at = closure.valid_during.from.unwrap_or(super::EARLIEST);
    loop {
        let taken = RoleClosure::new(index, role, at);
        let until = taken.valid_during.until;
        found.push(taken);
        match until {
            Some(next) if next > at && closure.valid_during.holds(next) => at = next,
            _ => return found,
        }
    }
}

struct Holdings<'s, 'e> {
    index: &'s Index,
    separation: &'s Separation,
    closure: &'s Closure<'e>,
    taken: &'s [(RoleId, Vec<RoleClosure<'e>>)],
    time: Time,
}

impl Holdings<'_, '_> {
    fn has(&self, duty: Duty) -> Option<Has> {
        match duty {
            Duty::Group(id) => {
                self.closure.groups.binary_search(&id).is_ok().then_some(Has::Group(id))
            }
            Duty::Role(id) if self.closure.roles.binary_search(&id).is_ok() => Some(Has::Holds(id)),
            Duty::Role(id) if self.closure.can_take_up(id) => Some(Has::CanTakeUp(id)),
            Duty::Role(id) => self.taken.iter().find_map(|(taken_up, all)| {
                let now = all.iter().find(|taken| taken.valid_during.holds(self.time))?;
                let brings = now.roles.binary_search(&id).is_ok();
                brings.then_some(Has::ComesWith { role: id, taken_up: *taken_up })
            }),
            Duty::Policy(id) => {
                let own = self.reached(id, &self.closure.subjects, None);
                own.or_else(|| {
                    self.taken.iter().find_map(|(role, all)| {
                        let now = all.iter().find(|taken| taken.valid_during.holds(self.time))?;
                        self.reached(id, &now.subjects, Some(*role))
                    })
                })
            }
        }
    }

    fn reached(&self, policy: PolicyId, sought: &SubjectSet, role: Option<RoleId>) -> Option<Has> {
        let found = self.index.attached_to(sought).find(|attached| {
            attached.window.holds(self.time)
                && self.brings(attached.policy, policy)
                && self.reaches(attached.scope, policy)
        })?;
        Some(Has::Reached {
            policy,
            attachment: found.attachment,
            scope: found.scope,
            by_taking_up: role,
        })
    }

    /// Whether `attached` is `wanted` or includes it, to any depth.
    fn brings(&self, attached: PolicyId, wanted: PolicyId) -> bool {
        attached == wanted || self.index.estate().includes(attached, wanted)
    }

    /// Whether what is attached at a scope has anything to say at the separation's scopes, or
    /// below them: a seal shuts out allows from above it.
    fn reaches(&self, scope: ScopeId, policy: PolicyId) -> bool {
        let Some(wanted) = &self.separation.at else { return true };
        let estate = self.index.estate();
        let only_allows = estate.policy(policy).denies.is_empty();
        wanted.iter().any(|at| {
            if estate.scopes.holds(*at, scope) {
                return true;
            }
            let above = estate.scopes.holds(scope, *at);
            let mut between = estate.scopes.chain(*at).take_while(|id| *id != scope);
            above && !(only_allows && between.any(|id| estate.scope(id).sealed))
        })
    }
}
