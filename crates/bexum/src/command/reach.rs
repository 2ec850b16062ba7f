//! `bexum reach`: effective access, by principal, by place, by action.

use std::path::Path;

use anyhow::{Context as _, bail};
use bexum_core::catalogue::{ActionSet, Level};
use bexum_core::engine::{Decider, Index};
use bexum_core::id::ScopeId;
use bexum_core::pattern::action::ActionPattern;
use bexum_core::principal::Principal;
use bexum_core::reach::{self, Row, Spot, SpotSort, Viewpoint};
use bexum_core::request::resolve_target;
use bexum_core::{Estate, Request, Time};
use clap::Parser;

use super::circumstances;
use crate::args::{Circumstances, Reach, ReachFormat};
use crate::exit::Exit;
use crate::render::grid::Grid;
use crate::render::sketch::{Column, Sketch};
use crate::render::{drawing, reach_csv};
use crate::stream::{self, Helped};
use crate::wire::reach as wire;

/// What a `--beside` says: a principal perhaps, and circumstances.
#[derive(Debug, Parser)]
#[command(name = "--beside", no_binary_name = true, disable_help_flag = true)]
struct Beside {
    who: Option<String>,
    #[command(flatten)]
    circumstances: Circumstances,
}

pub(super) fn run(at: Option<&Path>, typed: &Reach) -> anyhow::Result<Exit> {
    let loaded = super::load(at)?;
    let estate = &loaded.estate;
    let index = Index::new(estate);
    let (request, _) = circumstances::request(&typed.circumstances)?;
    if typed.who.is_empty() {
        let anybody = bounded(estate, request)?;
        if typed.action.is_empty() && typed.level.is_none() {
            return by_place(&index, typed, &anybody);
        }
        return by_action(&index, typed, &anybody);
    }
    let columns = columns(estate, typed, &request)?;
    if typed.changed && columns.len() < 2 {
        bail!("`--changed` compares: name several principals, or say `--beside` what");
    }
    let below = below(estate, typed)?;
    let is_narrowed = !typed.action.is_empty() || typed.level.is_some();
    let wanted = is_narrowed.then(|| wanted(estate, typed)).transpose()?;
    let viewpoints: Vec<Viewpoint> =
        columns.iter().map(|column| column.viewpoint.clone()).collect();
    if typed.format == ReachFormat::Csv {
        let rows = SpotRows::new(&index, &viewpoints, below);
        return reach_csv::write(&index, &columns, rows, wanted.as_ref());
    }
    let mut rows = reach::by_principal(&index, &viewpoints, below);
    if typed.sees {
        let observe = reach::actions_of(estate, Level::Observe);
        keep(estate, &mut rows, |row| {
            row.cells.iter().any(|cells| !cells.allow.is_disjoint(&observe))
        });
    }
    if let Some(wanted) = &wanted {
        for cells in rows.iter_mut().flat_map(|row| &mut row.cells) {
            cells.allow.intersect_with(wanted);
            cells.depends.intersect_with(wanted);
        }
        keep(estate, &mut rows, |row| !row.spot.applicable(estate).is_disjoint(wanted));
    }
    if typed.changed {
        rows.retain(|row| row.cells.windows(2).any(|pair| pair[0] != pair[1]));
    }
    if typed.format == ReachFormat::Json {
        return wire::by_principal(&index, &columns, &rows, typed.sources, wanted.as_ref());
    }
    let sketch = sketch(&index, typed, request.time);
    let title = match &columns[..] {
        [one] => one.name.clone(),
        several => several.iter().map(|c| c.name.as_str()).collect::<Vec<_>>().join(" beside "),
    };
    let verb = if typed.sees { "would see" } else { "can do" };
    let at = typed.circumstances.at_time.as_ref().map(|time| format!(" at {time}"));
    let title = format!("what {title} {verb}{}", at.unwrap_or_default());
    let grid = sketch.by_principal(title, &columns, &rows, wanted.as_ref());
    draw(&grid, typed.format)
}

fn sketch<'e>(index: &'e Index<'e>, typed: &Reach, at: Time) -> Sketch<'e> {
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
    let origin = format!("{} · as of {at}{said}{written}", index.estate.name);
    Sketch { index, full: typed.full, sources: typed.sources, origin }
}

fn draw(grid: &Grid, format: ReachFormat) -> anyhow::Result<Exit> {
    match format {
        ReachFormat::Html => stream::print(&drawing::page(grid)?)?,
        ReachFormat::Svg => stream::print(&drawing::picture(grid)?)?,
        _ => stream::print(&grid.text(stream::width()))?,
    }
    Ok(Exit::Done)
}

/// Rows one after the other, as they are worked out.
pub(crate) struct SpotRows<'e, 'v> {
    decider: Decider<'e>,
    viewpoints: &'v [Viewpoint],
    spots: std::vec::IntoIter<Spot>,
    ready: std::vec::IntoIter<Row>,
}

impl<'e, 'v> SpotRows<'e, 'v> {
    fn new(index: &'e Index<'e>, viewpoints: &'v [Viewpoint], below: Option<ScopeId>) -> Self {
        Self {
            decider: Decider::new(index),
            viewpoints,
            spots: reach::spots(index.estate, below).into_iter(),
            ready: Vec::new().into_iter(),
        }
    }
}

impl Iterator for SpotRows<'_, '_> {
    type Item = Row;

    fn next(&mut self) -> Option<Row> {
        loop {
            if let Some(row) = self.ready.next() {
                return Some(row);
            }
            let spot = self.spots.next()?;
            self.ready = reach::rows_at(&mut self.decider, self.viewpoints, spot, None).into_iter();
        }
    }
}

/// Who can do what at one path.
fn by_place(index: &Index<'_>, typed: &Reach, anybody: &Viewpoint) -> anyhow::Result<Exit> {
    let estate = index.estate;
    let Some(path) = &typed.path else {
        bail!(
            "say whose access (`bexum reach user:…`), where (`--at PATH`) or what (`--do ACTION`, `--level LEVEL`)"
        );
    };
    let target = resolve_target(estate, path).map_err(|fault| super::with_hint(&fault, estate))?;
    let spot = Spot::at(&target);
    let mut spots = vec![spot.clone()];
    if spot.sort == SpotSort::Scope {
        // The items of a resource are part of it.
        let here = reach::spots(estate, Some(spot.scope())).into_iter();
        spots.extend(
            here.filter(|other| other.sort == SpotSort::Items && other.scope() == spot.scope()),
        );
    }
    let places: Vec<_> = spots
        .into_iter()
        .map(|spot| {
            let groups = reach::by_target(index, anybody, actors(estate), &spot);
            (spot, groups)
        })
        .collect();
    let sketch = sketch(index, typed, anybody.time);
    match typed.format {
        ReachFormat::Csv => reach_csv::write_places(index, anybody, &places),
        ReachFormat::Json => wire::by_place(index, anybody, &places, typed.sources),
        format => {
            draw(&sketch.by_place(format!("who can do what at {path}"), anybody, &places), format)
        }
    }
}

/// Who can do an action, and where.
fn by_action(index: &Index<'_>, typed: &Reach, anybody: &Viewpoint) -> anyhow::Result<Exit> {
    let estate = index.estate;
    let wanted = wanted(estate, typed)?;
    let found = reach::by_action(index, anybody, actors(estate), &wanted, below(estate, typed)?);
    let what = match &typed.level {
        Some(level) => format!("anything of level {level}"),
        None => typed.action.join(" or "),
    };
    let sketch = sketch(index, typed, anybody.time);
    match typed.format {
        ReachFormat::Csv => reach_csv::write_actors(index, anybody, &found, &wanted),
        ReachFormat::Json => wire::by_action(index, anybody, &found, typed.sources),
        format => {
            let title = format!("who can do {what}, and where");
            draw(&sketch.by_action(title, anybody, &found, &wanted), format)
        }
    }
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
    let mut wanted = ActionSet::with_capacity(estate.catalogue.actions.len());
    for text in &typed.action {
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
    match Spot::at(&target).sort {
        SpotSort::Scope => Ok(Some(target.scope())),
        _ => bail!("`{path}` is no scope: here `--at` names the top of a part of the tree"),
    }
}

/// The circumstances of everybody in turn; a stand-in for who asks.
fn bounded(estate: &Estate, mut request: Request<'static>) -> anyhow::Result<Viewpoint> {
    let Some(somebody) = estate.principals().next() else {
        bail!("this estate has no principals, so nobody can do anything");
    };
    request.who = estate.principal_id(somebody).into();
    viewpoint(estate, request)
}

/// A request's circumstances, resolved; what it would ask does not matter.
fn viewpoint(estate: &Estate, mut request: Request<'static>) -> anyhow::Result<Viewpoint> {
    let any = reach::spots(estate, None).into_iter().find_map(|spot| {
        let action = spot.applicable(estate).minimum()?;
        Some((spot.asked.clone(), estate.catalogue.actions[action].name.to_string()))
    });
    let Some((on, does)) = any else {
        bail!("no action of the catalogue applies anywhere in this estate");
    };
    request.on = on.into();
    request.does = does.into();
    let query = request.resolve(estate).map_err(|fault| super::with_hint(&fault, estate))?;
    Ok(Viewpoint::of(&query))
}

fn columns(
    estate: &Estate,
    typed: &Reach,
    request: &Request<'static>,
) -> anyhow::Result<Vec<Column>> {
    let mut columns = Vec::new();
    // The moment that all columns share stands in the title.
    let plain = describe(&Circumstances { at_time: None, ..typed.circumstances.clone() });
    for who in &typed.who {
        let request = Request { who: who.clone().into(), ..request.clone() };
        let viewpoint = viewpoint(estate, request)?;
        columns.push(Column { name: format!("{who}{plain}"), short: who.clone(), viewpoint });
    }
    for options in &typed.beside {
        let words = shlex::split(options)
            .with_context(|| format!("`--beside '{options}'`: a quote is not closed"))?;
        let beside = Beside::try_parse_from(words).map_err(|error| {
            let text = error.to_string();
            let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
            anyhow::anyhow!("`--beside '{options}'`: {first}")
        })?;
        let who = beside.who.unwrap_or_else(|| typed.who[0].clone());
        let mut here = beside.circumstances;
        let said = describe(&here);
        // A column without a moment of its own shares everybody's.
        here.at_time = here.at_time.or_else(|| typed.circumstances.at_time.clone());
        let (mut request, _) = circumstances::request(&here)?;
        request.who = who.clone().into();
        let name = format!("{who}{said}");
        let viewpoint = viewpoint(estate, request)?;
        columns.push(Column { short: name.clone(), name, viewpoint });
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
        if rows[i].spot.sort == SpotSort::Scope && !seen[i] {
            let below = estate.scopes.subtree(rows[i].spot.scope());
            let rest = rows[i..].iter().zip(&seen[i..]);
            keep[i] = rest
                .take_while(|(row, _)| below.contains(&row.spot.scope().index()))
                .any(|(_, seen)| *seen);
        }
    }
    let mut kept = keep.into_iter();
    rows.retain(|_| kept.next().unwrap_or(false));
}
