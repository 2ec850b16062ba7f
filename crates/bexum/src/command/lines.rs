//! The lines of logs: read in batches, handed out to threads, and read as requests many together.

use std::fs::File;
use std::io::{self, Read};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::mpsc::sync_channel;

use anyhow::Context as _;
use bexum_core::engine::{Decider, RequestBatch};
use bexum_core::{Estate, Query, Time, Verdict};
use bexum_wire::request;
use bexum_wire::scan::{RawId, Scanner};

/// Longest line that is read, in bytes; a longer one is an error of that line.
const LINE_BYTES: usize = 16 << 20;
/// How much is read at a time, in bytes; a batch is about as large.
const BATCH_BYTES: usize = 128 << 10;
/// Lines that are looked at together, so that their waits for memory overlap.
const TOGETHER: usize = 32;
/// Batches that wait for a worker, or for the writer.
pub(super) const QUEUE: usize = 2;
/// More threads than this would only wait for the one that writes.
const MOST_THREADS: usize = 8;

/// How many threads answer, where nothing says so.
pub(super) fn threads(typed: Option<u8>) -> usize {
    let cores = || std::thread::available_parallelism().map_or(1, |n| n.get().min(MOST_THREADS));
    typed.map_or_else(cores, usize::from)
}

/// Lines to answer together.
#[derive(Debug, Default)]
pub(super) struct Batch {
    text: Vec<u8>,
    /// Which of several files they stand in.
    pub(super) file: usize,
    /// The number of the first line.
    first: u64,
    /// Whether the first line was too long; it is not in the text.
    passed_over: bool,
}

/// A line, as it was read.
pub(super) enum Line<'l> {
    /// Longer than [`LINE_BYTES`].
    TooLong,
    /// One of the commonest form.
    Common {
        /// Its id.
        id: RawId<'l>,
        /// What was decided then.
        recorded: Option<Verdict>,
        /// What it asks.
        query: &'l Query<'l>,
        /// The line itself.
        text: &'l str,
    },
    /// One to be read with care, not blank.
    Other(&'l [u8]),
}

/// Who decides requests, perhaps with more to do for each.
pub(super) trait Decides<'e> {
    /// The one that decides.
    fn decider(&mut self) -> &mut Decider<'e>;
}

impl<'e> Decides<'e> for Decider<'e> {
    fn decider(&mut self) -> &mut Self {
        self
    }
}

impl Batch {
    /// Calls `each` for every line that is not blank, in order, with its number. With care, every
    /// line is [`Line::Other`].
    pub(super) fn each<'e, W: Decides<'e>>(
        &self,
        worker: &mut W,
        now: Time,
        with_care: bool,
        mut each: impl FnMut(&mut W, u64, Line<'_>),
    ) {
        let mut number = self.first;
        if self.passed_over {
            each(worker, number, Line::TooLong);
            number += 1;
        }
        // Letters are looked at once for all lines together.
        let whole = std::str::from_utf8(&self.text).ok().filter(|_| !with_care);
        let (mut scanner, mut batch) = (Scanner::default(), RequestBatch::default());
        if let Some(text) = whole {
            scanner.look_ahead(text);
        }
        // The lines at hand, those of the batch in their order, with their ids.
        type Read<'a> = (Range<usize>, Option<(RawId<'a>, Option<Verdict>)>);
        let mut lines: Vec<Read<'_>> = Vec::with_capacity(TOGETHER);
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
                lines.push((range, id.map(|id| (id, scanner.recorded()))));
            }
            batch.resolve(worker.decider(), now);
            let mut next = 0..;
            for (range, read) in lines.drain(..) {
                let common = read.and_then(|read| Some((read, batch.query(next.next()?)?, whole?)));
                if let Some(((id, recorded), query, whole)) = common {
                    let text = &whole[range];
                    each(worker, number, Line::Common { id, recorded, query, text });
                } else {
                    let line = &self.text[range];
                    if !line.iter().all(u8::is_ascii_whitespace) {
                        each(worker, number, Line::Other(line));
                    }
                }
                number += 1;
            }
        }
    }
}

/// Reads logs, each with its number among `names`, and shares their batches out among threads: each
/// makes a worker, has it see its batches, and hands out what that comes to.
pub(super) fn share_out<W, R: Send>(
    logs: Vec<(usize, Box<dyn Read + Send>)>,
    names: &[PathBuf],
    threads: usize,
    worker: impl Fn() -> W + Sync,
    see: impl Fn(&mut W, &Batch) + Sync,
    finish: impl Fn(W) -> R + Sync,
) -> anyhow::Result<Vec<R>> {
    std::thread::scope(|scope| {
        let (worker, see, finish) = (&worker, &see, &finish);
        let mut to_workers = Vec::with_capacity(threads);
        let mut workers = Vec::with_capacity(threads);
        for _ in 0..threads {
            let (to_worker, batches) = sync_channel::<Batch>(QUEUE);
            to_workers.push(to_worker);
            workers.push(scope.spawn(move || {
                let mut worker = worker();
                batches.into_iter().for_each(|batch| see(&mut worker, &batch));
                finish(worker)
            }));
        }
        let mut read = Ok(());
        let mut to_worker = to_workers.iter().cycle();
        for (file, input) in logs {
            let hand_out = |batch| to_worker.next().is_some_and(|one| one.send(batch).is_ok());
            read = read_batches(input, file, hand_out)
                .with_context(|| format!("cannot read `{}`", names[file].display()));
            if read.is_err() {
                break;
            }
        }
        drop(to_workers);
        let results = workers.into_iter().map(|worker| match worker.join() {
            Ok(counted) => counted,
            Err(panic) => std::panic::resume_unwind(panic),
        });
        let results = results.collect();
        read.map(|()| results)
    })
}

/// How many lines are no request, and the first of them: its file, its number, and why.
#[derive(Debug, Default)]
pub(super) struct Errors {
    pub(super) count: u64,
    pub(super) first: Option<((usize, u64), String)>,
}

impl Errors {
    /// One more.
    pub(super) fn one(&mut self, at: (usize, u64), why: impl FnOnce() -> String) {
        self.count += 1;
        if self.first.as_ref().is_none_or(|(first, _)| at < *first) {
            self.first = Some((at, why()));
        }
    }

    /// Adds what another thread counted.
    pub(super) fn add(&mut self, more: Self) {
        self.count += more.count;
        let both = self.first.take().into_iter().chain(more.first);
        self.first = both.min_by_key(|(at, _)| *at);
    }
}

/// Reads a line with care, and hands out the request.
pub(super) fn read_with_care(
    line: &[u8],
    now: Time,
    estate: &Estate,
    then: impl FnOnce(&Query<'_>, Option<Verdict>, &str),
) -> Result<(), String> {
    let text =
        std::str::from_utf8(line).map_err(|error| format!("this line is not UTF-8: {error}"))?;
    let (_, request, recorded) = request::parse_recorded(text, now).map_err(|bad| bad.error)?;
    let query = request.resolve(estate).map_err(|fault| fault.to_string())?;
    then(&query, recorded, text);
    Ok(())
}

/// What is told of a line that is longer than [`LINE_BYTES`].
pub(super) fn too_long() -> String {
    format!("this line is longer than {LINE_BYTES} bytes")
}

/// Reads all lines; a batch is what can be had without waiting, so that whoever asks line by line
/// is answered line by line.
///
/// `hand_out` says whether anybody still waits for batches.
pub(super) fn read_batches(
    mut input: Box<dyn Read + Send>,
    file: usize,
    mut hand_out: impl FnMut(Batch) -> bool,
) -> io::Result<()> {
    let mut batch = Batch { file, first: 1, ..Batch::default() };
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
        let after = Batch { text: rest, file, first: next, passed_over: false };
        if !hand_out(std::mem::replace(&mut batch, after)) || read == 0 {
            return Ok(());
        }
    }
}

/// A file, or standard input.
pub(super) fn open(file: Option<&Path>) -> anyhow::Result<Box<dyn Read + Send>> {
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
