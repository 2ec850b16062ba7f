//! What a change brings about later: the moments at which something that was changed begins or
//! ends.

use std::collections::BTreeSet;

use super::change::{Difference, Thing, windows_of};
use crate::estate::Estate;
use crate::principal::Membership;
use crate::time::{Time, Window};

/// An element of a list: in which list, who, when.
type Listed = (&'static str, String, Window);

/// The moments after this one at which an attachment, a ceiling or an element of a list begins or
/// ends that stands so in one of the estates alone, in order.
#[must_use]
pub fn later_moments(
    before: &Estate,
    after: &Estate,
    differences: &[Difference],
    now: Time,
) -> Vec<Time> {
    let estates = [before, after];
    let mut windows: Vec<Window> = differences
        .iter()
        .filter(|one| matches!(one.thing, Thing::Group(_) | Thing::Role(_)))
        .flat_map(|one| {
            let [old, new] = estates.map(|estate| listed(estate, &one.thing));
            let alone = |one: &[Listed], other: &[Listed]| {
                let alone = one.iter().filter(|listed| !other.contains(listed));
                alone.map(|(.., window)| *window).collect::<Vec<_>>()
            };
            [alone(&old, &new), alone(&new, &old)].concat()
        })
        .collect();
    windows.extend(windows_of(estates, differences));
    let bounds = windows.into_iter().flat_map(|window| window.from.into_iter().chain(window.until));
    let later: BTreeSet<Time> = bounds.filter(|at| *at > now).collect();
    later.into_iter().collect()
}

/// The members of a group; the holders of a role and whoever may take it up.
fn listed(estate: &Estate, thing: &Thing) -> Vec<Listed> {
    let named = |list: &'static str, members: &[Membership]| -> Vec<Listed> {
        let one = |member: &Membership| (list, estate.principal_id(member.who), member.window);
        members.iter().map(one).collect()
    };
    match thing {
        Thing::Group(name) => estate.find_group(name).map_or(Vec::new(), |id| {
            named("members", estate.group(id).members.as_deref().unwrap_or(&[]))
        }),
        Thing::Role(name) => estate.find_role(name).map_or(Vec::new(), |id| {
            let role = estate.role(id);
            [named("held-by", &role.held_by), named("taken-by", &role.taken_by)].concat()
        }),
        _ => Vec::new(),
    }
}
