//! What came of expectations, in the XML that build servers read.

use std::io;

use bexum_core::prove::{Outcome, Tried};
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};

use super::proof::{self, Proof};

/// What there is to say of a case.
enum Told {
    Held,
    /// A law about nothing.
    Skipped,
    /// In a sentence, then in detail.
    Failed(String, String),
}

/// The whole report: a suite for each table, a case for each expectation.
pub(crate) fn report(proof: &Proof<'_>) -> anyhow::Result<String> {
    let all: Vec<(&Tried<'_>, Told)> =
        proof.tried.iter().map(|tried| (tried, told(proof, tried))).collect();
    let tables: Vec<(&str, Vec<&(&Tried<'_>, Told)>)> = ["check", "never", "always", "apart"]
        .into_iter()
        .map(|table| (table, all.iter().filter(|(tried, _)| tried.table() == table).collect()))
        .filter(|(_, cases): &(_, Vec<_>)| !cases.is_empty())
        .collect();
    let mut out = Writer::new_with_indent(Vec::new(), b' ', 4);
    out.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let [tests, skipped, failures] = counts(all.iter());
    out.create_element("testsuites")
        .with_attributes([
            ("name", "bexum prove"),
            ("tests", &*tests),
            ("skipped", &*skipped),
            ("failures", &*failures),
            ("errors", "0"),
        ])
        .write_inner_content(|out| {
            tables.iter().try_for_each(|(table, cases)| suite(out, proof, table, cases))
        })?;
    Ok(String::from_utf8(out.into_inner())? + "\n")
}

/// How many there are, how many are skipped, how many failed.
fn counts<'t>(cases: impl Iterator<Item = &'t (&'t Tried<'t>, Told)>) -> [String; 3] {
    let mut counts = [0; 3];
    for (_, told) in cases {
        counts[0] += 1;
        match told {
            Told::Held => {}
            Told::Skipped => counts[1] += 1,
            Told::Failed(..) => counts[2] += 1,
        }
    }
    counts.map(|count: usize| count.to_string())
}

fn suite(
    out: &mut Writer<Vec<u8>>,
    proof: &Proof<'_>,
    table: &str,
    cases: &[&(&Tried<'_>, Told)],
) -> io::Result<()> {
    let [tests, skipped, failures] = counts(cases.iter().copied());
    let suite = out.create_element("testsuite").with_attributes([
        ("name", table),
        ("tests", &*tests),
        ("skipped", &*skipped),
        ("errors", "0"),
        ("failures", &*failures),
    ]);
    suite.write_inner_content(|out| {
        for (tried, told) in cases {
            let (name, written) = (plain(tried.name()), proof.sources.shown(tried.origin()));
            let case = out
                .create_element("testcase")
                .with_attributes([("name", &*name), ("classname", &*plain(&written))]);
            match told {
                Told::Held => _ = case.write_empty()?,
                Told::Skipped => {
                    case.write_inner_content(|out| {
                        out.create_element("skipped").write_empty().map(|_| ())
                    })?;
                }
                Told::Failed(message, details) => {
                    let failure = [("message", &*plain(message)), ("type", tried.status())];
                    case.write_inner_content(|out| {
                        out.create_element("failure")
                            .with_attributes(failure)
                            .write_text_content(BytesText::new(&plain(details)))
                            .map(|_| ())
                    })?;
                }
            }
        }
        Ok(())
    })?;
    Ok(())
}

/// Without the characters that XML cannot hold, not even as references.
fn plain(text: &str) -> String {
    let is_none = |c: &char| matches!(c, '\0'..='\u{8}' | '\u{b}' | '\u{c}' | '\u{e}'..='\u{1f}' | '\u{fffe}' | '\u{ffff}');
    text.chars().filter(|c| !is_none(c)).collect()
}

fn told(proof: &Proof<'_>, tried: &Tried<'_>) -> Told {
    if tried.is_about_nothing() {
        return Told::Skipped;
    }
    if tried.holds() {
        return Told::Held;
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
    Told::Failed(message, lines.join("\n"))
}
