//! `bexum ways`: the smallest change after which a request comes to something else.

use std::collections::{BTreeSet, BinaryHeap};
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, mpsc};
use std::time::Duration;

use anyhow::bail;
use bexum_core::each::in_turn;
use bexum_core::edit::{Edit, apply};
use bexum_core::edit_rights::{self, Side};
use bexum_core::engine::Engine;
use bexum_core::impact::SameFiles;
use bexum_core::prove::Tried as Expectation;
use bexum_core::vet::{Finding, RULES, Vet};
use bexum_core::ways::{Candidate, Tried, Way, WayLookup, WaySearch, rank};
use bexum_core::{Declarations, Estate, Request, Time, Verdict};
use bexum_files::Loaded;
use bexum_wire::ways as wire;
use rayon::prelude::*;

use super::cores::on_all_cores;
use super::{ask, edit, prove};
use crate::args::Format;
use crate::args::edit::Edit as Edits;
use crate::args::ways::{To, Ways};
use crate::command_line::{self, Of};
use crate::exit::Exit;
use crate::render::ways::{Besides, Shown, VetFinding, what};
use crate::terminal::{self, Helped};

/// How many ways are told where not all are asked for.
const FEW: usize = 10;
/// How many times so many are tried before more is found out about the others.
const ROUNDS: usize = 8;
/// How many principals each of these concerns at most, after the first.
const MOST_AT_ONCE: usize = 8;
/// Most pairs of steps that are tried.
const MOST_PAIRS: usize = 200;
/// Most steps that are tried for the best one, where that is not what was asked for.
const MOST_BESIDE: usize = 5_000;
/// Most cells that are counted of one way, where not all are asked for.
const MOST_CELLS: usize = 2_000;
/// Most principals for whom it is looked at on one path what a way does in other circumstances; a
/// quarter as many principals times scopes where it is about whole scopes.
const MOST_ELSEWHERE: usize = 20_000;
/// Most steps in looking for such circumstances, of all ways together; and how many of each in any case.
const MOST_STEPS: usize = 500_000;
const FEWEST_STEPS: usize = 1_000;

/// Most principals times scopes where it is looked at what `vet` finds by a way.
const MOST_VETTED: usize = 20_000;
/// How long it may take.
const VETTED_WITHIN: Duration = Duration::from_secs(10);
/// Most steps that `vet` takes then in looking for circumstances.
const MOST_VET_STEPS: usize = 50_000;
/// The rule that is left out then: it looks at everything once with each tie and without it.
const LEFT_OUT: &str = "no-effect";

/// Ways, best first.
struct FoundWays {
    ways: Vec<Way>,
    /// How many there are in all.
    count: usize,
    /// Whether every step and pair was tried.
    is_complete: bool,
}

pub(super) fn run(at: Option<&Path>, typed: &Ways) -> anyhow::Result<Exit> {
    let (Loaded { estate, .. }, declared) = super::load_declared(at, &typed.supposed)?;
    let (request, typed_time) = ask::build_request(&typed.question)?;
    let query = request.resolve(&estate).map_err(|fault| super::with_hint(&fault, &estate))?;
    let (engine, known) =
        rayon::join(|| Engine::new(Arc::clone(&estate)), || WayLookup::new(&declared, &estate));
    let reason = engine.decider().decide(&query);
    let wanted = match typed.to {
        To::Allow => Verdict::Allow,
        To::Deny => Verdict::Deny,
    };
    let of = Of { folder: at, suppose: &typed.supposed.suppose };
    let time = typed_time.then_some(request.time);
    let search = search((&declared, known), &engine, &request)?;
    let found = match reason.verdict() == wanted {
        true => FoundWays { ways: Vec::new(), count: 0, is_complete: true },
        false => {
            let most = if typed.all { usize::MAX } else { FEW.max(typed.apply.unwrap_or(0)) };
            found(&search, most, MOST_PAIRS)
        }
    };
    if let Some(number) = typed.apply {
        return applied(at, typed, &found, number, |way| {
            command_line::ask(of, &way.step.asked(&request), time)
        });
    }
    let told = &found.ways[..];
    let looked =
        Looked { declared: &declared, search: &search, engine: &engine, request: &request, typed };
    let besides = looked.besides(told)?;
    let shown = Shown {
        engine: &engine,
        query: &query,
        request: &request,
        time,
        of,
        reason,
        wanted,
        ways: told,
        besides: &besides,
        count: found.count,
        is_complete: found.is_complete,
        by: typed.by.as_deref(),
        at_words: command_line::ways(of, &request, time, typed.to == To::Deny),
    };
    terminal::unless_gone(match typed.format {
        Format::Text => terminal::print(&shown.text(terminal::width())),
        Format::Json => terminal::print_json(&shape(&shown, &typed.supposed.suppose)),
    })?;
    let has_one = reason.verdict() == wanted || !found.ways.is_empty();
    Ok(if has_one { Exit::Done } else { Exit::Denied })
}

/// A search for ways of a request that was resolved before.
fn search<'s>(
    (declared, known): (&'s Declarations, WayLookup),
    engine: &'s Engine,
    request: &'s Request<'s>,
) -> anyhow::Result<WaySearch<'s>> {
    let search = WaySearch::with(declared, known, engine, request);
    search.map_err(|fault| super::with_hint(&fault, engine.estate()))
}

/// The best of all single steps that work; where none does, of pairs, of which no more than so many
/// are tried.
fn found(search: &WaySearch<'_>, most: usize, most_pairs: usize) -> FoundWays {
    let found = tried(search, singles(search, most), most);
    if found.count > 0 {
        return found;
    }
    let most_cells = if most == usize::MAX { usize::MAX } else { MOST_CELLS };
    let (pairs, is_complete) = search.pairs(most_pairs, most_cells);
    FoundWays { is_complete, ..tried(search, pairs, most) }
}

/// All single steps that may do; where not all of those are told that do, with what they do at least.
fn singles(search: &WaySearch<'_>, most: usize) -> Vec<Candidate> {
    let mut singles = search.singles();
    if most < usize::MAX {
        in_shares(&mut singles, |some| search.gauge(some));
    }
    singles
}

/// Does something with candidates, each core with its share.
fn in_shares(candidates: &mut [Candidate], each: impl Fn(&mut [Candidate]) + Send + Sync) {
    let share = candidates.len().div_ceil(rayon::current_num_threads()).max(1);
    candidates.par_chunks_mut(share).for_each(each);
}

/// The best single step that has a refused request allowed, in words, if it is soon found.
pub(super) fn best(
    declared: &Declarations,
    engine: &Engine,
    request: &Request<'_>,
) -> anyhow::Result<Option<String>> {
    let known = WayLookup::new(declared, engine.estate());
    let search = search((declared, known), engine, request)?;
    let singles = singles(&search, 1);
    if singles.len() > MOST_BESIDE {
        return Ok(None);
    }
    let found = tried(&search, singles, 1);
    Ok(found.ways.first().map(|way| what(&way.step)))
}

/// The best ways so far.
struct Best {
    most: usize,
    /// How much each turns, and its text; the worst on top.
    ways: Mutex<BinaryHeap<(usize, String)>>,
}

impl Best {
    /// Of so many ways.
    fn new(most: usize) -> Self {
        Self { most, ways: Mutex::default() }
    }

    fn locked(&self) -> MutexGuard<'_, BinaryHeap<(usize, String)>> {
        self.ways.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn is_full(&self) -> bool {
        self.locked().len() >= self.most
    }

    fn add(&self, way: &Way) {
        let mut ways = self.locked();
        ways.push((way.effect.size(), way.step.text()));
        if ways.len() > self.most {
            ways.pop();
        }
    }

    /// How many cells at most a step with this text turns, if it is to be among them: of those that
    /// turn as much, the first by text is better.
    fn bar(&self, text: &str) -> usize {
        let most = if self.most == usize::MAX { usize::MAX } else { MOST_CELLS };
        let ways = self.locked();
        match ways.peek() {
            Some((size, worst)) if ways.len() >= self.most => {
                let fewer = usize::from(text > worst.as_str());
                most.min(size.saturating_sub(fewer))
            }
            _ => most,
        }
    }
}

/// The best of these candidates: what does more than so many others is not counted further.
fn tried(search: &WaySearch<'_>, mut candidates: Vec<Candidate>, most: usize) -> FoundWays {
    let best = Best::new(most);
    let progress = terminal::progress(candidates.len() as u64, "steps tried");
    let each = |candidate: &Candidate| {
        let tried = search.tried_within(candidate, &|text| best.bar(text));
        if let Some(Tried::Way(way)) = &tried {
            best.add(way);
        }
        progress.inc(1);
        tried
    };
    let sort = |some: &mut [Candidate]| some.sort_by_cached_key(|one| search.breadth(one));
    sort(&mut candidates);
    let mut all: Vec<Tried> = Vec::new();
    let mut rest = &mut candidates[..];
    // The narrowest first, until it is known what is more than the best do, or they are no more soon
    // tried. In this order, whoever is free takes the next.
    for round in 0..ROUNDS {
        let number = most.min(rest.len());
        let is_wide = |one: &Candidate| search.principals(one) > MOST_AT_ONCE;
        if round > 0 && rest[..number].iter().any(is_wide) {
            break;
        }
        let (narrow, others) = rest.split_at_mut(number);
        all.extend(narrow.iter().par_bridge().filter_map(each).collect::<Vec<_>>());
        rest = others;
        if best.is_full() {
            break;
        }
    }
    if most < usize::MAX {
        search.gauge_further(rest, best.bar(""), &on_all_cores);
        sort(rest);
    }
    all.par_extend(rest.iter().par_bridge().filter_map(each));
    progress.finish_and_clear();
    let (mut ways, mut larger) = (Vec::new(), Vec::new());
    let mut texts: BTreeSet<String> = BTreeSet::new();
    for tried in all {
        match tried {
            Tried::Way(way) => {
                texts.insert(way.step.text());
                ways.push(way);
            }
            Tried::Larger(way) => {
                texts.insert(way.step.text());
                larger.push(way);
            }
        }
    }
    rank(&mut ways);
    // Where there are few, all of those that were not counted to the end do more than any other.
    larger.sort_by_cached_key(|way| way.step.text());
    larger.dedup_by(|one, other| one.step == other.step);
    ways.extend(larger);
    ways.truncate(most);
    FoundWays { ways, count: texts.len(), is_complete: true }
}

/// Shows what one of the ways changes, as `edit` does.
fn applied(
    at: Option<&Path>,
    typed: &Ways,
    found: &FoundWays,
    number: usize,
    asked: impl Fn(&Way) -> String,
) -> anyhow::Result<Exit> {
    if !typed.supposed.suppose.is_empty() {
        bail!("`--apply` changes the files as they are: it does not go with `--suppose`");
    }
    let Some(way) = number.checked_sub(1).and_then(|place| found.ways.get(place)) else {
        bail!("there is no way {number}: {} were found", found.count);
    };
    if way.step.edits.is_empty() {
        return Err(Helped::error(
            format!("way {number} changes nothing in the files: it is another question"),
            Some(format!("ask it: {}", asked(way))),
        ));
    }
    let edits = Edits {
        edit: None,
        from: None,
        write: typed.write,
        despite: typed.despite.clone(),
        by: typed.by.clone(),
        take_up: None,
        given: Vec::new(),
        at_time: typed.question.circumstances.at_time.clone(),
        file: None,
        full: false,
        format: typed.format,
    };
    edit::make_these(at, &edits, &way.step.edits)
}

/// What `vet` finds in an estate, and the rules that could not decide something.
struct Vetted {
    told: BTreeSet<VetFinding>,
    not_decided: BTreeSet<&'static str>,
}

/// What is looked at besides of the ways that are told.
struct Looked<'l> {
    declared: &'l Declarations,
    search: &'l WaySearch<'l>,
    engine: &'l Engine,
    request: &'l Request<'l>,
    typed: &'l Ways,
}

impl Looked<'_> {
    fn besides(&self, ways: &[Way]) -> anyhow::Result<Vec<Besides>> {
        let estate = self.engine.estate();
        let has_expectations =
            !(estate.checks.is_empty() && estate.laws.is_empty() && estate.separations.is_empty());
        let before = match has_expectations {
            true => outcomes(self.engine, self.request.time),
            false => Vec::new(),
        };
        let by = match &self.typed.by {
            None => None,
            Some(who) => {
                let mut request = Request::new(who.clone(), "", "", super::moment(None)?);
                request.given = self.request.given.clone();
                request.viewpoint(estate).map_err(|fault| super::with_hint(&fault, estate))?;
                Some(request)
            }
        };
        let most = (MOST_ELSEWHERE, (MOST_STEPS / ways.len().max(1)).max(FEWEST_STEPS));
        let elsewhere = ways.par_iter().map(|way| self.search.elsewhere(way, most, &on_all_cores));
        let elsewhere: Vec<_> = elsewhere.collect();
        // One after the other: expectations are tried on all cores, each time.
        let besides = ways.iter().zip(elsewhere).map(|(way, elsewhere)| {
            let mut besides = Besides { elsewhere, ..Besides::default() };
            if way.step.edits.is_empty() || !has_expectations && by.is_none() {
                return Ok(besides);
            }
            let sides = (self.declared, self.engine);
            let made = after_edits(sides, &way.step.edits, self.request.time);
            let Some((declared, after)) = made else { return Ok(besides) };
            let is =
                if has_expectations { outcomes(&after, self.request.time) } else { Vec::new() };
            for ((name, held), (_, holds)) in before.iter().zip(&is) {
                match (held, holds) {
                    (true, false) => besides.breaks.push(name.clone()),
                    (false, true) => besides.mends.push(name.clone()),
                    _ => {}
                }
            }
            if let Some(by) = &by {
                let sides = [
                    Side { declared: self.declared, engine: self.engine },
                    Side { declared: &declared, engine: &after },
                ];
                let ruling = edit_rights::ruling(sides[0], sides[1], &SameFiles::default(), by)
                    .map_err(|fault| super::with_hint(&fault, estate))?;
                besides.is_permitted = Some(ruling.is_allowed());
            }
            Ok(besides)
        });
        let mut besides: Vec<Besides> = besides.collect::<anyhow::Result<_>>()?;
        // Last: where that takes long, cores are busy with it from then on.
        for (besides, findings) in besides.iter_mut().zip(self.findings(ways)) {
            besides.findings = findings;
        }
        Ok(besides)
    }

    /// What `vet` finds by each way that it does not find as things are, and the other way round;
    /// `None` where nothing changes, the estate is too large, or that takes long.
    fn findings(&self, ways: &[Way]) -> Vec<Option<[Vec<VetFinding>; 2]>> {
        let estate = self.engine.estate();
        let nothing = || ways.iter().map(|_| None).collect();
        if estate.principals().count().saturating_mul(estate.scopes.len()) > MOST_VETTED {
            return nothing();
        }
        let (declared, engine) = (self.declared.clone(), self.engine.clone());
        let (now, edits) = (self.request.time, ways.iter().map(|way| way.step.edits.clone()));
        let edits: Vec<Vec<Edit>> = edits.collect();
        let (sender, receiver) = mpsc::channel();
        // What is not done in time is left alone: it ends with the program.
        std::thread::spawn(move || sender.send(found_by_each((&declared, &engine), &edits, now)));
        receiver.recv_timeout(VETTED_WITHIN).unwrap_or_else(|_| nothing())
    }
}

/// What `vet` finds after each of these lists of edits that it does not find before, and the other way
/// round; `None` where there are none.
fn found_by_each(
    (declared, engine): (&Declarations, &Engine),
    edits: &[Vec<Edit>],
    now: Time,
) -> Vec<Option<[Vec<VetFinding>; 2]>> {
    let before = vetted(declared, engine, now);
    let each = edits.par_iter().map(|edits| {
        if edits.is_empty() {
            return None;
        }
        let (declared, after) = after_edits((declared, engine), edits, now)?;
        let after = vetted(&declared, &after, now);
        let alone = |these: &Vetted, those: &Vetted| -> Vec<VetFinding> {
            // What is not there may only not have been decided.
            let is_new = |one: &&VetFinding| {
                !those.told.contains(one) && !those.not_decided.contains(&one.0)
            };
            these.told.iter().filter(is_new).cloned().collect()
        };
        Some([alone(&after, &before), alone(&before, &after)])
    });
    each.collect()
}

/// What `vet` finds in an estate.
fn vetted(declared: &Declarations, engine: &Engine, now: Time) -> Vetted {
    let rules: Vec<_> = RULES.iter().copied().filter(|rule| rule.name != LEFT_OUT).collect();
    let look = Vet::new(declared, engine, now, &in_turn).within_steps(MOST_VET_STEPS);
    let report = look.report(&rules, &|_| {});
    let each = |one: Finding| {
        let about = std::iter::once(one.about).chain(one.alike);
        about.map(move |about| (one.rule, about))
    };
    Vetted {
        told: report.findings.into_iter().flat_map(each).collect(),
        not_decided: report.not_decided.into_iter().map(|(rule, _)| rule).collect(),
    }
}

/// The whole estate after some edits.
fn after_edits(
    (declared, engine): (&Declarations, &Engine),
    edits: &[Edit],
    now: Time,
) -> Option<(Declarations, Engine)> {
    let mut declared = declared.clone();
    let estate = engine.estate();
    for one in edits {
        apply(one, &mut declared, &estate.catalogue, now).ok()?;
    }
    let after = Estate::build_beside(&declared, estate).ok()?;
    Some((declared, Engine::new(after)))
}

/// Whether each expectation holds, by its name; always in the same order.
fn outcomes(engine: &Engine, now: Time) -> Vec<(String, bool)> {
    let tried = prove::tried(engine, now, &|_| true, false);
    let told = |one: &Expectation<'_>| (format!("{} '{}'", one.table(), one.name()), one.holds());
    tried.iter().map(told).collect()
}

fn shape(shown: &Shown<'_>, supposed: &[String]) -> wire::Ways {
    let ways = shown.ways.iter().zip(shown.besides).map(|(way, besides)| {
        let mut shape = wire::Way::new(way, what(&way.step));
        if let Some([opens, closes]) = besides.elsewhere {
            (shape.opens_elsewhere, shape.closes_elsewhere) = (Some(opens), Some(closes));
        }
        shape.breaks.clone_from(&besides.breaks);
        shape.mends.clone_from(&besides.mends);
        shape.findings = besides.findings.as_ref().map(|[come, go]| {
            let all = |these: &[VetFinding]| {
                let one = |(rule, about): &VetFinding| wire::Finding {
                    rule: (*rule).to_owned(),
                    about: about.clone(),
                };
                these.iter().map(one).collect()
            };
            wire::Findings { come: all(come), go: all(go) }
        });
        shape.permitted = besides.is_permitted;
        shape
    });
    wire::Ways {
        version: bexum_wire::VERSION,
        verdict: shown.reason.verdict().into(),
        reason: shown.reason.into(),
        to: shown.wanted.into(),
        supposed: supposed.to_vec(),
        ways: ways.collect(),
        count: shown.count,
        complete: shown.is_complete,
    }
}
