//! Subcommands: load, compute, hand to rendering.

mod ask;
mod by;
mod circumstances;
mod claims;
pub(crate) mod complete;
mod cores;
mod demo;
mod edit;
mod edit_line;
mod export;
mod impact;
mod impact_log;
mod import;
mod init;
mod lines;
mod manual;
mod packed;
mod prove;
mod reach;
mod replay;
mod review;
mod save;
mod show;
mod token;
mod trim;
mod turned;
mod usage;
mod vet;
mod ways;
mod weigh;

use std::mem::ManuallyDrop;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context as _, bail};
use bexum_core::{Declarations, Estate, RequestFault, Time};
use bexum_files::{Failure, Folder, Loaded};
use bexum_wire::faults::Faults;

use crate::args::claims::ClaimsFormat;
use crate::args::edit::Supposed;
use crate::args::import::ExportFormat;
use crate::args::review::ReviewFormat;
use crate::args::usage::UsageFormat;
use crate::args::vet::VetFormat;
use crate::args::{Args, Command, Format, ImpactFormat, ProofFormat, ReachFormat, ShowFormat};
use crate::exit::Exit;
use crate::terminal::{self, Helped};

/// Runs what was asked for. Who asks for JSON is told in JSON, too, why an estate does not load.
pub(crate) fn run(args: Args) -> anyhow::Result<Exit> {
    let for_machines = match &args.command {
        Command::Ask(typed) => typed.format == Format::Json,
        Command::Ways(typed) => typed.format == Format::Json,
        Command::Reach(typed) => typed.format == ReachFormat::Json,
        Command::Impact(typed) => typed.format == ImpactFormat::Json,
        Command::Edit(typed) => typed.format == Format::Json,
        Command::Vet(typed) => typed.format == VetFormat::Json,
        Command::Usage(typed) => typed.format == UsageFormat::Json,
        Command::Trim(typed) => typed.format == Format::Json,
        Command::Claims(typed) => typed.format == ClaimsFormat::Json,
        Command::Import(typed) => typed.format == Format::Json,
        Command::Export(typed) => typed.format != ExportFormat::Csv,
        Command::Review(typed) => typed.format == ReviewFormat::Json,
        Command::Prove(typed) => typed.format == ProofFormat::Json,
        Command::Show(typed) => typed.format == ShowFormat::Json,
        _ => false,
    };
    let run = dispatch(args);
    if let Err(error) = &run
        && for_machines
        && let Some(failure) = error.downcast_ref::<Failure>()
    {
        // Whoever went away misses it; the run has failed in any case.
        terminal::unless_gone(terminal::print_json(&Faults::of(failure)))?;
    }
    run
}

fn dispatch(args: Args) -> anyhow::Result<Exit> {
    let at = args.estate.as_deref();
    match args.command {
        Command::Ask(ask) => ask::run(at, ask),
        Command::Ways(typed) => ways::run(at, &typed),
        Command::Reach(reach) => reach::run(at, &reach),
        Command::Impact(typed) => impact::run(at, &typed),
        Command::Edit(typed) => edit::run(at, *typed),
        Command::Vet(typed) => vet::run(at, &typed),
        Command::Usage(typed) => usage::run(at, &typed),
        Command::Trim(typed) => trim::run(at, &typed),
        Command::Review(typed) => review::run(at, &typed),
        Command::Claims(typed) => claims::run(at, &typed),
        Command::Import(typed) => import::run(at, &typed),
        Command::Export(typed) => export::run(at, &typed),
        Command::Prove(typed) => prove::run(at, &typed),
        Command::Replay(replay) => replay::run(at, &replay),
        Command::Show(show) => show::run(at, &show),
        Command::Demo(demo) => demo::run(demo.dir),
        Command::Init(init) => init::run(init.dir),
        Command::Completions { shell } => manual::completions(shell),
        Command::Words { line } => complete::run(line),
        Command::Man { command } => manual::man(command.as_deref()),
    }
}

/// Loads the estate that is named, or the one that the current folder belongs to.
fn load(at: Option<&Path>) -> anyhow::Result<Loaded> {
    bexum_files::load(&root(at)?).map_err(|failure| anyhow::Error::new(*failure))
}

/// Loads the estate and makes some edits in memory.
fn load_supposed(at: Option<&Path>, supposed: &Supposed) -> anyhow::Result<Loaded> {
    match supposed.suppose.is_empty() {
        true => load(at),
        false => edit::supposed(&root(at)?, &supposed.suppose).map(|(loaded, _)| loaded),
    }
}

/// Loads the estate with what it declares. The run ends with both: they are not taken down piece by piece,
/// which takes a while where they are large.
fn load_declared(
    at: Option<&Path>,
    supposed: &Supposed,
) -> anyhow::Result<(Loaded, ManuallyDrop<Declarations>)> {
    let root = root(at)?;
    let (loaded, declared) = match supposed.suppose.is_empty() {
        true => bexum_files::load_declared(&Folder(&root), None)
            .map_err(|failure| anyhow::Error::new(*failure))?,
        false => edit::supposed(&root, &supposed.suppose)?,
    };
    std::mem::forget(Arc::clone(&loaded.estate));
    Ok((loaded, ManuallyDrop::new(declared)))
}

/// The folder that is named, or the one that the current folder belongs to; what an edit left undone
/// there is finished first.
fn root(at: Option<&Path>) -> anyhow::Result<PathBuf> {
    let root = match at {
        Some(dir) => dir.to_path_buf(),
        None => find_estate()?,
    };
    bexum_files::edit::journal::recover(&root).with_context(|| {
        format!("an edit of `{}` was left undone, and cannot be finished", root.display())
    })?;
    Ok(root)
}

fn find_estate() -> anyhow::Result<PathBuf> {
    let here = std::env::current_dir().context("cannot tell the current folder")?;
    match bexum_files::find_root(&here) {
        Some(root) => Ok(root),
        None => bail!(
            "no estate here: neither `{}` nor a folder above it has a `bexum.toml`; name one with `-C DIR`, or start one with `bexum init DIR`",
            here.display()
        ),
    }
}

/// The moment that is named, or now, read once.
fn moment(written: Option<&str>) -> anyhow::Result<Time> {
    match written {
        Some(text) => Time::parse(text)
            .with_context(|| format!("`{text}` is no time: write one like `2026-03-01T08:00:00Z`")),
        None => Ok(Time(jiff::Timestamp::now().as_microsecond())),
    }
}

/// A request's fault with what was probably meant.
fn with_hint(fault: &RequestFault, estate: &Estate) -> anyhow::Error {
    Helped::error(fault, fault.hint(estate))
}
