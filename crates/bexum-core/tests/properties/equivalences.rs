//! Two ways of saying the same come to the same answers.

use bexum_core::attribute::Value;
use bexum_core::condition::fact::Scalar;
use bexum_core::declaration::{Attachment, Element, List, WindowWritten};
use bexum_core::engine::{BorrowedRequest, Closure, Engine, RequestBatch};
use bexum_core::origin::Spanned;
use bexum_core::{Decider, Estate, Principal, Reason, Request, Time, Verdict};
use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;
use std::sync::Arc;

use crate::estates::{self, MOMENTS, answers, w};

/// Each element of a list as a list of its own.
fn alone(list: &List) -> Vec<List> {
    let one = |item: &Spanned<String>| Spanned::new(vec![item.clone()], list.origin);
    list.value.iter().map(one).collect()
}

/// The request as a brief one, if it can be said so.
fn fill_in<'a>(request: &'a Request<'a>, brief: &mut BorrowedRequest<'a>) -> bool {
    brief.given.clear();
    (brief.who, brief.does, brief.on) = (&request.who, &request.does, &request.on);
    (brief.take_up, brief.time) = (request.take_up.as_deref(), Some(request.time));
    for (name, value) in &request.given {
        let scalar = match value {
            None => None,
            Some(Value::Text(text)) => Some(Scalar::Text(text)),
            Some(Value::Integer(n)) => Some(Scalar::Integer(*n)),
            Some(Value::Boolean(b)) => Some(Scalar::Boolean(*b)),
            Some(_) => return false,
        };
        brief.given.push((name, scalar));
    }
    let has_heads = request.given.iter().any(|(name, _)| name.contains('.'));
    !has_heads && request.also.is_empty() && request.under.is_empty() && request.item.is_none()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    #[test]
    fn lists_multiply_out(
        declared in estates::estate(),
        requests in vec(estates::request(), 25),
    ) {
        let mut other = declared.clone();
        other.attachments.clear();
        for attachment in &declared.attachments {
            for policy in alone(&attachment.policy) {
                for to in alone(&attachment.to) {
                    for at in alone(&attachment.at) {
                        let (policy, to) = (policy.clone(), to.clone());
                        other.attachments.push(Attachment { policy, to, at, ..attachment.clone() });
                    }
                }
            }
        }
        other.ceilings.clear();
        for ceiling in &declared.ceilings {
            for policy in alone(&ceiling.policy) {
                let overs = match &ceiling.over {
                    None => vec![None],
                    Some(list) => alone(list).into_iter().map(Some).collect(),
                };
                for over in overs {
                    let mut one = ceiling.clone();
                    (one.policy, one.over) = (policy.clone(), over);
                    other.ceilings.push(one);
                }
            }
        }
        prop_assert_eq!(answers(&declared, &requests), answers(&other, &requests));
    }

    #[test]
    fn what_is_included_might_as_well_stand_there(
        declared in estates::estate(),
        requests in vec(estates::request(), 25),
    ) {
        let mut other = declared.clone();
        // Policies include only such as stand before them, so one pass lays everything out.
        for i in 0..other.policies.len() {
            let names: Vec<String> =
                other.policies[i].body.include.drain(..).map(|name| name.value).collect();
            for name in names {
                let included = other.policies.iter().find(|policy| policy.name.value == name);
                let statements = included.expect("it is declared").body.statements.clone();
                other.policies[i].body.statements.extend(statements);
            }
        }
        prop_assert_eq!(answers(&declared, &requests), answers(&other, &requests));
    }

    #[test]
    fn supposing_a_group_is_being_in_it(
        declared in estates::estate(),
        requests in vec(estates::request(), 25),
        group in 0..3usize,
    ) {
        for request in &requests {
            let is_member = request.who.starts_with("user:") || request.who.starts_with("resource:");
            // A list of members that was not written would be written then, and can be asked about.
            if !is_member || declared.groups[group].body.members.is_none() {
                continue;
            }
            let mut supposing = request.clone();
            supposing.also = vec![format!("group:g{group}").into()];
            let mut being = request.clone();
            being.also.clear();
            let mut other = declared.clone();
            let who = w(&request.who);
            let element = Element { who, window: WindowWritten::default() };
            other.groups[group].body.members.as_mut().expect("written").push(element);
            // The group's own table says so then, and conditions may look at it.
            if request.on == "v/p/g1" {
                continue;
            }
            prop_assert_eq!(answers(&declared, &[supposing]), answers(&other, &[being]));
        }
    }

    #[test]
    fn a_session_under_a_policy_is_a_ceiling_for_everyone(
        declared in estates::estate(),
        ceiling in estates::ceiling(),
        requests in vec(estates::request(), 25),
        policy in select(&estates::POLICIES[..]),
    ) {
        let mut other = declared.clone();
        let mut one = ceiling;
        one.policy.value = vec![w(policy)];
        (one.over, one.bound, one.window) = (None, None, WindowWritten::default());
        other.ceilings.push(one);
        let plain: Vec<_> = requests
            .iter()
            .map(|request| Request { under: Vec::new(), ..request.clone() })
            .collect();
        let under: Vec<_> = plain
            .iter()
            .map(|request| Request { under: vec![policy.into()], ..request.clone() })
            .collect();
        prop_assert_eq!(answers(&declared, &under), answers(&other, &plain));
    }

    #[test]
    fn a_seal_never_opens_anything(
        declared in estates::estate(),
        requests in vec(estates::request(), 40),
        scope in 0..8usize,
    ) {
        let mut open = declared.clone();
        open.scopes[scope].body.sealed = false;
        let mut sealed = declared;
        sealed.scopes[scope].body.sealed = true;
        for (open, sealed) in answers(&open, &requests).iter().zip(answers(&sealed, &requests)) {
            let allows = |answer: Option<Reason>| answer.is_some_and(|r| r.verdict() == Verdict::Allow);
            prop_assert!(!allows(sealed) || allows(*open));
        }
    }

    #[test]
    fn who_is_not_enabled_can_do_nothing(
        mut declared in estates::estate(),
        requests in vec(estates::request(), 25),
    ) {
        declared.users.iter_mut().for_each(|user| user.body.enabled = false);
        for (request, answer) in requests.iter().zip(answers(&declared, &requests)) {
            if request.who.starts_with("user:") {
                prop_assert!(matches!(answer, None | Some(Reason::Disabled)));
            } else {
                prop_assert_ne!(answer, Some(Reason::Disabled));
            }
        }
    }

    #[test]
    fn a_decider_that_has_seen_much_says_the_same(
        declared in estates::estate(),
        requests in vec(estates::request(), 60),
    ) {
        // One decider for all of them, whatever their times, against a new one for each.
        let together = answers(&declared, &requests);
        for (request, known) in requests.iter().zip(together) {
            prop_assert_eq!(answers(&declared, std::slice::from_ref(request)), [known]);
        }
    }

    #[test]
    fn requests_looked_up_together_are_the_same_as_one_by_one(
        declared in estates::estate(),
        requests in vec(estates::request(), 1..50),
    ) {
        let estate = estates::build(&declared);
        let engine = Engine::new(Arc::clone(&estate));
        let mut decider = Decider::new(&engine);
        let mut batch = RequestBatch::default();
        // The second time round, what the first left behind is there.
        for _ in 0..2 {
            batch.clear();
            let plain: Vec<_> =
                requests.iter().filter(|request| fill_in(request, batch.add()) || {
                    batch.take_back();
                    false
                }).collect();
            prop_assert_eq!(batch.len(), plain.len());
            batch.resolve(&mut decider, Time(-1));
            for (i, request) in plain.iter().enumerate() {
                let careful = request.resolve(&estate).ok();
                let quick = batch.query(i);
                // All of these paths are plain, so whatever is a request is found.
                prop_assert_eq!(quick.is_some(), careful.is_some(), "{:?}", request);
                let Some((quick, careful)) = quick.zip(careful) else { continue };
                prop_assert_eq!(format!("{quick:?}"), format!("{careful:?}"));
                prop_assert_eq!(decider.decide(quick), Decider::new(&engine).decide(&careful));
            }
        }
    }

    #[test]
    fn closures_stay_while_they_say_they_do(declared in estates::estate(), at in 0..5usize, then in 0..5usize) {
        let estate = Arc::new(Estate::build(&declared).expect("it builds"));
        let engine = Engine::new(Arc::clone(&estate));
        let moments = [0, MOMENTS[0], MOMENTS[1], 2_500_000, MOMENTS[2]];
        let principals: Vec<Principal> = estate.principals().collect();
        for principal in principals {
            let closure = Closure::new(&engine, principal, &[], Time(moments[at]));
            prop_assert!(closure.valid_during.holds(Time(moments[at])));
            let later = Closure::new(&engine, principal, &[], Time(moments[then]));
            if closure.valid_during.holds(Time(moments[then])) {
                prop_assert_eq!(&closure.groups, &later.groups);
                prop_assert_eq!(&closure.roles, &later.roles);
                prop_assert_eq!(&closure.takeable, &later.takeable);
            }
        }
    }

    #[test]
    fn the_tree_knows_what_lies_where(declared in estates::estate()) {
        let estate = Arc::new(Estate::build(&declared).expect("it builds"));
        for (above, upper) in estate.scopes.iter() {
            for (below, lower) in estate.scopes.iter() {
                let by_path = lower.path == upper.path
                    || lower.path.strip_prefix(&*upper.path).is_some_and(|rest| rest.starts_with('/'));
                prop_assert_eq!(estate.scopes.holds(above, below), by_path);
                prop_assert_eq!(estate.scopes.chain(below).any(|id| id == above), by_path);
                prop_assert_eq!(estate.scopes.subtree(above).contains(&below.index()), by_path);
            }
            prop_assert_eq!(estate.scopes.nearest(&format!("{}/x/y", upper.path)), Some(above));
        }
    }
}
