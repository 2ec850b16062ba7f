//! Whether taking something away changes any decision, and what has to go with it.

use std::sync::atomic::Ordering;

use super::Vet;
use super::supposed::{Ever, spend};
use crate::edit::{Edit, ListOf, Target, apply, uses};
use crate::id::PolicyId;
use crate::part::Places;
use crate::principal::Principal;
use crate::prove::Opened;

/// How many people times places are gone through for one change, and for all of them together: bounds
/// on the work, beyond which something is not decided.
const MOST_FOR_A_CHANGE: usize = 100_000;
const MOST_FOR_ALL_CHANGES: usize = 600_000;

impl Vet<'_> {
    /// Whether a request was found to speak for any attachment of these policies.
    pub(super) fn has_witnessed_tie(&self, policies: &[PolicyId]) -> bool {
        self.witnesses().ties.iter().any(|(policy, ..)| policies.contains(policy))
    }

    /// Whether nothing is left to be spent on changes.
    pub(super) fn has_spent_all(&self) -> bool {
        self.changes_spent.load(Ordering::Relaxed) >= MOST_FOR_ALL_CHANGES
    }

    /// Whether an edit that concerns these people at these places changes any decision for any of them,
    /// now or later, in any circumstances (spec-work section 8).
    pub(super) fn changes_anything(
        &self,
        edit: &Edit,
        people: &[Principal],
        into: Option<Principal>,
        places: &Places,
    ) -> Ever {
        let size = people.len().saturating_mul(self.rows(places));
        let cost = size + self.fixed_cost();
        if size > MOST_FOR_A_CHANGE || !spend(&self.changes_spent, cost, MOST_FOR_ALL_CHANGES) {
            return Ever::NotDecided;
        }
        let Some(part) = self.whole().edited(edit, people, into, places, self.now) else {
            return Ever::NotDecided;
        };
        let found = match part.opens(self.now) {
            Opened::No => part.closes(self.now),
            other => other,
        };
        match found {
            Opened::Yes => Ever::Yes,
            Opened::No => Ever::Never,
            Opened::NotDecided => Ever::NotDecided,
        }
    }

    /// Why something is better not taken away alone: a group or role that nobody would be in then, a
    /// policy without a statement.
    pub(super) fn leaves_a_hole(&self, removal: &Edit) -> Option<String> {
        match removal {
            Edit::Remove { list, of, .. } => {
                let (id, count) = match list {
                    ListOf::Members | ListOf::Owners => {
                        let group =
                            self.declared.groups.iter().find(|one| one.name.value == *of)?;
                        let by_condition = usize::from(group.body.members_when.is_some());
                        let members = group.body.members.as_deref().unwrap_or_default();
                        (format!("group:{of}"), members.len() + by_condition)
                    }
                    ListOf::HeldBy | ListOf::TakenBy => {
                        let role = self.declared.roles.iter().find(|one| one.name.value == *of)?;
                        let count = role.body.held_by.len() + role.body.taken_by.len();
                        (format!("role:{of}"), count)
                    }
                };
                (count <= 1).then(|| {
                    format!(
                        "nobody else is there: `bexum edit delete {id} --with-uses` takes all of it"
                    )
                })
            }
            Edit::Strike { policy, .. } => {
                let policy = self.declared.policies.iter().find(|one| one.name.value == *policy)?;
                let is_last = policy.body.statements.len() == 1;
                is_last.then(|| "it is the policy's only one: detach the policy".to_owned())
            }
            _ => None,
        }
    }

    /// A removal with that of the policy, where nothing else names it: what is attached nowhere would
    /// be told next.
    pub(super) fn with_what_is_left(&self, removal: &Edit) -> Vec<Edit> {
        let mut edits = vec![removal.clone()];
        let policy = match removal {
            Edit::Detach { policies, .. } => policies.first(),
            Edit::Unlimit { policy, .. } => Some(policy),
            _ => None,
        };
        if let Some(name) = policy {
            let target = Target::Policy(name.clone());
            let mut after = self.declared.clone();
            let is_done = apply(removal, &mut after, &self.estate().catalogue, self.now).is_ok();
            if is_done && uses(&after, &target).is_empty() {
                edits.push(Edit::Delete { target, hand_over: None, with_uses: false });
            }
        }
        edits
    }
}
