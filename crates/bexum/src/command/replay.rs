//! `bexum replay`: requests in, answers out, line by line, in order, on all cores, in constant
//! memory.

use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, sync_channel};

use anyhow::Context as _;
use bexum_core::engine::{Decider, Engine};
use bexum_core::{Reason, Time, Trace};
use indicatif::{ProgressBar, ProgressStyle};

use super::lines::{self, Batch, Line, QUEUE, open, read_batches, too_long};
use crate::args::Replay;
use crate::exit::Exit;
use crate::terminal;
use bexum_wire::answer::Line as Answer;
use bexum_wire::request::{self, LineId};
use bexum_wire::scan::RawId;

/// How many answers there were of each sort.
#[derive(Debug, Default)]
struct Tally {
    reasons: [u64; Reason::ALL.len()],
    errors: u64,
}

pub(super) fn run(at: Option<&Path>, replay: &Replay) -> anyhow::Result<Exit> {
    let now = super::moment(replay.at_time.as_deref())?;
    let loaded = super::load(at)?;
    let engine = Engine::new(Arc::clone(&loaded.estate));
    let input = open(replay.file.as_deref())?;
    let progress = progress();
    let threads = lines::threads(replay.threads);
    let mut tally = Tally::default();
    std::thread::scope(|scope| -> anyhow::Result<()> {
        // Batches go round the workers in turn and their answers are fetched in the same turn, so
        // order keeps itself; the queues are short, so memory does too.
        let mut to_workers = Vec::with_capacity(threads);
        let mut from_workers = Vec::with_capacity(threads);
        for _ in 0..threads {
            let (to_worker, batches) = sync_channel::<Batch>(QUEUE);
            let (answers, from_worker) = sync_channel::<Answers>(QUEUE);
            to_workers.push(to_worker);
            from_workers.push(from_worker);
            let (engine, why) = (&engine, replay.why);
            scope.spawn(move || {
                let mut decider = Decider::new(engine);
                for batch in batches {
                    // When nobody waits for answers any more, neither does anybody for this.
                    if answers.send(Answers::to(&batch, &mut decider, now, why)).is_err() {
                        break;
                    }
                }
            });
        }
        let reader = scope.spawn(move || {
            let mut to_worker = to_workers.iter().cycle();
            let hand_out = |batch| to_worker.next().is_some_and(|one| one.send(batch).is_ok());
            read_batches(input, 0, hand_out)
        });
        write_answers(&from_workers, &mut tally, &progress, replay.strict)?;
        // The workers have ended, and so the reader has.
        match reader.join() {
            Ok(read) => read.context("cannot read the requests"),
            Err(panic) => std::panic::resume_unwind(panic),
        }
    })?;
    progress.finish_and_clear();
    terminal::print_error(&tally.to_string());
    Ok(if replay.strict && tally.errors > 0 { Exit::Failed } else { Exit::Done })
}

/// Writes what the workers answer, in turn, until the first of them has no more. A strict run goes
/// on counting when nobody reads its answers any more, for its exit code is about all of them.
fn write_answers(
    from_workers: &[Receiver<Answers>],
    tally: &mut Tally,
    progress: &ProgressBar,
    strict: bool,
) -> anyhow::Result<()> {
    let mut output = io::stdout().lock();
    let mut is_read = true;
    for from_worker in from_workers.iter().cycle() {
        let Ok(answers) = from_worker.recv() else { break };
        if is_read {
            match output.write_all(&answers.text).and_then(|()| output.flush()) {
                Err(error) if strict && error.kind() == io::ErrorKind::BrokenPipe => {
                    is_read = false;
                }
                written => written?,
            }
        }
        tally.add(&answers.tally);
        progress.set_position(tally.total());
    }
    Ok(())
}

/// The answers to a batch.
#[derive(Debug, Default)]
struct Answers {
    text: Vec<u8>,
    tally: Tally,
}

impl Answers {
    /// Those to a batch.
    fn to(batch: &Batch, decider: &mut Decider<'_>, now: Time, why: bool) -> Self {
        let mut answers = Self::default();
        let ends = Reason::ALL.map(end_of_answer);
        batch.each(decider, now, why, |decider, number, line| match line {
            Line::TooLong => {
                answers.tally.errors += 1;
                answers.write(&Answer::Error { id: line_number(number), error: too_long() });
            }
            Line::Common { id, query, .. } => {
                let reason = decider.decide(query);
                answers.tally.reasons[reason as usize] += 1;
                answers.write_common(id, number, &ends[reason as usize]);
            }
            Line::Other(line) => {
                let line = answer(decider, line, number, now, why, &mut answers.tally);
                answers.write(&line);
            }
        });
        answers
    }

    fn write(&mut self, line: &Answer) {
        serde_json::to_writer(&mut self.text, line)
            .expect("strings and numbers always have a JSON form, and memory takes all");
        self.text.push(b'\n');
    }

    /// Writes an answer without reasons, letter by letter; `end` is all after the `id`.
    fn write_common(&mut self, id: RawId<'_>, number: u64, end: &[u8]) {
        self.text.extend_from_slice(b"{\"id\":");
        match id {
            RawId::Text(text) => {
                // Nothing in it was escaped, so nothing needs to be.
                self.text.push(b'"');
                self.text.extend_from_slice(text.as_bytes());
                self.text.push(b'"');
            }
            RawId::Number(n) => {
                self.text.extend_from_slice(itoa::Buffer::new().format(n).as_bytes());
            }
            RawId::None => {
                self.text.extend_from_slice(itoa::Buffer::new().format(number).as_bytes());
            }
        }
        self.text.extend_from_slice(end);
    }
}

/// All of an answer after its `id`.
fn end_of_answer(reason: Reason) -> Vec<u8> {
    format!(",\"verdict\":\"{}\",\"reason\":\"{reason}\"}}\n", reason.verdict()).into_bytes()
}

fn answer(
    decider: &mut Decider<'_>,
    line: &[u8],
    number: u64,
    now: Time,
    why: bool,
    tally: &mut Tally,
) -> Answer {
    let mut fail = |id: Option<LineId>, error: String| {
        tally.errors += 1;
        Answer::Error { id: id.unwrap_or_else(|| line_number(number)), error }
    };
    let text = match std::str::from_utf8(line) {
        Ok(text) => text,
        Err(error) => return fail(None, format!("this line is not UTF-8: {error}")),
    };
    let (id, request) = match request::parse(text, now) {
        Ok(parsed) => parsed,
        Err(bad) => return fail(bad.id, bad.error),
    };
    let query = match request.resolve(decider.index.estate()) {
        Ok(query) => query,
        Err(fault) => return fail(id, fault.to_string()),
    };
    let (reason, why) = if why {
        let trace = Trace::of(decider, &query);
        let estate = decider.index.estate();
        let labels = trace.deciding().into_iter().map(|id| estate.statement_label(id)).collect();
        (trace.reason, Some(labels))
    } else {
        (decider.decide(&query), None)
    };
    tally.reasons[reason as usize] += 1;
    Answer::Answer {
        id: id.unwrap_or_else(|| line_number(number)),
        verdict: reason.verdict().word(),
        reason: reason.word(),
        why,
    }
}

fn line_number(number: u64) -> LineId {
    LineId::Number(i64::try_from(number).unwrap_or(i64::MAX))
}

/// A line that says how far it is, on a terminal only.
fn progress() -> ProgressBar {
    if !terminal::is_watched() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::new_spinner();
    // The template is a constant; were it wrong, the plain spinner would do.
    if let Ok(style) = ProgressStyle::with_template("{spinner} {human_pos} lines, {per_sec}") {
        bar.set_style(style);
    }
    bar
}

impl Tally {
    fn total(&self) -> u64 {
        self.reasons.iter().sum::<u64>() + self.errors
    }

    fn add(&mut self, other: &Self) {
        self.errors += other.errors;
        for (sum, more) in self.reasons.iter_mut().zip(other.reasons) {
            *sum += more;
        }
    }
}

impl std::fmt::Display for Tally {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let total = self.total();
        let requests = if total == 1 { "request" } else { "requests" };
        write!(f, "{total} {requests}:")?;
        for reason in Reason::ALL.into_iter().rev() {
            write!(f, " {} {reason},", self.reasons[reason as usize])?;
        }
        writeln!(f, " {} errors", self.errors)
    }
}
