//! Laws about items whose names are told apart by patterns and by what is asked of the names: every
//! path of a few names is tried, with every value that could stand in it.

use std::borrow::Cow;
use std::sync::Arc;

use bexum_core::attribute::Value;
use bexum_core::declaration::{Declarations, Statement};
use bexum_core::engine::{Decider, Engine};
use bexum_core::expectation::Claim;
use bexum_core::policy::Effect;
use bexum_core::prove::{Laws, Outcome};
use bexum_core::{Estate, Reason, Request, Time};
use proptest::option::weighted;
use proptest::prelude::*;
use proptest::sample::select;

use crate::bare_laws::{law, leave_bare, statement, what_counts};
use crate::estates::{self, MOMENTS};
use crate::families::text;
use crate::proofs::mirror;
use crate::vet::report;

/// What a segment of a pattern may be.
const SEGMENTS: [&str; 12] =
    ["*", "**", "**", "1*", "*1", "a*", "*a", "1", "a", "{given.n}", "{given.s}", "{given.n}"];

const ATOMS: [&str; 22] = [
    "given.n > 2",
    "given.n > 20",
    "given.n > 200",
    "given.n < 12",
    "given.n != 1",
    "given.n in [1, 11]",
    "given.n is set",
    "given.s fits '*1'",
    "given.s fits 'a*'",
    "given.s fits '?1*'",
    "given.s != 'a'",
    "given.s in ['a', '1', '11']",
    "given.s = given.n",
    "given.s != given.n",
    "given.s > 1",
    "target.name = given.s",
    "target.name != given.n",
    "target.name fits '1*'",
    "target.name != '1'",
    "target.path fits '*1/*'",
    "target.path fits '*/?a'",
    "target.path != 'v/s/store/1'",
];

/// Names of items. They hold letters that no pattern names, too.
const NAMES: [&str; 14] =
    ["1", "3", "11", "12", "21", "41", "1000", "1001", "-1", "a", "ab", "ba", "a1", "1z"];

fn segments() -> impl Strategy<Value = String> {
    let few = prop_oneof![2 => Just(1), 4 => Just(2), 1 => Just(3)];
    let names = few.prop_flat_map(|n| proptest::collection::vec(select(&SEGMENTS[..]), n));
    names.prop_map(|names| names.join("/"))
}

fn condition() -> impl Strategy<Value = String> {
    select(&ATOMS[..]).prop_map(str::to_owned).prop_recursive(2, 4, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) and ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) or ({b})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}

/// One allow, perhaps a deny, and a law about the items of a store.
fn case() -> impl Strategy<Value = Declarations> {
    let on = || (segments(), weighted(0.3, segments()));
    let deny = weighted(0.3, (on(), weighted(0.6, condition())));
    let claim = prop_oneof![4 => Just(Claim::Never), 1 => Just(Claim::Always)];
    let allow = (on(), weighted(0.6, condition()));
    let of_law = (claim, on(), weighted(0.6, condition()));
    (estates::estate(), allow, deny, of_law).prop_map(|(mut declared, allow, deny, of_law)| {
        let of = |effect, ((on, not), when): ((String, Option<String>), Option<String>)| {
            let on: Vec<String> =
                [on].into_iter().chain(not.map(|not| format!("!{not}"))).collect();
            let on: Vec<&str> = on.iter().map(String::as_str).collect();
            statement(effect, "rec.read", &on, when.as_deref())
        };
        let statements = [of(Effect::Allow, allow)].into_iter();
        let statements = statements.chain(deny.map(|deny| of(Effect::Deny, deny))).collect();
        leave_bare(&mut declared, "v/s/store", statements);
        let (claim, (on, not), when) = of_law;
        let on = [format!("/v/s/store/{on}")].into_iter();
        let on: Vec<String> = on.chain(not.map(|not| format!("!/v/s/store/{not}"))).collect();
        let on: Vec<&str> = on.iter().map(String::as_str).collect();
        declared.laws = vec![law(claim, "rec.read", &on, when.as_deref())];
        declared
    })
}

/// What may be given so that it stands in a path, or not: names as texts and as integers, what can
/// stand in none, and nothing.
fn values(path: &str) -> Vec<Option<Value>> {
    let names = path.split('/').skip(3).chain(["1", "a", "12", "elsewhere"]);
    let integers = names.clone().filter_map(|name| name.parse().ok()).map(Value::Integer);
    let mut all: Vec<Option<Value>> = vec![None];
    for value in names.clone().map(text).chain(integers) {
        if !all.contains(&Some(value.clone())) {
            all.push(Some(value));
        }
    }
    all.push(Some(Value::List(names.take(2).map(text).collect())));
    all
}

/// The first request that is so, of a great many.
fn find(is_so: &mut dyn FnMut(&Request<'_>) -> bool) -> Option<Request<'static>> {
    let one = NAMES.iter().map(|name| format!("v/s/store/{name}"));
    let two = NAMES.iter().flat_map(|a| NAMES.map(|b| format!("v/s/store/{a}/{b}")));
    for path in one.chain(two) {
        let values = values(&path);
        for (n, s) in values.iter().flat_map(|n| values.iter().map(move |s| (n, s))) {
            let given = [("n", n), ("s", s)];
            let given = given.into_iter().filter_map(|(name, value)| {
                value.clone().map(|value| (Cow::from(name), Some(value)))
            });
            let request = Request {
                given: given.collect(),
                ..Request::new("user:u0", "rec.read", path.clone(), Time(MOMENTS[0]))
            };
            if is_so(&request) {
                return Some(request);
            }
        }
    }
    None
}

/// Decides by names.
fn decide(estate: &Estate, decider: &mut Decider<'_>, request: &Request<'_>) -> Reason {
    let query = request.resolve(estate).expect("a request");
    decider.decide(&query)
}

/// A request that breaks the law.
fn breaking(declared: &Declarations) -> Option<Request<'static>> {
    let engine = Engine::new(estates::build(declared));
    let concerned = Engine::new(mirror(declared));
    let (mut decider, mut concern) = (Decider::new(&engine), Decider::new(&concerned));
    let claim = engine.estate().laws[0].claim;
    find(&mut |request| {
        claim.is_broken_by(decide(engine.estate(), &mut decider, request))
            && decide(concerned.estate(), &mut concern, request) == Reason::Granted
    })
}

/// The estate with those statements alone that are kept, as they are left.
fn with(declared: &Declarations, keep: &dyn Fn(&mut Statement) -> bool) -> Engine {
    let mut declared = declared.clone();
    declared.policies[0].body.statements.retain_mut(|one| keep(one));
    Engine::new(estates::build(&declared))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn a_law_about_names_is_decided_right(declared in case()) {
        let estate = estates::build(&declared);
        let engine = Engine::new(Arc::clone(&estate));
        let laws = Laws::new(&engine, &estate.laws, Time(MOMENTS[0]));
        let (outcome, _) = laws.outcome(0, &laws.judge_all()[0]);
        match outcome {
            Outcome::Held => {
                let broken = breaking(&declared);
                prop_assert!(
                    broken.is_none(),
                    "said to hold, but broken by {broken:?}\n{}", what_counts(&declared)
                );
            }
            Outcome::NotDecided(_) => {}
            Outcome::Broken(counterexample) => {
                let query = counterexample.request.resolve(&estate).expect("a request");
                let reason = Decider::new(&engine).decide(&query);
                prop_assert!(estate.laws[0].claim.is_broken_by(reason));
            }
        }
    }

    /// What is said of statements about names is so: that one never matches, that denies take all of
    /// an allow, that nothing would change without one.
    #[test]
    fn what_is_said_of_statements_about_names_is_so(declared in case()) {
        let engine = Engine::new(estates::build(&declared));
        let mut decider = Decider::new(&engine);
        let found = report(&declared, &["never-matches", "outranked", "no-effect"]).findings;
        let policy = &declared.policies[0].name.value;
        for finding in found {
            let effects = [Effect::Allow, Effect::Deny].into_iter();
            let mut said = effects.filter(|one| finding.about == format!("policy:{policy} {one} 1"));
            let Some(effect) = said.next() else { continue };
            let other = match finding.rule {
                // By itself, as an allow, it grants where it matches.
                "never-matches" => with(&declared, &|one| {
                    let is_said = one.effect == effect;
                    one.effect = Effect::Allow;
                    is_said
                }),
                "no-effect" => with(&declared, &|one| one.effect != effect),
                _ => with(&declared, &|_| true),
            };
            let mut without = Decider::new(&other);
            let against = find(&mut |request| {
                let reason = decide(other.estate(), &mut without, request);
                match finding.rule {
                    "no-effect" => reason.verdict() != decide(engine.estate(), &mut decider, request).verdict(),
                    _ => reason == Reason::Granted,
                }
            });
            prop_assert!(against.is_none(), "{finding:?}, but {against:?}\n{}", what_counts(&declared));
        }
    }
}
