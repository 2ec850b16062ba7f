//! A review: its questions, what helps to answer them, and what was answered: `review --format json`.

use bexum_core::Estate;
use bexum_core::review::{self as core, Asked, Facts, Use};
use bexum_core::ways::Effect;
use schemars::JsonSchema;
use serde::Serialize;

use crate::common::Window;

/// The whole.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Review {
    /// The version of this shape.
    pub version: u32,
    /// Its name.
    pub name: String,
    /// The first moment at which answers count.
    pub open: String,
    /// The first at which they count no more.
    pub until: String,
    /// How many questions there are.
    pub count: usize,
    /// How many are answered.
    pub answered: usize,
    /// The questions.
    pub questions: Vec<Question>,
    /// Answers that do not count.
    pub discounted: Vec<Discounted>,
}

/// Whether one thing stays.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Question {
    /// Whom it is about.
    pub who: String,
    /// What of.
    pub of: String,
    /// Of a role, the list.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub list: Option<&'static str>,
    /// Of a policy, where it is attached.
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// Of a scope, which policy.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub policy: Option<String>,
    /// Whether it is a ceiling.
    pub is_ceiling: bool,
    /// While it is so.
    pub window: Window,
    /// Where that is written.
    pub written: String,
    /// Who is asked; nobody: whoever owns the files.
    pub asked: Vec<String>,
    /// What is recommended: `remove` or `keep`.
    pub recommendation: &'static str,
    /// Why it should go.
    pub grounds: Vec<&'static str>,
    /// Whether the user is not enabled.
    pub is_disabled: bool,
    /// The user's manager.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub manager: Option<String>,
    /// What else brings them there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub held_by: Option<String>,
    /// Whether taking it away closes nothing, whatever the circumstances; absent where that was not
    /// decided.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub closes_nothing: Option<bool>,
    /// What taking it away turns at the moment; absent where that was not counted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loses: Option<Loses>,
    /// How a log used it; absent without one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub used: Option<Used>,
    /// How like the group's other users they are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub likeness: Option<Likeness>,
    /// The answers that count.
    pub answers: Vec<Answer>,
}

/// What taking something away turns.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Loses {
    /// Cells that are allowed no more.
    pub closes: usize,
    /// Cells that are allowed then and were not.
    pub opens: usize,
    /// How many people lose something.
    pub people: usize,
    /// The levels of what is lost, from the mildest.
    pub levels: Vec<String>,
    /// Of what is lost, the gravest.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gravest: Option<Gravest>,
}

/// Something that is lost.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Gravest {
    /// Who loses it.
    pub who: String,
    /// What.
    pub action: String,
    /// Where.
    pub at: String,
}

/// How something was used.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Used {
    /// How often.
    pub times: u64,
    /// When first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
    /// When last.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last: Option<String>,
}

/// How like others somebody is.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Likeness {
    /// From 0 to 1.
    pub likeness: f64,
    /// The median of the others'.
    pub median: f64,
    /// What counts, most first.
    pub weights: Vec<Weight>,
}

/// An attribute that tells members from others.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Weight {
    /// Its name, or `manager`.
    pub attribute: String,
    /// How much it counts.
    pub weight: f64,
    /// How many of the others agree.
    pub agree: usize,
}

/// An answer.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Answer {
    /// `keep` or `remove`.
    pub answer: &'static str,
    /// Who says so.
    pub by: String,
    /// When.
    pub answered: String,
    /// Why.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// An answer that does not count.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Discounted {
    /// Whom it is about.
    pub who: String,
    /// What of.
    pub of: String,
    /// Who says so.
    pub by: String,
    /// Why it does not count.
    pub because: &'static str,
    /// Where it stands.
    pub written: String,
}

/// `keep` or `remove`.
#[must_use]
pub fn word(remove: bool) -> &'static str {
    if remove { "remove" } else { "keep" }
}

/// Why an answer does not count, in words.
#[must_use]
pub fn because(discounted: core::Discounted) -> &'static str {
    match discounted {
        core::Discounted::NoQuestion => "there is no such question now",
        core::Discounted::NotAsked => "whoever answered was not asked",
        core::Discounted::AboutOneself => "nobody answers about themselves",
        core::Discounted::TooEarly => "the review was not open yet",
        core::Discounted::TooLate => "the review was over",
    }
}

impl From<&Effect> for Loses {
    fn from(effect: &Effect) -> Self {
        Self {
            closes: effect.closes,
            opens: effect.opens,
            people: effect.people[1],
            levels: effect.levels[1].iter().map(|level| level.word().to_owned()).collect(),
            gravest: effect.gravest[1].as_ref().map(|cell| Gravest {
                who: cell.who.clone(),
                action: cell.action.clone(),
                at: cell.place.clone(),
            }),
        }
    }
}

impl From<&core::Answer> for Answer {
    fn from(answer: &core::Answer) -> Self {
        Self {
            answer: word(answer.remove),
            by: answer.by.clone(),
            answered: answer.answered.to_string(),
            why: answer.why.clone(),
        }
    }
}

impl Question {
    /// Of a question, with all that helps to answer it.
    #[must_use]
    pub fn of(
        estate: &Estate,
        review: &core::Review,
        questions: &[core::Question],
        question: &core::Question,
        (facts, grounds): (&Facts, &[core::Ground]),
        written: String,
    ) -> Self {
        let used = facts.used.map(|used| match used {
            Use::Never => Used { times: 0, first: None, last: None },
            Use::Times(count) => Used {
                times: count.times,
                first: Some(count.first.to_string()),
                last: Some(count.last.to_string()),
            },
        });
        let likeness = facts.likeness.as_ref().map(|likeness| Likeness {
            likeness: likeness.likeness,
            median: likeness.median,
            weights: likeness
                .weights
                .iter()
                .map(|(attribute, weight, agree)| Weight {
                    attribute: attribute.clone(),
                    weight: *weight,
                    agree: *agree,
                })
                .collect(),
        });
        Self {
            who: question.who.clone(),
            of: question.of.to_string(),
            list: match question.list {
                Some(list) if matches!(question.of, core::Of::Role(_)) => Some(list.list().key()),
                _ => None,
            },
            at: question.at.clone(),
            policy: question.policy.clone(),
            is_ceiling: question.is_ceiling,
            window: question.window.into(),
            written,
            asked: match review.asks(estate, question) {
                Asked::Users(users) => users,
                Asked::FilesOwner => Vec::new(),
            },
            recommendation: word(!grounds.is_empty()),
            grounds: grounds.iter().map(|ground| ground.word()).collect(),
            is_disabled: facts.is_disabled,
            manager: facts.manager.clone(),
            held_by: facts.held_by.clone(),
            closes_nothing: facts.closes_nothing,
            loses: facts.effect.as_ref().map(Loses::from),
            used,
            likeness,
            answers: review
                .answers_to(estate, questions, question)
                .into_iter()
                .map(Answer::from)
                .collect(),
        }
    }

    /// What is asked about, in words.
    #[must_use]
    pub fn words(&self) -> String {
        let Self { who, of, .. } = self;
        let mut words = match (&self.at, &self.policy, self.list) {
            (Some(at), ..) => format!("{of} to {who} at {at}"),
            (_, Some(policy), _) if self.is_ceiling => {
                format!("ceiling policy:{policy} for {who} over {of}")
            }
            (_, Some(policy), _) => format!("policy:{policy} to {who} at {of}"),
            (.., Some("held-by")) => format!("{who} holds {of}"),
            (.., Some(_)) => format!("{who} may take up {of}"),
            _ => format!("{who} in {of}"),
        };
        for (word, at) in [("from", &self.window.from), ("until", &self.window.until)] {
            if let Some(at) = at {
                let at = at.strip_suffix("T00:00:00Z").unwrap_or(at);
                words.push_str(&format!(" {word} {at}"));
            }
        }
        words
    }
}
