//! `bexum reach`: effective access, by principal, by place, by action.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::path::Path;
use std::sync::Arc;

use anyhow::{Context as _, bail};
use bexum_core::catalogue::{ActionSet, Level};
use bexum_core::engine::{Decider, Engine};
use bexum_core::id::ScopeId;
use bexum_core::pattern::action::ActionPattern;
use bexum_core::principal::Principal;
use bexum_core::reach::{
    self, Access, AccessTarget, AccessTargets, Actors, Classes, Limited, Row, TargetSort, Viewpoint,
};
use bexum_core::request::resolve_target;
use bexum_core::{Estate, Request, Time};
use bexum_wire::reach as wire;
use clap::Parser;
use rayon::prelude::*;

use super::circumstances;
use super::cores::Watched;
use crate::args::{Circumstances, Reach, ReachFormat};
use crate::exit::Exit;
use crate::render::grid::{Grid, Marks};
use crate::render::grid_builder::{Column, GridBuilder, told_apart};
use crate::render::{drawing, reach_csv};
use crate::terminal::{self, Helped};

/// What a `--beside` says: a principal perhaps, and circumstances.
#[derive(Debug, Parser)]
#[command(name = "--beside", no_binary_name = true, disable_help_flag = true)]
struct Beside {
    who: Option<String>,
    #[command(flatten)]
    circumstances: Circumstances,
}

pub(super) fn run(at: Option<&Path>, typed: &Reach) -> anyhow::Result<Exit> {
    let loaded = super::load_supposed(at, &typed.supposed)?;
    let estate = &loaded.estate;
    let engine = Engine::new(Arc::clone(estate));
    let (request, _) = circumstances::request(&typed.circumstances)?;
    if typed.who.is_empty() {
        let anybody = bounded(estate, request)?;
        if typed.action.is_empty() && typed.level.is_none() {
            return by_place(&engine, typed, &anybody);
        }
        return by_action(&engine, typed, &anybody);
    }
    let columns = columns(&engine, typed, &request)?;
    if typed.changed && columns.len() < 2 {
        bail!("`--changed` compares: name several principals, or say `--beside` what");
    }
    let below = below(estate, typed)?;
    let is_narrowed = !typed.action.is_empty() || typed.level.is_some();
    let wanted = is_narrowed.then(|| wanted(estate, typed)).transpose()?;
    if typed.format == ReachFormat::Csv {
        if typed.changed || typed.sees {
            bail!(
                "`--format csv` has a row for each cell: `--changed` and `--sees` are for the other formats"
            );
        }
        return csv(&engine, typed, wanted, below).by_principal(&columns);
    }
    let people: Vec<Vec<Viewpoint>> = columns.iter().map(|one| one.sessions.clone()).collect();
    let classes = classes_of(&engine, &people.concat());
    let (mut rows, limited) = rows_of(&engine, &classes, &people, below);
    if typed.sees {
        let observe = reach::actions_of(estate, Level::Observe);
        keep(estate, &mut rows, |row| {
            let sessions = row.access.iter().flat_map(Access::sessions);
            sessions.into_iter().any(|(_, cells)| !cells.allow.is_disjoint(&observe))
        });
    }
    if let Some(wanted) = &wanted {
        for row in &mut rows {
            Arc::make_mut(&mut row.access).iter_mut().for_each(|access| access.keep(wanted));
        }
        keep(estate, &mut rows, |row| !row.target.applicable(estate).is_disjoint(wanted));
    }
    if typed.changed {
        rows.retain(|row| row.access.windows(2).any(|pair| pair[0] != pair[1]));
    }
    if typed.format == ReachFormat::Json {
        let names = columns.iter().map(|column| column.name.clone()).collect();
        let head = wire::Head { viewpoints: Some(names), ..wire::Head::new(wire::By::Principal) };
        let viewpoints = || columns.iter().map(|column| &column.viewpoint);
        terminal::print_json_rows_of(&head, &rows, |rows| {
            let mut shape = wire::Rows::new(&engine, typed.sources, wanted.as_ref());
            rows.iter().map(|row| shape.of_principals(viewpoints(), row)).collect()
        })?;
        return ended(estate, &limited);
    }
    let sketch = sketch(&engine, typed, request.time);
    let title = match &columns[..] {
        [one] => one.name.clone(),
        several => several.iter().map(|c| c.name.as_str()).collect::<Vec<_>>().join(" beside "),
    };
    let verb = if typed.sees { "would see" } else { "can do" };
    let at = typed.circumstances.at_time.as_ref().map(|time| format!(" at {time}"));
    let title = format!("what {title} {verb}{}", at.unwrap_or_default());
    let grid = sketch.by_principal(title, &columns, &classes, &rows, wanted.as_ref());
    draw(&grid, typed.format)?;
    // The program ends here: taking some hundred thousand rows apart would only take time.
    std::mem::forget((rows, grid));
    ended(estate, &limited)
}

/// Scopes that are alike to these sessions, accounts looked at on all cores.
fn classes_of(engine: &Engine, sessions: &[Viewpoint]) -> Classes {
    let scopes = engine.estate().scopes.iter();
    let accounts = scopes.filter(|(_, scope)| scope.parent.is_none()).map(|(id, _)| id);
    let accounts: Vec<ScopeId> = accounts.collect();
    let of_one = |id: &ScopeId| Classes::of_account(engine, sessions, *id);
    Classes::joined(accounts.par_iter().map(of_one).collect::<Vec<_>>())
}

/// Everything that people can do, worked out on all cores.
fn rows_of(
    engine: &Engine,
    classes: &Classes,
    people: &[Vec<Viewpoint>],
    below: Option<ScopeId>,
) -> (Vec<Row>, Limited) {
    let estate = engine.estate();
    let here = AccessTargets::new(estate);
    let all: Vec<ScopeId> = estate.scopes.iter().map(|(id, _)| id).collect();
    let ids = &all[below.map_or(0..all.len(), |at| estate.scopes.subtree(at))];
    let targets: Vec<AccessTarget> = ids.par_iter().flat_map_iter(|id| here.at(*id)).collect();
    let watched = Watched::new("looked at");
    let each = |count: usize, one: &(dyn Fn(usize) + Sync)| watched.on_all_cores(count, one);
    reach::by_principal_at(engine, classes, people, &targets, &each)
}

/// All was shown, or it is said that it was not.
fn ended(estate: &Estate, limited: &Limited) -> anyhow::Result<Exit> {
    match told_apart(estate, limited) {
        None => Ok(Exit::Done),
        Some(limited) => bail!("rows are left out: {limited}"),
    }
}

fn csv<'e>(
    engine: &'e Engine,
    typed: &Reach,
    wanted: Option<ActionSet>,
    below: Option<ScopeId>,
) -> reach_csv::Asked<'e> {
    let everything = || ActionSet::all(engine.estate().catalogue.actions.len());
    reach_csv::Asked {
        engine,
        wanted: wanted.unwrap_or_else(everything),
        below,
        with_roles: !typed.without_roles,
        sources: typed.sources,
    }
}

fn sketch<'e>(engine: &'e Engine, typed: &Reach, at: Time) -> GridBuilder<'e> {
    // The moment is told in any case.
    let others = Circumstances { at_time: None, ..typed.circumstances.clone() };
    let said = describe(&others);
    let said = if said.is_empty() { said } else { format!(" ·{said}") };
    let second = |time: Time| Time(time.0 - time.0.rem_euclid(1_000_000));
    let at = second(at);
    // A page about another time says when it was written, too.
    let written = match (&typed.circumstances.at_time, super::moment(None)) {
        (Some(_), Ok(now)) => format!(" · written {}", second(now)),
        _ => String::new(),
    };
    let origin = format!("{} · as of {at}{said}{written}", engine.estate().name);
    let is_text = typed.format == ReachFormat::Text;
    let all_names = !is_text || typed.full || typed.sources;
    let actions = engine.estate().catalogue.actions.iter();
    let action_names = actions.map(|action| Arc::from(&*action.name)).collect();
    GridBuilder {
        engine,
        action_names,
        full: typed.full,
        sources: typed.sources,
        all_names,
        origin,
    }
}

fn draw(grid: &Grid, format: ReachFormat) -> anyhow::Result<Exit> {
    match format {
        ReachFormat::Html => terminal::print(&drawing::page(grid)?)?,
        ReachFormat::Svg => terminal::print(&drawing::picture(grid)?)?,
        _ => terminal::print(&grid.text(terminal::width()))?,
    }
    Ok(Exit::Done)
}

/// Who can do what at one path.
fn by_place(engine: &Engine, typed: &Reach, anybody: &Viewpoint) -> anyhow::Result<Exit> {
    let estate = engine.estate();
    let Some(path) = &typed.path else {
        bail!(
            "say whose access (`bexum reach user:…`), where (`--at PATH`) or what (`--do ACTION`, `--level LEVEL`)"
        );
    };
    let target = resolve_target(estate, path).map_err(|fault| super::with_hint(&fault, estate))?;
    let target = AccessTarget::at(&target);
    let mut targets = vec![target.clone()];
    if target.sort == TargetSort::Scope {
        // The items of a resource are part of it.
        let here = AccessTargets::new(estate);
        targets.extend(here.at(target.scope()).filter(|other| other.sort == TargetSort::Items));
    }
    if typed.format == ReachFormat::Csv {
        return csv(engine, typed, None, None).by_place(anybody, &targets);
    }
    let (with_roles, all) = (!typed.without_roles, actors(estate).collect::<Vec<_>>());
    let mut limited = Limited::new();
    let places: Vec<_> = targets
        .iter()
        .flat_map(|target| {
            reach::by_target(engine, anybody, with_roles, &all, target, &mut limited)
        })
        .collect();
    let sketch = sketch(engine, typed, anybody.time);
    match typed.format {
        ReachFormat::Json => {
            let rows: Vec<_> = places
                .iter()
                .flat_map(|(target, groups)| groups.iter().map(move |group| (target, group)))
                .collect();
            terminal::print_json_rows_of(&wire::Head::new(wire::By::Place), &rows, |rows| {
                let mut shape = wire::Rows::new(engine, typed.sources, None);
                let rows = rows.iter();
                rows.map(|(target, group)| shape.of_place(anybody, target, group)).collect()
            })?;
        }
        format => {
            draw(&sketch.by_place(format!("who can do what at {path}"), anybody, &places), format)?;
        }
    }
    ended(estate, &limited)
}

/// Rows of a table that are drawn together, so that a long one is written as it comes.
const ROWS_TOGETHER: usize = 10_000;

/// Who can do an action, and where.
fn by_action(engine: &Engine, typed: &Reach, anybody: &Viewpoint) -> anyhow::Result<Exit> {
    let estate = engine.estate();
    let wanted = wanted(estate, typed)?;
    let below = below(estate, typed)?;
    if typed.format == ReachFormat::Csv {
        return csv(engine, typed, Some(wanted), below).by_action(anybody);
    }
    let mut actors_of = Actors::new(engine, wanted.clone(), below);
    let mut rows_of = |who: Principal| {
        let viewpoint = anybody.seen_by(who);
        let sessions = match typed.without_roles {
            false => actors_of.sessions(&viewpoint),
            true => vec![viewpoint],
        };
        actors_of.rows(&sessions)
    };
    if typed.format == ReachFormat::Json {
        let mut shape = wire::Rows::new(engine, typed.sources, None);
        let rows = actors(estate).flat_map(|who| {
            let rows = rows_of(who);
            rows.into_iter().map(|row| shape.of_action(anybody, who, &row)).collect::<Vec<_>>()
        });
        terminal::print_json_rows(&wire::Head::new(wire::By::Action), rows)?;
        return ended(estate, &actors_of.limited);
    }
    let what = match &typed.level {
        Some(level) => format!("anything of level {level}"),
        None => typed.action.join(" or "),
    };
    let sketch = sketch(engine, typed, anybody.time);
    let mut grid = sketch.by_action(format!("who can do {what}, and where"));
    let is_text = typed.format == ReachFormat::Text;
    let (width, mut marks, mut decider) =
        (terminal::width(), Marks::default(), Decider::new(engine));
    let mut text = String::new();
    for who in together(actors(estate), &mut rows_of, typed.sources) {
        let rows = rows_of(who[0]);
        sketch.add_actors(&mut grid, &mut decider, (anybody, &who), &rows, &wanted);
        if is_text && grid.rows.len() > ROWS_TOGETHER {
            if text.is_empty() {
                text = grid.beginning();
            }
            text.push_str(&grid.part(&mut marks, width));
            terminal::print(&text)?;
            text = "\n".to_owned();
            grid.rows.clear();
            // What was worked out about others is of no more use.
            decider = Decider::new(engine);
        }
    }
    if text.is_empty() {
        draw(&grid, typed.format)?;
        return ended(estate, &actors_of.limited);
    }
    if !grid.rows.is_empty() {
        text.push_str(&grid.part(&mut marks, width));
    }
    text.push_str(&grid.ending(&marks, width));
    terminal::print(&text)?;
    ended(estate, &actors_of.limited)
}

/// Those who can do any of it: people with the same rows together, save where each one's own routes
/// are asked for. Of the rows only a hash of 128 bits is kept, since there may be millions.
fn together(
    actors: impl Iterator<Item = Principal>,
    rows_of: &mut impl FnMut(Principal) -> Vec<Row>,
    apart: bool,
) -> Vec<Vec<Principal>> {
    let mut groups: Vec<Vec<Principal>> = Vec::new();
    let mut known: HashMap<(u64, u64), usize> = HashMap::default();
    for who in actors {
        let rows = rows_of(who);
        if rows.is_empty() {
            continue;
        }
        let print = |salt: u8| {
            let mut hasher = DefaultHasher::new();
            (salt, &rows).hash(&mut hasher);
            hasher.finish()
        };
        let print = (print(0), print(1));
        match known.get(&print) {
            Some(at) if !apart => groups[*at].push(who),
            _ => {
                known.insert(print, groups.len());
                groups.push(vec![who]);
            }
        }
    }
    groups
}

/// Those who act: users and resources. Groups and roles act only through them.
fn actors(estate: &Estate) -> impl Iterator<Item = Principal> {
    estate
        .principals()
        .filter(|principal| matches!(principal, Principal::User(_) | Principal::Workload(_)))
}

fn wanted(estate: &Estate, typed: &Reach) -> anyhow::Result<ActionSet> {
    if let Some(word) = &typed.level {
        let known = Level::ALL.map(Level::word);
        let level = Level::from_word(word).ok_or_else(|| {
            let near = bexum_core::name::nearest(word, known);
            Helped::error(
                format!("there is no level `{word}`: the levels are {}", known.join(", ")),
                near.map(|near| format!("did you mean `{near}`?")),
            )
        })?;
        return Ok(reach::actions_of(estate, level));
    }
    named_actions(estate, &typed.action)
}

/// The actions that patterns match; one that matches none is an error.
pub(super) fn named_actions(estate: &Estate, patterns: &[String]) -> anyhow::Result<ActionSet> {
    let mut wanted = ActionSet::with_capacity(estate.catalogue.actions.len());
    for text in patterns {
        let pattern = ActionPattern::parse(text).with_context(|| format!("`{text}`"))?;
        let actions = estate.catalogue.actions.iter().enumerate();
        let named: Vec<usize> = actions.filter(|(_, a)| pattern.names(a)).map(|(i, _)| i).collect();
        if named.is_empty() || pattern.excludes {
            let names = estate.catalogue.actions.iter().map(|action| &*action.name);
            let near = bexum_core::name::nearest(text, names);
            return Err(Helped::error(
                format!("no action in the catalogue matches `{text}`"),
                near.map(|near| format!("did you mean `{near}`?")),
            ));
        }
        wanted.extend(named);
    }
    Ok(wanted)
}

fn below(estate: &Estate, typed: &Reach) -> anyhow::Result<Option<ScopeId>> {
    let Some(path) = &typed.path else { return Ok(None) };
    let target = resolve_target(estate, path).map_err(|fault| super::with_hint(&fault, estate))?;
    match AccessTarget::at(&target).sort {
        TargetSort::Scope => Ok(Some(target.scope())),
        _ => bail!("`{path}` is no scope: here `--at` names the top of a part of the tree"),
    }
}

/// The circumstances of everybody in turn; a stand-in for who asks.
pub(super) fn bounded(estate: &Estate, mut request: Request<'static>) -> anyhow::Result<Viewpoint> {
    let Some(somebody) = estate.principals().next() else {
        bail!("this estate has no principals, so nobody can do anything");
    };
    request.who = estate.principal_id(somebody).into();
    viewpoint(estate, &request)
}

/// A request's circumstances, resolved.
fn viewpoint(estate: &Estate, request: &Request<'_>) -> anyhow::Result<Viewpoint> {
    request.viewpoint(estate).map_err(|fault| super::with_hint(&fault, estate))
}

fn columns(
    engine: &Engine,
    typed: &Reach,
    request: &Request<'static>,
) -> anyhow::Result<Vec<Column>> {
    let estate = engine.estate();
    let mut columns = Vec::new();
    let mut decider = Decider::new(engine);
    let mut column = |name, short, viewpoint: Viewpoint| {
        let sessions = match typed.without_roles {
            false => reach::sessions(&mut decider, &viewpoint),
            true => vec![viewpoint.clone()],
        };
        columns.push(Column { name, short, viewpoint, sessions });
    };
    // The moment that all columns share stands in the title.
    let plain = describe(&Circumstances { at_time: None, ..typed.circumstances.clone() });
    for who in &typed.who {
        let request = Request { who: who.clone().into(), ..request.clone() };
        column(format!("{who}{plain}"), who.clone(), viewpoint(estate, &request)?);
    }
    for options in &typed.beside {
        let beside: Beside = circumstances::beside(options)?;
        let who = beside.who.unwrap_or_else(|| typed.who[0].clone());
        let mut here = beside.circumstances;
        let said = describe(&here);
        // A column without a moment of its own shares everybody's.
        here.at_time = here.at_time.or_else(|| typed.circumstances.at_time.clone());
        let (mut request, _) = circumstances::request(&here)?;
        request.who = who.clone().into();
        let name = format!("{who}{said}");
        column(name.clone(), name, viewpoint(estate, &request)?);
    }
    Ok(columns)
}

/// ` as role:x, with mfa=true`, or nothing.
fn describe(typed: &Circumstances) -> String {
    let mut said = Vec::new();
    said.extend(typed.take_up.iter().map(|role| format!("as {role}")));
    said.extend(typed.also.iter().map(|group| format!("also in {group}")));
    said.extend(typed.under.iter().map(|policy| format!("under {policy}")));
    said.extend(typed.given.iter().map(|pair| format!("with {pair}")));
    said.extend(typed.given_from.iter().map(|file| format!("with those of {}", file.display())));
    said.extend(typed.at_time.iter().map(|time| format!("at {time}")));
    match said.len() {
        0 => String::new(),
        _ => format!(" {}", said.join(", ")),
    }
}

/// Leaves the rows that are wanted, and the scopes above them.
fn keep(estate: &Estate, rows: &mut Vec<Row>, is_wanted: impl Fn(&Row) -> bool) {
    let seen: Vec<bool> = rows.iter().map(is_wanted).collect();
    let mut keep = seen.clone();
    for i in 0..rows.len() {
        if rows[i].target.sort == TargetSort::Scope && !seen[i] {
            let below = estate.scopes.subtree(rows[i].target.scope());
            let rest = rows[i..].iter().zip(&seen[i..]);
            keep[i] = rest
                .take_while(|(row, _)| below.contains(&row.target.scope().index()))
                .any(|(_, seen)| *seen);
        }
    }
    let mut kept = keep.into_iter();
    rows.retain(|_| kept.next().unwrap_or(false));
}
