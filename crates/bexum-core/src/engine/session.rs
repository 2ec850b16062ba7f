//! Somebody asking, by themselves or with a role taken up: whose statements are sought for them
//! (spec section 6).

use std::rc::Rc;

use super::closure::{Closure, RoleClosure};
use super::evaluate::Decider;
use super::sought::{Sought, Whom};
use crate::id::{GroupId, RoleId};
use crate::policy::Effect;
use crate::principal::Principal;
use crate::time::Time;

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
        let taken = take_up.map(|role| decider.role_closure(role, at));
        let together = taken.as_ref().map(|taken| {
            let mut names = [&closure.role_names[..], &taken.role_names[..]].concat();
            names.sort_unstable();
            names.dedup();
            names
        });
        Self { closure, taken, together }
    }

    /// Whom denies and ceilings are sought for.
    pub(crate) fn whom(&self) -> Whom<'_> {
        Whom(&self.closure.sought, self.taken.as_ref().map(|taken| &taken.sought))
    }

    /// Whom allows are sought for.
    pub(super) fn granting(&self) -> &Sought {
        self.taken.as_ref().map_or(&self.closure.sought, |taken| &taken.sought)
    }

    /// Whom the statements of attachments are sought for.
    pub(crate) fn whom_of(&self, effect: Effect) -> Whom<'_> {
        match effect {
            Effect::Allow => Whom(self.granting(), None),
            Effect::Deny => self.whom(),
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
