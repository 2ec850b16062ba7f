//! How like the others somebody is, by counting pairs; and what is lost by nothing is lost by nobody.

use bexum_core::attribute::Value;
use bexum_core::declaration::Declarations;
use bexum_core::edit::{Edit, ListOf, apply};
use bexum_core::engine::Engine;
use bexum_core::naive::Naive;
use bexum_core::review::{Closed, Of, Opens, Reviewing, questions};
use bexum_core::{Estate, Reason, Request, Time};
use proptest::collection::vec;
use proptest::prelude::*;

use crate::estates;

const NOW: Time = Time(0);

/// What is known of a user under a name: a scalar attribute, or the manager.
fn known(declared: &Declarations, user: &str, name: &str) -> Option<String> {
    let user = declared.users.iter().find(|one| format!("user:{}", one.name.value) == user)?;
    if name == "manager" {
        return user.body.manager.as_ref().map(|manager| manager.value.clone());
    }
    let found = user.body.attributes.iter().find(|(known, _)| known.value == name)?;
    match &found.1 {
        Value::List(_) => None,
        value => Some(value.to_string()),
    }
}

/// Of all pairs of different people, the share that agrees.
fn agreement(declared: &Declarations, people: &[String], name: &str) -> f64 {
    let (mut pairs, mut agree) = (0.0, 0.0);
    for (i, one) in people.iter().enumerate() {
        for other in &people[i + 1..] {
            let (one, other) = (known(declared, one, name), known(declared, other, name));
            pairs += 1.0;
            agree += f64::from(u8::from(one.is_some() && one == other));
        }
    }
    if pairs > 0.0 { agree / pairs } else { 0.0 }
}

fn likeness(declared: &Declarations, members: &[String], who: &str) -> f64 {
    let others: Vec<String> = members.iter().filter(|one| *one != who).cloned().collect();
    let enabled = declared.users.iter().filter(|user| user.body.enabled);
    let enabled: Vec<String> = enabled.map(|user| format!("user:{}", user.name.value)).collect();
    let mut names: Vec<String> = declared
        .users
        .iter()
        .flat_map(|user| user.body.attributes.iter().map(|(name, _)| name.value.clone()))
        .collect();
    names.push("manager".to_owned());
    names.sort();
    names.dedup();
    let (mut sum, mut whole) = (0.0, 0.0);
    for name in &names {
        let weight = agreement(declared, &others, name) - agreement(declared, &enabled, name);
        if weight <= 0.0 {
            continue;
        }
        let own = known(declared, who, name);
        let is_same = |other: &&String| own.is_some() && known(declared, other, name) == own;
        let agree = others.iter().filter(is_same).count();
        sum += weight * agree as f64 / others.len() as f64;
        whole += weight;
    }
    if whole > 0.0 { sum / whole } else { 0.0 }
}

/// Whether a request is one that somebody could make, with nothing supposed: a role asks by itself.
pub(crate) fn is_of_a_session(request: &Request<'_>) -> bool {
    let is_bare = request.also.is_empty() && request.under.is_empty();
    let takes_up_more = request.who.starts_with("role:") && request.take_up.is_some();
    is_bare && request.time >= NOW && !request.who.starts_with("group:") && !takes_up_more
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    /// The likeness told is the one that counting pairs gives, and its median is the others'.
    #[test]
    fn likeness_is_what_pairs_say(declared in estates::estate()) {
        let engine = Engine::new(estates::build(&declared));
        let estate = engine.estate();
        let reviewing = Reviewing::new(&declared, &engine, None, NOW);
        for group in &declared.groups {
            let of = [Of::Group(group.name.value.clone())];
            let all = questions(estate, &of);
            let users = all.iter().filter(|one| one.who.starts_with("user:"));
            let mut members: Vec<String> = users.map(|one| one.who.clone()).collect();
            members.sort();
            members.dedup();
            for question in all.iter().filter(|one| one.who.starts_with("user:")) {
                let told = reviewing.facts(question).likeness.expect("a user in a group");
                let plain = likeness(&declared, &members, &question.who);
                prop_assert!((told.likeness - plain).abs() < 1e-9, "{}: {told:?}, {plain}", question.who);
                let others = members.iter().filter(|one| **one != question.who);
                let mut others: Vec<f64> =
                    others.map(|one| likeness(&declared, &members, one)).collect();
                others.sort_by(f64::total_cmp);
                let median = match others.len() {
                    0 => 0.0,
                    n => f64::midpoint(others[(n - 1) / 2], others[n / 2]),
                };
                prop_assert!((told.median - median).abs() < 1e-9, "{told:?}, {median}");
                prop_assert_eq!(told.members, members.len());
            }
        }
    }

    /// Where what follows from a review is said to open nothing, no request that anything made up is
    /// allowed by it; and of what cannot be made, nothing is said.
    #[test]
    fn what_opens_nothing_opens_nothing(
        declared in estates::estate(),
        requests in vec(estates::request(), 80),
    ) {
        let engine = Engine::new(estates::build(&declared));
        let estate = engine.estate();
        let of: Vec<Of> =
            declared.policies.iter().map(|one| Of::Policy(one.name.value.clone())).collect();
        let before = Naive::new(&declared);
        for question in questions(estate, &of) {
            let closed = Closed { edits: vec![question.removal()], skipped: Vec::new() };
            if closed.opens(&declared, &engine, NOW) != Opens::Nothing {
                continue;
            }
            let mut changed = declared.clone();
            let done = apply(&question.removal(), &mut changed, &estate.catalogue, NOW);
            prop_assert!(done.is_ok(), "{question:?}: {:?}", done.err());
            let after = Naive::new(&changed);
            for request in requests.iter().filter(|request| is_of_a_session(request)) {
                if after.decide(request) == Some(Reason::Granted) {
                    let was = before.decide(request);
                    prop_assert_eq!(was, Some(Reason::Granted), "{:?}: {:?}", question, request);
                }
            }
        }
        let impossible = Edit::Remove {
            who: vec!["user:nobody".to_owned()],
            list: ListOf::Members,
            of: "none".to_owned(),
        };
        let closed = Closed { edits: vec![impossible], skipped: Vec::new() };
        prop_assert_eq!(closed.opens(&declared, &engine, NOW), Opens::NotDecided);
    }

    /// Where taking something away is said to close nothing, no request that anything made up is
    /// refused by it.
    #[test]
    fn what_closes_nothing_closes_nothing(
        declared in estates::estate(),
        requests in vec(estates::request(), 80),
    ) {
        let engine = Engine::new(estates::build(&declared));
        let estate = engine.estate();
        let reviewing = Reviewing::new(&declared, &engine, None, NOW);
        let groups = declared.groups.iter().map(|one| Of::Group(one.name.value.clone()));
        let roles = declared.roles.iter().map(|one| Of::Role(one.name.value.clone()));
        let policies = declared.policies.iter().map(|one| Of::Policy(one.name.value.clone()));
        let of: Vec<Of> = groups.chain(roles).chain(policies).collect();
        let before = Naive::new(&declared);
        for question in questions(estate, &of) {
            if reviewing.facts(&question).closes_nothing != Some(true) {
                continue;
            }
            let mut changed = declared.clone();
            let done = apply(&question.removal(), &mut changed, &estate.catalogue, NOW);
            prop_assert!(done.is_ok(), "{question:?}: {:?}", done.err());
            prop_assert!(Estate::build(&changed).is_ok(), "{question:?}");
            let after = Naive::new(&changed);
            for request in requests.iter().filter(|request| is_of_a_session(request)) {
                if before.decide(request) == Some(Reason::Granted) {
                    let still = after.decide(request);
                    prop_assert_eq!(still, Some(Reason::Granted), "{:?}: {:?}", question, request);
                }
            }
        }
    }
}
