//! What single rules of `vet` say of everybody and of every request, held against requests and moments
//! that they did not choose.

use std::sync::Arc;

use bexum_core::each::in_turn;
use bexum_core::edit::Edit;
use bexum_core::engine::{Candidate, Closure, Decider, Engine, EvalContext, Sink};
use bexum_core::principal::Principal;
use bexum_core::time::Time;
use bexum_core::vet::{Finding, RULES, fixes};
use bexum_core::{Estate, Reading, Request, Trace, Truth, Verdict};
use proptest::collection::vec;
use proptest::prelude::*;

use crate::estates;
use crate::vet::{after, report};

/// Every statement in play for a request, with what its condition by itself comes to.
#[derive(Default)]
struct Conditions(Vec<(String, Truth)>);

impl Sink for Conditions {
    const THOROUGH: bool = true;

    fn candidate(&mut self, candidate: Candidate, _: Truth, context: &EvalContext<'_>) {
        let estate = context.index.estate();
        if let Some(when) = &estate.statement(candidate.statement).when {
            let name = format!("policy:{}", estate.statement_label(candidate.statement));
            self.0.push((name, when.eval(context)));
        }
    }
}

/// Whether somebody asks for themselves, and in no session that is bounded or supposes something.
fn is_plain(request: &Request<'_>) -> bool {
    let somebody = request.who.starts_with("user:") || request.who.starts_with("resource:");
    somebody && request.also.is_empty() && request.under.is_empty()
}

/// What the findings of a rule say: about what, and the message.
fn said<'f>(findings: &'f [Finding], rule: &str) -> Vec<(&'f str, &'f str)> {
    let of_rule = findings.iter().filter(|one| one.rule == rule);
    of_rule.map(|one| (&*one.about, &*one.message)).collect()
}

/// The messages about something.
fn about<'f>(said: &[(&str, &'f str)], name: &str) -> Vec<&'f str> {
    said.iter().filter(|(about, _)| *about == name).map(|(_, message)| *message).collect()
}

/// Whether a message says of this request that a deny refuses it, whatever else it asks for.
fn says_it_refuses(message: &str, request: &Request<'_>) -> bool {
    if message.ends_with("unless the rest of the condition is false") {
        return false;
    }
    if let Some(rest) = message.strip_prefix("refuses whenever a request does not say `given.") {
        let below = |name: &str| name.replace('.', "/");
        let asked = below(rest.trim_end_matches('`'));
        let said = |name: &str| is_within(name, &asked) || is_within(&asked, name);
        return !request.given.iter().any(|(name, _)| said(&below(name)));
    }
    message.starts_with(&format!("`{}` has no `who.", request.who))
        || message.starts_with(&format!("`{}` has no `target.", request.on))
}

/// Whether a path is another, or lies below it.
fn is_within(path: &str, above: &str) -> bool {
    path.strip_prefix(above).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// The user who is told to be the only one, if one is.
fn alone(message: &str) -> Option<&str> {
    message.split_once("` alone can govern")?.0.strip_prefix('`')
}

fn is_in(engine: &Engine, who: Principal, into: &str, time: i64) -> bool {
    let estate = engine.estate();
    let closure = Closure::new(engine, who, &[], Time(time));
    match estate.find_principal(into) {
        Some(Principal::Group(id)) => closure.groups.contains(&id),
        Some(Principal::Role(id)) => closure.roles.contains(&id) || closure.can_take_up(id),
        _ => false,
    }
}

fn people(estate: &Estate) -> Vec<Principal> {
    let somebody = |who: &Principal| match who {
        Principal::User(id) => estate.user(*id).enabled,
        Principal::Workload(_) => true,
        _ => false,
    };
    estate.principals().filter(somebody).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 500, max_shrink_iters: 300, ..ProptestConfig::default() })]

    /// What is judged at the account and is said not to apply there does not; who is said to govern
    /// nothing is refused; a condition that is said to be always true, or never, is.
    #[test]
    fn nothing_that_is_asked_gainsays_a_rule(
        declared in estates::estate(),
        requests in vec(estates::request(), 150),
    ) {
        let estate = estates::build(&declared);
        let engine = Engine::new(Arc::clone(&estate));
        let findings = report(&declared, &["cannot-narrow", "lockout", "tautology", "doubtful-deny"]).findings;
        let not_at_accounts = said(&findings, "cannot-narrow");
        let locked = said(&findings, "lockout");
        let constant = said(&findings, "tautology");
        let doubtful = said(&findings, "doubtful-deny");
        let mut decider = Decider::new(&engine);
        for request in requests.iter().filter(|request| is_plain(request)) {
            let Ok(query) = request.resolve(&estate) else { continue };
            let trace = Trace::of(&mut decider, &query);
            for finding in &trace.allows {
                let id = finding.candidate.statement;
                let name = format!("policy:{}", estate.statement_label(id));
                let is_account_wide = *request.does == *"store.survey";
                prop_assert!(!is_account_wide || about(&not_at_accounts, &name).is_empty(), "{name} matches {request:?}");
            }
            let is_govern = *request.does == *"store.tag";
            if is_govern && trace.reason.verdict() == Verdict::Allow && request.who.starts_with("user:") {
                for (at, message) in locked.iter().filter(|(at, _)| is_within(&request.on, at)) {
                    prop_assert_eq!(alone(message), Some(&*request.who), "{} {:?}", at, request);
                }
            }
            let mut seen = Conditions::default();
            decider.decide_into(&query, Reading::Strict, &mut seen);
            for (name, truth) in seen.0 {
                for message in about(&constant, &name) {
                    if message.starts_with("this condition is always true") {
                        prop_assert_ne!(truth, Truth::False, "{} in {:?}: {}", name, request, message);
                    } else if message.starts_with("this condition can never be true") {
                        prop_assert_ne!(truth, Truth::True, "{} in {:?}: {}", name, request, message);
                    }
                }
                for message in about(&doubtful, &name) {
                    let refuses = says_it_refuses(message, request);
                    prop_assert!(!refuses || truth != Truth::False, "{name} in {request:?}: {message}");
                }
            }
        }
    }

    /// A group that nobody is said to be in has nobody, and a role that nobody holds or takes up
    /// neither, at any moment from now on.
    #[test]
    fn what_is_said_to_have_nobody_has_nobody(
        declared in estates::estate(),
        moments in vec(0_i64..4_000_000, 12),
    ) {
        let engine = Engine::new(estates::build(&declared));
        let report = report(&declared, &["unused-thing"]);
        let empty = said(&report.findings, "unused-thing");
        for (about, message) in empty.iter().filter(|(_, message)| message.starts_with("nobody")) {
            for who in people(engine.estate()) {
                for time in &moments {
                    prop_assert!(!is_in(&engine, who, about, *time), "{message}: {who:?} at {time}");
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, max_shrink_iters: 300, ..ProptestConfig::default() })]

    /// What is taken away because it says nothing changes no answer: each remedy by itself, and all
    /// that a rule has together.
    #[test]
    fn remedies_for_what_says_nothing_change_no_answer(
        declared in estates::estate(),
        requests in vec(estates::request(), 100),
    ) {
        let estate = estates::build(&declared);
        let before = estates::answers(&declared, &requests);
        let names = ["never-matches", "tautology", "wide-pattern", "unused-thing", "over"];
        let mut all: Vec<(String, Vec<Edit>)> = Vec::new();
        for finding in report(&declared, &names).findings {
            all.push((format!("{} {}", finding.about, finding.message), finding.remedy));
        }
        for rule in RULES.into_iter().filter(|rule| names.contains(&rule.name)) {
            let edits = fixes(&declared, &estate, rule, Time(0), &in_turn);
            all.push((format!("all that {} finds", rule.name), edits));
        }
        for (told, edits) in all.into_iter().filter(|(_, edits)| !edits.is_empty()) {
            let Some((changed, _)) = after(&declared, &edits, &estate) else {
                return Err(TestCaseError::fail(format!("{told}: {edits:?}")));
            };
            let answers = estates::answers(&changed, &requests);
            for (request, (was, is)) in requests.iter().zip(before.iter().zip(answers)) {
                // What is gone can no more be asked about, nor bound a session.
                let (true, Some(was), Some(is)) = (is_plain(request), was, is) else { continue };
                prop_assert_eq!(was.verdict(), is.verdict(), "{}: {:?}", told, request);
            }
        }
    }
}
