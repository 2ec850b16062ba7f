//! What `trim` promises of its edits, for people.

use std::collections::BTreeSet;

use bexum_core::Estate;
use bexum_core::trim::Wanted;
use bexum_wire::trim::Trim;

use super::page::Page;
use super::phrases::count;
use super::style::{self, paint, safe};

/// Everything that is told before the edits.
pub(crate) struct Shown<'s> {
    pub(crate) report: &'s Trim,
    /// The first line that is no request, and why.
    pub(crate) first_error: Option<&'s str>,
}

fn number(n: u64) -> usize {
    usize::try_from(n).unwrap_or(usize::MAX)
}

/// How many lines are no request, and the first.
fn errors(page: &mut Page, many: u64, first: Option<&str>) {
    if many > 0 {
        let lines = count(number(many), "line is", "lines are");
        page.line(0, &paint(style::DENY, &format!("{lines} no request of this estate")));
        if let Some(first) = first {
            page.line(2, &paint(style::QUIET, &safe(&format!("first {first}"))));
        }
    }
}

impl Shown<'_> {
    pub(crate) fn text(&self, width: usize) -> String {
        let mut page = Page::new(width);
        let Trim { requests, allowed, edits, cells, .. } = self.report;
        let of = count(number(*requests), "request", "requests");
        let different = count(*allowed, "different one that is", "different ones that are");
        page.line(0, &paint(style::HEADING, &format!("{of}, {different} allowed")));
        errors(&mut page, self.report.errors, self.first_error);
        if edits.is_empty() {
            page.line(0, "nothing can be taken away: the log uses all that is there to be trimmed");
            self.left_out(&mut page);
            return page.finish();
        }
        let promise = count(edits.len(), "edit takes away", "edits take away");
        page.line(0, &format!("{promise} what it never used:"));
        page.line(
            2,
            &format!("each of its {allowed} requests was asked again after, and is allowed still"),
        );
        page.line(
            2,
            match self.report.is_decided {
                true => "nothing is opened to anybody, now or later, whatever the circumstances",
                false => {
                    "none of the edits opens anything to anybody; of all together that was not decided"
                }
            },
        );
        self.left_out(&mut page);
        if let Some(cells) = cells {
            page.blank();
            let figure = |n: u64| n.to_string();
            let wide = |of: &dyn Fn(&bexum_wire::trim::Level) -> u64| {
                cells.iter().map(|one| figure(of(one)).len()).max().unwrap_or_default().max(6)
            };
            let (before, after) = (wide(&|one| one.before), wide(&|one| one.after));
            let head = format!("{:<9}{:>before$}  {:>after$}", "cells", "before", "after");
            page.line(2, &paint(style::QUIET, &head));
            for one in cells {
                let line = format!(
                    "{:<9}{:>before$}  {:>after$}",
                    one.level,
                    figure(one.before),
                    figure(one.after)
                );
                page.line(2, &line);
            }
        }
        page.blank();
        page.finish()
    }

    fn left_out(&self, page: &mut Page) {
        if self.report.not_decided > 0 {
            let steps = count(self.report.not_decided, "step was", "steps were");
            let line = format!(
                "{steps} not taken, because it could not be decided whether something opens by it"
            );
            page.line(2, &paint(style::QUIET, &line));
        }
    }
}

/// What a draft allows.
pub(crate) fn drafted(
    estate: &Estate,
    name: &str,
    wanted: &BTreeSet<Wanted>,
    many_errors: u64,
    first_error: Option<&str>,
    width: usize,
) -> String {
    let mut page = Page::new(width);
    let actions: BTreeSet<_> = wanted.iter().map(|one| one.action).collect();
    let scopes: BTreeSet<_> = wanted.iter().map(|one| one.scope).collect();
    let line = format!(
        "policy:{} allows {} at {}",
        safe(name),
        count(actions.len(), "action", "actions"),
        count(scopes.len(), "scope", "scopes")
    );
    page.line(0, &paint(style::HEADING, &line));
    errors(&mut page, many_errors, first_error);
    for scope in scopes {
        let here: Vec<&str> = wanted
            .iter()
            .filter(|one| one.scope == scope)
            .map(|one| &*estate.catalogue.action(one.action).name)
            .collect();
        let here: BTreeSet<&str> = here.into_iter().collect();
        let path = paint(style::NAME, &safe(&estate.scope(scope).path));
        page.line(2, &format!("{path}: {}", here.into_iter().collect::<Vec<_>>().join(", ")));
    }
    page.blank();
    page.finish()
}
