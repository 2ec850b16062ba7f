//! A change weighed: what it does to everybody, worked out once for whoever tells it.

use std::borrow::Cow;
use std::cell::RefCell;
use std::path::Path;

use anyhow::bail;
use bexum_core::engine::Engine;
use bexum_core::impact::{
    ByName, Cell, Change, Changes, Difference, LimitedIn, OpenedCell, Renamed, RolesChanged,
    differences, refuse_circumstances, renamed, told_as_one,
};
use bexum_core::time::Time;
use bexum_wire::impact as wire;
use rayon::prelude::*;

use super::impact::{
    Side, Wanted, besides, compared, everybody, first_opened, folder_after, later, prove_command,
    same_files,
};
use super::{by, circumstances, impact_log, turned};
use crate::args::{FailOn, Impact, ImpactFormat};
use crate::render::grid_builder::told_apart;
use crate::render::impact::{Changed, Told, Unlisted};
use crate::render::impact_besides::{InLog, InOther, Later, Turned};
use crate::render::ruling::By;
use crate::terminal;

/// Most cells that are told in one JSON text, which is put together before it is written.
const MOST_IN_JSON: usize = 5_000_000;

/// All that is found out about a change.
pub(super) struct Weighed<'w> {
    sides: [&'w Side; 2],
    differing: &'w [Difference],
    /// The cells that come to something else.
    pub(super) cells: &'w Changes,
    limited: LimitedIn,
    roles: &'w [(String, RolesChanged)],
    /// Expectations that come to something else.
    pub(super) turned: Vec<Turned>,
    besides: Vec<InOther>,
    later: Vec<Later>,
    turns: Turns,
    in_log: Option<InLog>,
    /// Whether somebody may make the change, if that was asked.
    pub(super) ruling: Option<By<'w>>,
    because: &'w dyn Fn(&Cell) -> Vec<usize>,
    moment: Time,
    is_narrowed: bool,
    typed: &'w Impact,
    prove: Option<String>,
}

/// Whether something is gained and lost: now, or, where that was looked for, later or without a row.
struct Turns {
    gained: bool,
    lost: bool,
    /// Of what is gained, and of what is lost, what is in none of the cells.
    unlisted: [UnlistedTurn; 2],
}

/// What is opened, or closed, though no cell tells it.
#[derive(Default)]
struct UnlistedTurn {
    /// The first that is: only later, or where no row is.
    first: Option<OpenedCell>,
    /// Below what not all items were told apart when that was looked for.
    not_told: Option<String>,
    /// Whether it was looked for.
    is_searched: bool,
}

impl UnlistedTurn {
    /// Whether there is anything, as far as it is decided: what is not decided counts.
    fn is_any(&self) -> bool {
        self.first.is_some() || self.not_told.is_some()
    }
}

/// Weighs a change in the circumstances that were typed, and hands it to whoever tells it.
pub(super) fn weigh<T>(
    at: Option<&Path>,
    typed: &Impact,
    sides: [&Side; 2],
    then: impl FnOnce(&Weighed<'_>) -> anyhow::Result<T>,
) -> anyhow::Result<T> {
    let [before, after] = sides;
    let (mut request, _) = circumstances::request(&typed.circumstances)?;
    if typed.by.is_some() {
        // They are those of whoever makes the change, which may concern everybody in any.
        request.take_up = None;
        request.given.clear();
        request.empty_tables.clear();
    }
    let same = same_files(&before.sources, &after.sources);
    let wanted = Wanted::new(typed, &before.estate, &after.estate)?;
    let engine =
        |side: &Side| side.engine.clone().unwrap_or_else(|| Engine::new(side.estate.clone()));
    // Where people are new or gone, not all is decided as before: what it takes to find out is got ready.
    let [was, is] = sides.map(|side| side.estate.users.len());
    let (differing, ready) = rayon::join(
        || differences(&before.estate, &after.estate, &same),
        || (is != was).then(|| engine(after)),
    );
    // That nobody gains or loses anything is said of all items and of all moments from now on.
    let is_told = typed.format != ImpactFormat::Csv && !differing.is_empty();
    let searched = |on: FailOn| is_told || asks_for(typed, on);
    let asks_more = typed.by.is_some() || !typed.beside.is_empty() || !typed.log.is_empty();
    if !asks_more && differing.iter().all(Difference::decides_nothing) {
        // All is decided as before: nothing has to be got ready to find that out.
        for side in sides {
            refuse_circumstances(&side.estate, &request)
                .map_err(|fault| super::with_hint(&fault, &side.estate))?;
        }
        let unlisted = |on| UnlistedTurn { is_searched: searched(on), ..UnlistedTurn::default() };
        return then(&Weighed {
            sides,
            differing: &differing,
            cells: &Changes::default(),
            limited: LimitedIn::default(),
            roles: &[],
            turned: Vec::new(),
            besides: Vec::new(),
            later: Vec::new(),
            turns: Turns {
                gained: false,
                lost: false,
                unlisted: [FailOn::Gained, FailOn::Lost].map(unlisted),
            },
            in_log: None,
            ruling: None,
            because: &|_| Vec::new(),
            moment: request.time,
            is_narrowed: wanted.is_narrowed(),
            typed,
            prove: prove_command(at, typed),
        });
    }
    let (old, new) = rayon::join(|| engine(before), || ready.unwrap_or_else(|| engine(after)));
    let engines = [old, new];
    let ruling = match &typed.by {
        Some(who) => Some(by::ruled(who, typed, sides, &engines, &same)?),
        None => None,
    };
    let comparison = compared(&engines, &differing, &request)?;
    let found = everybody(&comparison, &wanted);
    let count = found.changes.count(|_| true);
    if typed.format == ImpactFormat::Json && count > MOST_IN_JSON {
        bail!(
            "{count} cells come to something else, too many for one JSON text: the \
             other formats tell them, and `bexum impact --format csv` writes them as they come"
        );
    }
    // The same files expect the same of the same.
    let turned = match differing.is_empty() {
        true => Vec::new(),
        false => turned::turned(&engines, [&before.sources, &after.sources], request.time),
    };
    let besides = besides(typed, &engines, &differing, &wanted)?;
    let later = later(&engines, &differing, &request, &wanted, &found.changes)?;
    let not_told = |limited: LimitedIn| {
        let mut told = engines.iter().zip(limited);
        told.find_map(|(engine, limited)| told_apart(engine.estate(), &limited))
    };
    let is_there = |is: fn(&Change) -> bool| found.changes.any(is);
    let mut turns = Turns {
        gained: is_there(|change| change.is_gained),
        lost: is_there(|change| change.is_lost),
        unlisted: Default::default(),
    };
    if !turns.gained && searched(FailOn::Gained) {
        let (first, limited) = first_opened(&comparison, &wanted);
        turns.unlisted[0] = UnlistedTurn { first, not_told: not_told(limited), is_searched: true };
        turns.gained = turns.unlisted[0].is_any();
    }
    if !turns.lost && searched(FailOn::Lost) {
        let (first, [after, before]) = first_opened(&comparison.turned(), &wanted);
        let not_told = not_told([before, after]);
        turns.unlisted[1] = UnlistedTurn { first, not_told, is_searched: true };
        turns.lost = turns.unlisted[1].is_any();
    }
    let in_log = match typed.log.is_empty() {
        true => None,
        false => {
            let folder = folder_after(at, typed);
            let asks = folder.as_ref().map(|folder| folder.as_deref());
            Some(impact_log::otherwise(&typed.log, &engines, asks, request.time)?)
        }
    };
    let asked = RefCell::new(comparison.compared());
    let by_name = ByName::new(&differing);
    then(&Weighed {
        sides,
        differing: &differing,
        cells: &found.changes,
        limited: found.limited,
        roles: &found.roles,
        turned,
        besides,
        later,
        turns,
        in_log,
        ruling,
        because: &|cell| asked.borrow_mut().because(cell, &by_name),
        moment: request.time,
        is_narrowed: wanted.is_narrowed(),
        typed,
        prove: prove_command(at, typed),
    })
}

fn asks_for(typed: &Impact, on: FailOn) -> bool {
    typed.fail_on.contains(&on) || typed.fail_on.contains(&FailOn::Any)
}

impl Weighed<'_> {
    /// What is gone under one name and there under another.
    pub(super) fn renamed(&self) -> Vec<Renamed> {
        let [before, after] = self.sides;
        renamed(&before.estate, &after.estate, self.differing)
    }

    /// What is left without what is the same under another name, and of how many cells that is so.
    pub(super) fn told_as_one(&self, renames: &[Renamed]) -> (Cow<'_, Changes>, usize) {
        if renames.is_empty() {
            return (Cow::Borrowed(self.cells), 0);
        }
        let cells: Vec<Cell> = self.cells.cells().collect();
        let (left, same) = told_as_one(&cells, renames);
        (Cow::Owned(Changes::of(&left)), same)
    }

    /// Hands out what is told to people.
    fn told<T>(&self, then: impl FnOnce(&Told<'_>) -> T) -> T {
        let renames = self.renamed();
        let (cells, same) = self.told_as_one(&renames);
        then(&Told {
            differing: self.differing,
            sources: self.sides.map(|side| &side.sources),
            because: self.because,
            cells: &cells,
            renamed: (&renames, same),
            later: &self.later,
            besides: &self.besides,
            in_log: self.in_log.as_ref(),
            unlisted: self.turns.unlisted.each_ref().map(|turn| Unlisted {
                first: turn.first.as_ref().map(|cell| (cell, self.has_row(cell))),
                not_told: turn.not_told.as_deref(),
                is_searched: turn.is_searched,
            }),
            roles: self.roles,
            turned: &self.turned,
            prove: self.prove.as_deref(),
            estates: self.sides.map(|side| &*side.estate),
            names: self.sides.map(|side| side.name.as_str()),
            moment: self.moment,
            is_narrowed: self.is_narrowed,
            full: self.typed.full || self.typed.format == ImpactFormat::Html,
        })
    }

    /// For people at a terminal.
    pub(super) fn text(&self) -> String {
        let width = terminal::width();
        let by = self.ruling.as_ref().map(|by| by.text(width, self.typed.full));
        self.told(|told| told.text(width)) + &by.unwrap_or_default()
    }

    /// For a comment.
    pub(super) fn markdown(&self) -> String {
        let by = self.ruling.as_ref().map(By::markdown);
        self.told(|told| told.markdown()) + &by.unwrap_or_default()
    }

    /// A page by itself.
    pub(super) fn page(&self) -> anyhow::Result<String> {
        self.told(|told| told.page(self.ruling.as_ref()))
    }

    /// For machines.
    pub(super) fn shape(&self) -> wire::Impact {
        let [before, after] = self.sides.map(|side| side.name.clone());
        let sources = self.sides.map(|side| &side.sources);
        let differences = self.differing.par_iter().map(|difference| {
            let [before, after] = Changed { difference, sources }.at();
            let keys = difference.keys.iter().map(|key| (*key).to_owned()).collect();
            wire::Difference { thing: difference.thing.to_string(), keys, before, after }
        });
        let mut impact = wire::Impact::new(before, after, differences.collect(), self.cells);
        let of_each = self.turns.unlisted.iter().zip([wire::Turn::Gained, wire::Turn::Lost]);
        let mut firsts =
            of_each.filter_map(|(turn, way)| Some(wire::Unlisted::of(turn.first.as_ref()?, way)));
        impact.unlisted = firsts.next();
        impact.not_told_apart = self.turns.unlisted.iter().any(|turn| turn.not_told.is_some());
        impact.by = self.ruling.as_ref().map(By::shape);
        impact.roles =
            self.roles.iter().map(|(who, changed)| wire::Roles::of(who, changed)).collect();
        impact.expectations = self.turned.iter().map(Turned::shape).collect();
        impact.beside = self.besides.iter().map(InOther::shape).collect();
        impact.log = self.in_log.as_ref().map(InLog::shape);
        impact.later = self.later.iter().map(Later::shape).collect();
        impact
    }

    /// Whether the change is one that was not to be.
    pub(super) fn fails(&self) -> bool {
        let is_refused = self.ruling.as_ref().is_some_and(|by| !by.ruling.is_allowed());
        is_refused
            || asks_for(self.typed, FailOn::Gained) && self.turns.gained
            || asks_for(self.typed, FailOn::Lost) && self.turns.lost
            || self.typed.fail_on.contains(&FailOn::Broken) && self.breaks()
    }

    /// Whether the moment has a row for a cell, so that it is opened or closed only later: not where
    /// patterns meet that are the same on both sides.
    fn has_row(&self, cell: &OpenedCell) -> bool {
        let is_declared = |side: &&Side| {
            let estate = &side.estate;
            estate.scopes.find(&cell.place).is_some() || estate.identity_at(&cell.place).is_some()
        };
        cell.place.contains('*') || self.sides.iter().any(is_declared)
    }

    /// Whether an expectation breaks by it.
    pub(super) fn breaks(&self) -> bool {
        self.turned.iter().any(|one| one.is_broken)
    }

    /// Refuses where rows had to be left out.
    pub(super) fn expect_whole(&self) -> anyhow::Result<()> {
        for (side, limited) in self.sides.into_iter().zip(&self.limited) {
            if let Some(limited) = told_apart(&side.estate, limited) {
                bail!("rows are left out of {}: {limited}", side.name);
            }
        }
        Ok(())
    }
}
