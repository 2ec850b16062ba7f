//! Explanations hold up: what they name is what decides, and nothing else is.

use bexum_core::declaration::Declarations;
use bexum_core::engine::{Decider, Engine};
use bexum_core::origin::Origin;
use bexum_core::{Estate, Reason, Request, Trace};
use proptest::collection::vec;
use proptest::prelude::*;
use std::sync::Arc;

use crate::estates;

/// What an explanation names, by the places where it is written.
#[derive(Default)]
struct Naming {
    /// Statements that decide: every matching deny, every matching allow.
    deciding: Vec<Origin>,
    /// Ceilings that bound: the ceiling as written, the policy, the scope.
    bounding: Vec<(Option<Origin>, String, Option<String>)>,
    /// Everything else that the text mentions as having a part in it.
    mentioned: Vec<Origin>,
}

fn explain(declared: &Declarations, request: &Request<'_>) -> Option<(Reason, Naming)> {
    let estate = Arc::new(Estate::build(declared).ok()?);
    let engine = Engine::new(Arc::clone(&estate));
    let query = request.resolve(&estate).ok()?;
    let trace = Trace::of(&mut Decider::new(&engine), &query);
    let mut naming = Naming::default();
    let written = |id| estate.statement(id).origin;
    let findings = match trace.reason {
        Reason::Denied => &trace.denies[..],
        Reason::Granted => &trace.allows[..],
        Reason::OverCeiling => {
            naming.mentioned.extend(trace.allows.iter().flat_map(|f| {
                [written(f.candidate.statement), estate.attachment(f.candidate.attachment).origin]
            }));
            &[]
        }
        _ => &[],
    };
    for finding in findings {
        naming.deciding.push(written(finding.candidate.statement));
        naming.mentioned.push(estate.attachment(finding.candidate.attachment).origin);
    }
    if matches!(trace.reason, Reason::OverCeiling | Reason::Granted) {
        for ceiling in &trace.ceilings {
            let policy = estate.policy(ceiling.limit.policy);
            if ceiling.bounds {
                naming.bounding.push((
                    ceiling.limit.ceiling.map(|id| estate.ceiling(id).origin),
                    policy.name.to_string(),
                    ceiling.limit.over.map(|over| estate.scope(over).path.to_string()),
                ));
                // A bounding ceiling is named whole, with all that its policy says.
                let all = policy.allows.iter().chain(&policy.denies);
                naming.mentioned.extend(all.map(|id| written(*id)));
                naming.mentioned.extend(ceiling.limit.ceiling.map(|id| estate.ceiling(id).origin));
            } else {
                naming.mentioned.extend(ceiling.statements.iter().map(|s| written(s.statement)));
            }
        }
    }
    Some((trace.reason, naming))
}

fn reason(declared: &Declarations, request: &Request<'_>) -> Option<Reason> {
    let estate = Arc::new(Estate::build(declared).ok()?);
    let engine = Engine::new(Arc::clone(&estate));
    let query = request.resolve(&estate).ok()?;
    Some(Decider::new(&engine).decide(&query))
}

fn without_statements(declared: &Declarations, gone: &[Origin]) -> Declarations {
    let mut other = declared.clone();
    for policy in &mut other.policies {
        policy.body.statements.retain(|statement| !gone.contains(&statement.origin));
    }
    other
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 250, ..ProptestConfig::default() })]

    #[test]
    fn without_what_is_named_the_answer_changes(
        declared in estates::estate(),
        requests in vec(estates::request(), 15),
    ) {
        for request in &requests {
            let Some((before, naming)) = explain(&declared, request) else { continue };
            let mut other = without_statements(&declared, &naming.deciding);
            let mut asked = request.clone();
            for (ceiling, policy, over) in &naming.bounding {
                match ceiling {
                    None => asked.under.retain(|name| name != policy),
                    Some(origin) => lift(&mut other, *origin, policy, over.as_deref()),
                }
            }
            let decided = match before {
                Reason::Denied | Reason::Granted => !naming.deciding.is_empty(),
                Reason::OverCeiling => !naming.bounding.is_empty(),
                _ => continue,
            };
            prop_assert!(decided, "{} names nothing", before);
            // A ceiling left without statements does not load, which is a change as well.
            prop_assert_ne!(reason(&other, &asked), Some(before));
        }
    }

    #[test]
    fn without_anything_else_it_stays(
        declared in estates::estate(),
        requests in vec(estates::request(), 6),
    ) {
        for request in &requests {
            let Some((before, naming)) = explain(&declared, request) else { continue };
            let named = |origin: &Origin| {
                naming.deciding.contains(origin) || naming.mentioned.contains(origin)
            };
            let statements = declared.policies.iter().flat_map(|policy| &policy.body.statements);
            for gone in statements.map(|s| s.origin).filter(|origin| !named(origin)) {
                // One that leaves a ceiling empty does not load, which decides nothing.
                if let Some(after) = reason(&without_statements(&declared, &[gone]), request) {
                    prop_assert_eq!(after, before, "without the statement at {:?}", gone);
                }
            }
            for (i, attachment) in declared.attachments.iter().enumerate() {
                if !named(&attachment.origin) {
                    let mut other = declared.clone();
                    other.attachments.remove(i);
                    prop_assert_eq!(reason(&other, request), Some(before), "attachment {}", i);
                }
            }
            for (i, ceiling) in declared.ceilings.iter().enumerate() {
                if !named(&ceiling.origin) {
                    let mut other = declared.clone();
                    other.ceilings.remove(i);
                    prop_assert_eq!(reason(&other, request), Some(before), "ceiling {}", i);
                }
            }
        }
    }
}

/// Takes away one policy over one scope of a ceiling, splitting the ceiling so that the rest stays.
fn lift(declared: &mut Declarations, origin: Origin, policy: &str, over: Option<&str>) {
    let Some(at) = declared.ceilings.iter().position(|ceiling| ceiling.origin == origin) else {
        return;
    };
    let mut found = false;
    for ceiling in std::mem::take(&mut declared.ceilings) {
        if ceiling.origin != origin {
            declared.ceilings.push(ceiling);
            continue;
        }
        found = true;
        for name in &ceiling.policy.value {
            let scopes = match &ceiling.over {
                None => vec![None],
                Some(list) => list.value.iter().map(|scope| Some(scope.clone())).collect(),
            };
            for scope in scopes {
                let same = scope.as_ref().map(|scope| scope.value.as_str()) == over;
                if name.value == policy && same {
                    continue;
                }
                let mut one = ceiling.clone();
                one.policy.value = vec![name.clone()];
                if let (Some(list), Some(scope)) = (&mut one.over, scope) {
                    list.value = vec![scope];
                }
                declared.ceilings.push(one);
            }
        }
    }
    assert!(found, "ceiling {at} was there");
}
