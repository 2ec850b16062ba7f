//! `bexum usage`: what logs used.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufReader, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context as _, bail};
use bexum_core::catalogue::ActionSet;
use bexum_core::engine::{Decider, Engine};
use bexum_core::request::resolve_target;
use bexum_core::usage::{self, Asking, By, Counter};
use bexum_core::{Estate, Principal, Query, RequestFault, Time, Verdict};
use bexum_wire::request;
use bexum_wire::usage::{BadLine, Day, Otherwise, Report, Row, State, Summary, Thing, counts};
use indicatif::ProgressBar;
use rustc_hash::{FxHashMap, FxHashSet};

use super::edit_line::length_of;
use super::lines::{self, Batch, Decides, Errors, Line, read_with_care, share_out, too_long};
use super::packed::open;
use super::reach::named_actions;
use super::save::replace_file;
use crate::args::usage::{Usage, UsageFormat};
use crate::command_line;
use crate::exit::Exit;
use crate::render::usage::{Shown, csv};
use crate::terminal;

/// Microseconds of a day.
const DAY: i64 = 86_400_000_000;

pub(super) fn run(at: Option<&Path>, typed: &Usage) -> anyhow::Result<Exit> {
    let now = super::moment(typed.at_time.as_deref())?;
    let idle_since = Time((now.0 - length_of(&typed.idle)?).max(Time::EARLIEST.0));
    let loaded = super::load(at)?;
    let engine = Engine::new(Arc::clone(&loaded.estate));
    let narrow = Narrow::of(typed, &loaded.estate)?;
    let bar = bar_of(&typed.logs);
    let counted = Counting { engine: &engine, narrow: &narrow, folder: at, now, bar: &bar };
    let summary = counted.all(&typed.logs, typed.threads);
    bar.finish_and_clear();
    let summary = summary?;
    if let Some(file) = &typed.save {
        let text = serde_json::to_string(&summary)? + "\n";
        replace_file(file, text.as_bytes())?;
    }
    let sorts: Vec<By> = typed.by.map_or(By::ALL.to_vec(), |by| vec![by.into()]);
    let rows = rows(&summary, &engine, &sorts, narrow.is_narrow().then_some(&narrow), idle_since)?;
    let report = Report {
        version: bexum_wire::VERSION,
        idle_since: idle_since.to_string(),
        reasons: summary.reasons.clone(),
        errors: summary.errors,
        first_error: summary.first_error.clone(),
        days: summary.days.clone(),
        rows,
        otherwise: summary.otherwise.clone(),
    };
    let shown = Shown { report: &report, summary: &summary, typed, is_narrow: narrow.is_narrow() };
    terminal::unless_gone(match typed.format {
        UsageFormat::Text => terminal::print(&shown.text(terminal::width())),
        UsageFormat::Json => terminal::print_json(&report),
        UsageFormat::Csv => terminal::print_exactly(&csv(&report.rows)?),
        UsageFormat::Html => terminal::print_exactly(shown.page()?.as_bytes()),
    })?;
    Ok(if typed.strict && summary.errors > 0 { Exit::Failed } else { Exit::Done })
}

/// Which requests are looked at.
#[derive(Debug, Default)]
struct Narrow {
    who: Option<FxHashSet<Principal>>,
    actions: Option<ActionSet>,
    path: Option<String>,
}

impl Narrow {
    fn of(typed: &Usage, estate: &Estate) -> anyhow::Result<Self> {
        let mut narrow = Self::default();
        for name in &typed.who {
            let who = estate
                .find_principal(name)
                .ok_or_else(|| super::with_hint(&RequestFault::Principal(name.clone()), estate))?;
            narrow.who.get_or_insert_default().insert(who);
        }
        if !typed.action.is_empty() {
            narrow.actions = Some(named_actions(estate, &typed.action)?);
        }
        if let Some(path) = &typed.path {
            let path = path.trim_end_matches('/');
            resolve_target(estate, path).map_err(|fault| super::with_hint(&fault, estate))?;
            narrow.path = Some(path.to_owned());
        }
        Ok(narrow)
    }

    fn is_narrow(&self) -> bool {
        self.who.is_some() || self.actions.is_some() || self.path.is_some()
    }

    fn takes(&self, query: &Query<'_>) -> bool {
        let below = |path: &String| {
            query
                .target
                .path
                .strip_prefix(path.as_str())
                .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        self.who.as_ref().is_none_or(|all| all.contains(&query.who))
            && self.actions.as_ref().is_none_or(|all| all.contains(query.action.index()))
            && self.path.as_ref().is_none_or(below)
    }
}

/// What logs are counted with.
#[derive(Clone, Copy)]
struct Counting<'c> {
    engine: &'c Engine,
    narrow: &'c Narrow,
    folder: Option<&'c Path>,
    now: Time,
    bar: &'c ProgressBar,
}

/// What a difference is told by: what was recorded, what is decided now, the action and the place.
type Key = (Verdict, Verdict, String, String);

/// Requests of one key: how many, and of the first its file, line, and the command that asks it.
struct Differing {
    count: u64,
    first: (usize, u64),
    command: String,
}

/// One thread's share.
struct Worker<'c> {
    counting: Counting<'c>,
    counter: Counter<'c>,
    /// Allowed and refused, by the number of the day.
    days: FxHashMap<i64, (u64, u64)>,
    errors: Errors,
    otherwise: BTreeMap<Key, Differing>,
}

impl<'c> Decides<'c> for Worker<'c> {
    fn decider(&mut self) -> &mut Decider<'c> {
        self.counter.decider()
    }
}

impl<'c> Counting<'c> {
    fn worker(self, asking: &Asking) -> Worker<'c> {
        Worker {
            counting: self,
            counter: Counter::new(self.engine, asking),
            days: FxHashMap::default(),
            errors: Errors::default(),
            otherwise: BTreeMap::new(),
        }
    }

    /// Counts everything in these files.
    fn all(self, logs: &[PathBuf], threads: Option<u8>) -> anyhow::Result<Summary> {
        let mut summary = Summary { usage_summary: bexum_wire::VERSION, ..Summary::default() };
        let mut inputs = Vec::new();
        for (file, path) in logs.iter().enumerate() {
            let (input, is_summary) = open(path, self.bar)
                .with_context(|| format!("cannot read `{}`", path.display()))?;
            if !is_summary {
                inputs.push((file, input));
                continue;
            }
            if self.narrow.is_narrow() {
                bail!(
                    "`{}` is a summary, which no longer knows who asked what where: name the log instead, or leave out `--who`, `--do` and `--at`",
                    path.display()
                );
            }
            let wrong = || format!("`{}` is no summary that this program reads", path.display());
            let part: Summary =
                serde_json::from_reader(BufReader::new(input)).with_context(wrong)?;
            if part.usage_summary != bexum_wire::VERSION {
                bail!(
                    "`{}` is a summary of version {}, and this program reads version {}",
                    path.display(),
                    part.usage_summary,
                    bexum_wire::VERSION
                );
            }
            summary.add(part).map_err(anyhow::Error::msg).with_context(wrong)?;
        }
        if !inputs.is_empty() {
            let counted = self.logs(inputs, logs, lines::threads(threads))?;
            summary.add(counted).map_err(anyhow::Error::msg)?;
        }
        Ok(summary)
    }

    /// Counts logs, on several threads: batches go round in turn.
    fn logs(
        self,
        inputs: Vec<(usize, Box<dyn Read + Send>)>,
        names: &[PathBuf],
        threads: usize,
    ) -> anyhow::Result<Summary> {
        let asking = Asking::of(self.engine);
        let worker = || self.worker(&asking);
        let finish = |one: Worker<'_>| (one.counter.finish(), one.days, one.errors, one.otherwise);
        let parts = share_out(inputs, names, threads, worker, Worker::count, finish)?;
        let mut usage = usage::Usage::default();
        let (mut days, mut errors) = (FxHashMap::default(), Errors::default());
        let mut otherwise = BTreeMap::new();
        for (part, its_days, its_errors, its_otherwise) in parts {
            usage.add(part);
            errors.add(its_errors);
            for (day, (allowed, refused)) in its_days {
                let sum: &mut (u64, u64) = days.entry(day).or_default();
                sum.0 += allowed;
                sum.1 += refused;
            }
            for (key, more) in its_otherwise {
                merge(&mut otherwise, key, more);
            }
        }
        let mut summary = Summary::of(&usage, self.engine.estate());
        summary.errors = errors.count;
        summary.first_error = errors.first.map(|((file, line), why)| {
            let file = names[file].display().to_string();
            BadLine { file, line, why }
        });
        for (day, (allowed, refused)) in days {
            let text = Time(day * DAY).to_string();
            let day = text.split('T').next().unwrap_or_default().to_owned();
            summary.days.insert(day, Day { allowed, refused });
        }
        summary.otherwise = told(otherwise, names);
        Ok(summary)
    }
}

/// What logs used, by the things of the estate; with how many of their lines are no request.
pub(super) fn used(
    engine: &Engine,
    logs: &[PathBuf],
    now: Time,
) -> anyhow::Result<(usage::Usage, u64)> {
    let bar = bar_of(logs);
    let mut inputs = Vec::new();
    for (file, path) in logs.iter().enumerate() {
        let (input, is_summary) =
            open(path, &bar).with_context(|| format!("cannot read `{}`", path.display()))?;
        if is_summary {
            bail!(
                "`{}` is a summary, and names things of another day: name the log",
                path.display()
            );
        }
        inputs.push((file, input));
    }
    let narrow = Narrow::default();
    let counting = Counting { engine, narrow: &narrow, folder: None, now, bar: &bar };
    let asking = Asking::of(engine);
    let worker = || counting.worker(&asking);
    let finish = |one: Worker<'_>| (one.counter.finish(), one.errors.count);
    let parts = share_out(inputs, logs, lines::threads(None), worker, Worker::count, finish)?;
    bar.finish_and_clear();
    let (mut sum, mut errors) = (usage::Usage::default(), 0);
    for (part, more) in parts {
        sum.add(part);
        errors += more;
    }
    Ok((sum, errors))
}

/// What differs, those first that do most often.
fn told(otherwise: BTreeMap<Key, Differing>, names: &[PathBuf]) -> Vec<Otherwise> {
    let told = |((recorded, now, action, at), one): (Key, Differing)| Otherwise {
        recorded: recorded.to_string(),
        now: now.to_string(),
        action,
        at,
        count: one.count,
        file: names[one.first.0].display().to_string(),
        line: one.first.1,
        command: one.command,
    };
    let mut all: Vec<Otherwise> = otherwise.into_iter().map(told).collect();
    all.sort_by_key(|one| std::cmp::Reverse(one.count));
    all
}

fn merge(all: &mut BTreeMap<Key, Differing>, key: Key, more: Differing) {
    match all.get_mut(&key) {
        Some(one) => {
            one.count += more.count;
            if more.first < one.first {
                (one.first, one.command) = (more.first, more.command);
            }
        }
        None => {
            all.insert(key, more);
        }
    }
}

impl Worker<'_> {
    fn count(&mut self, batch: &Batch) {
        let now = self.counting.now;
        batch.each(self, now, false, |worker, number, line| match line {
            Line::TooLong => worker.errors.one((batch.file, number), too_long),
            Line::Common { recorded, query, text, .. } => {
                worker.request(query, recorded, (batch.file, number), text);
            }
            Line::Other(line) => {
                let (at, estate) = ((batch.file, number), worker.counting.engine.estate());
                let read = read_with_care(line, now, estate, |query, recorded, text| {
                    worker.request(query, recorded, at, text);
                });
                if let Err(why) = read {
                    worker.errors.one(at, || why);
                }
            }
        });
    }

    fn request(
        &mut self,
        query: &Query<'_>,
        recorded: Option<Verdict>,
        line: (usize, u64),
        text: &str,
    ) {
        if !self.counting.narrow.takes(query) {
            return;
        }
        let verdict = self.counter.count(query).verdict();
        let (allowed, refused) = self.days.entry(query.time.0.div_euclid(DAY)).or_default();
        match verdict {
            Verdict::Allow => *allowed += 1,
            Verdict::Deny => *refused += 1,
        }
        let Some(recorded) = recorded.filter(|recorded| *recorded != verdict) else { return };
        let estate = self.counting.engine.estate();
        let place = estate.scope(query.target.scope()).path.to_string();
        let action = estate.catalogue.action(query.action).name.to_string();
        let key = (recorded, verdict, action, place);
        if let Some(known) = self.otherwise.get_mut(&key)
            && known.first < line
        {
            known.count += 1;
            return;
        }
        let Ok((_, request)) = request::parse(text, self.counting.now) else { return };
        let time = (request.time != self.counting.now).then_some(request.time);
        let of = command_line::Of { folder: self.counting.folder, suppose: &[] };
        let command = command_line::ask(of, &request, time);
        merge(&mut self.otherwise, key, Differing { count: 1, first: line, command });
    }
}

/// Everything of these sorts: most used first, then what is idle, then what was never used.
fn rows(
    summary: &Summary,
    engine: &Engine,
    sorts: &[By],
    narrow: Option<&Narrow>,
    idle_since: Time,
) -> anyhow::Result<Vec<Row>> {
    let used = counts(&summary.used).map_err(anyhow::Error::msg)?;
    let refused = counts(&summary.refused).map_err(anyhow::Error::msg)?;
    let mut rows = Vec::new();
    for by in sorts {
        let there: BTreeSet<Thing> = usage::things(engine, *by)
            .iter()
            .map(|thing| Thing::of(thing, engine.estate()))
            .collect();
        // Of a few requests it means nothing that something was not used.
        let all = there.iter().filter(|_| narrow.is_none());
        let met = used.keys().chain(refused.keys()).filter(|thing| thing.by() == *by);
        let all: BTreeSet<&Thing> = all.chain(met).collect();
        let mut of_sort: Vec<(State, Option<Time>, Row)> = all
            .into_iter()
            .map(|thing| {
                let count = used.get(thing);
                let state = match count {
                    None => State::Never,
                    Some(count) if count.last < idle_since => State::Idle,
                    Some(_) => State::Used,
                };
                let row = Row {
                    state,
                    times: count.map_or(0, |count| count.times),
                    refused: refused.get(thing).map_or(0, |count| count.times),
                    first: count.map(|count| count.first.to_string()),
                    last: count.map(|count| count.last.to_string()),
                    // Who asked need not be among those that are listed when nobody asks.
                    is_there: there.contains(thing) || *by == By::Who,
                    thing: thing.clone(),
                };
                (state, count.map(|count| count.last), row)
            })
            .collect();
        of_sort.sort_by(|(state, last, row), (other_state, other_last, other)| {
            state.cmp(other_state).then_with(|| match state {
                State::Used => other.times.cmp(&row.times),
                State::Idle => last.cmp(other_last),
                State::Never => row.thing.cmp(&other.thing),
            })
        });
        rows.extend(of_sort.into_iter().map(|(.., row)| row));
    }
    Ok(rows)
}

/// Writes a summary where none can be seen half-written.
/// How many bytes there are to read, where that can be told.
pub(super) fn bar_of(logs: &[PathBuf]) -> ProgressBar {
    let length = |path: &PathBuf| {
        let about = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file);
        about.map(|about| about.len())
    };
    let lengths: Option<u64> = logs.iter().map(length).sum();
    terminal::progress_of_bytes(lengths)
}
