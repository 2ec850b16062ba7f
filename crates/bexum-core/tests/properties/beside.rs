//! An estate that is built beside another takes over the scopes where they are declared as they were.
//! It is the same, and has the same faults, as one that is built by itself.

use std::sync::Arc;

use bexum_core::attribute::Value;
use bexum_core::condition::ast::Root;
use bexum_core::declaration::{
    Attachment, Attribute, AttributeBody, Declarations, Element, Group, Kind, Policy, Role, Scope,
    Statement, User, WindowWritten,
};
use bexum_core::impact::{Comparison, SameFiles, differences};
use bexum_core::origin::{Origin, Spanned};
use bexum_core::policy::Effect;
use bexum_core::scope::ScopeType;
use bexum_core::{Engine, Estate, Reason, Request, Time};
use proptest::prelude::*;
use proptest::sample::Index;

use crate::estates::{self, ACTIONS, build, estate, list, named, request, w};

/// Changes of what is declared, most of them of one scope.
const CHANGES: usize = 20;

fn changed(declared: &Declarations, change: usize, at: Index) -> Declarations {
    let mut declared = declared.clone();
    let count = declared.scopes.len();
    let at = at.index(count);
    let scope = &mut declared.scopes[at];
    let kind = |scope: &mut Scope, kind: &str| scope.kind = Some(w(kind));
    match change {
        0 => {}
        1 => scope.body.sealed = !scope.body.sealed,
        2 => scope.about = Some("another".to_owned()),
        3 => {
            scope.body.scope_type = match scope.body.scope_type {
                ScopeType::Resource => ScopeType::Namespace,
                _ => ScopeType::Resource,
            };
        }
        4 => scope.body.kind = None,
        5 => kind(&mut scope.body, "namespace"),
        6 => kind(&mut scope.body, "store"),
        7 => kind(&mut scope.body, "cluster"),
        8 => kind(&mut scope.body, "nothing-such"),
        9 => scope.body.attributes.iter_mut().for_each(|(_, value)| *value = Value::Integer(77)),
        10 => scope.body.attributes.push((w("more"), Value::Boolean(true))),
        11 => drop(scope.body.attributes.pop()),
        12 => scope.name.origin.start += 1_000_000,
        13 => drop(declared.scopes.remove(at)),
        14 => declared.scopes[at] = declared.scopes[(at + 1) % count].clone(),
        15 => scope.name.value += "-other",
        16 => declared.scopes.reverse(),
        17 => {
            declared
                .kinds
                .push(named("other", Kind { service: None, ..declared.kinds[0].body.clone() }));
        }
        18 => {
            // Nothing else may be an attribute of a target then.
            let body = AttributeBody {
                value_type: w("integer"),
                is_list: false,
                one_of: None,
                form: None,
            };
            let (root, name, about) = (Root::Target, w("tier"), None);
            declared.attributes.push(Attribute { root, name, body: Some(body), about });
        }
        _ => {
            // All of one place, as what stands in no file yet.
            declared.scopes.iter_mut().for_each(|one| one.name.origin = Default::default());
            declared.scopes[at] = declared.scopes[(at + 1) % count].clone();
        }
    }
    declared
}

/// All that an estate has of its scopes, in words.
fn scopes(estate: &Estate) -> Vec<String> {
    let one = |scope: &bexum_core::scope::Scope| {
        let mut attributes: Vec<String> = scope
            .attributes
            .iter()
            .map(|(id, value)| format!("{}={value:?}", estate.attribute_names.name(id)))
            .collect();
        attributes.sort_unstable();
        let kind = scope.kind.map(|kind| &estate.catalogue.kind(kind).name);
        let found = estate.scopes.find(&scope.path).map(|id| &estate.scope(id).path);
        format!(
            "{} {found:?} {} {kind:?} {:?} {} {:?} {:?} {attributes:?}",
            scope.path, scope.scope_type, scope.parent, scope.sealed, scope.about, scope.origin
        )
    };
    estate.scopes.iter().map(|(_, scope)| one(scope)).collect()
}

/// What a change must leave alone for the scopes to be those of before.
fn written(declared: &Declarations) -> String {
    let mut scopes: Vec<String> = declared.scopes.iter().map(|one| format!("{one:?}")).collect();
    scopes.sort_unstable();
    format!("{scopes:?} {:?} {:?}", declared.kinds, declared.attributes)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn it_is_what_is_built_alone(
        declared in estate(),
        change in 0..CHANGES,
        at: Index,
        requests in prop::collection::vec(request(), 1..6),
    ) {
        let before = build(&declared);
        let changed = changed(&declared, change, at);
        match (Estate::build_beside(&changed, &before), Estate::build(&changed)) {
            (Ok(beside), Ok(alone)) => {
                prop_assert_eq!(scopes(&beside), scopes(&alone));
                let is_taken_over = Arc::ptr_eq(&beside.scopes, &before.scopes);
                // Which attributes come first in a list decides nothing and is not compared.
                if written(&changed) == written(&declared) {
                    prop_assert!(is_taken_over);
                } else if is_taken_over {
                    prop_assert_eq!(scopes(&before), scopes(&alone));
                }
                let answers = |estate: Estate| {
                    let engine = Engine::new(estate);
                    let mut decider = engine.decider();
                    let mut answer = |request: &Request<'_>| {
                        let query = request.resolve(engine.estate()).ok()?;
                        Some(decider.decide(&query))
                    };
                    requests.iter().map(&mut answer).collect::<Vec<_>>()
                };
                prop_assert_eq!(answers(beside), answers(alone));
            }
            (Err(beside), Err(alone)) => {
                prop_assert_eq!(format!("{beside:?}"), format!("{alone:?}"));
            }
            (beside, alone) => {
                prop_assert!(false, "{:?} {:?}", beside.err(), alone.err());
            }
        }
    }
}

/// Where a namespace is of no kind, since the catalogue has none for it, one that is in no catalogue is a
/// fault beside that estate, too.
#[test]
fn an_unknown_kind_is_a_fault_beside_an_estate_without_it() {
    let mut declared = people();
    declared.kinds.retain(|kind| kind.name.value != "namespace");
    for kind in &mut declared.kinds {
        kind.body.holds.retain(|held| held.value != "namespace");
    }
    let scope = |scope_type| Scope { scope_type, kind: None, sealed: false, attributes: vec![] };
    declared.scopes.push(named("v/n", scope(ScopeType::Namespace)));
    let before = build(&declared);
    for (kind, is_fine) in [(None, true), (Some("namespace"), true), (Some("nothing-such"), false)]
    {
        let mut changed = declared.clone();
        changed.scopes[1].body.kind = kind.map(w);
        assert_eq!(Estate::build(&changed).is_ok(), is_fine, "{kind:?}");
        assert_eq!(Estate::build_beside(&changed, &before).is_ok(), is_fine, "{kind:?}");
    }
}

/// A list with somebody in it, from a later moment on.
fn later(who: &str) -> Element {
    let from = Some(Spanned::new(Time(9_000_000), Origin::default()));
    Element { who: w(who), window: WindowWritten { from, until: None } }
}

fn always(who: &str) -> Element {
    Element { who: w(who), window: WindowWritten::default() }
}

/// Users, each with whether they can ever do anything, or have a role.
const PEOPLE: [(&str, bool); 9] = [
    ("alone", false),
    ("in-nothing-tied", false),
    ("manages", false),
    ("tied", true),
    ("two-down", true),
    ("later", true),
    ("holds", true),
    ("may-take-up", true),
    ("in-who-takes-up", true),
];

/// An account, and people who are in groups and roles of which some are tied to a policy.
fn people() -> Declarations {
    let group = |members: Vec<Element>| Group { members: Some(members), ..Group::default() };
    let attach = |to: &str| Attachment {
        policy: list(&["p"]),
        to: list(&[to]),
        at: list(&["v"]),
        window: WindowWritten::default(),
        about: None,
        origin: Origin::default(),
    };
    let account =
        Scope { scope_type: ScopeType::Account, kind: None, sealed: false, attributes: Vec::new() };
    let statement = Statement {
        effect: Effect::Allow,
        name: None,
        about: None,
        actions: list(&["*"]),
        on: None,
        when: None,
        origin: Origin::default(),
    };
    let role = Role {
        held_by: vec![always("user:holds")],
        taken_by: vec![later("user:may-take-up"), always("group:takes-up")],
        ..Role::default()
    };
    let mut declared = Declarations {
        name: "x".to_owned(),
        kinds: estates::catalogue(),
        scopes: vec![named("v", account)],
        users: PEOPLE.iter().map(|(name, _)| named(name, User::default())).collect(),
        groups: vec![
            named("tied", group(vec![always("group:inner"), later("user:later")])),
            named("inner", group(vec![always("user:two-down")])),
            named("untied", group(vec![always("user:in-nothing-tied"), always("group:empty")])),
            named("empty", group(Vec::new())),
            named("takes-up", group(vec![always("user:in-who-takes-up")])),
        ],
        roles: vec![named("r", role)],
        policies: vec![named("p", Policy { statements: vec![statement], ..Policy::default() })],
        attachments: vec![attach("group:tied"), attach("user:tied")],
        ..Declarations::default()
    };
    declared.users[0].body.manager = Some(w("user:manages"));
    declared
}

/// The users whom a change that concerns everybody may concern.
fn concerned(declared: &Declarations) -> Vec<String> {
    let mut changed = declared.clone();
    changed.scopes[0].body.sealed = true;
    let before = build(declared);
    let after = Engine::new(Estate::build_beside(&changed, &before).expect("it builds"));
    let before = Engine::new(before);
    let differing = differences(before.estate(), after.estate(), &SameFiles::default());
    let request = Request::new("", "", "", Time(0));
    let comparison = Comparison::new(&before, &after, &differing, request).expect("it is sound");
    let users = comparison.everybody().iter().filter_map(|who| who.strip_prefix("user:"));
    users.map(str::to_owned).collect()
}

/// Whoever can never do anything is not compared, and nobody else is left out.
#[test]
fn who_can_never_do_anything_is_not_concerned() {
    let declared = people();
    let mut expected: Vec<&str> =
        PEOPLE.iter().filter(|(_, ever)| *ever).map(|(name, _)| *name).collect();
    expected.sort_unstable();
    assert_eq!(concerned(&declared), expected);
    let mut with_everyone = declared.clone();
    with_everyone.attachments[1].to = list(&["everyone"]);
    assert_eq!(concerned(&with_everyone).len(), PEOPLE.len());
    // They could do nothing.
    let engine = Engine::new(build(&declared));
    let mut decider = engine.decider();
    for (name, ever) in PEOPLE {
        let mut is_granted = false;
        for (action, at) in ACTIONS.iter().flat_map(|action| [0, 10_000_000].map(|at| (action, at)))
        {
            for take_up in [None, Some("role:r".into())] {
                let who = format!("user:{name}");
                let request = Request { take_up, ..Request::new(who, *action, "v", Time(at)) };
                let Ok(query) = request.resolve(engine.estate()) else { continue };
                is_granted |= decider.decide(&query) == Reason::Granted;
            }
        }
        assert!(ever || !is_granted, "{name}");
        // Nothing is attached to the role.
        assert_eq!(is_granted, ["tied", "two-down", "later"].contains(&name), "{name}");
    }
}
