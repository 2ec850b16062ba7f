//! What logs used, for people and as rows.

use std::fmt::Write as _;

use anyhow::Context as _;
use bexum_core::Reason;
use bexum_core::usage::By;
use bexum_wire::usage::{Report, Row, State, Summary};

use super::page::Page;
use super::phrases::count;
use super::style::{self, paint, safe};
use crate::args::usage::Usage;
use crate::command_line::quoted;

/// How many things of one state are named where not all are asked for.
const FEW: usize = 15;
/// How many differences are.
const FEW_OTHERWISE: usize = 5;

/// Everything that is told.
pub(crate) struct Shown<'s> {
    pub(crate) report: &'s Report,
    pub(crate) summary: &'s Summary,
    pub(crate) typed: &'s Usage,
    /// Whether only some requests were looked at.
    pub(crate) is_narrow: bool,
}

/// What things of a sort are called, one and many.
pub(super) fn words(by: By) -> (&'static str, &'static str) {
    match by {
        By::Who => ("who asked", "users"),
        By::Group => ("group", "groups"),
        By::Role => ("role", "roles"),
        By::Policy => ("policy", "policies"),
        By::Statement => ("allow statement", "allow statements"),
        By::Attachment => ("attachment", "attachments"),
        By::Membership => ("membership", "memberships"),
        By::Action => ("action", "actions"),
        By::Scope => ("scope", "scopes"),
    }
}

/// The word of `--by`.
fn option(by: By) -> &'static str {
    ["who", "group", "role", "policy", "statement", "attachment", "membership", "action", "scope"]
        [by as usize]
}

/// The date of a moment.
pub(super) fn date(moment: &str) -> &str {
    moment.split('T').next().unwrap_or(moment)
}

fn number(n: u64) -> usize {
    usize::try_from(n).unwrap_or(usize::MAX)
}

impl Shown<'_> {
    pub(crate) fn text(&self, width: usize) -> String {
        let mut page = Page::new(width);
        page.line(0, &paint(style::HEADING, &self.answer()));
        if self.report.errors > 0 {
            let lines = count(number(self.report.errors), "line is", "lines are");
            page.line(0, &paint(style::DENY, &format!("{lines} no request of this estate")));
            if let Some(first) = &self.report.first_error {
                let line = format!("first {}:{}: {}", first.file, first.line, first.why);
                page.line(2, &paint(style::QUIET, &safe(&line)));
            }
        }
        match self.typed.by {
            Some(by) => self.one_sort(&mut page, by.into()),
            None => self.all_sorts(&mut page),
        }
        self.otherwise(&mut page);
        page.finish()
    }

    /// How many requests, from when to when, and what came of them.
    pub(super) fn answer(&self) -> String {
        let summary = self.summary;
        let allowed = summary.reason(Reason::Granted);
        let requests = summary.requests();
        let mut answer = count(number(requests), "request", "requests");
        let mut days = summary.days.keys();
        match (days.next(), days.next_back()) {
            (Some(first), Some(last)) => answer.push_str(&format!(" from {first} to {last}")),
            (Some(day), None) => answer.push_str(&format!(" on {day}")),
            _ => {}
        }
        answer.push_str(&format!(": {allowed} allowed, {} refused", requests - allowed));
        answer
    }

    fn since(&self) -> &str {
        date(&self.report.idle_since)
    }

    fn all_sorts(&self, page: &mut Page) {
        page.blank();
        let heads =
            ["", "there are", "used", &format!("idle since {}", self.since()), "never used"];
        let mut lines: Vec<[String; 5]> = vec![heads.map(str::to_owned)];
        for by in By::ALL {
            let of = |state| self.report.rows.iter().filter(|row| is(row, by, state)).count();
            let [used, idle, never] = [State::Used, State::Idle, State::Never].map(of);
            let cell = |n: usize| n.to_string();
            let all = [cell(used + idle + never), cell(used), cell(idle), cell(never)];
            let [all, used, idle, never] = all;
            lines.push([words(by).1.to_owned(), all, used, idle, never]);
        }
        let widths: Vec<usize> = (0..5)
            .map(|at| lines.iter().map(|line| line[at].len()).max().unwrap_or_default())
            .collect();
        for (i, line) in lines.iter().enumerate() {
            let mut text = format!("{:<1$}", line[0], widths[0]);
            for at in 1..5 {
                let cell = format!("{:>1$}", line[at], widths[at]);
                let is_many = i > 0 && at == 4 && line[at] != "0";
                let _ =
                    write!(text, "  {}", if is_many { paint(style::DENY, &cell) } else { cell });
            }
            let text = if i == 0 { paint(style::QUIET, &text) } else { text };
            page.line(2, text.trim_end());
        }
        page.blank();
        page.line(0, "one sort by itself, most used first:");
        page.command(2, &format!("{} --by membership", self.command()));
    }

    /// The command without what narrows down to one sort.
    fn command(&self) -> String {
        let logs = self.typed.logs.iter().map(|log| quoted(&log.display().to_string()));
        let mut command = String::from("bexum ");
        command.push_str("usage");
        logs.for_each(|log| {
            command.push(' ');
            command.push_str(&log);
        });
        for (option, values) in [("--who", &self.typed.who), ("--do", &self.typed.action)] {
            values
                .iter()
                .for_each(|value| command.push_str(&format!(" {option} {}", quoted(value))));
        }
        if let Some(path) = &self.typed.path {
            command.push_str(&format!(" --at {}", quoted(path)));
        }
        command
    }

    fn one_sort(&self, page: &mut Page, by: By) {
        let since = self.since();
        let idle = format!("idle: used, but not since {since}");
        for (state, heading) in
            [(State::Used, "used"), (State::Idle, idle.as_str()), (State::Never, "never used")]
        {
            let rows: Vec<&Row> =
                self.report.rows.iter().filter(|row| is(row, by, state)).collect();
            if rows.is_empty() {
                continue;
            }
            let (one, many) = words(by);
            let all = if by == By::Who {
                count(rows.len(), "principal", "principals")
            } else {
                count(rows.len(), one, many)
            };
            page.heading(&format!("{heading}: {all}"));
            let most = if self.typed.full { usize::MAX } else { FEW };
            let shown = &rows[..rows.len().min(most)];
            let figures: Vec<String> = shown.iter().map(|row| figures(row)).collect();
            let wide = figures.iter().map(String::len).max().unwrap_or_default();
            for (row, figures) in shown.iter().zip(figures) {
                let mut line = match state {
                    State::Never if row.refused == 0 => String::new(),
                    _ => format!("{figures:>wide$}  "),
                };
                line.push_str(&paint(style::NAME, &safe(&row.thing.words())));
                if !row.is_there {
                    line.push_str(&paint(style::QUIET, "  (no longer there)"));
                }
                page.line(2, &line);
            }
            if rows.len() > most {
                let more = count(rows.len() - most, "more", "more");
                page.line(2, &paint(style::QUIET, &format!("and {more}:")));
                page.command(4, &format!("{} --by {} --full", self.command(), option(by)));
            }
        }
        if self.is_narrow {
            page.blank();
            page.line(
                0,
                &paint(
                    style::QUIET,
                    "Of these requests alone: what they did not use may be used by others.",
                ),
            );
        }
        if matches!(by, By::Membership | By::Attachment)
            && self.report.rows.iter().any(|row| row.state != State::Used)
        {
            page.blank();
            page.line(
                0,
                &paint(
                    style::QUIET,
                    "What was not used may still carry a deny or a ceiling, which are not counted here.",
                ),
            );
        }
    }

    fn otherwise(&self, page: &mut Page) {
        let all = &self.report.otherwise;
        if all.is_empty() {
            return;
        }
        let sum: u64 = all.iter().map(|one| one.count).sum();
        let requests = count(number(sum), "request was", "requests were");
        page.heading(&format!("{requests} decided otherwise then"));
        let most = if self.typed.full { usize::MAX } else { FEW_OTHERWISE };
        for one in all.iter().take(most) {
            let times = count(number(one.count), "time", "times");
            let first = if one.count == 1 { "in" } else { "first in" };
            let line = format!(
                "{} → {}: {} at {}, {times}, {first} {}:{}",
                one.recorded, one.now, one.action, one.at, one.file, one.line
            );
            page.line(2, &safe(&line));
            page.command(4, &one.command);
        }
        if all.len() > most {
            let more = count(all.len() - most, "more sort", "more sorts");
            page.line(2, &paint(style::QUIET, &format!("and {more}: --full")));
        }
    }
}

fn is(row: &Row, by: By, state: State) -> bool {
    row.thing.by() == by && row.state == state
}

/// `1204 times, last 2026-11-02, 3 refused`.
fn figures(row: &Row) -> String {
    let refused = match row.refused {
        0 => String::new(),
        n => format!("{n} refused"),
    };
    match &row.last {
        None => refused,
        Some(last) => {
            let times = count(number(row.times), "time", "times");
            let refused = if refused.is_empty() { refused } else { format!(", {refused}") };
            format!("{times}, last {}{refused}", date(last))
        }
    }
}

/// A row for each thing (RFC 4180).
pub(crate) fn csv(rows: &[Row]) -> anyhow::Result<Vec<u8>> {
    let mut text = csv::Writer::from_writer(Vec::new());
    text.write_record(["by", "thing", "state", "times", "refused", "first", "last"])?;
    for row in rows {
        let blank = |moment: &Option<String>| moment.clone().unwrap_or_default();
        text.write_record([
            option(row.thing.by()),
            &row.thing.words(),
            row.state.word(),
            &row.times.to_string(),
            &row.refused.to_string(),
            &blank(&row.first),
            &blank(&row.last),
        ])?;
    }
    text.flush()?;
    text.into_inner().context("cannot write the rows")
}
