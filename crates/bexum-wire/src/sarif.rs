//! Findings in SARIF 2.1.0 (OASIS), as code hosts and editors read them.

use bexum_core::diagnostic::Severity;
use bexum_core::vet::{Finding, RULES, Report, Rule};
use bexum_files::Sources;
use serde::Serialize;
use serde_json::{Value, json};

use crate::faults::label;

/// A log with one run.
#[derive(Debug, Serialize)]
#[serde(transparent)]
pub struct Log(Value);

impl Log {
    /// Of a report about these texts; `version` is the program's.
    #[must_use]
    pub fn of(report: &Report, sources: &Sources, version: &str) -> Self {
        let told = report.findings.iter().map(|finding| result(finding, sources, None));
        let accepted = report
            .accepted
            .iter()
            .map(|(finding, accepted)| result(finding, sources, Some(&accepted.why)));
        let results: Vec<Value> = told.chain(accepted).collect();
        Self(json!({
            "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
            "version": "2.1.0",
            "runs": [{
                "tool": { "driver": {
                    "name": "bexum",
                    "version": version,
                    "rules": RULES.iter().map(|rule| descriptor(rule)).collect::<Vec<_>>(),
                } },
                "columnKind": "unicodeCodePoints",
                "results": results,
            }],
        }))
    }
}

fn level(severity: Severity) -> &'static str {
    severity.word()
}

fn descriptor(rule: &Rule) -> Value {
    json!({
        "id": rule.name,
        "shortDescription": { "text": rule.finds },
        "fullDescription": { "text": format!("{}. {}", rule.finds, rule.why) },
        "help": { "text": format!("{} `bexum vet --explain {}` has an example.", rule.why, rule.name) },
        "defaultConfiguration": { "level": level(rule.severity) },
    })
}

fn result(finding: &Finding, sources: &Sources, accepted: Option<&str>) -> Value {
    let location = |one: &bexum_core::diagnostic::Label| {
        let shown = label(sources, one);
        let span = shown.span;
        let mut place = json!({
            "physicalLocation": {
                "artifactLocation": { "uri": uri(&span.file) },
                "region": {
                    "startLine": span.line,
                    "startColumn": span.column,
                    "endLine": span.end_line,
                    "endColumn": span.end_column,
                },
            },
        });
        if let Some(text) = shown.text {
            place["message"] = json!({ "text": text });
        }
        place
    };
    let mut text = format!("{}: {}", finding.about, finding.message);
    finding.details.iter().for_each(|more| text.push_str(&format!("\n{more}")));
    finding.hint.iter().for_each(|hint| text.push_str(&format!("\n{hint}")));
    for edit in &finding.remedy {
        text.push_str(&format!("\nbexum edit {edit}"));
    }
    let mut found = json!({
        "ruleId": finding.rule,
        "ruleIndex": RULES.iter().position(|rule| rule.name == finding.rule),
        "level": level(finding.severity),
        "message": { "text": text },
        "locations": finding.labels.iter().take(1).map(location).collect::<Vec<_>>(),
        "relatedLocations": finding.labels.iter().skip(1).map(location).collect::<Vec<_>>(),
        "partialFingerprints": { "about/v1": format!("{} {}", finding.rule, finding.about) },
    });
    if let Some(why) = accepted {
        found["suppressions"] = json!([{ "kind": "inSource", "justification": why }]);
    }
    found
}

/// A path as a relative reference (RFC 3986): what may not stand there in its bytes.
fn uri(path: &str) -> String {
    let mut text = String::with_capacity(path.len());
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'.' | b'-' | b'_' | b'~' => {
                text.push(char::from(byte));
            }
            b'\\' => text.push('/'),
            _ => text.push_str(&format!("%{byte:02X}")),
        }
    }
    text
}
