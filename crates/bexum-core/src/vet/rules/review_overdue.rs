//! Reviews that are over and were not finished.

use crate::diagnostic::Severity;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "review-overdue",
    severity: Severity::Warning,
    finds: "a review that is over with questions that nobody answered, or with answers that were not \
            carried out",
    why: "A review that nobody finishes leaves everything as it was, and looks as if it had not.",
    example: r#"[review.spring]
of    = "group:imaging"
by    = "user:ines"
open  = 2020-03-01T00:00:00Z
until = 2020-04-01T00:00:00Z
"#,
    fine: r#"[review.spring]
of    = "group:imaging"
by    = "user:ines"
open  = 2020-03-01T00:00:00Z
until = 9000-04-01T00:00:00Z
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    for review in estate.reviews.iter().filter(|review| review.until <= vet.now) {
        let questions = review.questions(estate);
        // What came later was not asked.
        let open = questions
            .iter()
            .filter(|one| review.was_asked(one))
            .filter(|one| review.answers_to(estate, &questions, one).is_empty())
            .count();
        let left = review.close(estate, vet.now).edits.len();
        let name = &review.name;
        let mut said = Vec::new();
        if open > 0 {
            let questions = if open == 1 { "question was" } else { "questions were" };
            said.push(format!("{open} {questions} not answered"));
        }
        if left > 0 {
            let edits = if left == 1 { "edit that follows was" } else { "edits that follow were" };
            said.push(format!("{left} {edits} not made"));
        }
        if said.is_empty() {
            continue;
        }
        let message = format!("the review `{name}` is over, and {}", said.join(", "));
        let finding = found.add(format!("review:{name}"), review.origin, message);
        finding.hint = Some(match left {
            0 => format!(
                "ask again by a new review, or set its `until` later: `bexum review {name}`"
            ),
            _ => format!("`bexum review close {name}` shows them"),
        });
    }
}
