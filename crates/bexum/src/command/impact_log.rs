//! `impact --log`: requests of a log that two estates decide otherwise.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read as _};
use std::path::{Path, PathBuf};

use anyhow::Context as _;
use bexum_core::engine::{Decider, Engine};
use bexum_core::{Reason, Request, RequestFault, Time, Verdict};
use bexum_wire::request;
use rayon::prelude::*;

use crate::command_line;
use crate::render::impact_besides::{InLog, LogGroup};

/// Lines that are read before they are decided, on all cores.
const LINES: usize = 16_384;
/// Lines that one thread decides together.
const TOGETHER: usize = 1_024;
/// Longest line that is read, in bytes; a longer one is no request.
const LINE_BYTES: u64 = 16 << 20;

/// What requests share that are told together: the verdicts, the action, and the place.
type Key = (Verdict, Verdict, String, String);

/// A request that is decided otherwise.
struct Otherwise {
    key: Key,
    line: u64,
    command: Option<String>,
}

/// Decides every request of these logs in both estates. The commands that are told ask the estate in
/// a folder, else the one around; there are none where no command reads the estate after.
pub(super) fn otherwise(
    files: &[PathBuf],
    engines: &[Engine; 2],
    asks: Option<Option<&Path>>,
    now: Time,
) -> anyhow::Result<InLog> {
    let mut told = InLog::default();
    let mut known: HashMap<(PathBuf, Key), usize> = HashMap::new();
    for file in files {
        let shown = || format!("cannot read `{}`", file.display());
        let mut input: Box<dyn BufRead> = match file == Path::new("-") {
            true => Box::new(io::stdin().lock()),
            false => Box::new(BufReader::new(File::open(file).with_context(shown)?)),
        };
        let mut first = 1;
        loop {
            let lines = read_lines(&mut *input).with_context(shown)?;
            if lines.is_empty() {
                break;
            }
            let parts: Vec<(usize, Vec<Otherwise>)> = lines
                .par_chunks(TOGETHER)
                .enumerate()
                .map(|(i, lines)| {
                    let first = first + (i * TOGETHER) as u64;
                    decide(engines, lines, first, asks, now)
                })
                .collect();
            told.requests += lines.iter().filter(|line| !is_blank(line)).count();
            for (errors, found) in parts {
                told.errors += errors;
                told.otherwise += found.len();
                for one in found {
                    let at = *known.entry((file.clone(), one.key.clone())).or_insert_with(|| {
                        let (before, after, action, place) = one.key;
                        let (file, line) = (file.display().to_string(), one.line);
                        let (command, count) = (one.command, 0);
                        told.groups.push(LogGroup {
                            before,
                            after,
                            action,
                            place,
                            count,
                            file,
                            line,
                            command,
                        });
                        told.groups.len() - 1
                    });
                    told.groups[at].count += 1;
                }
            }
            first += lines.len() as u64;
        }
    }
    told.groups.sort_by_key(|group| std::cmp::Reverse(group.count));
    Ok(told)
}

fn is_blank(line: &[u8]) -> bool {
    line.iter().all(u8::is_ascii_whitespace)
}

/// The next lines, without their ends; of one that is too long only the beginning.
fn read_lines(input: &mut dyn BufRead) -> io::Result<Vec<Vec<u8>>> {
    let mut lines = Vec::new();
    while lines.len() < LINES {
        let mut line = Vec::new();
        if input.take(LINE_BYTES).read_until(b'\n', &mut line)? == 0 {
            break;
        }
        let is_cut = line.last() != Some(&b'\n') && line.len() as u64 == LINE_BYTES;
        if is_cut {
            // The rest of it is passed over; what is kept is no JSON.
            let mut rest = Vec::new();
            while input.take(LINE_BYTES).read_until(b'\n', &mut rest)? > 0
                && rest.last() != Some(&b'\n')
            {
                rest.clear();
            }
        }
        lines.push(line);
    }
    Ok(lines)
}

/// How many of these lines are no request in either estate, and those that are decided otherwise.
fn decide(
    engines: &[Engine; 2],
    lines: &[Vec<u8>],
    first: u64,
    asks: Option<Option<&Path>>,
    now: Time,
) -> (usize, Vec<Otherwise>) {
    let mut deciders = engines.each_ref().map(|engine| Decider::new(engine));
    let (mut errors, mut found) = (0, Vec::new());
    for (number, line) in (first..).zip(lines) {
        if is_blank(line) {
            continue;
        }
        let parsed = std::str::from_utf8(line).ok().and_then(|text| request::parse(text, now).ok());
        let Some((_, request)) = parsed else {
            errors += 1;
            continue;
        };
        let [before, after] = [0, 1].map(|i| reason(&engines[i], &mut deciders[i], &request));
        if before.is_err() && after.is_err() {
            errors += 1;
            continue;
        }
        // What one estate does not have is denied there.
        let verdict = |reason: &Result<Reason, RequestFault>| {
            reason.as_ref().map_or(Verdict::Deny, |reason| reason.verdict())
        };
        let (before, after) = (verdict(&before), verdict(&after));
        if before == after {
            continue;
        }
        let nearest = engines.iter().rev().find_map(|engine| {
            let estate = engine.estate();
            estate.scopes.nearest(&request.on).map(|id| estate.scope(id).path.to_string())
        });
        let place = nearest.unwrap_or_else(|| request.on.to_string());
        let time = (request.time != now).then_some(request.time);
        found.push(Otherwise {
            key: (before, after, request.does.to_string(), place),
            line: number,
            command: asks.map(|folder| {
                let of = command_line::Of { folder, suppose: &[] };
                command_line::ask(of, &request, time)
            }),
        });
    }
    (errors, found)
}

fn reason(
    engine: &Engine,
    decider: &mut Decider<'_>,
    request: &Request<'_>,
) -> Result<Reason, RequestFault> {
    Ok(decider.decide(&request.resolve(engine.estate())?))
}
