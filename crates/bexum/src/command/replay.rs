//! `bexum replay`: requests in, answers out, line by line, in order, on all cores, in constant
//! memory.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::ops::Range;
use std::path::Path;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use anyhow::Context as _;
use bexum_core::engine::{Decider, Index};
use bexum_core::{Reason, Time, Trace};
use indicatif::{ProgressBar, ProgressStyle};

use crate::args::Replay;
use crate::exit::Exit;
use crate::stream;
use crate::wire::answer::Line;
use crate::wire::request::{self, LineId};

/// Longest line that is read, in bytes; a longer one is an error of that line.
const LINE_BYTES: usize = 16 << 20;
/// How much is read at a time, in bytes; a batch is about as large.
const BATCH_BYTES: usize = 128 << 10;
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
    let index = Index::new(&loaded.estate);
    let input = open(replay.file.as_deref())?;
    let progress = progress();
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get().min(MOST_THREADS));
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
            let (index, why) = (&index, replay.why);
            scope.spawn(move || {
                let mut decider = Decider::new(index);
                for batch in batches {
                    // When nobody waits for answers any more, neither does anybody for this.
                    if answers.send(batch.answer(&mut decider, now, why)).is_err() {
                        break;
                    }
                }
            });
        }
        let reader = scope.spawn(move || read_batches(input, &to_workers));
        write_answers(&from_workers, &mut tally, &progress)?;
        // The workers have ended, and so the reader has.
        match reader.join() {
            Ok(read) => read.context("cannot read the requests"),
            Err(panic) => std::panic::resume_unwind(panic),
        }
    })?;
    progress.finish_and_clear();
    stream::print_error(&tally.to_string());
    Ok(if replay.strict && tally.errors > 0 { Exit::Failed } else { Exit::Done })
}

/// Writes what the workers answer, in turn, until the first of them has no more.
fn write_answers(
    from_workers: &[Receiver<Answers>],
    tally: &mut Tally,
    progress: &ProgressBar,
) -> anyhow::Result<()> {
    let mut output = io::stdout().lock();
    for from_worker in from_workers.iter().cycle() {
        let Ok(answers) = from_worker.recv() else { break };
        output.write_all(&answers.text)?;
        output.flush()?;
        tally.add(&answers.tally);
        progress.set_position(tally.total());
    }
    Ok(())
}

/// Reads all lines; a batch is what can be had without waiting, so that whoever asks line by line
/// is answered line by line.
fn read_batches(input: Box<dyn Read + Send>, to_workers: &[SyncSender<Batch>]) -> io::Result<()> {
    let mut input = BufReader::with_capacity(BATCH_BYTES, input);
    let mut number = 0;
    for to_worker in to_workers.iter().cycle() {
        let mut batch = Batch::default();
        loop {
            number += 1;
            let start = batch.text.len();
            let line = match read_line(&mut input, &mut batch.text)? {
                Input::End => break,
                Input::Line => Some(start..batch.text.len()),
                Input::TooLong => None,
            };
            batch.lines.push((number, line));
            if input.buffer().is_empty() || batch.text.len() >= BATCH_BYTES {
                break;
            }
        }
        if batch.lines.is_empty() || to_worker.send(batch).is_err() {
            break;
        }
    }
    Ok(())
}

/// Lines to answer together.
#[derive(Debug, Default)]
struct Batch {
    text: Vec<u8>,
    /// The number of each line and where it is in the text; `None` for one that was too long.
    lines: Vec<(u64, Option<Range<usize>>)>,
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
        for (number, line) in &self.lines {
            let line = match line {
                None => {
                    answers.tally.errors += 1;
                    let error = format!("this line is longer than {LINE_BYTES} bytes");
                    Line::Error { id: line_number(*number), error }
                }
                Some(range) => {
                    let line = &self.text[range.clone()];
                    if line.iter().all(u8::is_ascii_whitespace) {
                        continue;
                    }
                    answer(decider, line, *number, now, why, &mut answers.tally)
                }
            };
            serde_json::to_writer(&mut answers.text, &line)
                .expect("strings and numbers always have a JSON form, and memory takes all");
            answers.text.push(b'\n');
        }
        answers
    }
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
    let query = match request.resolve(decider.index.estate) {
        Ok(query) => query,
        Err(fault) => return fail(id, fault.to_string()),
    };
    let (reason, why) = if why {
        let trace = Trace::of(decider, &query);
        let estate = decider.index.estate;
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

/// What [`read_line`] found.
enum Input {
    Line,
    TooLong,
    End,
}

/// Adds the next line, without its end, to `text`; of one that is too long, nothing.
fn read_line(input: &mut impl BufRead, text: &mut Vec<u8>) -> io::Result<Input> {
    let start = text.len();
    let mut too_long = false;
    let mut any = false;
    loop {
        let buffer = match input.fill_buf() {
            Ok(buffer) => buffer,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(error),
        };
        if buffer.is_empty() {
            break;
        }
        any = true;
        let end = memchr::memchr(b'\n', buffer);
        let taken = end.unwrap_or(buffer.len());
        if text.len() - start + taken > LINE_BYTES {
            too_long = true;
            text.truncate(start);
        }
        if !too_long {
            text.extend_from_slice(&buffer[..taken]);
        }
        input.consume(taken + usize::from(end.is_some()));
        if end.is_some() {
            break;
        }
    }
    Ok(match (any, too_long) {
        (false, _) => Input::End,
        (true, true) => Input::TooLong,
        (true, false) => Input::Line,
    })
}

/// A line that says how far it is, on a terminal only.
fn progress() -> ProgressBar {
    if !stream::is_watched() {
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
