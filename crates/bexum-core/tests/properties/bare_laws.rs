//! Laws that hang on conditions alone: one allow, perhaps a deny, and everything tried.

use std::sync::Arc;

use bexum_core::attribute::Value;
use bexum_core::condition::ast::Root;
use bexum_core::declaration::{
    Attachment, Attribute, AttributeBody, Declarations, Law, List, Policy, Statement,
};
use bexum_core::engine::{Decider, Engine};
use bexum_core::expectation::Claim;
use bexum_core::origin::{Origin, Spanned};
use bexum_core::policy::Effect;
use bexum_core::prove::{Laws, Outcome, Possible, possible};
use bexum_core::{Estate, Reason, Request, Time};
use proptest::option::weighted;
use proptest::prelude::*;
use proptest::sample::select;

use crate::estates::{self, MOMENTS, list, w};
use crate::families::{Circumstances, FAMILIES, SEGMENTS, text};
use crate::proofs::{Case, circumstances, condition, mirror, try_everything};

/// Where a law of [`bare_case`] looks: where the policy is attached, what it is about, the `on` of the
/// law, that of the allow and that of the deny. The namespace has a sealed one below.
struct Look {
    at: &'static str,
    does: &'static str,
    law_ons: &'static [&'static str],
    ons: &'static [&'static str],
    deny_ons: &'static [&'static str],
}

const LOOKS: [Look; 5] = [
    Look {
        at: "v/s/store",
        does: "store.list",
        law_ons: &["/v/s/store"],
        ons: &["**"],
        deny_ons: &["**"],
    },
    Look {
        at: "v/s",
        does: "store.list",
        law_ons: &["/v/s/{given.seg}"],
        ons: &["**"],
        deny_ons: &["**"],
    },
    Look {
        at: "v/s/store",
        does: "rec.read",
        law_ons: &["/v/s/store/*/**", "/v/s/store/{given.seg}", "/v/s/store/*"],
        ons: &["**", "{given.count}", "*/{given.folder}", "{given.seg}"],
        deny_ons: &["**"],
    },
    Look {
        at: "v/s/c/n",
        does: "job.run",
        law_ons: &["/v/s/c/n/i*/x", "/v/s/c/n/**/inner/x", "/v/s/c/n/**", "/v/s/c/{given.seg}/*"],
        ons: &["**", "*/x", "{given.seg}/**"],
        deny_ons: &["**"],
    },
    // What is given may be no name that can stand where the deny puts it.
    Look {
        at: "v/s/store",
        does: "rec.read",
        law_ons: &["/v/s/store/red"],
        ons: &["**"],
        deny_ons: &["{given.seg}"],
    },
];

pub(crate) fn statement(effect: Effect, does: &str, on: &[&str], when: Option<&str>) -> Statement {
    Statement {
        effect,
        name: None,
        about: None,
        actions: list(&[does]),
        on: Some(list(on)),
        when: when.map(w),
        origin: Origin::default(),
    }
}

/// A law about one user.
pub(crate) fn law(claim: Claim, does: &str, on: &[&str], when: Option<&str>) -> Law {
    Law {
        claim,
        name: None,
        who: list(&["user:u0"]),
        except: None,
        does: list(&[does]),
        on: list(on),
        when: when.map(w),
        about: None,
        origin: Origin::default(),
    }
}

/// Leaves these statements alone, of one policy that everyone has at a place.
pub(crate) fn leave_bare(declared: &mut Declarations, at: &str, statements: Vec<Statement>) {
    declared.policies.truncate(1);
    declared.policies[0].body = Policy { statements, ..Policy::default() };
    declared.ceilings.clear();
    declared.attachments = vec![Attachment {
        policy: list(&[&declared.policies[0].name.value]),
        to: list(&["everyone"]),
        at: list(&[at]),
        window: Default::default(),
        about: None,
        origin: Origin::default(),
    }];
    declared.users.iter_mut().for_each(|user| user.body.enabled = true);
}

/// An estate in which everything hangs on conditions: one allow, perhaps a deny, for everyone, and a
/// law about one user.
fn bare_case(
    looks: &'static [Look],
    families: impl Into<Vec<usize>>,
    most_families: usize,
) -> impl Strategy<Value = Case> {
    let all = families.into();
    (0..looks.len()).prop_flat_map(move |look| {
        let Look { at, does, law_ons, ons, deny_ons } = looks[look];
        let families = proptest::sample::subsequence(all.clone(), 1..=most_families);
        families.prop_flat_map(move |families| {
            let condition = || condition(families.clone());
            let claim = prop_oneof![2 => Just(Claim::Never), 1 => Just(Claim::Always)];
            let deny = weighted(0.5, (condition(), select(deny_ons)));
            let when = weighted(0.7, condition());
            let families = families.clone();
            (estates::estate(), condition(), deny, select(ons), select(law_ons), claim, when)
                .prop_map(move |(mut declared, allow, deny, on, law_on, claim, when)| {
                    // Most of what is said to be allowed always is broken, unless it is said of
                    // what the allow says.
                    let same = (claim == Claim::Always && deny.is_some()).then(|| allow.clone());
                    let when = same.or(when);
                    let mut statements = vec![statement(Effect::Allow, does, &[on], Some(&allow))];
                    let deny =
                        deny.map(|(when, on)| statement(Effect::Deny, does, &[on], Some(&when)));
                    statements.extend(deny);
                    leave_bare(&mut declared, at, statements);
                    for scope in &mut declared.scopes {
                        scope.body.sealed |= scope.name.value == "v/s/c/n/inner";
                    }
                    declared.laws = vec![law(claim, does, &[law_on], when.as_deref())];
                    Case { declared, families: families.clone() }
                })
        })
    })
}

fn every_family() -> Vec<usize> {
    (0..FAMILIES.len()).collect()
}

fn check_bare(case: &Case) -> Result<(), TestCaseError> {
    check_bare_estate(case, estates::build(&case.declared))
}

fn check_bare_estate(case: &Case, estate: Arc<Estate>) -> Result<(), TestCaseError> {
    let engine = Engine::new(Arc::clone(&estate));
    let laws = Laws::new(&engine, &estate.laws, Time(MOMENTS[0]));
    let (outcome, _) = laws.outcome(0, &laws.judge_all()[0]);
    if matches!(outcome, Outcome::Held) {
        let broken = try_everything(case, &estate, &mirror(&case.declared));
        prop_assert!(
            broken.is_none(),
            "said to hold, but broken by {broken:?}\n{}",
            what_counts(&case.declared)
        );
    }
    Ok(())
}

/// The circumstances of every family, declared: a request with what does not fit is an error, so
/// what is said of all requests is said of fewer.
fn declare_circumstances(declared: &mut Declarations) {
    let words = |words: &[&str]| words.iter().map(|word| text(word)).collect::<Vec<_>>();
    let numbers = (0..4).map(Value::Integer).collect::<Vec<_>>();
    for (name, value_type, is_list, one_of, form) in [
        ("mfa", "boolean", false, None, None),
        ("count", "integer", false, Some(numbers), None),
        ("ip", "string", false, None, Some("address")),
        ("folder", "string", false, Some(words(&["red", "rn", "other"])), None),
        ("dev.ok", "boolean", false, None, None),
        ("tags", "string", true, Some(words(&["red", "blue"])), None),
        ("end", "time", false, None, None),
        ("stamp", "string", false, None, Some("time")),
        ("at", "string", false, None, Some("address")),
        ("nets", "string", true, None, Some("range")),
        ("seg", "string", false, Some(words(&["red", "x", "xy", "y"])), None),
        ("a", "integer", false, None, None),
        ("b", "integer", false, None, None),
        ("c", "integer", false, None, None),
        ("one", "string", false, Some(words(&["x", "xy", "xz"])), None),
        ("two", "string", false, None, None),
    ] {
        declared.attributes.push(Attribute {
            root: Root::Given,
            name: w(name),
            body: Some(AttributeBody {
                value_type: w(value_type),
                is_list,
                one_of: one_of.map(|values| {
                    let spanned = |value| Spanned::new(value, Origin::default());
                    Spanned::new(values.into_iter().map(spanned).collect(), Origin::default())
                }),
                form: form.map(w),
            }),
            about: None,
        });
    }
}

/// The statements and the law of a [`bare_case`], for people who read why a test fails.
pub(crate) fn what_counts(declared: &Declarations) -> String {
    let list = |list: &List| list.value.iter().map(|w| w.value.clone()).collect::<Vec<_>>();
    let statements = declared.policies[0]
        .body
        .statements
        .iter()
        .map(|one| (format!("{:?}", one.effect), one.on.as_ref().map(list), one.when.as_ref()));
    let law = &declared.laws[0];
    let law = (format!("{:?}", law.claim), Some(list(&law.on)), law.when.as_ref());
    let all = statements
        .chain([law])
        .map(|(what, on, when)| format!("{what} {on:?} when {:?}", when.map(|when| &when.value)));
    all.collect::<Vec<_>>().join("\n")
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2000, max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn a_law_that_a_brace_of_a_deny_breaks_is_decided_right(case in bare_case(&LOOKS[4..], [15, 18], 1)) {
        check_bare(&case)?;
    }

    #[test]
    fn a_law_that_hangs_on_circumstances_is_decided_right(case in bare_case(&LOOKS[..1], every_family(), 1)) {
        check_bare(&case)?;
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1500, max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn a_law_that_hangs_on_declared_circumstances_is_decided_right(
        case in bare_case(&LOOKS[..1], every_family(), 1),
    ) {
        let mut case = case;
        declare_circumstances(&mut case.declared);
        // Conditions that their types make undecided for ever do not load.
        if let Ok(estate) = Estate::build(&case.declared) {
            check_bare_estate(&case, Arc::new(estate))?;
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn a_law_that_hangs_on_two_circumstances_is_decided_right(case in bare_case(&LOOKS[..1], every_family(), 2)) {
        check_bare(&case)?;
    }

    #[test]
    fn a_law_about_items_is_decided_right(case in bare_case(&LOOKS[1..4], every_family(), 1)) {
        check_bare(&case)?;
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, max_shrink_iters: 200, ..ProptestConfig::default() })]

    #[test]
    fn a_law_about_what_stands_in_a_path_is_decided_right(case in bare_case(&LOOKS[1..4], SEGMENTS, 1)) {
        check_bare(&case)?;
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, max_shrink_iters: 200, ..ProptestConfig::default() })]

    /// What is said to be refused whatever is given besides stays so, and what is said to be allowed
    /// in some circumstances is.
    #[test]
    fn what_could_be_allowed_is_told(
        case in bare_case(&LOOKS, every_family(), 2),
        known in any::<proptest::sample::Index>(),
        at in select(vec![0, 2_000_000, 2_300_000, 3_000_001]),
    ) {
        let estate = estates::build(&case.declared);
        let engine = Engine::new(Arc::clone(&estate));
        let mut decider = Decider::new(&engine);
        let all = circumstances(&case.families);
        let known = known.get(&all).clone();
        let ask = |given: Circumstances| Request {
            given,
            ..Request::new("user:u0", "store.list", "v/s/store", Time(at))
        };
        let request = ask(known.clone());
        let query = request.resolve(&estate).expect("a request");
        match possible(&mut decider, &query) {
            Possible::Yes(request) => {
                let allowed = request.resolve(&estate).expect("a request");
                prop_assert_eq!(decider.decide(&allowed), Reason::Granted);
                prop_assert_eq!(allowed.time, Time(at));
                for given in &known {
                    // An absent head says the same of what is below it.
                    let is_head = |name: &str| {
                        let below = given.0.strip_prefix(name);
                        below.is_some_and(|below| below.starts_with('.'))
                    };
                    let by_head = given.1.is_none()
                        && request.given.iter().any(|(n, value)| value.is_none() && is_head(n));
                    prop_assert!(
                        by_head
                            || request.given.contains(given)
                            || estate.attribute_names.get(&given.0).is_none(),
                        "{:?} is given no more: {:?}", given, request
                    );
                }
            }
            Possible::No => {
                let free = |given: &Circumstances| {
                    let head = |name: &str| name.split('.').next().unwrap_or_default().to_owned();
                    given.iter().all(|(a, _)| known.iter().all(|(b, _)| head(a) != head(b)))
                };
                for more in all.iter().filter(|more| free(more)) {
                    let request = ask([&known[..], &more[..]].concat());
                    let query = request.resolve(&estate).expect("a request");
                    prop_assert!(decider.decide(&query) != Reason::Granted, "{request:?}");
                }
            }
            Possible::NotDecided => {}
        }
    }
}
