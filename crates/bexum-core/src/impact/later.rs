//! What a change brings about later: the moments at which something that was changed begins or
//! ends.

use std::collections::BTreeSet;

use rustc_hash::FxHashSet;

use super::touches::ties;
use crate::estate::Estate;
use crate::principal::Membership;
use crate::time::{Time, Window};

/// An element of a list: of what, which list, who, when.
type Listed = (String, &'static str, String, Window);

/// The moments after this one at which an attachment, a ceiling or an element of a list begins or
/// ends that stands so in one of the estates alone, in order.
#[must_use]
pub fn later_moments(before: &Estate, after: &Estate, now: Time) -> Vec<Time> {
    let mut windows: Vec<Window> = Vec::new();
    let [old, new] = [before, after].map(ties);
    windows.extend(old.symmetric_difference(&new).map(|(.., window)| *window));
    let [old, new] = [before, after].map(listed);
    windows.extend(old.symmetric_difference(&new).map(|(.., window)| *window));
    let bounds = windows.into_iter().flat_map(|window| window.from.into_iter().chain(window.until));
    let later: BTreeSet<Time> = bounds.filter(|at| *at > now).collect();
    later.into_iter().collect()
}

/// Every member, holder, and whoever may take up a role.
fn listed(estate: &Estate) -> FxHashSet<Listed> {
    let mut all: FxHashSet<Listed> = FxHashSet::default();
    let mut add =
        |of: &str, list: &'static str, members: &[Membership]| {
            all.extend(members.iter().map(|member| {
                (of.to_owned(), list, estate.principal_id(member.who), member.window)
            }));
        };
    for group in &estate.groups {
        add(&group.identity.name, "members", group.members.as_deref().unwrap_or(&[]));
    }
    for role in &estate.roles {
        add(&role.identity.name, "held-by", &role.held_by);
        add(&role.identity.name, "taken-by", &role.taken_by);
    }
    all
}
