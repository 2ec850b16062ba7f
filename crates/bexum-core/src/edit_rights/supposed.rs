//! Estates that stand between the two of a change: what it would be like if only a part of it were
//! made.

use std::collections::{HashMap, HashSet};

use crate::declaration::{
    Ask, Declarations, Element, Group, Named, Policy, Role, Scope, User, WindowWritten,
};
use crate::origin::Spanned;
use crate::time::Time;

/// Declarations by their names.
pub(super) fn by_name<T>(all: &[Named<T>]) -> HashMap<&str, &T> {
    all.iter().map(|one| (one.name.value.as_str(), &one.body)).collect()
}

/// The first estate with what is new in the second in it, bare: its place and kind alone.
pub(super) fn with_new_bare(before: &Declarations, after: &Declarations) -> Declarations {
    let mut all = before.clone();
    add_new(&mut all.scopes, &after.scopes, |scope| Scope {
        scope_type: scope.scope_type,
        kind: scope.kind.clone(),
        sealed: false,
        attributes: Vec::new(),
    });
    add_new(&mut all.users, &after.users, |user| User {
        place: user.place.clone(),
        ..User::default()
    });
    add_new(&mut all.groups, &after.groups, |group| Group {
        place: group.place.clone(),
        ..Group::default()
    });
    add_new(&mut all.roles, &after.roles, |role| Role {
        place: role.place.clone(),
        ..Role::default()
    });
    add_new(&mut all.policies, &after.policies, |policy| Policy {
        place: policy.place.clone(),
        ..Policy::default()
    });
    all
}

fn add_new<T>(all: &mut Vec<Named<T>>, others: &[Named<T>], bare: impl Fn(&T) -> T) {
    let known: HashSet<String> = all.iter().map(|one| one.name.value.clone()).collect();
    let new = others.iter().filter(|one| !known.contains(&one.name.value));
    all.extend(new.map(|one| Named { name: one.name.clone(), about: None, body: bare(&one.body) }));
}

/// Whether two elements say the same, however their windows are written.
pub(super) fn is_same(one: &Element, other: &Element) -> bool {
    let value = |time: &Option<Spanned<Time>>| time.as_ref().map(|time| time.value);
    let window = |written: &WindowWritten| (value(&written.from), value(&written.until));
    one.who.value == other.who.value && window(&one.window) == window(&other.window)
}

/// Whether two people, or one, ask for the same in the same words.
pub(super) fn is_same_ask(one: &Ask, other: &Ask) -> bool {
    (&one.who.value, one.at, &one.why) == (&other.who.value, other.at, &other.why)
}

/// The elements of the first list that the second has not.
pub(super) fn only_in<'d>(
    one: &'d [Element],
    other: &'d [Element],
) -> impl Iterator<Item = &'d Element> {
    one.iter().filter(|element| !other.iter().any(|known| is_same(element, known)))
}

/// The members that are listed.
pub(super) fn members(group: Option<&Group>) -> &[Element] {
    group.and_then(|group| group.members.as_deref()).unwrap_or(&[])
}

/// The first estate without the elements of somebody, in the members of these groups, that the
/// second has not.
pub(super) fn with_left(
    before: &Declarations,
    after: &Declarations,
    who: &str,
    groups: &[String],
) -> Declarations {
    let mut less = before.clone();
    let others = by_name(&after.groups);
    for group in less.groups.iter_mut().filter(|one| groups.contains(&one.name.value)) {
        let kept = members(others.get(group.name.value.as_str()).copied());
        if let Some(list) = &mut group.body.members {
            list.retain(|one| one.who.value != who || kept.iter().any(|k| is_same(one, k)));
        }
    }
    less
}

/// The second estate with somebody's own elements, in the members of these groups, as they are in
/// the first.
pub(super) fn with_own_as_before(
    before: &Declarations,
    after: &Declarations,
    who: &str,
    groups: &[String],
) -> Declarations {
    let mut changed = after.clone();
    let others = by_name(&before.groups);
    for group in changed.groups.iter_mut().filter(|one| groups.contains(&one.name.value)) {
        let old = members(others.get(group.name.value.as_str()).copied());
        let own: Vec<Element> = old.iter().filter(|one| one.who.value == who).cloned().collect();
        if !own.is_empty() || group.body.members.is_some() {
            let list = group.body.members.get_or_insert_default();
            list.retain(|one| one.who.value != who);
            list.extend(own);
        }
    }
    without_asks(&mut changed);
    changed
}

/// The second estate without the elements of `members` and `held-by` that the first has not.
pub(super) fn without_added(before: &Declarations, after: &Declarations) -> Declarations {
    let mut less = after.clone();
    let groups = by_name(&before.groups);
    for group in &mut less.groups {
        let old = members(groups.get(group.name.value.as_str()).copied());
        if let Some(list) = &mut group.body.members {
            list.retain(|one| old.iter().any(|other| is_same(one, other)));
        }
    }
    let roles = by_name(&before.roles);
    for role in &mut less.roles {
        let old = roles.get(role.name.value.as_str()).map_or(&[][..], |role| &role.held_by);
        role.body.held_by.retain(|one| old.iter().any(|other| is_same(one, other)));
    }
    less
}

/// An estate with the elements of `members` and `held-by` in it that the second has and the first
/// has not.
pub(super) fn with_added(
    estate: &Declarations,
    before: &Declarations,
    after: &Declarations,
) -> Declarations {
    let mut more = estate.clone();
    let (old, new) = (by_name(&before.groups), by_name(&after.groups));
    for group in &mut more.groups {
        let name = group.name.value.as_str();
        let (old, new) = (members(old.get(name).copied()), members(new.get(name).copied()));
        let added: Vec<Element> = only_in(new, old).cloned().collect();
        if !added.is_empty() {
            group.body.members.get_or_insert_default().extend(added);
        }
    }
    let (old, new) = (by_name(&before.roles), by_name(&after.roles));
    for role in &mut more.roles {
        let name = role.name.value.as_str();
        let held_by = |role: Option<&&Role>| role.map_or(Vec::new(), |role| role.held_by.clone());
        let (old, new) = (held_by(old.get(name)), held_by(new.get(name)));
        role.body.held_by.extend(only_in(&new, &old).cloned());
    }
    without_asks(&mut more);
    more
}

/// Who asks to be let in decides nothing, and may be a member now, who need not ask.
fn without_asks(estate: &mut Declarations) {
    estate.groups.iter_mut().for_each(|group| group.body.asks.clear());
}
