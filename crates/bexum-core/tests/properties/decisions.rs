//! Laws of the decision itself.

use bexum_core::condition::Reference;
use bexum_core::declaration::{Attachment, Declarations};
use bexum_core::engine::{Candidate, Decider, Engine, EvalContext, Sink};
use bexum_core::naive::Naive;
use bexum_core::policy::Effect;
use bexum_core::{Reading, Reason, Request, Trace, Truth, Verdict};
use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;
use std::sync::Arc;

use crate::estates::{self, answers, build, w};

fn allowed(answer: &Option<Reason>) -> bool {
    answer.is_some_and(|reason| reason.verdict() == Verdict::Allow)
}

/// Writes down every candidate in play and what it came to.
#[derive(Default)]
struct Truths(Vec<(Candidate, Truth)>);

impl Sink for Truths {
    const THOROUGH: bool = true;

    fn candidate(&mut self, candidate: Candidate, truth: Truth, _scene: &EvalContext<'_>) {
        self.0.push((candidate, truth));
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1000, ..ProptestConfig::default() })]

    #[test]
    fn engine_and_spec_read_aloud_agree(
        declared in estates::estate(),
        requests in vec(estates::request(), 40),
    ) {
        let naive = Naive::new(&declared);
        let answers = answers(&declared, &requests);
        for (request, answer) in requests.iter().zip(answers) {
            prop_assert_eq!(naive.decide(request), answer, "{:?}", request);
        }
    }

    #[test]
    fn explaining_and_deciding_agree(
        declared in estates::estate(),
        requests in vec(estates::request(), 20),
    ) {
        let estate = build(&declared);
        let engine = Engine::new(Arc::clone(&estate));
        let mut decider = Decider::new(&engine);
        for request in &requests {
            let Ok(query) = request.resolve(&estate) else { continue };
            let reason = decider.decide(&query);
            let trace = Trace::of(&mut decider, &query);
            prop_assert_eq!(trace.reason, reason);
            // What is allowed for certain is allowed at best, too.
            prop_assert!(reason != Reason::Granted || trace.at_best == Reason::Granted);
        }
    }

    #[test]
    fn order_never_matters(
        declared in estates::estate(),
        requests in vec(estates::request(), 20),
        turn in 1..5usize,
    ) {
        let mut other = declared.clone();
        fn mix<T>(list: &mut [T], turn: usize) {
            list.reverse();
            let by = turn.min(list.len());
            list.rotate_left(by);
        }
        mix(&mut other.kinds, turn);
        mix(&mut other.scopes, turn);
        mix(&mut other.users, turn);
        mix(&mut other.groups, turn);
        mix(&mut other.roles, turn);
        mix(&mut other.policies, turn);
        mix(&mut other.attachments, turn);
        mix(&mut other.ceilings, turn);
        for group in &mut other.groups {
            mix(group.body.members.as_deref_mut().unwrap_or_default(), turn);
        }
        for role in &mut other.roles {
            mix(&mut role.body.held_by, turn);
            mix(&mut role.body.taken_by, turn);
        }
        for policy in &mut other.policies {
            mix(&mut policy.body.statements, turn);
            for statement in &mut policy.body.statements {
                mix(&mut statement.actions.value, turn);
                if let Some(on) = &mut statement.on {
                    mix(&mut on.value, turn);
                }
            }
        }
        for attachment in &mut other.attachments {
            mix(&mut attachment.policy.value, turn);
            mix(&mut attachment.to.value, turn);
            mix(&mut attachment.at.value, turn);
        }
        prop_assert_eq!(answers(&declared, &requests), answers(&other, &requests));
    }

    #[test]
    fn a_deny_or_a_ceiling_never_adds_access(
        declared in estates::estate(),
        statement in estates::statement(),
        attachment in estates::attachment(),
        ceiling in estates::ceiling(),
        requests in vec(estates::request(), 30),
    ) {
        let before = answers(&declared, &requests);
        let mut with_deny = add_policy(&declared, &statement, Effect::Deny);
        with_deny.attachments.push(attached_new(&attachment));
        let mut with_ceiling = declared.clone();
        with_ceiling.ceilings.push(ceiling);
        for other in [with_deny, with_ceiling] {
            for (before, after) in before.iter().zip(answers(&other, &requests)) {
                prop_assert!(allowed(before) || !allowed(&after));
            }
        }
    }

    #[test]
    fn an_allow_never_takes_access(
        declared in estates::estate(),
        statement in estates::statement(),
        attachment in estates::attachment(),
        requests in vec(estates::request(), 30),
    ) {
        let before = answers(&declared, &requests);
        let mut other = add_policy(&declared, &statement, Effect::Allow);
        other.attachments.push(attached_new(&attachment));
        for (before, after) in before.iter().zip(answers(&other, &requests)) {
            prop_assert!(!allowed(before) || allowed(&after));
        }
    }

    #[test]
    fn knowing_more_never_changes_what_was_certain(
        declared in estates::estate(),
        requests in vec(estates::request(), 20),
    ) {
        let estate = build(&declared);
        let engine = Engine::new(Arc::clone(&estate));
        let mut decider = Decider::new(&engine);
        for full in &requests {
            let mut truths = |request: &Request<'_>| {
                let query = request.resolve(&estate).ok()?;
                let mut sink = Truths::default();
                decider.decide_into(&query, Reading::Strict, &mut sink);
                sink.0.sort();
                Some(sink.0)
            };
            let Some(known) = truths(full) else { continue };
            for left_out in 0..full.given.len() {
                let mut less = full.clone();
                less.given.remove(left_out);
                let Some(before) = truths(&less) else { continue };
                prop_assert_eq!(before.len(), known.len());
                for ((candidate, before), (same, after)) in before.iter().zip(&known) {
                    prop_assert_eq!(candidate, same);
                    prop_assert!(*before == Truth::Undecided || before == after);
                }
            }
        }
    }

    #[test]
    fn what_was_not_given_is_named(
        declared in estates::estate(),
        requests in vec(estates::request(), 20),
    ) {
        let estate = build(&declared);
        let engine = Engine::new(Arc::clone(&estate));
        let mut decider = Decider::new(&engine);
        for request in &requests {
            let Ok(query) = request.resolve(&estate) else { continue };
            for reference in Trace::of(&mut decider, &query).not_given() {
                let Reference::Given(id) = reference else { panic!("{reference:?}") };
                let name = estate.attribute_names.name(id);
                prop_assert!(!request.given.iter().any(|(given, _)| given == name));
            }
        }
    }
}

/// The estate with one more policy `extra`, of one statement.
fn add_policy(
    declared: &Declarations,
    statement: &bexum_core::declaration::Statement,
    effect: Effect,
) -> Declarations {
    let mut other = declared.clone();
    let mut policy = other.policies[0].clone();
    policy.name = w("extra");
    policy.body.include.clear();
    policy.body.statements =
        vec![bexum_core::declaration::Statement { effect, ..statement.clone() }];
    other.policies.push(policy);
    other
}

fn attached_new(
    attachment: &bexum_core::declaration::Attachment,
) -> bexum_core::declaration::Attachment {
    let mut attachment = attachment.clone();
    attachment.policy.value = vec![w("extra")];
    attachment
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, max_shrink_iters: 200, ..ProptestConfig::default() })]

    /// Where much is attached at one scope, what counts is looked up and not looked through.
    #[test]
    fn much_at_one_scope_decides_as_little_does(
        mut declared in estates::estate(),
        crowd in vec(estates::attachment(), 120),
        place in select(&["v", "v/s", "v/s/store", "v/s/c/n"][..]),
        requests in vec(estates::request(), 40),
    ) {
        let here = |one: Attachment| Attachment { at: estates::list(&[place]), ..one };
        declared.attachments.extend(crowd.into_iter().map(here));
        let naive = Naive::new(&declared);
        let answers = answers(&declared, &requests);
        for (request, answer) in requests.iter().zip(answers) {
            prop_assert_eq!(naive.decide(request), answer, "{:?}", request);
        }
    }
}
