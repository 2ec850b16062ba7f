//! Somebody asking, by themselves or with a role taken up: whose statements count for them
//! (spec section 6).

use std::rc::Rc;

use super::closure::{Closure, RoleClosure};
use super::evaluate::Decider;
use super::index::Index;
use super::subjects::{SubjectSet, SubjectSets};
use crate::id::{GroupId, RoleId};
use crate::policy::Effect;
use crate::principal::{Principal, Subject};
use crate::time::{Time, Window};

/// Who asks, and what a role that is taken up brings.
pub(crate) struct Session<'e> {
    pub(crate) closure: Rc<Closure<'e>>,
    taken: Option<Rc<RoleClosure<'e>>>,
    /// The active roles and those that the role taken up brings; only where one is.
    together: Option<Vec<&'e str>>,
}

impl<'e> Session<'e> {
    pub(super) fn of(
        decider: &mut Decider<'e>,
        who: Principal,
        also: &[GroupId],
        take_up: Option<RoleId>,
        at: Time,
    ) -> Self {
        let closure = decider.closure_for(who, also, at);
        Self::with(decider, closure, take_up, at)
    }

    /// The session of somebody of whom this closure holds.
    pub(crate) fn with(
        decider: &mut Decider<'e>,
        closure: Rc<Closure<'e>>,
        take_up: Option<RoleId>,
        at: Time,
    ) -> Self {
        let taken = take_up.map(|role| decider.role_closure(role, at));
        let together = taken.as_ref().map(|taken| {
            let mut names = [&closure.role_names[..], &taken.role_names[..]].concat();
            names.sort_unstable();
            names.dedup();
            names
        });
        Self { closure, taken, together }
    }

    /// Whether everything is refused: the user is disabled, or this is no role that they can take up.
    pub(crate) fn is_refused(&self, take_up: Option<RoleId>) -> bool {
        self.closure.is_disabled || take_up.is_some_and(|role| !self.closure.can_take_up(role))
    }

    /// While who asks is in all that, and in no more.
    pub(crate) fn valid_during(&self) -> Window {
        let whole = self.closure.valid_during;
        self.taken.as_ref().map_or(whole, |taken| whole.intersect(&taken.valid_during))
    }

    /// Whose denies and ceilings count.
    pub(crate) fn subjects(&self) -> SubjectSets<'_> {
        SubjectSets(&self.closure.subjects, self.taken.as_ref().map(|taken| &taken.subjects))
    }

    /// Whose allows count.
    pub(super) fn granting(&self) -> &SubjectSet {
        self.taken.as_ref().map_or(&self.closure.subjects, |taken| &taken.subjects)
    }

    /// Whether allows attached to a principal count.
    pub(crate) fn is_granted_what_is_for(&self, who: Principal, index: &Index) -> bool {
        self.granting().has(index.scope_index.subject_ids.of(Subject::One(who)))
    }

    /// Whose statements of this effect count, of those that are attached.
    pub(crate) fn subjects_of(&self, effect: Effect) -> SubjectSets<'_> {
        match effect {
            Effect::Allow => SubjectSets(self.granting(), None),
            Effect::Deny => self.subjects(),
        }
    }

    /// `who.roles` in the statements of attachments.
    pub(crate) fn roles_of(&self, effect: Effect) -> &[&'e str] {
        match (effect, &self.taken) {
            (Effect::Allow, Some(taken)) => &taken.role_names,
            _ => self.roles(),
        }
    }

    /// `who.roles` in denies and in the statements of ceilings.
    pub(crate) fn roles(&self) -> &[&'e str] {
        self.together.as_deref().unwrap_or(&self.closure.role_names)
    }
}
