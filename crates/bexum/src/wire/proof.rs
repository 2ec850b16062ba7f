//! What came of expectations as JSON, version 1.

use std::borrow::Cow;

use bexum_core::attribute::Value;
use bexum_core::prove::{Counterexample, NotWorkedOut, Outcome};
use bexum_core::{Decider, Request, Time, Trace};
use serde_json::{Value as Json, json};

use super::answer;
use crate::render::proof::{Proof, Tried, overlapping};

/// The whole report.
pub(crate) fn whole(proof: &Proof<'_>) -> Json {
    let mut decider = Decider::new(proof.engine);
    let count = |status| proof.tried.iter().filter(|tried| tried.status() == status).count();
    json!({
        "version": answer::VERSION,
        "held": count("held"),
        "broken": count("broken"),
        "not-decided": count("not decided"),
        "expectations": proof.tried.iter().map(|tried| one(proof, &mut decider, tried)).collect::<Vec<_>>(),
    })
}

fn one(proof: &Proof<'_>, decider: &mut Decider<'_>, tried: &Tried<'_>) -> Json {
    let mut shape = json!({
        "table": tried.table(),
        "name": tried.name(),
        "written": proof.sources.shown(tried.origin()),
        "status": tried.status().replace(' ', "-"),
    });
    match tried {
        Tried::Check { check, requests, wrong } => {
            shape["requests"] = json!(requests);
            shape["expected"] = json!({
                "verdict": check.expect.word(),
                "reason": check.reason.map(|reason| reason.word()),
            });
            shape["wrong"] = wrong
                .iter()
                .map(|(request, _)| answered(proof, decider, request, check.time))
                .collect();
        }
        Tried::Law { outcome, coverage, others, .. } => match outcome {
            Outcome::Held => {
                shape["covered"] = json!({
                    "principals": coverage.principals,
                    "targets": coverage.targets,
                    "actions": coverage.actions,
                    "conditions": coverage.conditions,
                });
                shape["of-nothing"] = json!(coverage.is_empty());
            }
            Outcome::Broken(counterexample) => {
                let time = Some(counterexample.request.time);
                shape["broken-by"] = answered(proof, decider, &counterexample.request, time);
                if !others.is_empty() {
                    let everybody = others.iter().map(|counterexample: &Counterexample| {
                        let request = &counterexample.request;
                        let command = proof.command(request, Some(request.time));
                        json!({ "who": request.who, "ask": command })
                    });
                    shape["everybody"] = everybody.collect();
                }
            }
            Outcome::NotDecided(limit) => {
                shape["limit"] = match limit {
                    NotWorkedOut::Steps => json!({ "circumstances": "too many combinations" }),
                    NotWorkedOut::Values(attribute) => json!({ "attribute": attribute }),
                    NotWorkedOut::Items(path) => json!({ "items-of": path }),
                };
            }
        },
        Tried::Apart { overlaps, principals, .. } => {
            shape["covered"] = json!({ "principals": principals });
            shape["overlaps"] = overlaps
                .iter()
                .map(|overlap| {
                    json!({
                        "who": proof.estate.principal_id(overlap.who),
                        "time": overlap.time.to_string(),
                        "has": overlapping(proof, overlap),
                    })
                })
                .collect();
        }
    }
    shape
}

fn answered(
    proof: &Proof<'_>,
    decider: &mut Decider<'_>,
    request: &Request<'_>,
    time: Option<Time>,
) -> Json {
    let answer = request.resolve(proof.estate).ok().map(|query| {
        let trace = Trace::of(decider, &query);
        answer::whole(proof.estate, proof.sources, &query, &trace)
    });
    json!({
        "ask": proof.command(request, time),
        "request": asked(request, time),
        "answer": answer,
    })
}

/// A request as `replay` reads it, at `time` if it is not the present.
fn asked(request: &Request<'_>, time: Option<Time>) -> Json {
    let mut shape = json!({ "who": request.who, "does": request.does, "on": request.on });
    if let Some(role) = &request.take_up {
        shape["as"] = json!(role);
    }
    for (key, names) in [("also", &request.also), ("under", &request.under)] {
        if !names.is_empty() {
            shape[key] = json!(names);
        }
    }
    let mut given = circumstances(request);
    if let Some(time) = time {
        given["time"] = json!(time.to_string());
    }
    if given != json!({}) {
        shape["given"] = given;
    }
    if let Some(item) = &request.item {
        shape["item"] = nested(item.iter().map(|(name, value)| (name, Some(value))));
    }
    shape
}

/// Attributes by dotted names as tables in tables; one that is said to be absent is `null`.
/// What a request gives, as `given` has it in a request; absent is `null`.
pub(super) fn circumstances(request: &Request<'_>) -> Json {
    nested(request.given.iter().map(|(name, value)| (name, value.as_ref())))
}

fn nested<'v>(attributes: impl Iterator<Item = (&'v Cow<'v, str>, Option<&'v Value>)>) -> Json {
    let mut whole = json!({});
    for (name, value) in attributes {
        let mut at = &mut whole;
        for part in name.split('.') {
            at = &mut at[part];
        }
        *at = value.map_or(Json::Null, answer::value_json);
    }
    whole
}
