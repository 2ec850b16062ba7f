//! `bexum replay`: requests in, answers out, line by line, in constant memory.

use std::fs::File;
use std::io::{self, BufRead, BufReader, BufWriter, Write};
use std::path::Path;

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
/// How often the progress line moves, in lines.
const TICK: u64 = 8192;

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
    let mut decider = Decider::new(&index);
    let mut input = open(replay.file.as_deref())?;
    let mut output = BufWriter::with_capacity(1 << 16, io::stdout().lock());
    let progress = progress();
    let mut tally = Tally::default();
    let mut line = Vec::new();
    let mut number: u64 = 0;
    loop {
        number += 1;
        let whole = match read_line(&mut *input, &mut line).context("cannot read the requests")? {
            Input::End => break,
            Input::Line => true,
            Input::TooLong => false,
        };
        if whole && line.iter().all(u8::is_ascii_whitespace) {
            continue;
        }
        let answer = if whole {
            answer(&mut decider, &line, number, now, replay.why, &mut tally)
        } else {
            tally.errors += 1;
            let error = format!("this line is longer than {LINE_BYTES} bytes");
            Line::Error { id: line_number(number), error }
        };
        serde_json::to_writer(&mut output, &answer).map_err(io::Error::from)?;
        output.write_all(b"\n")?;
        if number.is_multiple_of(TICK) {
            progress.set_position(number);
        }
    }
    output.flush()?;
    progress.finish_and_clear();
    stream::print_error(&tally.to_string());
    Ok(if replay.strict && tally.errors > 0 { Exit::Failed } else { Exit::Done })
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

fn open(file: Option<&Path>) -> anyhow::Result<Box<dyn BufRead>> {
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
            Ok(Box::new(BufReader::with_capacity(1 << 16, file)))
        }
        _ => Ok(Box::new(BufReader::with_capacity(1 << 16, io::stdin().lock()))),
    }
}

/// What [`read_line`] found.
enum Input {
    Line,
    TooLong,
    End,
}

/// The next line without its end; of one that is too long, nothing is kept.
fn read_line(input: &mut dyn BufRead, line: &mut Vec<u8>) -> io::Result<Input> {
    line.clear();
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
        if line.len() + taken > LINE_BYTES {
            too_long = true;
            line.clear();
        }
        if !too_long {
            line.extend_from_slice(&buffer[..taken]);
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

impl std::fmt::Display for Tally {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let total: u64 = self.reasons.iter().sum::<u64>() + self.errors;
        let requests = if total == 1 { "request" } else { "requests" };
        write!(f, "{total} {requests}:")?;
        for reason in Reason::ALL.into_iter().rev() {
            write!(f, " {} {reason},", self.reasons[reason as usize])?;
        }
        writeln!(f, " {} errors", self.errors)
    }
}
