//! Random estates and requests, small enough to shrink well and rich enough to meet every rule.
//!
//! Everything is an engine into a short vocabulary, so shrinking goes towards the first entries.

use std::borrow::Cow;
use std::sync::Arc;

use bexum_core::attribute::Value;
use bexum_core::catalogue::Level;
use bexum_core::declaration::{
    Attachment, Ceiling, Declarations, Element, Group, Kind, List, Named, Policy, Role, Scope,
    Statement, User, WindowWritten,
};
use bexum_core::origin::{FileId, Origin, Spanned};
use bexum_core::policy::Effect;
use bexum_core::principal::Join;
use bexum_core::scope::ScopeType;
use bexum_core::{Decider, Engine, Estate, Reason, Request, Time};
use proptest::collection::vec;
use proptest::option::weighted;
use proptest::prelude::*;
use proptest::sample::{select, subsequence};

pub(crate) fn w(text: &str) -> Spanned<String> {
    Spanned::new(text.to_owned(), Origin::default())
}

pub(crate) fn list(items: &[&str]) -> List {
    Spanned::new(items.iter().map(|item| w(item)).collect(), Origin::default())
}

pub(crate) fn named<T>(name: &str, body: T) -> Named<T> {
    Named { name: w(name), about: None, body }
}

/// Moments around which windows open and close.
pub(crate) const MOMENTS: [i64; 3] = [1_000_000, 2_000_000, 3_000_000];

const SCOPES: [(&str, ScopeType, Option<&str>); 9] = [
    ("v", ScopeType::Account, None),
    ("v/s", ScopeType::Subscription, None),
    ("v/s/store", ScopeType::Resource, Some("store")),
    ("v/s/5", ScopeType::Resource, Some("store")),
    ("v/s/c", ScopeType::Resource, Some("cluster")),
    ("v/s/c/n", ScopeType::Namespace, None),
    ("v/s/c/n/inner", ScopeType::Namespace, Some("store")),
    ("v/p", ScopeType::Subscription, None),
    ("o", ScopeType::Account, None),
];

pub(crate) const ACTIONS: [&str; 15] = [
    "store.list",
    "store.tag",
    "store.survey",
    "store.create",
    "rec.read",
    "rec.erase",
    "cluster.run",
    "namespace.view",
    "namespace.create",
    "job.run",
    "account.view",
    "user.view",
    "group.view",
    "role.view",
    "policy.view",
];

pub(crate) const PATHS: [&str; 16] = [
    "v/s/store/a/run",
    "v/s/store",
    "v/s/store/red",
    "v/s/c/n",
    "v/s/c/n/job-1",
    "v/s/c",
    "v/s/c/n/inner/x",
    "v/s/c/n/inner",
    "v",
    "v/s",
    "v/p/u0",
    "v/p/g1",
    "v/p/r0",
    "v/p/p2",
    "o",
    "v/p/u0/below",
];

pub(crate) const DO: [&str; 11] = [
    "*",
    "*.@observe",
    "rec.*",
    "!rec.erase",
    "store.*",
    "*.view",
    "job.run",
    "!*.@govern",
    "*.create",
    "n*.v*w",
    "cluster.run",
];

const ON: [&str; 20] = [
    "**",
    ".",
    "*",
    "*/**",
    "store/**",
    "**/run",
    "/v/**",
    "!**/red",
    "{who.team}/**",
    "store/{who.team}/**",
    "**/{given.folder}",
    "s*/**",
    "!.",
    "/v/s/c/**/job-*",
    "u*",
    "**/{who.tags}*/**",
    "{who.name}",
    "/**/n/**/x",
    "/*/*a/**",
    "/*/*/*a/**",
];

pub(crate) const ATOMS: [&str; 40] = [
    "given.mfa",
    "given.mfa is set",
    "who.team = 'red'",
    "target.tier = 'raw'",
    "target.tier != who.team",
    "who.level >= 2",
    "given.count < who.level",
    "who.team in target.tags",
    "who.tags overlaps target.tags",
    "who.team fits 'r*'",
    "target.path fits '*/s?ore/*'",
    "given.ip within '10.0.0.0/8'",
    "given.time < '1970-01-01T00:00:02Z'",
    "target.since <= given.time",
    "'g1' in who.groups",
    "'r0' in who.roles",
    "target.kind in ['store', 'rec']",
    "who.type = 'user'",
    "who.dev is set",
    "who.dev.ok",
    "target.dev.ok is set",
    "who.id in target.owners",
    "target.members overlaps ['user:u0', 'group:g0']",
    "target.join = 'open'",
    "who.manager = 'user:u0'",
    "target.manager = who.id",
    "given.folder != 'red'",
    "given.dev.ok",
    "given.dev is set",
    "true",
    "who.roles overlaps ['r1']",
    "target.name = who.name",
    "given.count in [1, 2]",
    "target.account = 'v'",
    "not given.dev.ok",
    "not ('r0' in who.roles)",
    "not ('r2' in who.roles)",
    "'r1' in who.roles",
    "target.name = 'red'",
    "target.path fits '*/re*'",
];

pub(crate) const SUBJECTS: [&str; 12] = [
    "everyone",
    "user:u0",
    "user:u1",
    "group:g0",
    "group:g1",
    "group:g2",
    "role:r0",
    "role:r1",
    "role:r2",
    "resource:v/s/c",
    "user:u2",
    "resource:v/s/store",
];

pub(crate) const POLICIES: [&str; 4] = ["p0", "p1", "p2", "p3"];

fn window() -> impl Strategy<Value = WindowWritten> {
    let at = |n: i64| Spanned::new(Time(n), Origin::default());
    prop_oneof![
        4 => Just(WindowWritten::default()),
        1 => Just(WindowWritten { from: Some(at(MOMENTS[1])), until: None }),
        1 => Just(WindowWritten { from: None, until: Some(at(MOMENTS[1])) }),
        1 => Just(WindowWritten { from: Some(at(MOMENTS[1])), until: Some(at(MOMENTS[2])) }),
    ]
}

fn elements(of: &'static [&'static str]) -> impl Strategy<Value = Vec<Element>> {
    vec((select(of), window()), 0..3).prop_map(|chosen| {
        chosen.into_iter().map(|(who, window)| Element { who: w(who), window }).collect()
    })
}

pub(crate) fn attributes() -> impl Strategy<Value = Vec<(Spanned<String>, Value)>> {
    let text = |t: &str| Value::Text(t.into());
    let texts =
        |items: &[&str]| Value::List(items.iter().map(|t| Value::Text((*t).into())).collect());
    let choices: Vec<Vec<(&str, Value)>> = vec![
        vec![("team", text("red")), ("team", text("blue")), ("team", texts(&["red", "a"]))],
        vec![("tier", text("raw")), ("tier", Value::Integer(3))],
        vec![("tags", texts(&["red", "blue"])), ("tags", texts(&[])), ("tags", text("a"))],
        vec![("level", Value::Integer(1)), ("level", Value::Integer(2)), ("level", text("2"))],
        vec![("since", Value::Time(Time(MOMENTS[1]))), ("since", text("1970-01-01T00:00:02Z"))],
        vec![
            ("dev.ok", Value::Boolean(true)),
            ("dev.ok", Value::Boolean(false)),
            ("dev.os", text("x")),
        ],
    ];
    let each: Vec<_> = choices.into_iter().map(|choice| weighted(0.4, select(choice))).collect();
    each.prop_map(|chosen| {
        chosen.into_iter().flatten().map(|(name, value)| (w(name), value)).collect()
    })
}

pub(crate) fn condition() -> impl Strategy<Value = String> {
    let leaf = select(&ATOMS[..]).prop_map(str::to_owned);
    leaf.prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) and ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) or ({b})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}

/// Patterns of which at least one does not exclude.
pub(crate) fn patterns(of: &'static [&'static str]) -> impl Strategy<Value = Vec<String>> {
    vec(select(of), 1..4).prop_map(|mut chosen| {
        if chosen.iter().all(|pattern| pattern.starts_with('!')) {
            chosen.push("*");
        }
        chosen.into_iter().map(str::to_owned).collect()
    })
}

pub(crate) fn statement() -> impl Strategy<Value = Statement> {
    let effect = prop_oneof![2 => Just(Effect::Allow), 1 => Just(Effect::Deny)];
    let on = weighted(0.6, patterns(&ON));
    (effect, patterns(&DO), on, weighted(0.4, condition())).prop_map(|(effect, acts, on, when)| {
        let lay = |texts: Vec<String>| list(&texts.iter().map(String::as_str).collect::<Vec<_>>());
        Statement {
            effect,
            name: None,
            about: None,
            actions: lay(acts),
            on: on.map(lay),
            when: when.map(|text| w(&text)),
            origin: Origin::default(),
        }
    })
}

pub(crate) fn catalogue() -> Vec<Named<Kind>> {
    let kind = |verbs: &[(Level, &str)],
                wide: &[&str],
                parent: &[&str],
                items: &[&str],
                holds: &[&str]| {
        let names = |names: &[&str]| names.iter().map(|name| w(name)).collect();
        Kind {
            service: None,
            verbs: verbs.iter().map(|(level, verb)| (*level, w(verb))).collect(),
            account_wide: names(wide),
            on_parent: names(parent),
            items: names(items),
            holds: names(holds),
        }
    };
    use Level::{Alter, Govern, Observe, Operate};
    let view = [(Observe, "view")];
    vec![
        named(
            "store",
            kind(
                &[(Observe, "list"), (Govern, "tag"), (Observe, "survey"), (Alter, "create")],
                &["survey"],
                &["create"],
                &["rec"],
                &[],
            ),
        ),
        named("rec", kind(&[(Observe, "read"), (Alter, "erase")], &[], &[], &[], &[])),
        named("cluster", kind(&[(Operate, "run")], &[], &[], &[], &["namespace"])),
        named(
            "namespace",
            kind(&[(Observe, "view"), (Alter, "create")], &[], &["create"], &["job"], &["store"]),
        ),
        named("job", kind(&[(Operate, "run")], &[], &[], &[], &[])),
        named("account", kind(&view, &[], &[], &[], &[])),
        named("user", kind(&view, &[], &[], &[], &[])),
        named("group", kind(&view, &[], &[], &[], &[])),
        named("role", kind(&view, &[], &[], &[], &[])),
        named("policy", kind(&view, &[], &[], &[], &[])),
    ]
}

fn scopes() -> impl Strategy<Value = Vec<Named<Scope>>> {
    let each: Vec<_> = SCOPES
        .into_iter()
        .map(|(path, scope_type, kind)| {
            (attributes(), proptest::bool::weighted(0.15)).prop_map(move |(attributes, sealed)| {
                named(path, Scope { scope_type, kind: kind.map(w), sealed, attributes })
            })
        })
        .collect();
    each
}

fn users() -> impl Strategy<Value = Vec<Named<User>>> {
    let user = |i: usize| {
        (attributes(), proptest::bool::weighted(0.9), any::<bool>(), any::<bool>()).prop_map(
            move |(attributes, enabled, managed, placed)| {
                named(
                    &format!("u{i}"),
                    User {
                        full_name: None,
                        enabled,
                        manager: managed.then(|| w("user:u1")),
                        place: (placed || i == 0).then(|| w("v/p")),
                        imported: Default::default(),
                        attributes,
                    },
                )
            },
        )
    };
    vec![user(0), user(1), user(2)]
}

/// Group `i` holds only groups of lower numbers, so that there are no loops.
fn groups() -> impl Strategy<Value = Vec<Named<Group>>> {
    const MEMBERS: [&[&str]; 3] = [
        &["user:u0", "user:u1", "resource:v/s/c", "user:u2"],
        &["group:g0", "user:u0", "user:u2", "resource:v/s/store"],
        &["group:g1", "group:g0", "user:u1"],
    ];
    const WHEN: [&str; 3] =
        ["who.dev is set", "who.team is set and who.type = 'user'", "who.name = 'u2'"];
    let group = |i: usize| {
        let owners = weighted(0.5, subsequence(vec!["user:u0", "user:u1"], 0..=2));
        (
            weighted(0.8, elements(MEMBERS[i])),
            weighted(0.2, select(&WHEN[..])),
            owners,
            attributes(),
        )
            .prop_map(move |(members, when, owners, attributes)| {
                named(
                    &format!("g{i}"),
                    Group {
                        members,
                        members_when: when.map(w),
                        owners: owners.map(|owners| owners.into_iter().map(w).collect()),
                        join: (i == 1).then_some(Join::Open),
                        asks: Vec::new(),
                        imported: Default::default(),
                        place: (i == 1).then(|| w("v/p")),
                        attributes,
                    },
                )
            })
    };
    vec![group(0), group(1), group(2)]
}

fn roles() -> impl Strategy<Value = Vec<Named<Role>>> {
    const HELD: [&[&str]; 3] = [
        &["user:u0", "group:g2", "resource:v/s/c"],
        &["role:r0", "group:g1", "user:u1"],
        &["role:r1", "role:r0", "user:u2"],
    ];
    const TAKEN: [&str; 6] = ["user:u0", "user:u1", "group:g0", "role:r0", "role:r2", "group:g1"];
    let role = |i: usize| {
        (elements(HELD[i]), elements(&TAKEN)).prop_map(move |(held_by, taken_by)| {
            let place = (i == 0).then(|| w("v/p"));
            named(&format!("r{i}"), Role { held_by, taken_by, place, attributes: Vec::new() })
        })
    };
    vec![role(0), role(1), role(2)]
}

fn policies() -> impl Strategy<Value = Vec<Named<Policy>>> {
    let policy = |i: usize| {
        let included = subsequence((0..i).collect::<Vec<_>>(), 0..=i.min(1));
        (vec(statement(), 1..4), included).prop_map(move |(statements, included)| {
            let include = included.into_iter().map(|n| w(POLICIES[n])).collect();
            let place = (i == 2).then(|| w("v/p"));
            named(POLICIES[i], Policy { include, statements, place, ..Policy::default() })
        })
    };
    vec![policy(0), policy(1), policy(2), policy(3)]
}

fn some_of(of: &'static [&'static str]) -> impl Strategy<Value = List> {
    vec(select(of), 1..3).prop_map(|chosen| list(&chosen))
}

const PLACES: [&str; 8] =
    ["v", "v/s", "v/s/store", "v/s/c", "v/s/c/n", "v/p", "o", "v/s/c/n/inner"];

pub(crate) fn attachment() -> impl Strategy<Value = Attachment> {
    (some_of(&POLICIES), some_of(&SUBJECTS), some_of(&PLACES), window()).prop_map(
        |(policy, to, at, window)| Attachment {
            policy,
            to,
            at,
            window,
            about: None,
            origin: Origin::default(),
        },
    )
}

pub(crate) fn ceiling() -> impl Strategy<Value = Ceiling> {
    let over = weighted(0.6, some_of(&PLACES));
    (some_of(&POLICIES), over, weighted(0.6, some_of(&SUBJECTS)), window()).prop_map(
        |(policy, over, bound, window)| Ceiling {
            policy,
            over,
            bound,
            window,
            about: None,
            origin: Origin::default(),
        },
    )
}

/// A whole estate that builds.
pub(crate) fn estate() -> impl Strategy<Value = Declarations> {
    let parts = (
        scopes(),
        users(),
        groups(),
        roles(),
        policies(),
        vec(attachment(), 1..7),
        vec(ceiling(), 0..3),
    );
    parts.prop_map(|(scopes, users, groups, roles, policies, attachments, ceilings)| {
        let mut declared = Declarations {
            name: "random".to_owned(),
            services: Vec::new(),
            kinds: catalogue(),
            scopes,
            users,
            groups,
            roles,
            policies,
            attachments,
            ceilings,
            ..Declarations::default()
        };
        number(&mut declared);
        declared
    })
}

/// An estate with more stores and namespaces, of which some are alike to some people: the same is attached at them,
/// the same patterns match their names, the same is true of their attributes.
pub(crate) fn estate_with_stores() -> impl Strategy<Value = Declarations> {
    const ABOVE: [&str; 5] = ["v", "v/s", "o", "v/s/c", "v/s/c/n"];
    const NAMES: [&str; 9] = ["red", "blue", "aa", "ab", "sx", "sy", "u0x", "n", "run"];
    let name = (select(&ABOVE[..]), select(&NAMES[..]), weighted(0.4, select(&NAMES[..])));
    // Two ties of all are met again and again, so that stores are alike in them too.
    let tie = (some_of(&POLICIES), some_of(&SUBJECTS), window(), any::<bool>());
    let tied = weighted(0.5, 0..2_usize);
    let store = (name, attributes(), proptest::bool::weighted(0.1), tied);
    (estate(), vec(tie, 2), vec(store, 4..16)).prop_map(|(mut declared, ties, stores)| {
        for ((above, name, below), attributes, sealed, tied) in stores {
            let path = format!("{above}/{name}");
            if declared.scopes.iter().any(|scope| scope.name.value == path) {
                continue;
            }
            // In a cluster there are namespaces, and some of these have others in them.
            let (scope_type, kind) = match above.starts_with("v/s/c") {
                true => (ScopeType::Namespace, None),
                false => (ScopeType::Resource, Some(w("store"))),
            };
            if let (ScopeType::Namespace, Some(below)) = (scope_type, below) {
                let inner = Scope { scope_type, kind: None, sealed, attributes: Vec::new() };
                let inner = named(&format!("{path}/{below}"), inner);
                if !declared.scopes.iter().any(|scope| scope.name.value == inner.name.value) {
                    declared.scopes.push(inner);
                }
            }
            declared.scopes.push(named(&path, Scope { scope_type, kind, sealed, attributes }));
            let (at, origin) = (list(&[&path]), Origin::default());
            match tied.map(|tied| ties[tied].clone()) {
                Some((policy, to, window, true)) => {
                    let attachment = Attachment { policy, to, at, window, about: None, origin };
                    declared.attachments.push(attachment);
                }
                Some((policy, to, window, false)) => {
                    let (over, bound) = (Some(at), Some(to));
                    let ceiling = Ceiling { policy, over, bound, window, about: None, origin };
                    declared.ceilings.push(ceiling);
                }
                None => {}
            }
        }
        number(&mut declared);
        declared
    })
}

/// Gives everything but kinds a place of its own, by which it can be found.
pub(crate) fn number(declared: &mut Declarations) {
    let mut next = 0;
    let mut fresh = || {
        next += 1;
        Origin { file: FileId(0), start: next, end: next }
    };
    declared.scopes.iter_mut().for_each(|one| one.name.origin = fresh());
    declared.users.iter_mut().for_each(|one| one.name.origin = fresh());
    declared.groups.iter_mut().for_each(|one| one.name.origin = fresh());
    declared.roles.iter_mut().for_each(|one| one.name.origin = fresh());
    declared.policies.iter_mut().for_each(|one| one.name.origin = fresh());
    declared.attachments.iter_mut().for_each(|a| a.origin = fresh());
    declared.ceilings.iter_mut().for_each(|c| c.origin = fresh());
    for policy in &mut declared.policies {
        policy.body.statements.iter_mut().for_each(|s| s.origin = fresh());
    }
}

pub(crate) fn given() -> impl Strategy<Value = Vec<(Cow<'static, str>, Option<Value>)>> {
    let text = |t: &str| Some(Value::Text(t.into()));
    let yes = Some(Value::Boolean(true));
    let no = Some(Value::Boolean(false));
    let choices: Vec<Vec<(&str, Option<Value>)>> = vec![
        vec![("mfa", yes.clone()), ("mfa", no.clone()), ("mfa", None), ("mfa", text("yes"))],
        vec![
            ("count", Some(Value::Integer(1))),
            ("count", Some(Value::Integer(7))),
            ("count", None),
        ],
        vec![("ip", text("10.1.2.3")), ("ip", text("192.0.2.1")), ("ip", text("nowhere"))],
        vec![
            ("folder", text("red")),
            ("folder", text("a/b")),
            ("folder", None),
            ("folder", text("")),
        ],
        vec![("dev.ok", yes), ("dev", None), ("dev.os", text("x")), ("dev", no)],
    ];
    let each: Vec<_> = choices.into_iter().map(|choice| weighted(0.5, select(choice))).collect();
    each.prop_map(|chosen| {
        chosen.into_iter().flatten().map(|(name, value)| (name.into(), value)).collect()
    })
}

/// A request, most of them sound.
pub(crate) fn request() -> impl Strategy<Value = Request<'static>> {
    let who = select(&SUBJECTS[1..]);
    let also = prop_oneof![4 => Just(Vec::new()), 1 => Just(vec![Cow::from("group:g2")])];
    let under =
        prop_oneof![4 => Just(Vec::new()), 1 => select(&POLICIES[..]).prop_map(|p| vec![p.into()])];
    let take_up = weighted(0.3, select(&["role:r0", "role:r1", "role:r2"][..]));
    let item = weighted(0.15, Just(vec![(Cow::from("tier"), Value::Text("raw".into()))]));
    let at = select(&[0, 1_500_000, MOMENTS[1], 2_500_000, MOMENTS[2]][..]);
    (who, select(&ACTIONS[..]), select(&PATHS[..]), take_up, also, under, given(), item, at)
        .prop_map(|(who, does, on, take_up, also, under, given, item, at)| Request {
            take_up: take_up.map(Cow::from),
            also,
            under,
            given,
            item,
            ..Request::new(who, does, on, Time(at))
        })
}

/// The estate of declarations that have no fault.
pub(crate) fn build(declared: &Declarations) -> Arc<Estate> {
    Arc::new(
        Estate::build(declared).unwrap_or_else(|faults| panic!("the estate builds: {faults:?}")),
    )
}

/// What the engine says of each request; `None` for an error.
pub(crate) fn answers(declared: &Declarations, requests: &[Request<'_>]) -> Vec<Option<Reason>> {
    let estate = build(declared);
    let engine = Engine::new(Arc::clone(&estate));
    let mut decider = Decider::new(&engine);
    let mut answer = |request: &Request<'_>| {
        let query = request.resolve(&estate).ok()?;
        Some(decider.decide(&query))
    };
    requests.iter().map(&mut answer).collect()
}
