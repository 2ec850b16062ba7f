//! Users of two estates held against each other, one by one: there may be a hundred thousand of whom
//! few differ, so what they say is written out only of those who may.

use std::cmp::Ordering;
use std::sync::Arc;

use super::change::{Difference, IsLookedAt, Thing, of_identity, text};
use crate::attribute::Attributes;
use crate::estate::Estate;
use crate::principal::{Imported, Principal, User};

/// A user in two estates, as far as they are there; at least in one.
pub(super) type InEach<'e> = [Option<&'e User>; 2];

/// The users that are looked at and are not surely the same, by name; of one who is in both estates with
/// the keys that differ, where that is plain without writing out what is said.
pub(super) fn differing<'e>(
    estates: [&'e Estate; 2],
    is_looked_at: [IsLookedAt<'_>; 2],
) -> Vec<(InEach<'e>, Option<Vec<&'static str>>)> {
    let [mut before, mut after] = [0, 1].map(|side| {
        let users = estates[side].users.iter();
        let looked_at = users.filter(move |user| is_looked_at[side](user.identity.origin));
        looked_at.peekable()
    });
    let mut found = Vec::new();
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
        let keys = one.zip(other).and_then(|(one, other)| differing_keys(estates, one, other));
        if keys.as_ref().is_none_or(|keys| !keys.is_empty()) {
            found.push(([one, other], keys));
        }
    }
}

/// The keys of two users of one name, as [`keys`] has them, each with whether it surely says the same.
fn same_keys(
    [before, after]: [&Estate; 2],
    one: &User,
    other: &User,
) -> impl Iterator<Item = (&'static str, bool)> {
    let (own, others) = (&one.identity, &other.identity);
    fn manager<'e>(estate: &'e Estate, user: &User) -> Option<&'e str> {
        user.manager.map(|id| &*estate.user(id).identity.name)
    }
    fn place<'e>(estate: &'e Estate, user: &User) -> Option<&'e str> {
        user.identity.place.map(|place| &*estate.scope(place).path)
    }
    let is_one_place = match Arc::ptr_eq(&before.scopes, &after.scopes) {
        true => own.place == others.place,
        false => place(before, one) == place(after, other),
    };
    let attributes = have_same_attributes([before, after], &own.attributes, &others.attributes);
    [
        ("place", is_one_place),
        ("attributes", attributes),
        ("about", own.about == others.about),
        ("enabled", one.enabled == other.enabled),
        ("manager", manager(before, one) == manager(after, other)),
        ("full-name", one.full_name == other.full_name),
        ("source", one.imported == other.imported),
    ]
    .into_iter()
}

/// What differs of a user who is in both estates, by the keys that do.
pub(super) fn plain_difference(user: InEach<'_>, keys: Vec<&'static str>) -> Option<Difference> {
    let name = user.into_iter().flatten().next()?.identity.name.to_string();
    let [before, after] = user.map(|user| user.map(|user| user.identity.origin));
    Some(Difference { thing: Thing::User(name), keys, before, after, says: String::new() })
}

/// The keys in which two users of one name differ; `None` where it has to be written out what they say,
/// as attributes may stand in another order and be the same.
fn differing_keys(estates: [&Estate; 2], one: &User, other: &User) -> Option<Vec<&'static str>> {
    let differing = same_keys(estates, one, other).filter(|(_, is_same)| !is_same);
    let keys: Vec<&'static str> = differing.map(|(key, _)| key).collect();
    (!keys.contains(&"attributes")).then_some(keys)
}

/// Whether these are the same attributes, in the same order; in another they may still be.
fn have_same_attributes(
    [before, after]: [&Estate; 2],
    one: &Attributes,
    other: &Attributes,
) -> bool {
    let (mut one, mut other) = (one.iter(), other.iter());
    loop {
        match (one.next(), other.next()) {
            (None, None) => return true,
            (Some((id, value)), Some((other_id, other_value))) => {
                let names = [before, after].map(|estate| &estate.attribute_names);
                if value != other_value || names[0].name(id) != names[1].name(other_id) {
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

#[cfg(test)]
mod tests {
    use super::{differing_keys, keys};
    use crate::Estate;
    use crate::attribute::Value;
    use crate::declaration::{Declarations, Group, Imported, Named, Scope, User};
    use crate::impact::{SameFiles, differences};
    use crate::origin::{Origin, Spanned};
    use crate::scope::ScopeType;

    fn w(text: &str) -> Spanned<String> {
        Spanned::new(text.to_owned(), Origin::default())
    }

    fn named<T>(name: &str, body: T) -> Named<T> {
        Named { name: w(name), about: None, body }
    }

    /// An estate with `user:u`, of whom each bit of a number says something.
    fn estate(bits: usize, is_turned: bool) -> Estate {
        let has = |bit: usize| bits & (1 << bit) != 0;
        let mut attributes =
            vec![(w("team"), Value::Text("a".into())), (w("level"), Value::Integer(3))];
        if is_turned {
            attributes.reverse();
        }
        let user = User {
            full_name: has(0).then(|| "U".to_owned()),
            enabled: has(1),
            manager: has(2).then(|| w("user:m")),
            imported: Imported {
                source: has(3).then(|| "office".to_owned()),
                source_id: has(4).then(|| "1".to_owned()),
            },
            place: has(5).then(|| w("v")),
            attributes: if has(6) { attributes } else { attributes[..1].to_vec() },
        };
        let account = Scope {
            scope_type: ScopeType::Account,
            kind: None,
            sealed: false,
            attributes: Vec::new(),
        };
        let mut user = named("u", user);
        user.about = has(7).then(|| "somebody".to_owned());
        let declared = Declarations {
            name: "x".to_owned(),
            scopes: vec![named("v", account)],
            users: vec![user, named("m", User::default())],
            ..Declarations::default()
        };
        Estate::build(&declared).expect("it builds")
    }

    /// Things are told in the order of their names, whatever stands beside users.
    #[test]
    fn what_differs_is_in_order() {
        let account = || Scope {
            scope_type: ScopeType::Account,
            kind: None,
            sealed: false,
            attributes: Vec::new(),
        };
        let beside = ["use", "user", "user-a", "user9", "users", "v"];
        let after = Declarations {
            name: "x".to_owned(),
            scopes: beside.map(|name| named(name, account())).into(),
            users: ["zoe", "user", "a", "a-b", "a9"]
                .map(|name| named(name, User::default()))
                .into(),
            groups: ["user", "a"].map(|name| named(name, Group::default())).into(),
            ..Declarations::default()
        };
        let built = |declared| Estate::build(&declared).expect("it builds");
        let before = built(Declarations { name: "x".to_owned(), ..Declarations::default() });
        let found = differences(&before, &built(after), &SameFiles::default());
        let names: Vec<String> = found.iter().map(|one| one.thing.to_string()).collect();
        assert_eq!(names.len(), 13);
        assert!(names.is_sorted(), "{names:?}");
    }

    /// The keys that differ are those of which what is written out differs.
    #[test]
    fn keys_differ_where_what_they_say_does() {
        let estates: Vec<Estate> =
            (0..256).flat_map(|bits| [false, true].map(|turned| estate(bits, turned))).collect();
        let user = |estate: &Estate| estate.find_user("u").expect("it is there");
        let attributes = |user: &super::User| -> Vec<_> {
            user.identity.attributes.iter().map(|(id, value)| (id, value.clone())).collect()
        };
        let said: Vec<_> = estates.iter().map(|one| keys(one, one.user(user(one)))).collect();
        for (one, says) in estates.iter().zip(&said).step_by(3) {
            for (other, others) in estates.iter().zip(&said) {
                let pair = [one, other].map(|estate| estate.user(user(estate)));
                let differing = says.iter().zip(others).filter(|(one, other)| one != other);
                let differing: Vec<&str> = differing.map(|((key, _), _)| *key).collect();
                match differing_keys([one, other], pair[0], pair[1]) {
                    Some(keys) => assert_eq!(keys, differing),
                    // Attributes differ, or stand in another order.
                    None => assert_ne!(attributes(pair[0]), attributes(pair[1])),
                }
            }
        }
    }
}
