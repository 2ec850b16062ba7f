//! Who stands in a group's or a role's lists, and who asked to.

use super::ListOf;
use super::apply::{Applied, EditFault, find, new_word};
use super::keys::expect_declared;
use crate::declaration::{Ask, Declarations, Element, Group, Named, WindowWritten};
use crate::origin::{Origin, Spanned};
use crate::time::{Time, Window};

/// A window that nobody has written yet.
pub(super) fn written(window: Window) -> WindowWritten {
    let at = |time: Option<Time>| time.map(|time| Spanned::new(time, Origin::default()));
    WindowWritten { from: at(window.from), until: at(window.until) }
}

/// Whether one window holds all of another.
pub(super) fn holds_all(outer: &WindowWritten, inner: Window) -> bool {
    let from = |at: Option<Time>| at.map_or(i64::MIN, |at| at.0);
    let until = |at: Option<Time>| at.map_or(i64::MAX, |at| at.0);
    let outer = [outer.from.as_ref().map(|at| at.value), outer.until.as_ref().map(|at| at.value)];
    from(outer[0]) <= from(inner.from) && until(outer[1]) >= until(inner.until)
}

pub(super) fn add(
    declared: &mut Declarations,
    who: &[String],
    list: ListOf,
    of: &str,
    window: Window,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    for one in who {
        expect_declared(declared, one)?;
        if list == ListOf::Owners {
            add_owner(find(&mut declared.groups, "group", of)?, one, window, applied)?;
            continue;
        }
        let elements = elements(declared, list, of)?;
        let key = list.key();
        let stands = |known: &Element| known.who.value == *one && holds_all(&known.window, window);
        if elements.iter().any(stands) {
            applied.note(format!("{one} is in `{key}` of {of} already"));
            continue;
        }
        elements.push(Element { who: new_word(one), window: written(window) });
        if list == ListOf::Members && window.until.is_none() {
            // Who is in for good asks no more (spec-work section 7.3).
            let group = find(&mut declared.groups, "group", of)?;
            group.body.asks.retain(|ask| ask.who.value != *one);
        }
    }
    Ok(())
}

fn add_owner(
    group: &mut Named<Group>,
    who: &str,
    window: Window,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    if window != Window::ALWAYS {
        return Err(EditFault::Nothing("owners have no window".to_owned()));
    }
    let owners = group.body.owners.get_or_insert_default();
    if owners.iter().any(|known| known.value == who) {
        applied.note(format!("{who} owns group:{} already", group.name.value));
        return Ok(());
    }
    owners.push(new_word(who));
    Ok(())
}

fn elements<'d>(
    declared: &'d mut Declarations,
    list: ListOf,
    of: &str,
) -> Result<&'d mut Vec<Element>, EditFault> {
    Ok(match list {
        ListOf::Members | ListOf::Owners => {
            find(&mut declared.groups, "group", of)?.body.members.get_or_insert_default()
        }
        ListOf::HeldBy => &mut find(&mut declared.roles, "role", of)?.body.held_by,
        ListOf::TakenBy => &mut find(&mut declared.roles, "role", of)?.body.taken_by,
    })
}

pub(super) fn remove(
    declared: &mut Declarations,
    who: &[String],
    list: ListOf,
    of: &str,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    for one in who {
        let is_gone = match list {
            ListOf::Owners => {
                let group = find(&mut declared.groups, "group", of)?;
                let owners = group.body.owners.as_mut();
                owners.is_some_and(|owners| take(owners, |known| known.value == *one))
            }
            ListOf::Members => {
                let group = find(&mut declared.groups, "group", of)?;
                let members = group.body.members.as_mut();
                let by_hand = members.is_some_and(|all| take(all, |known| known.who.value == *one));
                if by_hand && group.body.members_when.is_some() {
                    applied.note(format!(
                        "whom `members-when` of group:{of} matches is in it without being named"
                    ));
                }
                by_hand
            }
            _ => take(elements(declared, list, of)?, |known| known.who.value == *one),
        };
        if !is_gone {
            let key = list.key();
            return Err(EditFault::Nothing(format!("{one} does not stand in `{key}` of {of}")));
        }
    }
    Ok(())
}

/// Takes out what is so; whether there was any.
pub(super) fn take<T>(all: &mut Vec<T>, is: impl Fn(&T) -> bool) -> bool {
    let before = all.len();
    all.retain(|one| !is(one));
    all.len() < before
}

pub(super) fn ask_in(
    declared: &mut Declarations,
    user: &str,
    group: &str,
    why: Option<&str>,
    now: Time,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    let who = format!("user:{user}");
    expect_declared(declared, &who)?;
    let body = &mut find(&mut declared.groups, "group", group)?.body;
    let for_good = |one: &Element| one.who.value == who && one.window.until.is_none();
    if body.members.iter().flatten().any(for_good) {
        applied.note(format!("{who} is in group:{group} already"));
        return Ok(());
    }
    if body.asks.iter().any(|ask| ask.who.value == who) {
        applied.note(format!("{who} asked to be let into group:{group} before"));
        return Ok(());
    }
    body.asks.push(Ask { who: new_word(&who), at: now, why: why.map(str::to_owned) });
    Ok(())
}

/// Takes away that a user asked.
pub(super) fn take_ask(
    declared: &mut Declarations,
    user: &str,
    group: &str,
) -> Result<(), EditFault> {
    let who = format!("user:{user}");
    let body = &mut find(&mut declared.groups, "group", group)?.body;
    match take(&mut body.asks, |ask| ask.who.value == who) {
        true => Ok(()),
        false => Err(EditFault::Nothing(format!("{who} does not ask to be let into {group}"))),
    }
}
