//! What came of expectations: `prove --format json`.

use bexum_core::prove::{Counterexample, Has as CoreHas, NotWorkedOut, Outcome, Tried};
use bexum_core::{Decider, Engine, Request, Time, Trace};
use bexum_files::Sources;
use schemars::JsonSchema;
use serde::Serialize;

use crate::answer::Answer;
use crate::common::{Asked, Reason, Verdict};

/// All expectations that were tried.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Report {
    /// The version of this shape.
    pub version: u32,
    /// How many hold.
    pub held: usize,
    /// How many are broken.
    pub broken: usize,
    /// How many laws could not be decided.
    pub not_decided: usize,
    /// Each of them.
    pub expectations: Vec<Expectation>,
}

/// What came of an expectation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "what the names say")]
pub enum Status {
    Held,
    Broken,
    NotDecided,
}

impl Status {
    fn of(tried: &Tried<'_>) -> Self {
        match tried {
            Tried::Law { outcome: Outcome::NotDecided(_), .. } => Self::NotDecided,
            _ if tried.holds() => Self::Held,
            _ => Self::Broken,
        }
    }
}

/// One expectation.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Expectation {
    /// `check`, `never`, `always` or `apart`.
    pub table: &'static str,
    /// What it is called.
    pub name: String,
    /// Its file and line.
    pub written: String,
    /// What came of it.
    pub status: Status,
    /// The rest, by its table and what came of it.
    #[serde(flatten)]
    pub told: Told,
}

/// What there is to say of an expectation.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged, rename_all_fields = "kebab-case")]
pub enum Told {
    /// Of a check.
    Check {
        /// How many requests it makes.
        requests: usize,
        /// The answer that each must have.
        expected: Expected,
        /// The requests with another answer.
        wrong: Vec<Answered>,
    },
    /// Of a law that holds.
    Held {
        /// On how much it was tried.
        covered: Covered,
        /// Whether it is about nothing at all.
        of_nothing: bool,
    },
    /// Of a law that is broken.
    Broken {
        /// A request that breaks it.
        broken_by: Box<Answered>,
        /// Everybody who breaks it, where that was asked for.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        everybody: Vec<Breaks>,
    },
    /// Of a law that could not be decided.
    NotDecided {
        /// What could not be tried.
        limit: Limit,
    },
    /// Of a separation.
    Apart {
        /// On how much it was tried.
        covered: Principals,
        /// Who has two of it.
        overlaps: Vec<Overlap>,
    },
}

/// What a check expects.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Expected {
    /// Allow or deny.
    pub verdict: Verdict,
    /// For which reason, if that matters.
    pub reason: Option<Reason>,
}

/// On how much a law was tried.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "what the names say")]
pub struct Covered {
    pub principals: usize,
    pub targets: usize,
    pub actions: usize,
    pub conditions: usize,
}

/// On how many principals a separation was tried.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "what the name says")]
pub struct Principals {
    pub principals: usize,
}

/// What could not be tried.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Limit {
    /// More combinations of circumstances than the budget of the law.
    Combinations,
    /// All values of this attribute.
    Attribute(String),
    /// All sorts of items of this scope.
    ItemsOf(String),
}

/// A request and its answer.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Answered {
    /// The command that asks it.
    pub ask: String,
    /// The request.
    pub request: Asked,
    /// Its answer.
    pub answer: Option<Answer>,
}

/// Somebody who breaks a law.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Breaks {
    /// Who.
    pub who: String,
    /// The command that asks a request of theirs that breaks it.
    pub ask: String,
}

/// Somebody who has two things that nobody may have together.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Overlap {
    /// Who.
    pub who: String,
    /// When.
    pub time: String,
    /// The two.
    pub has: [Has; 2],
}

/// How somebody has something.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "how")]
pub enum Has {
    /// Is in it.
    IsIn {
        /// The group.
        group: String,
    },
    /// Holds it.
    Holds {
        /// The role.
        role: String,
    },
    /// Can take it up.
    CanTakeUp {
        /// The role.
        role: String,
    },
    /// It comes with another role, that can be taken up.
    ComesWith {
        /// The role.
        role: String,
        /// The other.
        #[serde(rename = "taking-up")]
        taking_up: String,
    },
    /// Is reached by it.
    IsReachedBy {
        /// The policy.
        policy: String,
        /// Where it is attached.
        at: String,
        /// A role that is taken up for it.
        #[serde(rename = "as")]
        take_up: Option<String>,
        /// The file and line of the attachment.
        written: String,
    },
}

/// Where a report's answers and commands come from.
pub struct Context<'c> {
    /// The estate, ready to be asked.
    pub engine: &'c Engine,
    /// Its texts.
    pub sources: &'c Sources,
    /// The command that asks a request, at a time if that is not the present.
    pub command: &'c dyn Fn(&Request<'_>, Option<Time>) -> String,
}

impl Report {
    /// Of all that was tried.
    #[must_use]
    pub fn new(context: &Context<'_>, tried: &[Tried<'_>]) -> Self {
        let mut decider = Decider::new(context.engine);
        let count = |status| tried.iter().filter(|one| Status::of(one) == status).count();
        Self {
            version: crate::VERSION,
            held: count(Status::Held),
            broken: count(Status::Broken),
            not_decided: count(Status::NotDecided),
            expectations: tried.iter().map(|one| context.expectation(&mut decider, one)).collect(),
        }
    }
}

impl Context<'_> {
    fn expectation(&self, decider: &mut Decider<'_>, tried: &Tried<'_>) -> Expectation {
        let told = match tried {
            Tried::Check { check, requests, wrong } => Told::Check {
                requests: *requests,
                expected: Expected {
                    verdict: check.expect.into(),
                    reason: check.reason.map(Reason::from),
                },
                wrong: wrong
                    .iter()
                    .map(|(request, _)| self.answered(decider, request, check.time))
                    .collect(),
            },
            Tried::Law { outcome, coverage, others, .. } => match outcome {
                Outcome::Held => Told::Held {
                    covered: Covered {
                        principals: coverage.principals,
                        targets: coverage.targets,
                        actions: coverage.actions,
                        conditions: coverage.conditions,
                    },
                    of_nothing: coverage.is_empty(),
                },
                Outcome::Broken(found) => {
                    let time = Some(found.request.time);
                    Told::Broken {
                        broken_by: Box::new(self.answered(decider, &found.request, time)),
                        everybody: others.iter().map(|other| self.breaks(other)).collect(),
                    }
                }
                Outcome::NotDecided(limit) => Told::NotDecided {
                    limit: match limit {
                        NotWorkedOut::Steps => Limit::Combinations,
                        NotWorkedOut::Values(attribute) => Limit::Attribute(attribute.clone()),
                        NotWorkedOut::Items(path) => Limit::ItemsOf(path.clone()),
                    },
                },
            },
            Tried::Apart { overlaps, principals, .. } => Told::Apart {
                covered: Principals { principals: *principals },
                overlaps: overlaps
                    .iter()
                    .map(|overlap| Overlap {
                        who: self.engine.estate().principal_id(overlap.who),
                        time: overlap.time.to_string(),
                        has: [self.has(overlap.first), self.has(overlap.second)],
                    })
                    .collect(),
            },
        };
        Expectation {
            table: tried.table(),
            name: tried.name().to_owned(),
            written: self.sources.shown(tried.origin()),
            status: Status::of(tried),
            told,
        }
    }

    fn answered(
        &self,
        decider: &mut Decider<'_>,
        request: &Request<'_>,
        time: Option<Time>,
    ) -> Answered {
        let estate = self.engine.estate();
        let answer = request.resolve(estate).ok().map(|query| {
            let trace = Trace::of(decider, &query);
            Answer::new(estate, self.sources, &query, &trace)
        });
        let ask = (self.command)(request, time);
        Answered { ask, request: Asked::new(request, time), answer }
    }

    fn breaks(&self, found: &Counterexample) -> Breaks {
        let request = &found.request;
        let ask = (self.command)(request, Some(request.time));
        Breaks { who: request.who.to_string(), ask }
    }

    fn has(&self, has: CoreHas) -> Has {
        let estate = self.engine.estate();
        let role_id = |id| format!("role:{}", estate.role(id).identity.name);
        match has {
            CoreHas::Group(id) => {
                Has::IsIn { group: format!("group:{}", estate.group(id).identity.name) }
            }
            CoreHas::Holds(id) => Has::Holds { role: role_id(id) },
            CoreHas::CanTakeUp(id) => Has::CanTakeUp { role: role_id(id) },
            CoreHas::ComesWith { role, taken_up } => {
                Has::ComesWith { role: role_id(role), taking_up: role_id(taken_up) }
            }
            CoreHas::Reached { policy, attachment, scope, by_taking_up } => Has::IsReachedBy {
                policy: estate.policy(policy).name.to_string(),
                at: estate.scope(scope).path.to_string(),
                take_up: by_taking_up.map(role_id),
                written: self.sources.shown(estate.attachment(attachment).origin),
            },
        }
    }
}
