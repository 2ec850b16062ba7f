//! Reviews, for people: lists, questions with what helps to answer them, and what follows.

use std::collections::BTreeMap;
use std::path::Path;

use anyhow::Context as _;
use askama::Template;
use bexum_core::review::{
    Answer, Closed, Opens, Question as CoreQuestion, Review as CoreReview, Skipped,
};
use bexum_core::{Estate, Time};
use bexum_wire::review::{Question, Review, word};

use super::page::Page;
use super::phrases::count;
use super::style::{self, paint, safe};
use super::usage::date;
use crate::command_line::quoted;

/// Microseconds of a day.
const DAY: i64 = 86_400_000_000;

/// A review, as it is told.
pub(crate) struct Shown<'s> {
    pub(crate) shape: &'s Review,
    pub(crate) review: &'s CoreReview,
    /// The reviewer whose questions alone are told.
    pub(crate) mine: Option<&'s str>,
    pub(crate) now: Time,
    pub(crate) has_log: bool,
}

/// `4 days left`, `opens on 2026-12-01`, `over since 2026-11-30`.
fn state(review: &CoreReview, now: Time) -> String {
    let day = |at: Time| date(&at.to_string()).to_owned();
    if now < review.open {
        return format!("opens on {}", day(review.open));
    }
    if now >= review.until {
        return format!("over since {}", day(review.until));
    }
    let left = (review.until.0 - now.0) / DAY;
    match usize::try_from(left).unwrap_or_default() {
        0 => "less than a day left".to_owned(),
        days => count(days, "day left", "days left"),
    }
}

/// All reviews, with how far they are.
pub(crate) fn list(all: &[(&CoreReview, usize, usize)], now: Time, width: usize) -> String {
    let mut page = Page::new(width);
    if all.is_empty() {
        page.line(0, "no review stands in the files; one is opened so:");
        page.command(2, "bexum review new NAME --of group:NAME --by owners --until 2026-12-31");
        return page.finish();
    }
    for (review, answered, questions) in all {
        let name = paint(style::NAME, &safe(&review.name));
        page.line(
            0,
            &format!("{name}  {answered} of {questions} answered, {}", state(review, now)),
        );
    }
    page.finish()
}

impl Shown<'_> {
    fn head(&self) -> String {
        let Review { answered, count, .. } = self.shape;
        let of = match self.mine {
            Some(user) => format!(" for {user}"),
            None => String::new(),
        };
        let state = state(self.review, self.now);
        format!("{}{of}: {answered} of {count} answered, {state}", self.review.name)
    }

    /// The questions by who is asked.
    fn by_asked(&self) -> BTreeMap<&[String], Vec<&Question>> {
        let mut groups: BTreeMap<&[String], Vec<&Question>> = BTreeMap::new();
        for one in &self.shape.questions {
            groups.entry(&one.asked).or_default().push(one);
        }
        // What speaks against something comes first.
        groups.values_mut().for_each(|all| all.sort_by_key(|one| one.grounds.is_empty()));
        groups
    }

    pub(crate) fn text(&self, width: usize) -> String {
        let mut page = Page::new(width);
        page.line(0, &paint(style::HEADING, &safe(&self.head())));
        if let Some(about) = &self.review.about {
            page.line(0, &paint(style::QUIET, &safe(about)));
        }
        for (asked, questions) in self.by_asked() {
            page.heading(&format!("{} answers", asked_words(asked)));
            for one in &questions {
                self.question(&mut page, one);
            }
            if let Some(open) = questions.iter().find(|one| one.answers.is_empty()) {
                page.line(2, &paint(style::QUIET, "answered so:"));
                page.command(4, &self.command(open, asked));
            }
        }
        if !self.shape.discounted.is_empty() {
            page.heading("answers that do not count");
            for one in &self.shape.discounted {
                let line = format!("{} of {}, by {}: {}", one.who, one.of, one.by, one.because);
                page.noted(2, &safe(&line), &one.written);
            }
        }
        if !self.has_log {
            page.blank();
            let line = "Without a log it is not known what was used: `--log FILE` says so.";
            page.line(0, &paint(style::QUIET, line));
        }
        page.finish()
    }

    fn command(&self, one: &Question, asked: &[String]) -> String {
        let by = self.mine.or(asked.first().map(String::as_str)).unwrap_or("user:NAME");
        let mut words = vec![self.review.name.to_string(), one.who.clone()];
        words.extend(["--of".to_owned(), one.of.clone()]);
        for (option, value) in [("--where", &one.at), ("--policy", &one.policy)] {
            if let Some(value) = value {
                words.extend([option.to_owned(), value.clone()]);
            }
        }
        words.extend([one.recommendation.to_owned(), "--by".to_owned(), by.to_owned()]);
        let words: Vec<String> = words.iter().map(|word| quoted(word)).collect();
        format!("bexum review answer {}", words.join(" "))
    }

    fn question(&self, page: &mut Page, one: &Question) {
        page.noted(2, &paint(style::NAME, &safe(&one.words())), &one.written);
        for answer in &one.answers {
            let why = answer.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
            let line = format!("by {} on {}{why}", answer.by, date(&answer.answered));
            let answer = paint(style::HEADING, &format!("answered {}", answer.answer));
            page.line(4, &format!("{answer} {}", safe(&line)));
        }
        let recommended = match one.grounds.is_empty() {
            true => paint(style::ALLOW, "keep"),
            false => paint(style::DENY, "remove"),
        };
        let mut reasons = reasons(one);
        let first = match reasons.is_empty() {
            true => "nothing speaks against it".to_owned(),
            false => reasons.remove(0),
        };
        page.line(4, &format!("{recommended}: {}", safe(&first)));
        reasons.iter().for_each(|reason| page.line(6, &safe(reason)));
        for fact in self.facts(one) {
            page.line(4, &paint(style::QUIET, &safe(&fact)));
        }
    }

    /// What is known besides the reasons.
    fn facts(&self, one: &Question) -> Vec<String> {
        let mut facts = vec![loses(one)];
        if let Some(used) = &one.used
            && !one.grounds.contains(&"unused")
        {
            facts.push(match &used.last {
                Some(last) => {
                    let times = usize::try_from(used.times).unwrap_or(usize::MAX);
                    format!("used {}, last on {}", count(times, "time", "times"), date(last))
                }
                None => "not used yet".to_owned(),
            });
        }
        if let Some(manager) = &one.manager {
            facts.push(format!("manager {manager}"));
        }
        if let Some(likeness) = one.likeness.as_ref().filter(|_| !one.grounds.contains(&"unlike")) {
            facts.push(format!("likeness {}", figures(likeness)));
        }
        facts
    }

    /// The table to fill in (RFC 4180).
    pub(crate) fn csv(&self) -> anyhow::Result<Vec<u8>> {
        let mut text = csv::Writer::from_writer(Vec::new());
        text.write_record([
            "who",
            "of",
            "where",
            "policy",
            "from",
            "until",
            "asked",
            "recommendation",
            "reasons",
            "loses",
            "last-used",
            "answer",
            "why",
        ])?;
        for one in &self.shape.questions {
            let blank = |text: &Option<String>| text.clone().unwrap_or_default();
            let last = one.used.as_ref().and_then(|used| used.last.clone());
            let answer = one.answers.first();
            let (from, until) = match one.at.is_some() || one.policy.is_some() {
                true => (String::new(), String::new()),
                false => (blank(&one.window.from), blank(&one.window.until)),
            };
            text.write_record([
                one.who.as_str(),
                &one.of,
                &blank(&one.at),
                &blank(&one.policy),
                &from,
                &until,
                &asked_words(&one.asked),
                one.recommendation,
                &reasons(one).join("; "),
                &loses(one),
                &last.unwrap_or_default(),
                answer.map_or("", |answer| answer.answer),
                &harmless(&answer.and_then(|answer| answer.why.clone()).unwrap_or_default()),
            ])?;
        }
        text.flush()?;
        text.into_inner().context("cannot write the rows")
    }

    /// A page to sign off and keep.
    pub(crate) fn page(&self) -> anyhow::Result<String> {
        let line = |one: &Question| PageLine {
            words: one.words(),
            written: one.written.clone(),
            asked: asked_words(&one.asked),
            recommendation: one.recommendation,
            reasons: reasons(one),
            facts: self.facts(one),
            answers: one
                .answers
                .iter()
                .map(|answer| {
                    let why = answer.why.as_ref().map(|why| format!(": {why}"));
                    let (by, on) = (&answer.by, date(&answer.answered));
                    let why = why.unwrap_or_default();
                    (answer.answer, format!("by {by} on {on}{why}"))
                })
                .collect(),
        };
        let page = ReviewPage {
            head: self.head(),
            about: self.review.about.as_deref().unwrap_or_default(),
            open: date(&self.shape.open),
            until: date(&self.shape.until),
            lines: self.shape.questions.iter().map(line).collect(),
            discounted: self
                .shape
                .discounted
                .iter()
                .map(|one| format!("{} of {}, by {}: {}", one.who, one.of, one.by, one.because))
                .collect(),
            unanswered: word(self.review.unanswered_goes),
            fingerprint: self.review.asked.as_ref().map_or("", |(_, marks)| marks),
        };
        Ok(page.render()?)
    }
}

#[derive(Template)]
#[template(path = "review.html")]
struct ReviewPage<'t> {
    head: String,
    about: &'t str,
    open: &'t str,
    until: &'t str,
    lines: Vec<PageLine>,
    discounted: Vec<String>,
    unanswered: &'static str,
    fingerprint: &'t str,
}

struct PageLine {
    words: String,
    written: String,
    asked: String,
    recommendation: &'static str,
    reasons: Vec<String>,
    facts: Vec<String>,
    answers: Vec<(&'static str, String)>,
}

/// Text that a spreadsheet does not run.
fn harmless(text: &str) -> String {
    match text.starts_with(['=', '+', '-', '@', '\t', '\r']) {
        true => format!("'{text}"),
        false => text.to_owned(),
    }
}

fn asked_words(asked: &[String]) -> String {
    match asked {
        [] => "whoever owns the files".to_owned(),
        users => users.join(" or "),
    }
}

/// What taking it away does.
fn loses(one: &Question) -> String {
    if one.closes_nothing == Some(true) && one.loses.as_ref().is_some_and(|of| of.opens == 0) {
        return match &one.held_by {
            Some(other) => format!("nothing is lost without it: it is held through {other} too"),
            None => "nothing is lost without it, whatever the circumstances".to_owned(),
        };
    }
    match &one.loses {
        None => "what is lost without it was not counted: it concerns too many".to_owned(),
        Some(of) => {
            let cells = count(of.closes, "cell", "cells");
            let people = count(of.people, "person loses", "people lose");
            let gravest = of.levels.last().zip(of.gravest.as_ref());
            let level = gravest
                .map(|(level, cell)| format!(", up to {level}: {} at {}", cell.action, cell.at));
            let level = level.unwrap_or_default();
            let opens = match of.opens {
                0 => String::new(),
                n => format!("; opens {}", count(n, "cell", "cells")),
            };
            format!("without it {people} {cells}{level}{opens}")
        }
    }
}

/// `0.12, where the others' median is 0.81 (manager: 0 agree, who.team: 0 agree)`.
fn figures(likeness: &bexum_wire::review::Likeness) -> String {
    let agree =
        likeness.weights.iter().map(|one| format!("{}: {} agree", one.attribute, one.agree));
    format!(
        "{:.2}, where the others' median is {:.2} ({})",
        likeness.likeness,
        likeness.median,
        agree.collect::<Vec<_>>().join(", ")
    )
}

/// The reasons to take it away, each with its figures.
fn reasons(one: &Question) -> Vec<String> {
    let reason = |ground: &&'static str| match *ground {
        "disabled" => "the user is disabled".to_owned(),
        "unused" => match one.used.as_ref().and_then(|used| used.last.as_ref()) {
            Some(last) => format!("unused since {}", date(last)),
            None => "never used, as far as the log goes back".to_owned(),
        },
        "held-anyway" => loses(one),
        _ => match &one.likeness {
            Some(likeness) => format!("unlike the other members: {}", figures(likeness)),
            None => "unlike the other members".to_owned(),
        },
    };
    one.grounds.iter().map(reason).collect()
}

/// What was just answered, and how far the review is.
pub(crate) fn answered(
    answers: &[Answer],
    file: &Path,
    answered: usize,
    questions: usize,
    review: &CoreReview,
    now: Time,
) -> String {
    let written = count(answers.len(), "answer stands", "answers stand");
    let state = state(review, now);
    format!(
        "{written} in {}: {answered} of {questions} answered, {state}\n",
        safe(&file.display().to_string())
    )
}

/// What follows from a review, before its edits.
pub(crate) fn closing(
    review: &CoreReview,
    estate: &Estate,
    questions: &[CoreQuestion],
    closed: &Closed,
    opens: &Opens,
    now: Time,
) -> String {
    let mut page = Page::new(crate::terminal::width());
    let is_answered = |one: &&CoreQuestion| !review.answers_to(estate, questions, one).is_empty();
    let answered = questions.iter().filter(is_answered).count();
    let head = format!(
        "{}: {answered} of {} answered, {}",
        review.name,
        questions.len(),
        state(review, now)
    );
    page.line(0, &paint(style::HEADING, &safe(&head)));
    for (question, why) in &closed.skipped {
        let why = match why {
            Skipped::Newer => "stays: it came after the review was opened",
            Skipped::NotOver => "stays for now: nobody answered, and the review is not over",
        };
        page.line(
            2,
            &format!("{} of {} {why}", safe(&question.who), safe(&question.of.to_string())),
        );
    }
    if closed.edits.is_empty() {
        page.line(0, "nothing follows from it: no answer that counts says that something goes");
        return page.finish();
    }
    page.line(0, &count(closed.edits.len(), "edit follows:", "edits follow:"));
    if *opens == Opens::NotDecided {
        let line = "it could not be decided whether anything is opened by it";
        page.line(2, &paint(style::DENY, line));
    }
    if let Opens::Cell(cell) = opens {
        let what = match cell.is_decided {
            true => "opened by it",
            false => "perhaps opened by it",
        };
        let line = format!("{what}: {} {} at {}", cell.who, cell.action, cell.place);
        page.line(2, &paint(style::DENY, &safe(&line)));
    }
    page.blank();
    page.finish()
}
