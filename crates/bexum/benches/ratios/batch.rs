//! From the names of a request to its decision, on one core: many requests together, so that their
//! waiting for memory overlaps; one at a time by the same code, where no waiting does; and each by the
//! plain way that every other command takes. What the fast path is worth is the ratio of the two.

use std::hint::black_box;
use std::sync::Arc;

use bexum_core::attribute::Value;
use bexum_core::condition::fact::Scalar;
use bexum_core::engine::{BorrowedRequest, Decider, Engine, RequestBatch};
use bexum_core::{Estate, Request, Time};
use bexum_synth::{Layout, Size};
use serde_json::Value as Json;

use crate::decide::request;
use crate::measure::{in_turns, ratio};
use crate::{Platforms, tell};

const REQUESTS: usize = 100_000;
const ROUNDS: usize = 15;
/// As many as `replay` resolves together.
const TOGETHER: usize = 32;

pub(crate) fn run(platforms: &Platforms) {
    let folder = platforms.estate(Size::L, "L", Layout::default());
    let (_, declared) =
        bexum_files::read(&bexum_files::Folder(&folder)).expect("the estate is read");
    let estate = Arc::new(Estate::build(&declared).expect("the estate builds"));
    let text =
        std::fs::read_to_string(platforms.requests(Size::L, "L", REQUESTS)).expect("the requests");
    let lines: Vec<Json> =
        text.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    let requests: Vec<Request<'_>> = lines.iter().map(request).collect();
    let engine = Engine::new(Arc::clone(&estate));
    let [mut one, mut two, mut three] = [engine.decider(), engine.decider(), engine.decider()];
    let mut together = || in_batches(&mut one, &requests, TOGETHER);
    let mut by_itself = || in_batches(&mut two, &requests, 1);
    let mut plainly = || {
        for request in &requests {
            let query = request.resolve(&estate).expect("a request");
            black_box(three.decide(&query));
        }
    };
    let medians = in_turns(ROUNDS, &mut [&mut together, &mut by_itself, &mut plainly]);
    tell(&format!("from names to decisions, {REQUESTS} requests on L, one core"));
    tell(&format!("  {TOGETHER} together  {:.2?}", medians[0]));
    for (name, time) in [("one at a time", medians[1]), ("the plain way", medians[2])] {
        tell(&format!("  {name}  {time:.2?}  {:.2} times as long", ratio(time, medians[0])));
    }
}

fn in_batches(decider: &mut Decider<'_>, requests: &[Request<'_>], size: usize) {
    let mut batch = RequestBatch::default();
    for requests in requests.chunks(size) {
        batch.clear();
        requests.iter().for_each(|request| fill_in(request, batch.add()));
        batch.resolve(decider, Time(0));
        for i in 0..batch.len() {
            let query = batch.query(i).expect("a request in its commonest form");
            black_box(decider.decide(query));
        }
    }
}

fn fill_in<'r>(request: &'r Request<'_>, borrowed: &mut BorrowedRequest<'r>) {
    (borrowed.who, borrowed.does, borrowed.on) = (&request.who, &request.does, &request.on);
    borrowed.take_up = request.take_up.as_deref();
    borrowed.time = Some(request.time);
    borrowed.given.clear();
    borrowed.given.extend(request.given.iter().map(|(name, value)| {
        let value = value.as_ref().map(|value| match value {
            Value::Boolean(value) => Scalar::Boolean(*value),
            Value::Text(text) => Scalar::Text(text),
            other => unreachable!("made-up requests give no {other:?}"),
        });
        (&**name, value)
    }));
}
