//! Users of two estates held against each other, one by one: there may be a hundred thousand of whom
//! few differ, so what they say is written out only of those who may.

use std::cmp::Ordering;

use super::change::{IsLookedAt, of_identity, text};
use crate::attribute::Attributes;
use crate::estate::Estate;
use crate::principal::{Imported, Principal, User};

/// A user in two estates, as far as they are there; at least in one.
pub(super) type InEach<'e> = [Option<&'e User>; 2];

/// The users that are looked at and are not surely the same, by name.
pub(super) fn differing<'e>(
    estates: [&'e Estate; 2],
    is_looked_at: [IsLookedAt<'_>; 2],
) -> Vec<InEach<'e>> {
    let [mut before, mut after] = [0, 1].map(|side| {
        let users = estates[side].users.iter();
        let looked_at = users.filter(move |user| is_looked_at[side](user.identity.origin));
        looked_at.peekable()
    });
    let mut found: Vec<InEach<'e>> = Vec::new();
    loop {
        // Both stand in the order of their names.
        let order = match (before.peek(), after.peek()) {
            (None, None) => return found,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(one), Some(other)) => one.identity.name.cmp(&other.identity.name),
        };
        let one = if order.is_le() { before.next() } else { None };
        let other = if order.is_ge() { after.next() } else { None };
        let is_same = one.zip(other).is_some_and(|(one, other)| is_same(estates, one, other));
        if !is_same {
            found.push([one, other]);
        }
    }
}

/// Whether two users of one name are surely the same in all that is told of them.
fn is_same([before, after]: [&Estate; 2], one: &User, other: &User) -> bool {
    let (own, others) = (&one.identity, &other.identity);
    let manager = |estate: &Estate, user: &User| {
        user.manager.map(|id| estate.principal_id(Principal::User(id)))
    };
    let place = |estate: &Estate, user: &User| {
        user.identity.place.map(|place| estate.scope(place).path.to_string())
    };
    one.enabled == other.enabled
        && one.full_name == other.full_name
        && one.imported == other.imported
        && own.about == others.about
        && manager(before, one) == manager(after, other)
        && place(before, one) == place(after, other)
        && have_same_attributes([before, after], &own.attributes, &others.attributes)
}

/// Whether these are the same attributes, in the same order; in another they may still be.
fn have_same_attributes(
    [before, after]: [&Estate; 2],
    one: &Attributes,
    other: &Attributes,
) -> bool {
    let named = |estate: &'_ Estate, id| estate.attribute_names.name(id).to_owned();
    let (mut one, mut other) = (one.iter(), other.iter());
    loop {
        match (one.next(), other.next()) {
            (None, None) => return true,
            (Some((id, value)), Some((other_id, other_value))) => {
                let is_same = value == other_value && named(before, id) == named(after, other_id);
                if !is_same {
                    return false;
                }
            }
            _ => return false,
        }
    }
}

/// What a user's keys say.
pub(super) fn keys(estate: &Estate, user: &User) -> Vec<(&'static str, String)> {
    let manager = user.manager.map(|id| estate.principal_id(Principal::User(id)));
    let mut keys = of_identity(estate, &user.identity);
    keys.extend([
        ("enabled", text(&user.enabled)),
        ("manager", text(&manager)),
        ("full-name", text(&user.full_name)),
        ("source", source(&user.imported)),
    ]);
    keys
}

/// Where an import had somebody or something from.
pub(super) fn source(imported: &Imported) -> String {
    text(&(&imported.source, &imported.source_id))
}
