//! `bexum trim`: less access that does all the same, and drafts of new policies.

use std::collections::BTreeSet;
use std::convert::Infallible;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context as _, bail};
use bexum_core::catalogue::{ActionSet, Level};
use bexum_core::edit::{Edit, Target};
use bexum_core::engine::{Decider, Engine};
use bexum_core::id::ActionId;
use bexum_core::reach::{Actors, Viewpoint};
use bexum_core::trim::{Aim, Log, Wanted, draft, trim};
use bexum_core::{Estate, Principal, RequestFault, Time};
use bexum_files::Loaded;
use bexum_wire::trim as wire;
use rayon::prelude::*;

use super::cores::Watched;
use super::edit;
use super::edit_line::bare;
use super::lines::{Batch, Decides, Errors, Line, read_with_care, share_out, threads, too_long};
use super::packed::open;
use super::reach::named_actions;
use crate::args::Format;
use crate::args::edit::{Edit as Edits, Supposed};
use crate::args::trim::Trim;
use crate::exit::Exit;
use crate::render::trim::{Shown, drafted};
use crate::terminal::{self, Helped};

/// Principals times scopes beyond which cells are not counted.
const MOST_TO_COUNT: usize = 20_000_000;

pub(super) fn run(at: Option<&Path>, typed: &Trim) -> anyhow::Result<Exit> {
    let now = super::moment(typed.at_time.as_deref())?;
    let (Loaded { estate, .. }, declared) =
        super::load_declared(at, &Supposed { suppose: Vec::new() })?;
    let engine = Engine::new(Arc::clone(&estate));
    if typed.write && typed.format == Format::Json {
        bail!(
            "`--format json` tells the edits alone: write them by `bexum edit --from FILE --write`"
        );
    }
    if let Some(name) = &typed.draft {
        return drafting(at, typed, &engine, name, now);
    }
    let things =
        typed.things.iter().map(|text| thing(&estate, text)).collect::<Result<Vec<_>, _>>()?;
    let keep = match typed.keep.is_empty() {
        true => ActionSet::with_capacity(estate.catalogue.actions.len()),
        false => named_actions(&estate, &typed.keep)?,
    };
    let (log, errors) = read(&typed.log, &engine, now)?;
    let watched = Watched::new("compared");
    let each = |count: usize, one: &(dyn Fn(usize) + Sync)| watched.on_all_cores(count, one);
    let aim = Aim { things: &things, keep, now };
    let trimmed = trim(&declared, &engine, &log, &aim, &each);
    drop(watched);
    let trimmed = trimmed?;
    let [before, after] = &trimmed.engines;
    let cells = cells(before, now).zip(cells(after, now)).map(|(before, after)| {
        let of = |(i, level): (usize, Level)| wire::Level {
            level: level.word().to_owned(),
            before: before[i],
            after: after[i],
        };
        Level::ALL.into_iter().enumerate().map(of).collect::<Vec<_>>()
    });
    let report = wire::Trim {
        version: bexum_wire::VERSION,
        requests: log.requests(),
        errors: errors.count,
        allowed: trimmed.asked_again,
        is_decided: trimmed.is_decided,
        not_decided: trimmed.not_decided,
        cells,
        edits: trimmed.edits.iter().map(ToString::to_string).collect(),
    };
    if typed.format == Format::Json {
        terminal::unless_gone(terminal::print_json(&report))?;
        return Ok(Exit::Done);
    }
    let first_error = errors
        .first
        .map(|((file, line), why)| format!("{}:{line}: {why}", typed.log[file].display()));
    let shown = Shown { report: &report, first_error: first_error.as_deref() };
    terminal::unless_gone(terminal::print(&shown.text(terminal::width())))?;
    make(at, typed, &trimmed.edits)
}

/// Shows the edits and what they do, and writes them if that was typed.
fn make(at: Option<&Path>, typed: &Trim, edits: &[Edit]) -> anyhow::Result<Exit> {
    if edits.is_empty() {
        return Ok(Exit::Done);
    }
    let how = Edits {
        at_time: typed.at_time.clone(),
        file: typed.file.clone(),
        full: typed.full,
        ..Edits::proposed(typed.write, typed.despite.clone())
    };
    edit::make_these(at, &how, edits)
}

/// Something that can be trimmed, by its name.
fn thing(estate: &Estate, text: &str) -> anyhow::Result<Target> {
    let target = match text.strip_prefix("resource:") {
        Some(path) => Target::Scope(None, path.to_owned()),
        None => Target::parse(text),
    };
    let is_there = match &target {
        Target::Policy(name) => estate.find_policy(name).is_some(),
        Target::Scope(_, path) => estate.find_principal(&format!("resource:{path}")).is_some(),
        named => estate.find_principal(&named.to_string()).is_some(),
    };
    if is_there {
        return Ok(target);
    }
    let names = estate
        .principals()
        .map(|who| estate.principal_id(who))
        .chain(estate.policies.iter().map(|policy| format!("policy:{}", policy.name)));
    let names: Vec<String> = names.collect();
    let near = bexum_core::name::nearest(text, names.iter().map(String::as_str));
    Err(Helped::error(
        format!("there is no `{text}` to be trimmed"),
        Some(match near {
            Some(near) => format!("did you mean `{near}`?"),
            None => "name a policy:, group:, role:, user: or resource:".to_owned(),
        }),
    ))
}

/// What reads a log.
struct Reader<'e> {
    decider: Decider<'e>,
    log: Log,
    errors: Errors,
}

impl<'e> Decides<'e> for Reader<'e> {
    fn decider(&mut self) -> &mut Decider<'e> {
        &mut self.decider
    }
}

impl Reader<'_> {
    fn see(&mut self, batch: &Batch, now: Time) {
        batch.each(self, now, false, |reader, number, line| match line {
            Line::TooLong => reader.errors.one((batch.file, number), too_long),
            Line::Common { query, .. } => reader.log.add(query),
            Line::Other(line) => {
                let estate = reader.decider.index.estate();
                let read = read_with_care(line, now, estate, |query, _, _| reader.log.add(query));
                if let Err(why) = read {
                    reader.errors.one((batch.file, number), || why);
                }
            }
        });
    }
}

/// Everything that logs ask for.
fn read(logs: &[PathBuf], engine: &Engine, now: Time) -> anyhow::Result<(Log, Errors)> {
    let bar = super::usage::bar_of(logs);
    let mut inputs = Vec::new();
    for (file, path) in logs.iter().enumerate() {
        let (input, is_summary) =
            open(path, &bar).with_context(|| format!("cannot read `{}`", path.display()))?;
        if is_summary {
            bail!(
                "`{}` is a summary, which no longer knows the requests: name the log",
                path.display()
            );
        }
        inputs.push((file, input));
    }
    let worker =
        || Reader { decider: engine.decider(), log: Log::new(engine), errors: Errors::default() };
    let parts = share_out(
        inputs,
        logs,
        threads(None),
        worker,
        |reader: &mut Reader<'_>, batch| reader.see(batch, now),
        |reader| (reader.log, reader.errors),
    )?;
    bar.finish_and_clear();
    let (mut log, mut errors) = (Log::new(engine), Errors::default());
    for (part, its_errors) in parts {
        log.merge(part);
        errors.add(its_errors);
    }
    Ok((log, errors))
}

/// How many cells are not denied at a moment, of all sessions of everybody, by level; nothing where that
/// is too much to count.
fn cells(engine: &Engine, now: Time) -> Option<[u64; Level::ALL.len()]> {
    let estate = engine.estate();
    let people: Vec<Principal> =
        estate.principals().filter(|who| !matches!(who, Principal::Group(_))).collect();
    if people.len().saturating_mul(estate.scopes.len()) > MOST_TO_COUNT {
        return None;
    }
    let all = ActionSet::all(estate.catalogue.actions.len());
    let sums = people.par_chunks(64).map(|people| {
        let mut sum = [0; Level::ALL.len()];
        let mut actors = Actors::new(engine, all.clone(), None);
        for who in people {
            let anybody = Viewpoint {
                who: *who,
                take_up: None,
                also: Vec::new(),
                under: Vec::new(),
                given: Vec::new(),
                time: now,
            };
            for session in actors.sessions(&anybody) {
                let Ok(()) = actors.each_cell::<Infallible>(&session, |_, cells| {
                    for action in cells.allow.ones().chain(cells.depends.ones()) {
                        sum[estate.catalogue.actions[action].level as usize] += 1;
                    }
                    Ok(())
                });
            }
        }
        sum
    });
    Some(sums.reduce(<[u64; Level::ALL.len()]>::default, |mut sum, more| {
        sum.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
        sum
    }))
}

/// A new policy that allows just what some people did, or what is named.
fn drafting(
    at: Option<&Path>,
    typed: &Trim,
    engine: &Engine,
    name: &str,
    now: Time,
) -> anyhow::Result<Exit> {
    let estate = engine.estate();
    let name = bare("policy", name)?;
    let mut by = Vec::new();
    for who in &typed.for_whom {
        by.push(
            estate
                .find_principal(who)
                .ok_or_else(|| super::with_hint(&RequestFault::Principal(who.clone()), estate))?,
        );
    }
    if typed.log.is_empty() && typed.requests.is_empty() && typed.actions.is_empty() {
        bail!("what is it to allow? Name a `--log`, `--requests`, or `--do` and `--at`");
    }
    let mut wanted: BTreeSet<Wanted> = BTreeSet::new();
    let (mut errors, mut first) = (0, None);
    let mut note = |names: &[PathBuf], more: Errors| {
        errors += more.count;
        if let (None, Some(((file, line), why))) = (&first, more.first) {
            first = Some(format!("{}:{line}: {why}", names[file].display()));
        }
    };
    if !typed.log.is_empty() {
        let (log, more) = read(&typed.log, engine, now)?;
        note(&typed.log, more);
        wanted.extend(log.wanted_by(engine, Some(&by), now, false));
    }
    if !typed.requests.is_empty() {
        let (log, more) = read(&typed.requests, engine, now)?;
        note(&typed.requests, more);
        wanted.extend(log.wanted_by(engine, None, now, true));
    }
    if !typed.actions.is_empty() {
        let actions = named_actions(estate, &typed.actions)?;
        for path in &typed.at {
            let path = path.trim_end_matches('/');
            let Some(scope) = estate.scopes.find(path) else {
                bail!("there is no scope `{path}`");
            };
            for action in actions.ones() {
                let action: ActionId = estate.catalogue.action_at(action);
                wanted.insert(Wanted { scope, below: true, action });
            }
        }
    }
    let about = format!("drafted for {}", typed.for_whom.join(", "));
    let draft = draft(estate, &name, &typed.for_whom, &wanted, Some(about))?;
    if typed.format == Format::Json {
        let report = wire::Draft {
            version: bexum_wire::VERSION,
            policy: format!("policy:{name}"),
            errors,
            edits: draft.edits.iter().map(ToString::to_string).collect(),
        };
        terminal::unless_gone(terminal::print_json(&report))?;
        return Ok(Exit::Done);
    }
    let text = drafted(estate, &name, &wanted, errors, first.as_deref(), terminal::width());
    terminal::unless_gone(terminal::print(&text))?;
    make(at, typed, &draft.edits)
}
