//! `bexum prove`: every expectation of the estate, tried.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc;
use std::time::Duration;

use anyhow::Context as _;
use bexum_core::expectation::{Check, Law, Separation};
use bexum_core::name::nearest;
use bexum_core::pattern::action::star_match;
use bexum_core::prove::{self, Counterexample, Judgement, Laws, Tried};
use bexum_core::{Decider, Engine, Estate, Principal, Request, Time};
use bexum_files::Loaded;
use notify::{RecursiveMode, Watcher as _};
use rayon::prelude::*;

use crate::args::{ProofFormat, Prove};
use crate::command_line::Of;
use crate::exit::Exit;
use crate::render::junit;
use crate::render::proof::{self, Proof};
use crate::terminal::{self, Helped};

/// Principals that are tried before laws found broken are set aside; each wave is four times the
/// one before, since most laws that are broken at all are broken by many.
const FIRST_WAVE: usize = 64;
/// Most principals whose closures one decider keeps.
const MOST_TOGETHER: usize = 128;
/// How long files must rest before everything is tried again.
const PAUSE: Duration = Duration::from_millis(120);

pub(super) fn run(at: Option<&Path>, typed: &Prove) -> anyhow::Result<Exit> {
    if typed.watch {
        return watch(at, typed);
    }
    once(at, typed)
}

fn once(at: Option<&Path>, typed: &Prove) -> anyhow::Result<Exit> {
    let now = super::moment(typed.at_time.as_deref())?;
    let loaded = super::load_supposed(at, &typed.supposed)?;
    let engine = Engine::new(Arc::clone(&loaded.estate));
    let of = Of { folder: at, suppose: &typed.supposed.suppose };
    let proof = prove(&loaded, &engine, typed, of, now)?;
    let printed = match typed.format {
        ProofFormat::Text => terminal::print(&proof::text(&proof, terminal::width())),
        ProofFormat::Json => {
            let command = |request: &Request<'_>, time| proof.command(request, time);
            let (sources, command) = (proof.sources, &command);
            let context = bexum_wire::proof::Context { engine: &engine, sources, command };
            terminal::print_json(&bexum_wire::proof::Report::new(&context, &proof.tried))
        }
        ProofFormat::Junit => terminal::print_exactly(junit::report(&proof)?.as_bytes()),
    };
    // A watch ends when nobody reads it any more; the verdict of a single run stands.
    if typed.watch {
        printed?;
    } else {
        terminal::unless_gone(printed)?;
    }
    Ok(if proof.tried.iter().all(Tried::holds) { Exit::Done } else { Exit::Denied })
}

fn prove<'e>(
    loaded: &'e Loaded,
    engine: &'e Engine,
    typed: &Prove,
    of: Of<'e>,
    now: Time,
) -> anyhow::Result<Proof<'e>> {
    let estate = &loaded.estate;
    let names = &typed.names;
    expect_names(estate, names)?;
    let is_wanted =
        |name: &str| names.is_empty() || names.iter().any(|pattern| star_match(pattern, name));
    let tried = tried(engine, now, &is_wanted, typed.everybody);
    Ok(Proof { estate, engine, sources: &loaded.sources, tried, now, of })
}

/// Tries the expectations of which the names are wanted.
pub(super) fn tried<'e>(
    engine: &'e Engine,
    now: Time,
    is_wanted: &dyn Fn(&str) -> bool,
    everybody: bool,
) -> Vec<Tried<'e>> {
    let estate = engine.estate();
    let checks: Vec<&Check> = estate.checks.iter().filter(|c| is_wanted(&c.name)).collect();
    let laws: Vec<&Law> = estate.laws.iter().filter(|law| is_wanted(&law.name)).collect();
    let separations: Vec<&Separation> =
        estate.separations.iter().filter(|s| is_wanted(&s.name)).collect();

    let mut tried: Vec<Tried<'e>> = checks
        .par_chunks(64)
        .flat_map_iter(|chunk| {
            let mut decider = Decider::new(engine);
            let tried: Vec<Tried<'e>> =
                chunk.iter().map(|check| try_check(&mut decider, check, now)).collect();
            tried
        })
        .collect();
    tried.extend(try_laws(engine, &laws, now, everybody));
    tried.extend(try_separations(engine, &separations, now));
    tried
}

/// Each name must be one of some expectation.
fn expect_names(estate: &Estate, names: &[String]) -> anyhow::Result<()> {
    let known = || {
        let checks = estate.checks.iter().map(|check| &*check.name);
        let laws = estate.laws.iter().map(|law| &*law.name);
        checks.chain(laws).chain(estate.separations.iter().map(|s| &*s.name))
    };
    for name in names {
        if !known().any(|known| star_match(name, known)) {
            let help = match nearest(name, known()) {
                Some(near) => format!("did you mean `{near}`?"),
                None => "`bexum show expectations` lists them; `*` stands for any letters".into(),
            };
            let message = format!("no check, law or separation is called `{name}`");
            return Err(Helped::error(message, Some(help)));
        }
    }
    Ok(())
}

fn try_check<'e>(decider: &mut Decider<'e>, check: &'e Check, now: Time) -> Tried<'e> {
    let answers = prove::answers(decider, check, now);
    let requests = answers.len();
    let wrong = answers
        .into_iter()
        .filter_map(|(request, answer)| {
            // What is no request was refused when the estate was loaded.
            let reason = answer.ok()?;
            (!check.accepts(reason)).then_some((request, reason))
        })
        .collect();
    Tried::Check { check, requests, wrong }
}

/// What became known of laws, by their place, from some principals.
struct Judged {
    parts: Vec<(usize, Judgement)>,
    /// One of each principal, where everybody is asked for.
    counterexamples: Vec<(usize, Counterexample)>,
}

/// Laws on all whom they concern; one that is found broken is tried no further, unless `everybody`
/// who breaks it is asked for.
fn try_laws<'e>(
    engine: &'e Engine,
    laws: &[&'e Law],
    now: Time,
    everybody: bool,
) -> Vec<Tried<'e>> {
    let proof = Laws::new(engine, laws.iter().copied(), now);
    let principals = proof.principals();
    let progress = terminal::progress(
        if laws.is_empty() { 0 } else { principals.len() as u64 },
        "principals under all laws",
    );
    let mut known = proof.nothing();
    let nothing = proof.nothing();
    let mut others: Vec<Vec<Counterexample>> = vec![Vec::new(); laws.len()];
    let (mut left, mut size) = (&*principals, FIRST_WAVE);
    while !left.is_empty() {
        let (wave, rest) = left.split_at(size.min(left.len()));
        (left, size) = (rest, size * 4);
        let judged: Vec<Judged> = wave
            .par_chunks((wave.len() / 32).clamp(1, MOST_TOGETHER))
            .map(|chunk| {
                let mut decider = Decider::new(engine);
                let mut judged: BTreeMap<usize, Judgement> = BTreeMap::new();
                let mut counterexamples = Vec::new();
                for who in chunk {
                    let before = if everybody { &nothing } else { &known };
                    for (law, part) in proof.judge(&mut decider, *who, before) {
                        if let (true, Some(counterexample)) = (everybody, &part.counterexample) {
                            counterexamples.push((law, counterexample.clone()));
                        }
                        judged.entry(law).or_default().join(part);
                    }
                }
                progress.inc(chunk.len() as u64);
                Judged { parts: judged.into_iter().collect(), counterexamples }
            })
            .collect();
        for Judged { parts, counterexamples } in judged {
            parts.into_iter().for_each(|(law, part)| known[law].join(part));
            counterexamples
                .into_iter()
                .for_each(|(law, counterexample)| others[law].push(counterexample));
        }
    }
    progress.finish_and_clear();
    laws.iter()
        .enumerate()
        .map(|(i, law)| {
            let (outcome, coverage) = proof.outcome(i, &known[i]);
            Tried::Law { law, outcome, coverage, others: std::mem::take(&mut others[i]) }
        })
        .collect()
}

fn try_separations<'e>(
    engine: &'e Engine,
    separations: &[&'e Separation],
    now: Time,
) -> Vec<Tried<'e>> {
    let somebody = |who: &Principal| matches!(who, Principal::User(_) | Principal::Workload(_));
    let principals: Vec<Principal> = engine.estate().principals().filter(somebody).collect();
    separations
        .iter()
        .map(|separation| {
            let overlaps = principals
                .par_iter()
                .filter_map(|who| prove::overlaps(engine, separation, *who, now))
                .collect();
            Tried::Apart { separation, overlaps, principals: principals.len() }
        })
        .collect()
}

/// Tries everything again at each change of a file, until it is stopped.
fn watch(at: Option<&Path>, typed: &Prove) -> anyhow::Result<Exit> {
    let root = super::root(at)?;
    let (tell, told) = mpsc::channel();
    let mut watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        let matters = |event: &notify::Event| !matches!(event.kind, notify::EventKind::Access(_));
        if event.as_ref().is_ok_and(matters) {
            // Nobody listens any more when the run is about to end.
            let _ = tell.send(());
        }
    })
    .context("cannot watch files here")?;
    watcher
        .watch(&root, RecursiveMode::Recursive)
        .with_context(|| format!("cannot watch `{}`", root.display()))?;
    loop {
        if let Err(error) = once(Some(&root), typed) {
            if terminal::is_closed_pipe(&error) {
                return Ok(Exit::Done);
            }
            terminal::report(&error);
        }
        terminal::print_error("\nwaiting for a file to change (Ctrl-C ends)\n\n");
        told.recv().context("files are no longer watched")?;
        // Editors write in several steps.
        while told.recv_timeout(PAUSE).is_ok() {}
    }
}
