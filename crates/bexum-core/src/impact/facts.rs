//! What statements can ask about who asks, in one estate, to be held against the same in another.

use std::rc::Rc;

use crate::attribute::{Attributes, Value};
use crate::engine::{Closure, Decider, RoleClosure};
use crate::estate::Estate;
use crate::principal::Principal;
use crate::reach::Viewpoint;

/// All that statements can ask about who asks. Names are compared, so these may be of two estates.
pub(super) struct Facts<'e> {
    closure: Rc<Closure<'e>>,
    taken: Option<Rc<RoleClosure<'e>>>,
    /// Whether they may take up that role: at this moment, which may be before they can.
    may_take_up: bool,
    /// Their own attributes, by name.
    own: Vec<(&'e str, &'e Value)>,
}

impl<'e> Facts<'e> {
    pub(super) fn of(decider: &mut Decider<'e>, view: &Viewpoint) -> Self {
        let closure = decider.closure_for(view.who, &view.also, view.time);
        let taken = view.take_up.map(|role| decider.role_closure(role, view.time));
        let may_take_up = view.take_up.is_none_or(|role| closure.can_take_up(role));
        let own = own_attributes(decider.index.estate(), view.who);
        Self { closure, taken, may_take_up, own }
    }

    /// By what names statements can ask for what differs between these; `None` where it tells what
    /// becomes of a request, whatever is asked.
    pub(super) fn asked_apart(&self, other: &Self) -> Option<Vec<String>> {
        fn taken<'f>(facts: &'f Facts<'_>) -> Option<&'f [&'f str]> {
            facts.taken.as_ref().map(|role| &role.role_names[..])
        }
        let (one, its) = (&self.closure, &other.closure);
        if self.may_take_up != other.may_take_up || one.is_disabled != its.is_disabled {
            return None;
        }
        let mut found = Vec::new();
        let mut add = |differs: bool, name: &str| {
            if differs {
                found.push(format!("who.{name}"));
            }
        };
        add(one.group_names != its.group_names, "groups");
        add(one.role_names != its.role_names || taken(self) != taken(other), "roles");
        add(one.manager != its.manager, "manager");
        for (some, others) in [(&self.own, &other.own), (&other.own, &self.own)] {
            some.iter().for_each(|own| add(!others.contains(own), own.0));
        }
        Some(found)
    }
}

fn own_attributes(estate: &Estate, who: Principal) -> Vec<(&str, &Value)> {
    let mut all: Vec<&Attributes> = Vec::new();
    match who {
        Principal::Workload(scope) => {
            all.extend(estate.scopes.chain(scope).map(|at| &estate.scope(at).attributes));
        }
        who => all.extend(estate.identity(who).map(|it| &it.attributes)),
    }
    let each = all.into_iter().flat_map(Attributes::iter);
    let mut own: Vec<_> =
        each.map(|(id, value)| (estate.attribute_names.name(id), value)).collect();
    // Of a workload's, which come from the nearest scope first, the nearest of each name counts.
    own.sort_by_key(|(name, _)| *name);
    own.dedup_by_key(|(name, _)| *name);
    own
}
