//! What is not right with an estate: `vet --format json`.

use bexum_core::vet::{Finding as CoreFinding, RULES, Report};
use bexum_files::Sources;
use schemars::JsonSchema;
use serde::Serialize;

use crate::faults::{Label, Severity, label};

/// The whole.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Vet {
    /// The version of this shape.
    pub version: u32,
    /// What is told, the gravest first.
    pub findings: Vec<Finding>,
    /// What is known, and fine.
    pub accepted: Vec<Accepted>,
    /// Rules that could not decide everything.
    pub not_decided: Vec<NotDecided>,
}

/// Something that is not right.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Finding {
    /// The rule's name.
    pub rule: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// What it is about; an acceptance names it so.
    pub about: String,
    /// What is the matter.
    pub message: String,
    /// More about it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub details: Vec<String>,
    /// Why that matters.
    pub why: &'static str,
    /// Where: first the place that is meant, then others that have to do with it.
    pub labels: Vec<Label>,
    /// What to do, where no edit does it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// Edits after which it is found no more, as `edit` takes them, a line each.
    pub remedy: Vec<String>,
}

/// A finding that is known, and fine.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Accepted {
    /// The finding.
    pub finding: Finding,
    /// Why it is fine.
    pub why: String,
    /// When it is told again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
}

/// How often a rule kept silent because it could not decide.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct NotDecided {
    /// The rule's name.
    pub rule: &'static str,
    /// How often.
    pub times: usize,
}

impl Vet {
    /// Of a report about these texts.
    #[must_use]
    pub fn of(report: &Report, sources: &Sources) -> Self {
        let accepted = report.accepted.iter().map(|(finding, accepted)| Accepted {
            finding: Finding::of(finding, sources),
            why: accepted.why.to_string(),
            until: accepted.until.map(|until| until.to_string()),
        });
        let not_decided = report.not_decided.iter();
        Self {
            version: crate::VERSION,
            findings: report.findings.iter().map(|one| Finding::of(one, sources)).collect(),
            accepted: accepted.collect(),
            not_decided: not_decided
                .map(|(rule, times)| NotDecided { rule, times: *times })
                .collect(),
        }
    }
}

impl Finding {
    fn of(finding: &CoreFinding, sources: &Sources) -> Self {
        let rule = RULES.into_iter().find(|rule| rule.name == finding.rule);
        Self {
            rule: finding.rule,
            severity: finding.severity.into(),
            about: finding.about.clone(),
            message: finding.message.clone(),
            details: finding.details.clone(),
            why: rule.map_or("", |rule| rule.why),
            labels: finding.labels.iter().map(|one| label(sources, one)).collect(),
            hint: finding.hint.clone(),
            remedy: finding.remedy.iter().map(ToString::to_string).collect(),
        }
    }
}
