//! `bexum replay`: requests in, answers out, line by line, in order, on all cores, in constant
//! memory.

use std::fs::File;
use std::io::{self, Read, Write};
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use anyhow::Context as _;
use bexum_core::engine::{Decider, Engine, RequestBatch};
use bexum_core::{Reason, Time, Trace};
use indicatif::{ProgressBar, ProgressStyle};

use crate::args::Replay;
use crate::exit::Exit;
use crate::terminal;
use bexum_wire::answer::Line;
use bexum_wire::request::{self, LineId};
use bexum_wire::scan::{RawId, Scanner};

/// Longest line that is read, in bytes; a longer one is an error of that line.
const LINE_BYTES: usize = 16 << 20;
/// How much is read at a time, in bytes; a batch is about as large.
const BATCH_BYTES: usize = 128 << 10;
/// Lines that are looked at together, so that their waits for memory overlap.
const TOGETHER: usize = 32;
/// Batches that wait for a worker, or for the writer.
const QUEUE: usize = 2;
/// More threads than this would only wait for the one that writes.
const MOST_THREADS: usize = 8;

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
    let cores = || std::thread::available_parallelism().map_or(1, |n| n.get().min(MOST_THREADS));
    let threads = replay.threads.map_or_else(cores, usize::from);
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
                    if answers.send(batch.answer(&mut decider, now, why)).is_err() {
                        break;
                    }
                }
            });
        }
        let reader = scope.spawn(move || read_batches(input, &to_workers));
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

/// Reads all lines; a batch is what can be had without waiting, so that whoever asks line by line
/// is answered line by line.
fn read_batches(
    mut input: Box<dyn Read + Send>,
    to_workers: &[SyncSender<Batch>],
) -> io::Result<()> {
    let mut to_worker = to_workers.iter().cycle();
    let mut batch = Batch { first: 1, ..Batch::default() };
    // Whether the line at hand is too long, and so is passed over up to its end.
    let mut passing = false;
    loop {
        let start = batch.text.len();
        batch.text.resize(start + BATCH_BYTES, 0);
        let read = match input.read(&mut batch.text[start..]) {
            Ok(read) => read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {
                batch.text.truncate(start);
                continue;
            }
            Err(error) => return Err(error),
        };
        batch.text.truncate(start + read);
        if read == 0 && batch.text.is_empty() && !passing {
            return Ok(());
        }
        if passing {
            let end = memchr::memchr(b'\n', &batch.text);
            batch.text.drain(..end.map_or(batch.text.len(), |end| end + 1));
            passing = end.is_none() && read > 0;
            if passing {
                continue;
            }
            batch.passed_over = true;
        }
        // Whole lines; the rest is the beginning of the next batch.
        let whole = match memchr::memrchr(b'\n', &batch.text) {
            Some(last) => last + 1,
            None if read == 0 => batch.text.len(),
            None if batch.passed_over => 0,
            None if batch.text.len() > LINE_BYTES => {
                batch.text.clear();
                passing = true;
                continue;
            }
            None => continue,
        };
        let rest = batch.text.split_off(whole);
        let lines = memchr::memchr_iter(b'\n', &batch.text).count() as u64;
        let next = batch.first + lines + u64::from(batch.passed_over);
        let full =
            std::mem::replace(&mut batch, Batch { text: rest, first: next, passed_over: false });
        // Nobody waits for answers any more when the queue is closed.
        if to_worker.next().is_none_or(|worker| worker.send(full).is_err()) || read == 0 {
            return Ok(());
        }
    }
}

/// Lines to answer together.
#[derive(Debug, Default)]
struct Batch {
    text: Vec<u8>,
    /// The number of the first line.
    first: u64,
    /// Whether the first line was too long; it is not in the text.
    passed_over: bool,
}

/// The answers to a batch.
#[derive(Debug, Default)]
struct Answers {
    text: Vec<u8>,
    tally: Tally,
}

impl Batch {
    fn answer(&self, decider: &mut Decider<'_>, now: Time, why: bool) -> Answers {
        let mut answers = Answers::default();
        let mut number = self.first;
        if self.passed_over {
            answers.tally.errors += 1;
            let error = format!("this line is longer than {LINE_BYTES} bytes");
            answers.write(&Line::Error { id: line_number(number), error });
            number += 1;
        }
        // Letters are looked at once for all lines together.
        let whole = std::str::from_utf8(&self.text).ok().filter(|_| !why);
        let ends = Reason::ALL.map(end_of_answer);
        let (mut scanner, mut batch) = (Scanner::default(), RequestBatch::default());
        if let Some(text) = whole {
            scanner.look_ahead(text);
        }
        // The lines at hand, those of `briefs` in their order, with their ids.
        let mut lines: Vec<(Range<usize>, Option<RawId<'_>>)> = Vec::with_capacity(TOGETHER);
        let mut start = 0;
        while start < self.text.len() {
            batch.clear();
            lines.clear();
            while start < self.text.len() && lines.len() < TOGETHER {
                let left = &self.text[start..];
                let length = memchr::memchr(b'\n', left).unwrap_or(left.len());
                let range = start..start + length;
                start = range.end + 1;
                // Both ends are beside a line's end, so at a character's border.
                let id = whole.and_then(|text| scanner.scan(&text[range.clone()], batch.add()));
                if whole.is_some() && id.is_none() {
                    batch.take_back();
                }
                lines.push((range, id));
            }
            batch.resolve(decider, now);
            let mut next = 0..;
            for (range, id) in lines.drain(..) {
                let common = id.and_then(|id| Some((id, batch.query(next.next()?)?)));
                if let Some((id, query)) = common {
                    let reason = decider.decide(query);
                    answers.tally.reasons[reason as usize] += 1;
                    answers.write_common(id, number, &ends[reason as usize]);
                } else {
                    let line = &self.text[range];
                    if !line.iter().all(u8::is_ascii_whitespace) {
                        let line = answer(decider, line, number, now, why, &mut answers.tally);
                        answers.write(&line);
                    }
                }
                number += 1;
            }
        }
        answers
    }
}

impl Answers {
    fn write(&mut self, line: &Line) {
        serde_json::to_writer(&mut self.text, line)
            .expect("strings and numbers always have a JSON form, and memory takes all");
        self.text.push(b'\n');
    }

    /// The same for an answer without reasons, letter by letter; `end` is all after the `id`.
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
) -> Line {
    let mut fail = |id: Option<LineId>, error: String| {
        tally.errors += 1;
        Line::Error { id: id.unwrap_or_else(|| line_number(number)), error }
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
    Line::Answer {
        id: id.unwrap_or_else(|| line_number(number)),
        verdict: reason.verdict().word(),
        reason: reason.word(),
        why,
    }
}

fn line_number(number: u64) -> LineId {
    LineId::Number(i64::try_from(number).unwrap_or(i64::MAX))
}

fn open(file: Option<&Path>) -> anyhow::Result<Box<dyn Read + Send>> {
    match file {
        Some(path) if path != Path::new("-") => {
            let file = File::open(path)
                .and_then(|file| {
                    if file.metadata()?.is_dir() {
                        return Err(io::ErrorKind::IsADirectory.into());
                    }
                    Ok(file)
                })
                .with_context(|| format!("cannot read `{}`", path.display()))?;
            Ok(Box::new(file))
        }
        _ => Ok(Box::new(io::stdin())),
    }
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
