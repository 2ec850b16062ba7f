//! Answers: `ask --format json` and the lines of `replay`.

use bexum_core::engine::{self, Source};
use bexum_core::policy;
use bexum_core::principal::Subject;
use bexum_core::request::Query;
use bexum_core::time;
use bexum_core::trace::{self, SeenState, Shortfall as CoreShortfall};
use bexum_core::{Estate, Trace};
use bexum_files::Sources;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value as Json};

use crate::common::{Reason, Truth, Verdict, Window, circumstances, subject, value_json};
use crate::request::LineId;

/// One line of `replay`.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Line {
    /// What is decided.
    Answer {
        /// The `id` of the request, else its line.
        id: LineId,
        /// Allow or deny.
        verdict: &'static str,
        /// Which line of the decision table held.
        reason: &'static str,
        /// What decided it, in words, where that was asked for.
        #[serde(skip_serializing_if = "Option::is_none")]
        why: Option<Vec<String>>,
    },
    /// A line that is no request.
    Error {
        /// The `id` of the line, if it could be read, else its number.
        id: LineId,
        /// Why it is none.
        error: String,
    },
}

/// The answer to one request, and all that had a part in it.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Answer {
    /// The version of this shape.
    pub version: u32,
    /// Allow or deny.
    pub verdict: Verdict,
    /// Which line of the decision table held.
    pub reason: Reason,
    /// What it would be if all that is undecided came out in favour; the reason itself where no
    /// circumstances have it so.
    pub at_best: Reason,
    /// Circumstances in which it is allowed, where it is not and could be.
    pub allowed_when: Option<Map<String, Json>>,
    /// What was asked.
    pub request: Resolved,
    /// Deny statements in play that match or are undecided: each of them refuses.
    pub denies: Vec<Finding>,
    /// Allow statements in play that match: each of them grants.
    pub allows: Vec<Finding>,
    /// Allow statements in play that name the action and do not match, or not certainly.
    pub misses: Vec<Finding>,
    /// Allow statements that would match, or might, and are not in play.
    pub not_in_play: Vec<Obstructed>,
    /// Ceilings in play.
    pub ceilings: Vec<Ceiling>,
    /// Allow statements that would fit and reach somebody else, or another place.
    pub near_misses: Vec<NearMiss>,
    /// Roles with which it is allowed, tried.
    pub roles_that_help: Vec<String>,
    /// Groups with which it is allowed, tried.
    pub groups_that_help: Vec<String>,
    /// Roles and groups with which it hangs on what is not given.
    pub perhaps: Vec<String>,
    /// Whether it is the role taken up that keeps it from being granted.
    pub role_stands_in_the_way: bool,
    /// Circumstances that were asked about and not given.
    pub not_given: Vec<String>,
    /// The edits that are supposed, as `edit` takes them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub supposed: Vec<String>,
    /// What the reason is without them, where it is a request then.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<Reason>,
}

/// A request, its names resolved.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the keys of a request")]
pub struct Resolved {
    pub who: String,
    pub does: String,
    pub on: String,
    #[serde(rename = "as")]
    pub take_up: Option<String>,
    pub also: Vec<String>,
    pub under: Vec<String>,
    pub time: String,
}

/// Allow or deny, of a statement.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the two effects")]
pub enum Effect {
    Allow,
    Deny,
}

impl From<policy::Effect> for Effect {
    fn from(effect: policy::Effect) -> Self {
        match effect {
            policy::Effect::Allow => Self::Allow,
            policy::Effect::Deny => Self::Deny,
        }
    }
}

/// A statement that had a part in a decision.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Finding {
    /// Its policy and its name or number.
    pub statement: String,
    /// Allow or deny.
    pub effect: Effect,
    /// What it came to.
    pub truth: Truth,
    /// Its file and line.
    pub written: String,
    /// Its policy.
    pub policy: String,
    /// By which attachment it counts.
    pub attached: Attached,
    /// From the principal to whom the attachment names.
    pub route: Vec<String>,
    /// What its path patterns alone came to.
    pub path: Truth,
    /// The parts of its condition that kept it from being true.
    pub parts: Vec<Part>,
    /// The attributes in its patterns, where these do not match.
    pub braces: Vec<Seen>,
}

/// An attachment.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Attached {
    /// Whom it names.
    pub to: String,
    /// Where.
    pub at: String,
    /// How many segments the target lies below.
    pub levels_above: usize,
    /// Its file and line.
    pub written: String,
}

/// A statement that is kept out of play.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Obstructed {
    /// The statement.
    #[serde(flatten)]
    pub finding: Finding,
    /// What keeps it out.
    pub obstacle: Obstacle,
}

/// What keeps a statement out of play.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum Obstacle {
    /// The seal on this scope.
    Seal(String),
    /// The attachment's window.
    Window {
        /// When it counts.
        #[serde(flatten)]
        window: Window,
        /// Whether that is over.
        is_over: bool,
    },
}

/// A part of a condition, in the author's words.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Part {
    /// The words.
    pub text: String,
    /// What it came to.
    pub truth: Truth,
    /// What it saw.
    pub seen: Vec<Seen>,
}

/// An attribute as a statement saw it.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Seen {
    /// Its name: `who.site`.
    pub attribute: String,
    /// What was there.
    pub state: State,
    /// Its value, if there was one; a time is a string.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<Json>,
    /// Where the value was found: `request`, `item`, `built-in`, a path, or a principal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
}

/// What was there under an attribute's name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "what the names say")]
pub enum State {
    Absent,
    Unknown,
    Known,
}

/// A ceiling in play.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Ceiling {
    /// Its policy.
    pub policy: String,
    /// The scope that it lies over; `null` is everywhere.
    pub over: Option<String>,
    /// Whether it bounds this session alone (`under`).
    pub session: bool,
    /// Whether it bounds the request.
    pub bounds: bool,
    /// Its file and line.
    pub written: Option<String>,
    /// Its statements that name the action.
    pub statements: Vec<CeilingStatement>,
}

/// A statement of a ceiling.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CeilingStatement {
    /// Its policy and its name or number.
    pub statement: String,
    /// Allow or deny.
    pub effect: Effect,
    /// What it came to.
    pub truth: Truth,
    /// Its file and line.
    pub written: String,
    /// The parts of its condition that kept it from being true.
    pub parts: Vec<Part>,
}

/// An allow statement that would fit, had it been attached otherwise.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct NearMiss {
    /// Its policy and its name or number.
    pub statement: String,
    /// Its policy.
    pub policy: String,
    /// What is wrong with it.
    pub shortfall: Shortfall,
    /// The file and line of the attachment.
    pub written: Option<String>,
}

/// What an attachment falls short of.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Shortfall {
    /// It names others, at this scope.
    AttachedToOthersAt(String),
    /// It names the principal, and lies at this scope.
    AttachedElsewhereAt(String),
    /// Whether there is any.
    Attached(bool),
}

impl Answer {
    /// What came of a query.
    #[must_use]
    pub fn new(estate: &Estate, sources: &Sources, query: &Query<'_>, trace: &Trace) -> Self {
        let shape = Shape { estate, sources, query, trace };
        let findings =
            |list: &[trace::Finding]| list.iter().map(|found| shape.finding(found)).collect();
        let role = |id| format!("role:{}", estate.role(id).identity.name);
        let group = |id| format!("group:{}", estate.group(id).identity.name);
        Self {
            version: crate::VERSION,
            verdict: trace.reason.verdict().into(),
            reason: trace.reason.into(),
            at_best: trace.at_best.into(),
            allowed_when: trace.allowed_when.as_deref().map(circumstances),
            request: Resolved {
                who: estate.principal_id(query.who),
                does: estate.catalogue.action(query.action).name.to_string(),
                on: query.target.path.to_owned(),
                take_up: query.take_up.map(role),
                also: query.also.iter().map(|id| group(*id)).collect(),
                under: query.under.iter().map(|id| estate.policy(*id).name.to_string()).collect(),
                time: query.time.to_string(),
            },
            denies: findings(&trace.denies),
            allows: findings(&trace.allows),
            misses: findings(&trace.misses),
            not_in_play: trace
                .obstructed
                .iter()
                .map(|(finding, obstacle)| shape.obstructed(finding, *obstacle))
                .collect(),
            ceilings: trace.ceilings.iter().map(|ceiling| shape.ceiling(ceiling)).collect(),
            near_misses: trace.near.iter().map(|miss| shape.near_miss(miss)).collect(),
            roles_that_help: trace.roles_that_help.iter().map(|id| role(*id)).collect(),
            groups_that_help: trace.groups_that_help.iter().map(|id| group(*id)).collect(),
            perhaps: trace.perhaps.iter().map(|who| estate.principal_id(*who)).collect(),
            role_stands_in_the_way: trace.role_stands_in_the_way,
            not_given: trace
                .not_given()
                .iter()
                .map(|reference| reference.written(&estate.attribute_names))
                .collect(),
            supposed: Vec::new(),
            before: None,
        }
    }
}

struct Shape<'a> {
    estate: &'a Estate,
    sources: &'a Sources,
    query: &'a Query<'a>,
    trace: &'a Trace,
}

impl Shape<'_> {
    fn finding(&self, finding: &trace::Finding) -> Finding {
        let estate = self.estate;
        let candidate = finding.candidate;
        let statement = estate.statement(candidate.statement);
        let mut route = vec![estate.principal_id(self.query.who)];
        if let Subject::One(_) = candidate.subject {
            let steps = self.trace.routes.to(candidate.subject).steps;
            route.extend(steps.iter().map(|step| estate.principal_id(step.into)));
        }
        Finding {
            statement: estate.statement_label(candidate.statement),
            effect: statement.effect.into(),
            truth: finding.truth.into(),
            written: self.sources.shown(statement.origin),
            policy: estate.policy(candidate.policy).name.to_string(),
            attached: Attached {
                to: subject(estate, candidate.subject),
                at: estate.scope(candidate.scope).path.to_string(),
                levels_above: finding.distance,
                written: self.sources.shown(estate.attachment(candidate.attachment).origin),
            },
            route,
            path: finding.path.into(),
            parts: finding.parts.iter().map(|part| self.part(part)).collect(),
            braces: finding.braces.iter().map(|seen| self.seen(seen)).collect(),
        }
    }

    fn obstructed(&self, finding: &trace::Finding, obstacle: engine::Obstacle) -> Obstructed {
        let obstacle = match obstacle {
            engine::Obstacle::Seal(scope) => {
                Obstacle::Seal(self.estate.scope(scope).path.to_string())
            }
            engine::Obstacle::Window(phase) => {
                let window = self.estate.attachment(finding.candidate.attachment).window;
                Obstacle::Window { window: window.into(), is_over: phase == time::Phase::Past }
            }
        };
        Obstructed { finding: self.finding(finding), obstacle }
    }

    fn ceiling(&self, ceiling: &trace::CeilingFinding) -> Ceiling {
        let estate = self.estate;
        let statement = |found: &trace::CeilingStatement| {
            let statement = estate.statement(found.statement);
            CeilingStatement {
                statement: estate.statement_label(found.statement),
                effect: statement.effect.into(),
                truth: found.truth.into(),
                written: self.sources.shown(statement.origin),
                parts: found.parts.iter().map(|part| self.part(part)).collect(),
            }
        };
        let limit = ceiling.limit;
        Ceiling {
            policy: estate.policy(limit.policy).name.to_string(),
            over: limit.over.map(|scope| estate.scope(scope).path.to_string()),
            session: limit.ceiling.is_none(),
            bounds: ceiling.bounds,
            written: limit.ceiling.map(|id| self.sources.shown(estate.ceiling(id).origin)),
            statements: ceiling.statements.iter().map(statement).collect(),
        }
    }

    fn near_miss(&self, miss: &trace::NearMiss) -> NearMiss {
        let estate = self.estate;
        let path = |scope| estate.scope(scope).path.to_string();
        let (attachment, shortfall) = match &miss.shortfall {
            CoreShortfall::ToOthers { attachment, scope } => {
                (Some(*attachment), Shortfall::AttachedToOthersAt(path(*scope)))
            }
            CoreShortfall::Elsewhere { attachment, scope, .. } => {
                (Some(*attachment), Shortfall::AttachedElsewhereAt(path(*scope)))
            }
            CoreShortfall::Unattached => (None, Shortfall::Attached(false)),
        };
        NearMiss {
            statement: estate.statement_label(miss.statement),
            policy: estate.policy(miss.policy).name.to_string(),
            shortfall,
            written: attachment.map(|id| self.sources.shown(estate.attachment(id).origin)),
        }
    }

    fn part(&self, part: &trace::ConditionPart) -> Part {
        Part {
            text: part.text.clone(),
            truth: part.truth.into(),
            seen: part.seen.iter().map(|seen| self.seen(seen)).collect(),
        }
    }

    fn seen(&self, seen: &trace::SeenAttribute) -> Seen {
        let attribute = seen.reference.written(&self.estate.attribute_names);
        let (state, value, from) = match &seen.state {
            SeenState::Absent => (State::Absent, None, None),
            SeenState::Unknown => (State::Unknown, None, None),
            SeenState::Value(value, source) => {
                let from = match source {
                    Source::Request => "request".to_owned(),
                    Source::Item => "item".to_owned(),
                    Source::BuiltIn => "built-in".to_owned(),
                    Source::Scope(id) => self.estate.scope(*id).path.to_string(),
                    Source::Identity(principal) => self.estate.principal_id(*principal),
                };
                (State::Known, Some(value_json(value)), Some(from))
            }
        };
        Seen { attribute, state, value, from }
    }
}
