//! Answers as JSON, version 1: `replay`'s lines and `ask --format json`.

use bexum_core::engine::{Obstacle, Source};
use bexum_core::principal::Subject;
use bexum_core::request::Query;
use bexum_core::trace::{Finding, Part, Seen, SeenState, Shortfall};
use bexum_core::{Estate, Trace, Truth};
use bexum_files::Sources;
use serde::Serialize;
use serde_json::{Value as Json, json};

use super::request::LineId;
use crate::render::phrases;

/// The version of every shape in this module.
pub(crate) const VERSION: u32 = 1;

/// One line of `replay`.
#[derive(Debug, Serialize)]
#[serde(untagged)]
pub(crate) enum Line {
    Answer {
        id: LineId,
        verdict: &'static str,
        reason: &'static str,
        #[serde(skip_serializing_if = "Option::is_none")]
        why: Option<Vec<String>>,
    },
    Error {
        id: LineId,
        error: String,
    },
}

/// The whole answer of `ask`.
pub(crate) fn whole(estate: &Estate, sources: &Sources, query: &Query<'_>, trace: &Trace) -> Json {
    let shape = Shape { estate, sources, query, trace };
    let findings =
        |list: &[Finding]| -> Vec<Json> { list.iter().map(|f| shape.finding(f)).collect() };
    json!({
        "version": VERSION,
        "verdict": trace.reason.verdict().word(),
        "reason": trace.reason.word(),
        "at-best": trace.at_best.word(),
        "allowed-when": trace.allowed_when.as_ref().map(|request| super::proof::circumstances(request)),
        "request": {
            "who": estate.principal_id(query.who),
            "does": &*estate.catalogue.action(query.action).name,
            "on": query.target.path,
            "as": query.take_up.map(|id| format!("role:{}", estate.role(id).identity.name)),
            "also": query.also.iter().map(|id| format!("group:{}", estate.group(*id).identity.name)).collect::<Vec<_>>(),
            "under": query.under.iter().map(|id| &*estate.policy(*id).name).collect::<Vec<_>>(),
            "time": query.time.to_string(),
        },
        "denies": findings(&trace.denies),
        "allows": findings(&trace.allows),
        "misses": findings(&trace.misses),
        "not-in-play": trace.obstructed.iter().map(|(finding, obstacle)| {
            let mut shown = shape.finding(finding);
            shown["obstacle"] = match obstacle {
                Obstacle::Seal(scope) => json!({ "seal": &*estate.scope(*scope).path }),
                Obstacle::Window(phase) => {
                    let window = estate.attachment(finding.candidate.attachment).window;
                    json!({ "window": phrases::phase(*phase, window) })
                }
            };
            shown
        }).collect::<Vec<_>>(),
        "ceilings": trace.ceilings.iter().map(|ceiling| json!({
            "policy": &*estate.policy(ceiling.limit.policy).name,
            "over": ceiling.limit.over.map(|scope| &*estate.scope(scope).path),
            "session": ceiling.limit.ceiling.is_none(),
            "bounds": ceiling.bounds,
            "written": ceiling.limit.ceiling.map(|id| sources.shown(estate.ceiling(id).origin)),
            "statements": ceiling.statements.iter().map(|found| json!({
                "statement": estate.statement_label(found.statement),
                "effect": estate.statement(found.statement).effect.word(),
                "truth": truth(found.truth),
                "written": sources.shown(estate.statement(found.statement).origin),
                "parts": found.parts.iter().map(|part| shape.part(part)).collect::<Vec<_>>(),
            })).collect::<Vec<_>>(),
        })).collect::<Vec<_>>(),
        "near-misses": trace.near.iter().map(|miss| {
            let (attachment, what) = match &miss.shortfall {
                Shortfall::ToOthers { attachment, scope } => {
                    (Some(attachment), json!({ "attached-to-others-at": &*estate.scope(*scope).path }))
                }
                Shortfall::Elsewhere { attachment, scope, .. } => {
                    (Some(attachment), json!({ "attached-elsewhere-at": &*estate.scope(*scope).path }))
                }
                Shortfall::Unattached => (None, json!({ "attached": false })),
            };
            json!({
                "statement": estate.statement_label(miss.statement),
                "policy": &*estate.policy(miss.policy).name,
                "shortfall": what,
                "written": attachment.map(|id| sources.shown(estate.attachment(*id).origin)),
            })
        }).collect::<Vec<_>>(),
        "roles-that-help": trace.roles_that_help.iter()
            .map(|id| format!("role:{}", estate.role(*id).identity.name)).collect::<Vec<_>>(),
        "groups-that-help": trace.groups_that_help.iter()
            .map(|id| format!("group:{}", estate.group(*id).identity.name)).collect::<Vec<_>>(),
        "perhaps": trace.perhaps.iter().map(|who| estate.principal_id(*who)).collect::<Vec<_>>(),
        "role-stands-in-the-way": trace.role_stands_in_the_way,
        "not-given": trace.not_given().iter()
            .map(|reference| reference.written(&estate.attribute_names)).collect::<Vec<_>>(),
    })
}

fn truth(truth: Truth) -> &'static str {
    match truth {
        Truth::True => "true",
        Truth::False => "false",
        Truth::Undecided => "undecided",
    }
}

struct Shape<'a> {
    estate: &'a Estate,
    sources: &'a Sources,
    query: &'a Query<'a>,
    trace: &'a Trace,
}

impl Shape<'_> {
    fn finding(&self, finding: &Finding) -> Json {
        let estate = self.estate;
        let candidate = finding.candidate;
        let statement = estate.statement(candidate.statement);
        let mut route = vec![estate.principal_id(self.query.who)];
        if let Subject::One(_) = candidate.subject {
            let steps = self.trace.routes.to(candidate.subject).steps;
            route.extend(steps.iter().map(|step| estate.principal_id(step.into)));
        }
        json!({
            "statement": estate.statement_label(candidate.statement),
            "effect": statement.effect.word(),
            "truth": truth(finding.truth),
            "written": self.sources.shown(statement.origin),
            "policy": &*estate.policy(candidate.policy).name,
            "attached": {
                "to": phrases::subject(estate, candidate.subject),
                "at": &*estate.scope(candidate.scope).path,
                "levels-above": finding.distance,
                "written": self.sources.shown(estate.attachment(candidate.attachment).origin),
            },
            "route": route,
            "path": truth(finding.path),
            "parts": finding.parts.iter().map(|part| self.part(part)).collect::<Vec<_>>(),
            "braces": finding.braces.iter().map(|seen| self.seen(seen)).collect::<Vec<_>>(),
        })
    }

    fn part(&self, part: &Part) -> Json {
        json!({
            "text": part.text,
            "truth": truth(part.truth),
            "seen": part.seen.iter().map(|seen| self.seen(seen)).collect::<Vec<_>>(),
        })
    }

    fn seen(&self, seen: &Seen) -> Json {
        let name = seen.reference.written(&self.estate.attribute_names);
        match &seen.state {
            SeenState::Absent => json!({ "attribute": name, "state": "absent" }),
            SeenState::Unknown => json!({ "attribute": name, "state": "unknown" }),
            SeenState::Value(value, source) => json!({
                "attribute": name,
                "state": "known",
                "value": value_json(value),
                "from": match source {
                    Source::Request => "request".to_owned(),
                    Source::Item => "item".to_owned(),
                    Source::BuiltIn => "built-in".to_owned(),
                    Source::Scope(id) => self.estate.scope(*id).path.to_string(),
                    Source::Identity(principal) => self.estate.principal_id(*principal),
                },
            }),
        }
    }
}

/// An attribute's value as JSON; a time as a string.
pub(crate) fn value_json(value: &bexum_core::attribute::Value) -> Json {
    use bexum_core::attribute::Value;
    match value {
        Value::Text(text) => json!(&**text),
        Value::Integer(n) => json!(n),
        Value::Boolean(b) => json!(b),
        Value::Time(time) => json!(time.to_string()),
        Value::List(items) => Json::Array(items.iter().map(value_json).collect()),
    }
}
