//! The analysis of laws says what trying everything says, on estates small enough to try it.

use std::borrow::Cow;
use std::sync::Arc;

use bexum_core::attribute::Value;
use bexum_core::declaration::{Attachment, Declarations, Law, Policy, Statement};
use bexum_core::engine::{Closure, Decider, Engine};
use bexum_core::expectation::Claim;
use bexum_core::origin::Origin;
use bexum_core::policy::Effect;
use bexum_core::principal::{Principal, Subject};
use bexum_core::prove::{Laws, Outcome};
use bexum_core::{Estate, Reason, Request, Time};
use proptest::option::weighted;
use proptest::prelude::*;
use proptest::sample::select;

use crate::estates::{self, DO, MOMENTS, list, w};
use crate::families::{Circumstances, DECIDED, FAMILIES, text};

/// Conditions that ask nothing about the circumstances but the time.
const PLAIN: [&str; 9] = [
    "given.time < '1970-01-01T00:00:02Z'",
    "target.since <= given.time",
    "who.level >= 2",
    "target.tier = 'raw'",
    "target.tier != who.team",
    "'g1' in who.groups",
    "'r0' in who.roles",
    "target.name fits 'r*'",
    "target.path fits '*/s?ore/*'",
];

const LAW_ON: [&str; 12] = [
    "/v/**",
    "/**",
    "/v/s/store/**",
    "/v/s/c/n/*",
    "/v/s/*",
    "!/v/s/store/red",
    "/**/run",
    "/v/p/{who.name}",
    "/v/s/c/**",
    "!/**/inner/**",
    "/o",
    "/v/s/store/{who.team}/**",
];

const LAW_WHO: [&str; 7] =
    ["everyone", "group:g0", "group:g1", "group:g2", "user:u0", "resource:v/s/c", "role:r1"];

#[derive(Clone, Debug)]
pub(crate) struct Case {
    pub(crate) declared: Declarations,
    pub(crate) families: Vec<usize>,
}

pub(crate) fn condition(families: Vec<usize>) -> impl Strategy<Value = String> {
    // Mostly of the families: those are what the cases are about.
    let of_families = families.iter().flat_map(|i| FAMILIES[*i].atoms);
    let often = std::iter::repeat_n(of_families, 4).flatten();
    let atoms: Vec<&'static str> = often.chain(&PLAIN).copied().collect();
    select(atoms).prop_map(str::to_owned).prop_recursive(2, 6, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) and ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) or ({b})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}

fn law(families: Vec<usize>) -> impl Strategy<Value = Law> {
    let claim = prop_oneof![3 => Just(Claim::Never), 1 => Just(Claim::Always)];
    let except = weighted(0.3, select(&LAW_WHO[..]));
    let when = weighted(0.4, condition(families));
    let lay = |texts: &[String]| list(&texts.iter().map(String::as_str).collect::<Vec<_>>());
    (claim, select(&LAW_WHO[..]), except, estates::patterns(&DO), estates::patterns(&LAW_ON), when)
        .prop_map(move |(claim, who, except, does, on, when)| {
            let on: Vec<String> =
                on.into_iter().map(|p| if p == "*" { "/**".to_owned() } else { p }).collect();
            Law {
                claim,
                name: None,
                who: list(&[who]),
                except: except.map(|except| list(&[except])),
                does: lay(&does),
                on: lay(&on),
                when: when.map(|when| w(&when)),
                about: None,
                origin: Origin::default(),
            }
        })
}

/// An estate whose conditions ask about two families at most, and a law for it.
fn case() -> impl Strategy<Value = Case> {
    let families = proptest::sample::subsequence((0..DECIDED).collect::<Vec<_>>(), 1..=2);
    families.prop_flat_map(|families| {
        let whens = proptest::collection::vec(condition(families.clone()), 12);
        let (folder, count) = (families.contains(&3), families.contains(&1));
        (estates::estate(), whens, law(families.clone())).prop_map(
            move |(mut declared, whens, law)| {
                let mut whens = whens.into_iter().cycle();
                for policy in &mut declared.policies {
                    for statement in &mut policy.body.statements {
                        if statement.when.is_some() {
                            statement.when = whens.next().map(|when| w(&when));
                        }
                        for pattern in statement.on.iter_mut().flat_map(|on| &mut on.value) {
                            if pattern.value == "**/{given.folder}" && !folder {
                                let other = if count { "**/{given.count}" } else { "**/r*" };
                                pattern.value = other.to_owned();
                            }
                        }
                    }
                }
                declared.laws.push(law);
                Case { declared, families: families.clone() }
            },
        )
    })
}

pub(crate) fn circumstances(families: &[usize]) -> Vec<Circumstances> {
    let mut all: Vec<Circumstances> = vec![Vec::new()];
    for family in families {
        let tried = (FAMILIES[*family].tried)();
        all = all
            .iter()
            .flat_map(|known| tried.iter().map(move |more| [&known[..], &more[..]].concat()))
            .collect();
    }
    all
}

/// An estate that allows what the law is about, and nothing else.
pub(crate) fn mirror(declared: &Declarations) -> Arc<Estate> {
    let law = &declared.laws[0];
    let mut mirror = declared.clone();
    mirror.laws.clear();
    mirror.ceilings.clear();
    mirror.scopes.iter_mut().for_each(|scope| scope.body.sealed = false);
    mirror.users.iter_mut().for_each(|user| user.body.enabled = true);
    let statement = Statement {
        effect: Effect::Allow,
        name: None,
        about: None,
        actions: law.does.clone(),
        on: Some(law.on.clone()),
        when: law.when.clone(),
        origin: Origin::default(),
    };
    // Policies stay where they are as targets, and say nothing.
    for policy in &mut mirror.policies {
        let place = policy.body.place.take();
        policy.body = Policy { place, ..Policy::default() };
    }
    mirror.policies[0].body.statements = vec![statement];
    mirror.attachments = vec![Attachment {
        policy: list(&[&declared.policies[0].name.value]),
        to: list(&["everyone"]),
        at: list(&["v", "o"]),
        window: Default::default(),
        about: None,
        origin: Origin::default(),
    }];
    estates::build(&mirror)
}

fn concerns(estate: &Estate, closure: &Closure<'_>) -> bool {
    let law = &estate.laws[0];
    let somebody = matches!(closure.principal, Principal::User(_) | Principal::Workload(_));
    let among = |list: &[Subject]| {
        list.iter().any(|subject| match subject {
            Subject::Everyone => somebody,
            Subject::One(Principal::Group(group)) => somebody && closure.groups.contains(group),
            Subject::One(one) => *one == closure.principal,
        })
    };
    among(&law.who) && !among(&law.except)
}

const BELOW: [&str; 26] = [
    "red",
    "run",
    "x",
    "job-1",
    "a/run",
    "red/x",
    "blue/x",
    "x/red",
    "rx",
    "u0",
    "x/x/x",
    "a",
    "q/n/x",
    "1",
    "2",
    "x/4",
    "-1",
    "xy",
    "zy",
    "true",
    "10.0.0.1",
    "11.0.0.1",
    "inside/x",
    "k/inner/x",
    "i/x",
    "1970-01-01T00:00:01Z",
];

/// Scopes, identities, and items: of [`BELOW`] those that estates of every sort single out, and those
/// too that only a case of [`crate::bare_laws`] does.
fn paths(estate: &Estate, is_bare: bool) -> Vec<String> {
    let scopes = estate.scopes.iter().map(|(_, scope)| scope.path.to_string());
    let mut all: Vec<String> = scopes.collect();
    let below = if is_bare { &BELOW[..] } else { &BELOW[..17] };
    for at in ["v/s/store", "v/s/c/n", "v/s/c/n/inner"] {
        all.extend(below.iter().map(|below| format!("{at}/{below}")));
    }
    all.extend(["v/p/u0", "v/p/u1", "v/p/u2", "v/p/g1", "v/p/r0", "v/p/p2"].map(str::to_owned));
    all
}

type Item = Vec<(Cow<'static, str>, Value)>;

fn items() -> Vec<Option<Item>> {
    let since = ["1970-01-01T00:00:01.999999Z", "1970-01-01T00:00:02Z", "1970-01-01T00:00:03.5Z"];
    let mut all = vec![None];
    all.extend(["raw", "red", "blue", "other"].map(|tier| Some(vec![("tier".into(), text(tier))])));
    all.extend(since.map(|at| Some(vec![("since".into(), text(at))])));
    all.push(Some(vec![("tier".into(), text("raw")), ("since".into(), text(since[0]))]));
    all.push(Some(vec![("tier".into(), text("other")), ("since".into(), text(since[2]))]));
    all
}

/// Whether a path may be meant by the law, by the letters with which its patterns begin.
fn may_concern(case: &Case, path: &str) -> bool {
    let path = format!("/{path}");
    case.declared.laws[0].on.value.iter().any(|pattern| {
        let start = pattern.value.split(['*', '{']).next().unwrap_or_default();
        let start = start.trim_end_matches('/');
        pattern.value.starts_with('!') || path.starts_with(start)
    })
}

fn asks_for_time(declared: &Declarations) -> bool {
    let bodies = declared.policies.iter().flat_map(|policy| &policy.body.statements);
    let whens = bodies.filter_map(|statement| statement.when.as_ref());
    let whens = whens.chain(declared.laws.iter().filter_map(|law| law.when.as_ref()));
    whens.into_iter().any(|when| when.value.contains("given.time"))
}

/// A request that breaks the law, if any of a great many does; `true` beside it when it breaks.
pub(crate) fn try_everything(
    case: &Case,
    estate: &Arc<Estate>,
    mirror: &Arc<Estate>,
) -> Option<Request<'static>> {
    let (engine, mirror_engine) =
        (Engine::new(Arc::clone(estate)), Engine::new(Arc::clone(mirror)));
    let (mut decider, mut concern) = (Decider::new(&engine), Decider::new(&mirror_engine));
    let claim = estate.laws[0].claim;
    let times = [
        0,
        1_200_000,
        1_999_999,
        2_000_000,
        2_000_001,
        2_300_000,
        2_999_999,
        3_000_000,
        3_000_001,
        3_700_000,
        9_000_000_000_000,
    ];
    // The windows of the estate concern nobody where everyone is attached to what there is.
    let is_bare = case.declared.attachments.len() == 1;
    let times = if is_bare && !asks_for_time(&case.declared) { &times[..1] } else { &times[..] };
    let circumstances = circumstances(&case.families);
    let items = items();
    let paths = paths(estate, is_bare);
    let paths: Vec<String> = paths.into_iter().filter(|path| may_concern(case, path)).collect();
    for who in estate.principals() {
        for time in times.iter().copied().map(Time) {
            let closure = Closure::new(&engine, who, &[], time);
            if !concerns(estate, &closure) {
                continue;
            }
            let roles = closure.roles.iter().chain(&closure.takeable);
            let roles = roles.map(|id| Some(format!("role:{}", estate.role(*id).identity.name)));
            let roles: Vec<Option<String>> = std::iter::once(None).chain(roles).collect();
            for path in &paths {
                let Ok(target) = bexum_core::request::resolve_target(estate, path) else {
                    continue;
                };
                let is_item = matches!(target.place, bexum_core::request::TargetPlace::Item(_));
                let applicable = estate.catalogue.applicable(target.class(estate));
                for action in applicable.intersection(&estate.laws[0].actions) {
                    let does = &estate.catalogue.actions[action].name;
                    for role in &roles {
                        for item in if is_item { &items[..] } else { &items[..1] } {
                            for given in &circumstances {
                                let request = Request {
                                    take_up: role.clone().map(Cow::from),
                                    given: given.clone(),
                                    item: item.clone(),
                                    ..Request::new(
                                        estate.principal_id(who),
                                        does.to_string(),
                                        path.clone(),
                                        time,
                                    )
                                };
                                // What does not fit what is declared is no request.
                                let Ok(query) = request.resolve(estate) else { continue };
                                if !claim.is_broken_by(decider.decide(&query)) {
                                    continue;
                                }
                                let query = request.resolve(mirror).expect("a request");
                                if concern.decide(&query) == Reason::Granted {
                                    return Some(request);
                                }
                            }
                        }
                    }
                }
            }
        }
    }
    None
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 20, max_shrink_iters: 300, ..ProptestConfig::default() })]

    #[test]
    fn a_law_holds_when_nothing_that_can_be_tried_breaks_it(case in case()) {
        let estate = estates::build(&case.declared);
        let mirror = mirror(&case.declared);
        let engine = Engine::new(Arc::clone(&estate));
        let laws = Laws::new(&engine, &estate.laws, Time(MOMENTS[0]));
        let parts = laws.judge_all();
        let (outcome, coverage) = laws.outcome(0, &parts[0]);
        match outcome {
            Outcome::Held => {
                let broken = try_everything(&case, &estate, &mirror);
                prop_assert!(broken.is_none(), "said to hold ({coverage:?}), but broken by {broken:?}");
            }
            Outcome::Broken(counterexample) => {
                // Asked anew, by names: it is about the law, and it breaks it.
                let mut decider = Decider::new(&engine);
                let query = counterexample.request.resolve(&estate).expect("a request");
                prop_assert_eq!(decider.decide(&query), counterexample.reason);
                prop_assert!(estate.laws[0].claim.is_broken_by(counterexample.reason));
                let closure = Closure::new(&engine, query.who, &[], query.time);
                prop_assert!(concerns(&estate, &closure));
                let mirror_engine = Engine::new(Arc::clone(&mirror));
                let query = counterexample.request.resolve(&mirror).expect("a request");
                let concern = Decider::new(&mirror_engine).decide(&query);
                prop_assert!(
                    concern == Reason::Granted,
                    "not about the law: {:?}", counterexample.request
                );
            }
            Outcome::NotDecided(limit) => prop_assert!(false, "not decided: {limit:?}"),
        }
    }
}
