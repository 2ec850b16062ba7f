//! What came of expectations, in the XML that build servers read.

use anyhow::Context as _;
use bexum_core::prove::{Outcome, Tried};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

use super::proof::{self, Proof};

/// The whole report: a suite for each table, a case for each expectation.
pub(crate) fn report(proof: &Proof<'_>) -> anyhow::Result<String> {
    let mut report = Report::new("bexum prove");
    for table in ["check", "never", "always", "apart"] {
        let mut suite = TestSuite::new(table);
        suite.add_test_cases(proof.tried.iter().filter(|t| t.table() == table).map(|tried| {
            let mut case = TestCase::new(tried.name(), status(proof, tried));
            case.set_classname(proof.sources.shown(tried.origin()));
            case
        }));
        if suite.tests > 0 {
            report.add_test_suite(suite);
        }
    }
    let text = report.to_string().context("cannot write the report")?;
    Ok(if text.ends_with('\n') { text } else { format!("{text}\n") })
}

fn status(proof: &Proof<'_>, tried: &Tried<'_>) -> TestCaseStatus {
    if tried.is_about_nothing() {
        return TestCaseStatus::skipped();
    }
    if tried.holds() {
        return TestCaseStatus::success();
    }
    let (message, lines): (String, Vec<String>) = match tried {
        Tried::Check { check, requests, wrong } => (
            proof::wrong_answers(check, *requests, wrong.len()),
            wrong
                .iter()
                .map(|(request, reason)| {
                    let asked = proof.command(request, check.time);
                    format!("{asked}: {} ({reason})", reason.verdict())
                })
                .collect(),
        ),
        Tried::Law { law, outcome, .. } => match outcome {
            Outcome::Broken(counterexample) => {
                let time = (counterexample.request.time != proof.now)
                    .then_some(counterexample.request.time);
                let asked = proof.command(&counterexample.request, time);
                let reason = counterexample.reason;
                let line = format!("{asked}: {} ({reason})", reason.verdict());
                (proof::broken_law(law.claim).to_owned(), vec![line])
            }
            Outcome::NotDecided(limit) => (proof::not_decided(limit), Vec::new()),
            Outcome::Held => (String::new(), Vec::new()),
        },
        Tried::Apart { overlaps, .. } => (
            "somebody has two of them".to_owned(),
            overlaps.iter().map(|overlap| proof::overlapping(proof, overlap)).collect(),
        ),
    };
    let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
    status.set_type(tried.status()).set_message(message).set_description(lines.join("\n"));
    status
}
