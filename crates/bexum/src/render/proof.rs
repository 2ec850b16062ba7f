//! What came of expectations, for people: what failed first, each with its explanation.

use bexum_core::expectation::{Check, Claim};
use bexum_core::prove::{Counterexample, Has, NotWorkedOut, Outcome, Overlap, Tried};
use bexum_core::{Decider, Engine, Estate, Request, Time, Trace};
use bexum_files::Sources;

use super::answer::{Answer, Asked};
use super::page::Page;
use super::phrases;
use super::report::{Cell, draw_rows};
use super::style::{self, paint, safe};
use crate::command_line::{self, Of};

/// Most requests of one check, and most principals of one separation, that are told in full.
const MOST: usize = 5;

/// All that was tried.
pub(crate) struct Proof<'e> {
    pub(crate) estate: &'e Estate,
    pub(crate) engine: &'e Engine,
    pub(crate) sources: &'e Sources,
    pub(crate) tried: Vec<Tried<'e>>,
    pub(crate) now: Time,
    /// The estate that the commands which are shown ask.
    pub(crate) of: Of<'e>,
}

impl Proof<'_> {
    /// The command that asks a request, at `time` if it is not the present.
    pub(crate) fn command(&self, request: &Request<'_>, time: Option<Time>) -> String {
        command_line::ask(self.of, request, time)
    }
}

/// Why an expectation was written.
fn about<'e>(tried: &Tried<'e>) -> Option<&'e str> {
    match tried {
        Tried::Check { check, .. } => check.about.as_deref(),
        Tried::Law { law, .. } => law.about.as_deref(),
        Tried::Apart { separation, .. } => separation.about.as_deref(),
    }
}

/// The whole report.
pub(crate) fn text(proof: &Proof<'_>, width: usize) -> String {
    let mut page = Page::new(width);
    if proof.tried.is_empty() {
        page.line(0, "nothing is expected yet: no file has a `[[check]]`, `[[never]]`, `[[always]]` or `[[apart]]`");
        page.line(0, "`bexum ask … --save-check \"NAME\"` writes the first one");
        return page.finish();
    }
    summary(&mut page, proof);
    let mut out = page.finish();
    laws(&mut out, proof, width);
    let mut page = Page::new(width);
    let mut decider = Decider::new(proof.engine);
    for tried in proof.tried.iter().filter(|tried| !tried.holds()) {
        page.blank();
        failure(&mut page, proof, &mut decider, tried, width);
    }
    out.push_str(&page.finish());
    out
}

fn failure(
    page: &mut Page,
    proof: &Proof<'_>,
    decider: &mut Decider<'_>,
    tried: &Tried<'_>,
    width: usize,
) {
    let style = style::DENY;
    let mark = style.bold().invert();
    let title = format!(
        "{mark} {} {mark:#} {} {}",
        tried.status().to_uppercase(),
        tried.table(),
        paint(style::HEADING, &format!("\"{}\"", safe(tried.name()))),
    );
    page.noted(0, &title, &proof.sources.shown(tried.origin()));
    if let Some(about) = about(tried) {
        page.line(2, &safe(about));
    }
    match tried {
        Tried::Check { check, requests, wrong } => {
            page.line(2, &format!("{}:", wrong_answers(check, *requests, wrong.len())));
            for (request, _) in wrong.iter().take(MOST) {
                answer(page, proof, decider, request, check.time, width);
            }
            for (request, _) in wrong.iter().skip(MOST) {
                page.command(2, &proof.command(request, check.time));
            }
        }
        Tried::Law { law, outcome, others: others_who_break, .. } => match outcome {
            Outcome::Held => {}
            Outcome::Broken(counterexample) => {
                page.line(2, &format!("{}:", broken_law(law.claim)));
                let time = (counterexample.request.time != proof.now)
                    .then_some(counterexample.request.time);
                answer(page, proof, decider, &counterexample.request, time, width);
                others(page, proof, others_who_break);
            }
            Outcome::NotDecided(limit) => page.line(2, &not_decided(limit)),
        },
        Tried::Apart { overlaps, .. } => {
            for overlap in overlaps.iter().take(MOST) {
                page.line(2, &overlapping(proof, overlap));
            }
            if overlaps.len() > MOST {
                let left = overlaps.len() - MOST;
                page.line(2, &format!("and {left} more (see `--format json`)"));
            }
        }
    }
}

/// Everybody else who breaks a law, a request of each.
fn others(page: &mut Page, proof: &Proof<'_>, others: &[Counterexample]) {
    if others.is_empty() {
        return;
    }
    page.line(
        2,
        &format!("{} it:", phrases::count(others.len(), "principal breaks", "principals break")),
    );
    for counterexample in others {
        let time =
            (counterexample.request.time != proof.now).then_some(counterexample.request.time);
        page.command(4, &proof.command(&counterexample.request, time));
    }
}

/// `expected deny, but 2 of 6 requests are allowed`
pub(crate) fn wrong_answers(check: &Check, requests: usize, wrong: usize) -> String {
    let expected = match check.reason {
        Some(reason) => format!("{} ({reason})", check.expect),
        None => check.expect.to_string(),
    };
    match (requests, wrong) {
        (1, _) => format!("expected {expected}, but the answer is"),
        (all, wrong) => format!("expected {expected}, but {wrong} of {all} answers differ"),
    }
}

pub(crate) fn broken_law(claim: Claim) -> &'static str {
    match claim {
        Claim::Never => "no such request may be allowed, but this one is",
        Claim::Always => "every such request must be allowed, but this one is not",
    }
}

pub(crate) fn not_decided(limit: &NotWorkedOut) -> String {
    match limit {
        NotWorkedOut::Steps => {
            "nothing was found against it, but there are too many combinations of circumstances to try them all".to_owned()
        }
        NotWorkedOut::Values(attribute) => format!(
            "nothing was found against it, but not everything that `{attribute}` may be could be tried"
        ),
        NotWorkedOut::Items(path) => format!(
            "nothing was found against it, but not every sort of item below `{path}` could be told apart"
        ),
    }
}

/// A request as one would type it, and its answer.
fn answer(
    page: &mut Page,
    proof: &Proof<'_>,
    decider: &mut Decider<'_>,
    request: &Request<'_>,
    time: Option<Time>,
    width: usize,
) {
    page.command(2, &proof.command(request, time));
    let Ok(query) = request.resolve(proof.estate) else { return };
    let trace = Trace::of(decider, &query);
    let answer = Answer {
        estate: proof.estate,
        sources: proof.sources,
        query: &query,
        trace: &trace,
        asked: Asked { request, time, of: proof.of },
    };
    page.block(4, &answer.render(width.saturating_sub(4)));
}

/// `user:noor has both: …`
pub(crate) fn overlapping(proof: &Proof<'_>, overlap: &Overlap) -> String {
    let estate = proof.estate;
    let role = |id| format!("role:{}", estate.role(id).identity.name);
    let way = |has: Has| match has {
        Has::Group(id) => format!("is in group:{}", estate.group(id).identity.name),
        Has::Holds(id) => format!("holds {}", role(id)),
        Has::CanTakeUp(id) => format!("can take up {}", role(id)),
        Has::ComesWith { role: brought, taken_up } => {
            format!("can have {} by taking up {}", role(brought), role(taken_up))
        }
        Has::Reached { policy, attachment, scope, by_taking_up } => {
            let written = proof.sources.shown(estate.attachment(attachment).origin);
            let by = by_taking_up.map(|id| format!(" as {}", role(id))).unwrap_or_default();
            format!(
                "is reached by policy:{}{by} at {} ({written})",
                estate.policy(policy).name,
                estate.scope(scope).path,
            )
        }
    };
    let when =
        if overlap.time == proof.now { String::new() } else { format!(", at {}", overlap.time) };
    let who = estate.principal_id(overlap.who);
    format!("{who} {}, and {}{when}", way(overlap.first), way(overlap.second))
}

fn summary(page: &mut Page, proof: &Proof<'_>) {
    let count = |is: &dyn Fn(&Tried<'_>) -> bool| {
        let all: Vec<&Tried<'_>> = proof.tried.iter().filter(|tried| is(tried)).collect();
        let with = |status| all.iter().filter(|tried| tried.status() == status).count();
        (all.len(), with("broken"), with("not decided"))
    };
    let requests: usize = proof
        .tried
        .iter()
        .map(|tried| match tried {
            Tried::Check { requests, .. } => *requests,
            _ => 0,
        })
        .sum();
    let lines = [
        (count(&|t| matches!(t, Tried::Check { .. })), "check", "checks"),
        (count(&|t| matches!(t, Tried::Law { .. })), "law", "laws"),
        (count(&|t| matches!(t, Tried::Apart { .. })), "separation", "separations"),
    ];
    for ((all, broken, open), one, many) in lines {
        if all == 0 {
            continue;
        }
        let mut text = phrases::count(all, one, many);
        if one == "check" {
            text.push_str(&format!(" ({})", phrases::count(requests, "request", "requests")));
        }
        let verdict = match (broken, open) {
            (0, 0) => paint(style::ALLOW, if all == 1 { "it holds" } else { "all hold" }),
            (broken, 0) => paint(style::DENY, &format!("{broken} broken")),
            (0, open) => paint(style::DENY, &format!("{open} not decided")),
            (broken, open) => paint(style::DENY, &format!("{broken} broken, {open} not decided")),
        };
        page.line(0, &format!("{text}: {verdict}"));
    }
    for tried in proof.tried.iter().filter(|tried| tried.is_about_nothing()) {
        let warning = paint(style::DENY, "warning");
        let text = format!("{warning}: law \"{}\" is about nothing", safe(tried.name()));
        page.noted(0, &text, &proof.sources.shown(tried.origin()));
    }
}

/// What each law was tried on.
fn laws(out: &mut String, proof: &Proof<'_>, width: usize) {
    let rows: Vec<Vec<Cell>> = proof
        .tried
        .iter()
        .filter_map(|tried| match tried {
            Tried::Law { law, outcome, coverage, .. } => {
                let result = match tried.is_about_nothing() {
                    true => "held, of nothing",
                    false => tried.status(),
                };
                let mut row =
                    vec![Cell::text(law.claim.word()), Cell::text(&*law.name), Cell::text(result)];
                let covered =
                    [coverage.principals, coverage.targets, coverage.actions, coverage.conditions];
                // A law found broken is tried no further.
                let broken = matches!(outcome, Outcome::Broken(_));
                row.extend(covered.map(|n| if broken { Cell::None } else { Cell::Number(n) }));
                Some(row)
            }
            _ => None,
        })
        .collect();
    if rows.is_empty() {
        return;
    }
    out.push('\n');
    let columns = ["law", "name", "result", "principals", "targets", "actions", "conditions"];
    draw_rows(out, &columns, &rows, width);
}
