//! Findings, the gravest first.

use bexum_core::diagnostic::Severity;
use bexum_core::vet::{Finding, RULES, Report, Rule};
use bexum_files::Sources;

use super::page::Page;
use super::phrases;
use super::problem::position;
use super::style::{self, paint, safe};

/// Everything that is told.
pub(crate) struct Shown<'s> {
    pub(crate) report: &'s Report,
    pub(crate) sources: &'s Sources,
    /// How many rules were asked for.
    pub(crate) rules: usize,
    /// Whether they were named.
    pub(crate) is_narrow: bool,
}

/// How many findings of one rule are told where all rules were asked for.
const FEW: usize = 5;

fn severity(severity: Severity) -> String {
    let style = match severity {
        Severity::Error => style::ERROR,
        Severity::Warning => style::DENY,
        Severity::Note => style::ALLOW,
    };
    paint(style, severity.word())
}

impl Shown<'_> {
    pub(crate) fn text(&self, width: usize) -> String {
        let mut page = Page::new(width);
        let findings = &self.report.findings;
        let same = |one: &Finding, other: &Finding| {
            one.rule == other.rule && one.severity == other.severity
        };
        for block in findings.chunk_by(same) {
            let first = &block[0];
            let rule = RULES.into_iter().find(|rule| rule.name == first.rule);
            let rule_name = paint(style::HEADING, first.rule);
            page.line(0, &format!("{} {rule_name}", severity(first.severity)));
            if let Some(rule) = rule {
                page.line(2, &paint(style::QUIET, rule.why));
            }
            // Of one rule among many the first few; all where it is asked for.
            let most = if self.is_narrow { usize::MAX } else { FEW };
            block.iter().take(most).for_each(|finding| self.finding(&mut page, finding));
            if block.len() > most {
                let more = phrases::count(block.len() - most, "more", "more");
                page.line(2, &paint(style::QUIET, &format!("and {more}:")));
                page.command(4, &format!("bexum vet {}", first.rule));
            }
            page.blank();
        }
        self.end(&mut page);
        page.finish()
    }

    fn finding(&self, page: &mut Page, finding: &Finding) {
        let place = finding.labels.first().map(|label| position(label.place, self.sources));
        let about = paint(style::NAME, &safe(&finding.about));
        page.noted(2, &about, &place.unwrap_or_default());
        page.line(4, &safe(&finding.message));
        for line in &finding.details {
            page.line(6, &safe(line));
        }
        for label in finding.labels.iter().skip(1) {
            let line = format!("{}: {}", label.text, position(label.place, self.sources));
            page.line(6, &paint(style::QUIET, &line));
        }
        for edit in &finding.remedy {
            page.command(4, &format!("bexum edit {}", safe(&edit.to_string())));
        }
        if let Some(hint) = finding.hint.as_ref().filter(|_| finding.remedy.is_empty()) {
            page.line(4, &format!("{} {}", paint(style::HEADING, "do:"), safe(hint)));
        }
    }

    fn end(&self, page: &mut Page) {
        let Report { findings, accepted, not_decided } = self.report;
        for (finding, accepted) in accepted {
            let until = match accepted.until {
                Some(until) => format!(", until {until}"),
                None => String::new(),
            };
            let line = format!(
                "accepted: {} of {} ({}{until})",
                finding.rule,
                safe(&finding.about),
                safe(&accepted.why)
            );
            page.line(0, &paint(style::QUIET, &line));
        }
        for (rule, times) in not_decided {
            let times = phrases::count(*times, "thing", "things");
            let line = format!("not decided: {rule} keeps silent about {times}");
            page.line(0, &paint(style::QUIET, &line));
        }
        if findings.is_empty() {
            let rules = phrases::count(self.rules, "rule finds", "rules find");
            page.line(0, &format!("{rules} nothing"));
            return;
        }
        let of = |wanted| findings.iter().filter(|one| one.severity == wanted).count();
        let counts = [
            phrases::count(of(Severity::Error), "error", "errors"),
            phrases::count(of(Severity::Warning), "warning", "warnings"),
            phrases::count(of(Severity::Note), "note", "notes"),
        ];
        let all = phrases::count(findings.len(), "finding", "findings");
        page.line(0, &paint(style::HEADING, &format!("{all}: {}", counts.join(", "))));
        if let Some(one) = findings.iter().find(|one| one.remedy.len() == 1) {
            page.line(0, "see what all remedies of a rule change together:");
            page.command(2, &format!("bexum vet --fix {}", one.rule));
        }
    }
}

/// The rules, with how much each matters.
pub(crate) fn listed(width: usize) -> String {
    let mut page = Page::new(width);
    for rule in RULES {
        let word = severity(rule.severity);
        let pad = " ".repeat(8 - rule.severity.word().len());
        page.line(0, &format!("{word}{pad} {}", paint(style::HEADING, rule.name)));
        page.line(9, rule.finds);
    }
    page.blank();
    page.line(0, "one with an example:");
    page.command(2, &format!("bexum vet --explain {}", RULES[0].name));
    page.finish()
}

/// One rule, with an example and what is fine.
pub(crate) fn explained(rule: &Rule, width: usize) -> String {
    let mut page = Page::new(width);
    page.line(0, &format!("{} {}", severity(rule.severity), paint(style::HEADING, rule.name)));
    page.line(0, &format!("Finds {}.", rule.finds));
    page.line(0, rule.why);
    for (heading, text) in [("It is found here:", rule.example), ("And not here:", rule.fine)] {
        page.heading(heading);
        for line in text.trim_end().lines() {
            page.line(2, line);
        }
    }
    page.heading("To turn it off, or have it matter more or less, in one of the files:");
    page.line(2, "[vet]");
    let word = if rule.severity == Severity::Error { "warning" } else { "error" };
    page.line(2, &format!("\"{}\" = \"{word}\"   # error, warning, note or off", rule.name));
    page.finish()
}
