//! All remedies of a rule, one after the other, until nothing that has one is found any more.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::{Rule, Vet};
use crate::declaration::Declarations;
use crate::each::Each;
use crate::edit::{Edit, apply};
use crate::engine::Engine;
use crate::estate::Estate;
use crate::time::Time;

/// Rounds of looking and mending; each mends at least one thing.
const ROUNDS: usize = 500;

/// The edits that mend all that a rule finds and has a remedy for.
///
/// Each round looks again at what the edits before have made, for one remedy may make another one
/// wrong: of two attachments of which either could go, one has to stay.
#[must_use]
pub fn fixes(
    declared: &Declarations,
    estate: &Arc<Estate>,
    rule: &'static Rule,
    now: Time,
    each: Each<'_>,
) -> Vec<Edit> {
    let mut all: Vec<Edit> = Vec::new();
    let (mut declared, mut estate) = (declared.clone(), Arc::clone(estate));
    let mut mended: BTreeSet<(String, String)> = BTreeSet::new();
    for _ in 0..ROUNDS {
        let engine = Engine::new(Arc::clone(&estate));
        let report = Vet::new(&declared, &engine, now, each).report(&[rule], &|_| {});
        let mut touched: BTreeSet<String> = BTreeSet::new();
        let mut next = declared.clone();
        let before = all.len();
        for finding in report.findings.into_iter().filter(|one| !one.remedy.is_empty()) {
            // Statements are called by their places, which move when one goes.
            let names: Vec<String> = finding.remedy.iter().filter_map(policy_of).collect();
            let is_apart = !rule.mends_one_at_a_time || all.len() == before;
            if !is_apart || names.iter().any(|name| touched.contains(name)) {
                continue;
            }
            // What is found again after its remedy is not mended by it.
            if !mended.insert((finding.about.clone(), finding.message.clone())) {
                continue;
            }
            let mut tried = next.clone();
            let done = finding
                .remedy
                .iter()
                .all(|edit| apply(edit, &mut tried, &estate.catalogue, now).is_ok());
            if done && Estate::build(&tried).is_ok() {
                next = tried;
                touched.extend(names);
                all.extend(finding.remedy);
            }
        }
        if all.len() == before {
            break;
        }
        let Ok(built) = Estate::build_beside(&next, &estate) else { break };
        (declared, estate) = (next, Arc::new(built));
    }
    all
}

/// The policy whose statements an edit changes.
fn policy_of(edit: &Edit) -> Option<String> {
    match edit {
        Edit::State { policy, .. }
        | Edit::Strike { policy, .. }
        | Edit::Spare { policy, .. }
        | Edit::Restate { policy, .. } => Some(policy.clone()),
        _ => None,
    }
}
