//! Of people and places that are alike one is compared for all, and of those that differ in a little
//! none for another: estates in which most have twins, some of which differ in something.

use bexum_core::declaration::{Declarations, Element, Named};
use bexum_core::impact::Cell;
use bexum_core::scope::ScopeType;
use proptest::collection::vec;
use proptest::prelude::*;

use crate::estates::{self, named, w};
use crate::impact::{cells_of, circumstances, compare, edited, edits, engines};

/// How many twins somebody has, and a place.
const TWINS: usize = 3;

/// What a twin of somebody differs in: nothing, mostly.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Odd {
    Nothing,
    Attributes,
    /// It is not in the first list that names its like.
    LeftOut,
    NotEnabled,
    /// A window of the other's does not count for it.
    NoWindow,
}

fn odds() -> impl Strategy<Value = Vec<Odd>> {
    let one = prop_oneof![
        4 => Just(Odd::Nothing),
        1 => Just(Odd::Attributes),
        1 => Just(Odd::LeftOut),
        1 => Just(Odd::NotEnabled),
        1 => Just(Odd::NoWindow),
    ];
    vec(one, 16)
}

fn odd(odds: &[Odd], user: usize, twin: usize) -> Odd {
    odds[(user * TWINS + twin) % odds.len()]
}

fn twin_of(name: &str, twin: usize) -> String {
    format!("{name}-twin{twin}")
}

/// The same estate, in which every user has twins in the same lists, and every resource has some next to
/// it to which the same is attached.
fn with_twins(declared: &Declarations, odds: &[Odd]) -> Declarations {
    let mut more = declared.clone();
    for (i, user) in declared.users.iter().enumerate() {
        for twin in 0..TWINS {
            let mut body = user.body.clone();
            body.place = None;
            body.imported = Default::default();
            match odd(odds, i, twin) {
                Odd::Attributes => body.attributes.truncate(1),
                Odd::NotEnabled => body.enabled = !body.enabled,
                Odd::Nothing | Odd::LeftOut | Odd::NoWindow => {}
            }
            more.users.push(named(&twin_of(&user.name.value, twin), body));
        }
    }
    let names: Vec<&str> = declared.users.iter().map(|user| &*user.name.value).collect();
    let user = |who: &str| {
        let name = who.strip_prefix("user:")?;
        names.iter().position(|known| *known == name)
    };
    let mut lists = 0;
    let mut twins_in = |list: &mut Vec<Element>| {
        lists += 1;
        let twins = list.clone().into_iter().flat_map(|element| {
            let found = user(&element.who.value);
            let twins = found.into_iter().flat_map(|i| (0..TWINS).map(move |twin| (i, twin)));
            twins.filter_map(move |(i, twin)| {
                let mut element = element.clone();
                element.who = w(&twin_of(&element.who.value, twin));
                match odd(odds, i, twin) {
                    Odd::LeftOut if lists % 2 == 0 => return None,
                    Odd::NoWindow => element.window = Default::default(),
                    _ => {}
                }
                Some(element)
            })
        });
        let twins: Vec<Element> = twins.collect();
        list.extend(twins);
    };
    more.groups.iter_mut().filter_map(|one| one.body.members.as_mut()).for_each(&mut twins_in);
    for role in &mut more.roles {
        twins_in(&mut role.body.held_by);
        twins_in(&mut role.body.taken_by);
    }
    for one in &mut more.attachments {
        let twins: Vec<_> = one.to.value.iter().filter(|to| user(&to.value).is_some()).collect();
        let twins = twins.iter().flat_map(|to| (0..TWINS).map(|twin| w(&twin_of(&to.value, twin))));
        let twins: Vec<_> = twins.collect();
        one.to.value.extend(twins);
    }
    let resources: Vec<&Named<_>> = declared
        .scopes
        .iter()
        .filter(|scope| scope.body.scope_type == ScopeType::Resource)
        .collect();
    for (i, scope) in resources.iter().enumerate() {
        let Some((above, _)) = scope.name.value.rsplit_once('/') else { continue };
        for twin in 0..TWINS {
            let path = format!("{above}/plain{i}-{twin}");
            let mut body = scope.body.clone();
            if odd(odds, i, twin) == Odd::Attributes {
                body.attributes.truncate(1);
            }
            more.scopes.push(named(&path, body));
            for one in &declared.attachments {
                if odd(odds, i, twin) != Odd::LeftOut
                    && one.at.value.iter().any(|at| at.value == scope.name.value)
                {
                    let mut one = one.clone();
                    one.at.value = vec![w(&path)];
                    more.attachments.push(one);
                }
            }
        }
    }
    more
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// What is told of everybody together is what is told of each by themselves; that is what
    /// [`cells_of`] holds.
    #[test]
    fn nobody_is_taken_for_another(
        first in prop_oneof![estates::estate(), estates::estate_with_stores()],
        second in estates::estate(),
        edits in edits(),
        odds in odds(),
        request in estates::request(),
    ) {
        let after = edited(&first, &second, &edits);
        let engines = engines(&with_twins(&first, &odds), &with_twins(&after, &odds));
        let [before, after] = &engines;
        let cells: Vec<Cell> = cells_of(&compare(before, after, &circumstances(&request)));
        prop_assert!(cells.is_sorted());
    }
}
