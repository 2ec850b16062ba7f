//! Deciding, requests resolved already: against the naive evaluator, and against looking up the
//! three names of each.

use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bexum_core::naive::Naive;
use bexum_core::{Engine, Estate, Query, Request, Time};
use bexum_synth::{Layout, Size};
use rustc_hash::FxHashMap;
use serde_json::Value as Json;

use crate::measure::in_turns;
use crate::{Platforms, tell};

const REQUESTS: usize = 20_000;
const ROUNDS: usize = 15;
/// The naive evaluator is asked so many, spread over all.
const NAIVE: usize = 24;

pub(crate) fn run(platforms: &Platforms) {
    tell("deciding, per request  engine  names alone   ratio      naive   ratio");
    let mut per_request = Vec::new();
    for (name, size) in [("S", Size::S), ("M", Size::M), ("L", Size::L)] {
        let folder = platforms.estate(size, name, Layout::default());
        let (_, declared) =
            bexum_files::read(&bexum_files::Folder(&folder)).expect("the estate is read");
        let estate = Arc::new(Estate::build(&declared).expect("the estate builds"));
        let text = std::fs::read_to_string(platforms.requests(size, name, REQUESTS))
            .expect("the requests");
        let lines: Vec<Json> =
            text.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
        let requests: Vec<Request<'_>> = lines.iter().map(request).collect();
        let queries: Vec<Query<'_>> =
            requests.iter().map(|r| r.resolve(&estate).expect("a request")).collect();

        let owned = Engine::new(Arc::clone(&estate));
        let mut decider = owned.decider();
        let names = Names::new(&estate);
        let mut engine = || {
            for query in &queries {
                black_box(decider.decide(black_box(query)));
            }
        };
        let paths: Vec<&str> =
            queries.iter().map(|query| &*estate.scope(query.target.scope()).path).collect();
        let mut floor = || {
            for (request, path) in requests.iter().zip(&paths) {
                black_box(names.look_up(&request.who, &request.does, path));
            }
        };
        let medians = in_turns(ROUNDS, &mut [&mut engine, &mut floor]);
        let each = |time: Duration| time.as_nanos() as f64 / REQUESTS as f64;
        let (engine, floor) = (each(medians[0]), each(medians[1]));

        let naive = Naive::new(&declared);
        let start = Instant::now();
        for request in requests.iter().step_by(REQUESTS / NAIVE) {
            black_box(naive.decide(request));
        }
        let naive = start.elapsed().as_nanos() as f64 / NAIVE as f64;
        tell(&format!(
            "{name:<22}  {engine:>4.0} ns  {floor:>8.0} ns  {:>6.2}  {:>6.1} µs  {:>6.0}",
            engine / floor,
            naive / 1000.0,
            naive / engine,
        ));
        per_request.push(engine);
    }
    tell(&format!("a decision on L takes {:.2} times one on S", per_request[2] / per_request[0]));
}

/// Names to numbers, as any program would look them up.
struct Names {
    principals: FxHashMap<String, usize>,
    actions: FxHashMap<String, usize>,
    paths: FxHashMap<String, usize>,
}

impl Names {
    fn new(estate: &Estate) -> Self {
        let numbered =
            |names: Vec<String>| names.into_iter().enumerate().map(|(i, n)| (n, i)).collect();
        Self {
            principals: numbered(estate.principals().map(|p| estate.principal_id(p)).collect()),
            actions: numbered(
                estate.catalogue.actions.iter().map(|a| a.name.to_string()).collect(),
            ),
            paths: numbered(estate.scopes.iter().map(|(_, s)| s.path.to_string()).collect()),
        }
    }

    fn look_up(&self, who: &str, does: &str, on: &str) -> Option<(usize, usize, usize)> {
        Some((*self.principals.get(who)?, *self.actions.get(does)?, *self.paths.get(on)?))
    }
}

/// A made-up request.
pub(crate) fn request(line: &Json) -> Request<'_> {
    use bexum_core::attribute::Value;
    let text = |key: &str| line[key].as_str().expect("a string");
    let given = &line["given"];
    let time = Time::parse(given["time"].as_str().expect("a time")).expect("a time");
    let mut request = Request::new(text("who"), text("does"), text("on"), time);
    request.take_up = line["as"].as_str().map(Into::into);
    request.given = vec![
        ("mfa".into(), given["mfa"].as_bool().map(Value::Boolean)),
        ("ip".into(), given["ip"].as_str().map(|ip| Value::Text(ip.into()))),
    ];
    request
}
