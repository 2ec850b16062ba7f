//! What follows from a review.

use super::{ListKind, Of, Question, Review};
use crate::declaration::Declarations;
use crate::edit::{Edit, apply, same_files};
use crate::engine::Engine;
use crate::estate::Estate;
use crate::impact::{Comparison, OpenedCell, differences};
use crate::request::Request;
use crate::time::Time;

/// A review, closed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Closed {
    /// The edits that follow, in the order of questions.
    pub edits: Vec<Edit>,
    /// What stays although somebody said that it goes, or nobody answered, and why.
    pub skipped: Vec<(Question, Skipped)>,
}

/// What the edits of a review open.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Opens {
    /// Nothing.
    Nothing,
    /// That could not be found out.
    NotDecided,
    /// This cell first, or it could not be ruled out of it.
    Cell(OpenedCell),
}

/// Why something stays.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Skipped {
    /// It came after the review was opened.
    Newer,
    /// Nobody answered, and the review is not over.
    NotOver,
}

impl Closed {
    /// Whether the edits open anything to anybody, now or later, in any circumstances.
    #[must_use]
    pub fn opens(&self, declared: &Declarations, before: &Engine, now: Time) -> Opens {
        self.first_opened(declared, before, now).unwrap_or(Opens::NotDecided)
    }

    /// The first thing that the edits open; `None` where they cannot be made, so that nothing is known
    /// of them.
    fn first_opened(&self, declared: &Declarations, before: &Engine, now: Time) -> Option<Opens> {
        let mut changed = declared.clone();
        for edit in &self.edits {
            apply(edit, &mut changed, &before.estate().catalogue, now).ok()?;
        }
        let after = Engine::new(Estate::build_beside(&changed, before.estate()).ok()?);
        let same = same_files(declared, &changed);
        let differences = differences(before.estate(), after.estate(), &same);
        let request = Request::new("", "", "", now);
        let comparison = Comparison::new(before, &after, &differences, request).ok()?;
        let mut compared = comparison.compared_from_now_on();
        let everybody = comparison.everybody();
        let found = everybody.iter().find_map(|who| compared.first_opened(who, None, &|_, _| true));
        Some(match found {
            Some(cell) => Opens::Cell(cell),
            None if compared.is_limited() => Opens::NotDecided,
            None => Opens::Nothing,
        })
    }
}

impl Review {
    /// The edits that follow from the answers that count; after its end what nobody answered counts as
    /// `unanswered` says. What came after it was opened stays.
    #[must_use]
    pub fn close(&self, estate: &Estate, now: Time) -> Closed {
        let questions = self.questions(estate);
        let (mut goes, mut skipped) = (Vec::new(), Vec::new());
        for question in &questions {
            let answers = self.answers_to(estate, &questions, question);
            let is_answered = !answers.is_empty();
            let is_gone = answers.iter().any(|one| one.remove);
            if !is_gone && (is_answered || !self.unanswered_goes) {
                continue;
            }
            if !self.was_asked(question) {
                skipped.push((question.clone(), Skipped::Newer));
            } else if !is_answered && now < self.until {
                skipped.push((question.clone(), Skipped::NotOver));
            } else {
                goes.push(question.clone());
            }
        }
        let mut edits: Vec<Edit> = Vec::new();
        for question in &goes {
            let removal = question.removal();
            if !edits.contains(&removal) {
                edits.push(removal);
            }
        }
        // An edit takes all places of somebody in a list: those that stay are given back.
        for question in &questions {
            let (Some(list), Of::Group(of) | Of::Role(of)) = (question.list, &question.of) else {
                continue;
            };
            let is_same = |one: &&Question| {
                (one.list, &one.of, &one.who) == (question.list, &question.of, &question.who)
            };
            if !goes.contains(question) && goes.iter().any(|one| is_same(&one)) {
                edits.push(Edit::Add {
                    who: vec![question.who.clone()],
                    list: ListKind::list(list),
                    of: of.clone(),
                    window: question.window,
                });
            }
        }
        Closed { edits, skipped }
    }
}
