//! From effective access to a grid: what a row says, what is folded, what is noted.

use std::collections::HashMap;
use std::sync::Arc;

use bexum_core::Estate;
use bexum_core::catalogue::{ActionSet, Level};
use bexum_core::engine::{Cells, Closure, Decider, Engine};
use bexum_core::id::{ActionId, RoleId};
use bexum_core::principal::Principal;
use bexum_core::reach::{self, AccessTarget, Classes, Crowd, Limited, Row, TargetSort, Viewpoint};

use rayon::prelude::*;

use super::fold::{self, Folded};
use super::grid::{Grid, GridRow, LevelCell, Notes};
use super::phrases;

/// Most names of a group of people that are shown.
const NAMES: usize = 3;

/// A viewpoint and what it is called in headings.
pub(crate) struct Column {
    pub(crate) name: String,
    /// Without the circumstances that all columns share, for machines.
    pub(crate) short: String,
    pub(crate) viewpoint: Viewpoint,
    /// The ways in which this principal can act, itself first.
    pub(crate) sessions: Vec<Viewpoint>,
}

/// What a row of the grid is about, whoever is asked.
struct Told<'t> {
    target: &'t AccessTarget,
    /// Of each column, for the notes and sources; one for all of them where they are alike.
    viewpoints: Vec<&'t Viewpoint>,
    wanted: Option<&'t ActionSet>,
}

/// What the cells of a row that depend wait for, each with its action's place in the catalogue.
type Doubts = Vec<(reach::Doubt, usize)>;

/// Rows that one thread draws together: many, as what is found out about sessions is kept for all.
const DRAWN_TOGETHER: usize = 256;

/// Makes grids.
pub(crate) struct GridBuilder<'e> {
    pub(crate) engine: &'e Engine,
    /// Every action's name, shared by all cells that name it.
    pub(crate) action_names: Vec<Arc<str>>,
    pub(crate) full: bool,
    pub(crate) sources: bool,
    /// Whether the names of all people of a row are kept, for a search or a long list.
    pub(crate) all_names: bool,
    /// The estate, the moment and the circumstances, for pages that are passed on.
    pub(crate) origin: String,
}

impl GridBuilder<'_> {
    /// Everything that the columns' principals can do; what is the same below is folded.
    pub(crate) fn by_principal(
        &self,
        title: String,
        columns: &[Column],
        classes: &Classes,
        rows: &[Row],
        wanted: Option<&ActionSet>,
    ) -> Grid {
        let estate = self.engine.estate();
        let mut grid = self.grid(title, "where", columns.iter().map(|c| c.name.clone()).collect());
        grid.remarks.extend(columns.iter().filter_map(|column| self.remark(&column.viewpoint)));
        let folded = fold::fold(estate, Some(classes), rows, wanted);
        // Of rows that are alike the first is drawn, the others as that one.
        let (mut firsts, mut known) = (Vec::new(), HashMap::new());
        let mut like: Vec<usize> = Vec::with_capacity(folded.len());
        for row in folded.iter().map(|folded| &rows[folded.row]) {
            let new = firsts.len();
            let first = match fold::likeness(estate, classes, row) {
                // Where something is attached differs even where it comes to the same.
                Some(like) if !self.sources => *known.entry(like).or_insert(new),
                _ => new,
            };
            firsts.extend((first == new).then_some(row));
            like.push(first);
        }
        let draw = |rows: &[&Row]| -> Vec<(Vec<GridRow>, Doubts)> {
            let mut decider = Decider::new(self.engine);
            let each = rows.iter().map(|row| {
                let viewpoints = columns.iter().map(|column| &column.viewpoint).collect();
                let told = Told { target: &row.target, viewpoints, wanted };
                let mut doubts = Doubts::new();
                (self.rows_of(&mut decider, &mut doubts, &told, row), doubts)
            });
            each.collect()
        };
        let firsts: Vec<_> = firsts.par_chunks(DRAWN_TOGETHER).flat_map_iter(draw).collect();
        let placed: Vec<(&Folded, usize)> = folded.iter().zip(like).collect();
        let drawn = placed.par_iter().flat_map_iter(|(folded, first)| {
            let drawn = self.moved(&firsts[*first].0, &rows[folded.row].target);
            folded.rows_drawn(rows, drawn, self.all_names)
        });
        grid.rows = drawn.collect();
        let mut notes_of: Vec<Option<Vec<usize>>> = vec![None; firsts.len()];
        for (folded, first) in placed {
            let place = &rows[folded.row].target.shown;
            let notes = notes_of[first]
                .get_or_insert_with(|| self.note(&mut grid.notes, &firsts[first].1, place));
            notes.iter().for_each(|note| grid.notes.met(*note, place));
        }
        // A part of the tree starts at the margin, under its whole path; so does every row whose
        // parent is not shown above it.
        let least = grid.rows.iter().map(|row| row.depth).min().unwrap_or(0);
        let mut above: Vec<(usize, String)> = Vec::new();
        for row in &mut grid.rows {
            row.depth -= least;
            if row.is_role {
                continue;
            }
            above.retain(|(depth, _)| *depth < row.depth);
            let is_below = |(depth, path): &(usize, String)| {
                let below = row.title.strip_prefix(path.as_str());
                depth + 1 == row.depth && below.is_some_and(|below| below.starts_with('/'))
            };
            if !above.last().is_some_and(is_below) {
                row.label = row.title.clone();
            }
            above.push((row.depth, row.title.clone()));
        }
        grid
    }

    /// Who can do what at some places: people with the same access together.
    pub(crate) fn by_place(&self, title: String, anybody: &Viewpoint, places: &[Crowd]) -> Grid {
        let mut grid = self.grid(title, "who", vec![String::new()]);
        let mut decider = Decider::new(self.engine);
        for (target, groups) in places {
            if places.len() > 1 {
                grid.rows.push(GridRow::heading(&target.shown));
            }
            for (i, (access, who)) in groups.iter().enumerate() {
                let first = anybody.seen_by(who[0]);
                let told = Told { target, viewpoints: vec![&first], wanted: None };
                let row = Row { target: target.clone(), access: [access.clone()].into() };
                let mut doubts = Doubts::new();
                let mut drawn = self.rows_of(&mut decider, &mut doubts, &told, &row);
                self.note(&mut grid.notes, &doubts, &target.shown);
                if self.sources {
                    for row in &mut drawn {
                        row.sources.clear();
                    }
                    for who in who.iter().take(NAMES) {
                        let viewpoint = anybody.seen_by(*who);
                        let id = self.engine.estate().principal_id(*who);
                        for (row, (role, cells)) in drawn.iter_mut().zip(access.sessions()) {
                            let session = viewpoint.acting(role);
                            let own = self.sources(&mut decider, &session, target, cells);
                            row.sources
                                .extend(own.into_iter().map(|source| format!("{id}: {source}")));
                        }
                    }
                }
                let none = access.is_nothing();
                let others = if none && i > 0 { "all others: " } else { "" };
                let names = self.names(who, if none { 2 } else { NAMES });
                let depth = usize::from(places.len() > 1);
                for row in &mut drawn {
                    row.depth = depth + usize::from(row.is_role);
                }
                drawn[0].label = format!("({}) {others}{names}", who.len());
                drawn[0].title = self.title(who);
                grid.rows.extend(drawn);
            }
        }
        grid
    }

    /// A grid of who can do some actions, and where, before anybody is added.
    pub(crate) fn by_action(&self, title: String) -> Grid {
        self.grid(title, "who and where", vec![String::new()])
    }

    /// Adds people who can do the same at the same places.
    pub(crate) fn add_actors(
        &self,
        grid: &mut Grid,
        decider: &mut Decider<'_>,
        (anybody, who): (&Viewpoint, &[Principal]),
        rows: &[Row],
        wanted: &ActionSet,
    ) {
        let viewpoint = anybody.seen_by(who[0]);
        grid.rows.push(GridRow {
            title: self.title(who),
            ..GridRow::heading(&format!("({}) {}", who.len(), self.names(who, NAMES)))
        });
        for folded in fold::fold(self.engine.estate(), None, rows, Some(wanted)) {
            let row = &rows[folded.row];
            let told =
                Told { target: &row.target, viewpoints: vec![&viewpoint], wanted: Some(wanted) };
            let mut doubts = Doubts::new();
            let mut drawn = self.rows_of(decider, &mut doubts, &told, row);
            self.note(&mut grid.notes, &doubts, &row.target.shown);
            for row in &mut drawn {
                row.depth = 1 + usize::from(row.is_role);
            }
            drawn[0].label = row.target.shown.clone();
            grid.rows.extend(folded.rows_drawn(rows, drawn, self.all_names));
        }
    }

    /// Why a viewpoint can do nothing at all, wherever it is asked.
    fn remark(&self, viewpoint: &Viewpoint) -> Option<String> {
        let estate = self.engine.estate();
        let who = estate.principal_id(viewpoint.who);
        if let Principal::User(id) = viewpoint.who
            && !estate.user(id).enabled
        {
            return Some(format!("{who} is not enabled: nothing is allowed"));
        }
        let role = viewpoint.take_up?;
        let closure = Closure::new(self.engine, viewpoint.who, &viewpoint.also, viewpoint.time);
        let name = &estate.role(role).identity.name;
        (!closure.can_take_up(role))
            .then(|| format!("{who} cannot take up role:{name}: nothing is allowed"))
    }

    fn grid(&self, title: String, head: &'static str, columns: Vec<String>) -> Grid {
        Grid {
            title,
            origin: self.origin.clone(),
            remarks: Vec::new(),
            head,
            columns,
            rows: Vec::new(),
            notes: Notes::default(),
            full: self.full,
        }
    }

    /// The row of a target, then one for each role that adds something there; what they depend on is
    /// added to `doubts`.
    fn rows_of(
        &self,
        decider: &mut Decider<'_>,
        doubts: &mut Doubts,
        told: &Told<'_>,
        row: &Row,
    ) -> Vec<GridRow> {
        let estate = self.engine.estate();
        let nothing = Cells::nothing(estate.catalogue.actions.len());
        let own = row.access.iter().map(|access| Some(&access.own)).collect();
        let all = std::iter::once((None, own));
        let all = all.chain(row.by_role().into_iter().map(|(role, cells)| (Some(role), cells)));
        let mut drawn = Vec::new();
        for (role, cells) in all {
            let mut sources = Vec::new();
            for (viewpoint, cells) in told.viewpoints.iter().zip(&cells) {
                let (session, Some(cells)) = (viewpoint.acting(role), cells) else { continue };
                let depends = reach::doubts(decider, &session, told.target, &cells.depends);
                doubts.extend(depends.into_iter().map(|(doubt, action)| (doubt, action.index())));
                if self.sources {
                    sources.extend(self.sources(decider, &session, told.target, cells));
                }
            }
            let cells: Vec<&Cells> = cells.into_iter().map(|c| c.unwrap_or(&nothing)).collect();
            let plain = GridRow { sources, ..self.row(told.target, &cells, told.wanted) };
            drawn.push(match role {
                None => GridRow { differs: row.access.windows(2).any(|p| p[0] != p[1]), ..plain },
                Some(role) => self.row_of_role(role, plain),
            });
        }
        drawn
    }

    /// A row, made to say what a role adds to the one above it.
    fn row_of_role(&self, role: RoleId, mut row: GridRow) -> GridRow {
        let label = format!("as {}", self.engine.estate().principal_id(Principal::Role(role)));
        for level in 0..Level::ALL.len() {
            let adds = |cells: &[LevelCell; 4]| {
                !cells[level].allow.is_empty() || !cells[level].depends.is_empty()
            };
            if !row.cells.iter().any(adds) {
                let cells = Arc::make_mut(&mut row.cells);
                cells.iter_mut().for_each(|cells| cells[level].total = 0);
            }
        }
        let title = format!("{} {label}", row.title);
        GridRow { label, title, depth: row.depth + 1, is_role: true, differs: false, ..row }
    }

    /// A row; of the actions that apply there, only those in `wanted`.
    fn row(&self, target: &AccessTarget, cells: &[&Cells], wanted: Option<&ActionSet>) -> GridRow {
        let estate = self.engine.estate();
        let mut applicable = target.applicable(estate).clone();
        if let Some(wanted) = wanted {
            applicable.intersect_with(wanted);
        }
        let actions = &estate.catalogue.actions;
        let level_cell = |cells: &Cells, level: Level| {
            let named = |set: &ActionSet| -> Vec<Arc<str>> {
                let of_level = set.ones().filter(|i| actions[*i].level == level);
                of_level.map(|i| Arc::clone(&self.action_names[i])).collect()
            };
            LevelCell {
                allow: named(&cells.allow),
                depends: named(&cells.depends),
                total: applicable.ones().filter(|i| actions[*i].level == level).count(),
            }
        };
        let levels = |cells: &&Cells| Level::ALL.map(|level| level_cell(cells, level));
        GridRow {
            depth: target.depth(estate),
            label: self.label(target),
            title: target.shown.clone(),
            cells: Arc::new(cells.iter().map(levels).collect()),
            ..GridRow::default()
        }
    }

    fn label(&self, target: &AccessTarget) -> String {
        let (path, scope) = (&target.shown, &self.engine.estate().scope(target.scope()).path);
        match target.sort {
            TargetSort::Scope | TargetSort::Identity => {
                path.rsplit('/').next().unwrap_or(path).to_owned()
            }
            TargetSort::Items => "**".to_owned(),
            TargetSort::Pattern => path.get(scope.len() + 1..).unwrap_or(path).to_owned(),
        }
    }

    /// The rows drawn for a target, as they are for one of which they say the same.
    fn moved(&self, drawn: &[GridRow], to: &AccessTarget) -> Vec<GridRow> {
        let depth = to.depth(self.engine.estate());
        let moved = drawn.iter().map(|row| {
            let (depth, label, title) = match row.is_role {
                true => (depth + 1, row.label.clone(), format!("{} {}", to.shown, row.label)),
                false => (depth, self.label(to), to.shown.clone()),
            };
            GridRow { depth, label, title, ..row.clone() }
        });
        moved.collect()
    }

    /// The names of all, or of the first of them.
    fn title(&self, who: &[Principal]) -> String {
        self.names(who, if self.all_names { usize::MAX } else { NAMES })
    }

    fn names(&self, who: &[Principal], most: usize) -> String {
        let names = who.iter().take(most).map(|who| self.engine.estate().principal_id(*who));
        let names: Vec<String> = names.collect();
        match who.len().saturating_sub(most) {
            0 => names.join(", "),
            more => format!("{} and {more} more", names.join(", ")),
        }
    }

    /// Adds what the cells of a row wait for to the notes, and says which these are.
    fn note(&self, notes: &mut Notes, doubts: &Doubts, place: &str) -> Vec<usize> {
        let each = doubts.chunk_by(|(one, _), (other, _)| one == other).map(|of_one| {
            let actions = of_one.iter().map(|(_, action)| Arc::clone(&self.action_names[*action]));
            notes.add(&of_one[0].0, actions, place)
        });
        each.collect()
    }

    /// Every route by which each allowed action is held; actions with the same routes together.
    fn sources(
        &self,
        decider: &mut Decider<'_>,
        viewpoint: &Viewpoint,
        target: &AccessTarget,
        cells: &Cells,
    ) -> Vec<String> {
        let mut groups: Vec<(Vec<String>, Vec<String>)> = Vec::new();
        for i in cells.allow.ones() {
            let query = viewpoint.query(target, action_id(self.engine.estate(), i));
            let routes = routes(decider, &query);
            let name = self.engine.estate().catalogue.actions[i].name.to_string();
            match groups.iter_mut().find(|(_, known)| *known == routes) {
                Some((actions, _)) => actions.push(name),
                None => groups.push((vec![name], routes)),
            }
        }
        groups
            .into_iter()
            .map(|(actions, routes)| format!("{} ← {}", actions.join(", "), routes.join("; and ")))
            .collect()
    }
}

/// Where patterns single out more items than have rows, if they do anywhere.
pub(crate) fn told_apart(estate: &Estate, limited: &Limited) -> Option<String> {
    let first = &estate.scope(*limited.first()?).path;
    let others = match limited.len() {
        1 => String::new(),
        n => format!(" and {} more places", n - 1),
    };
    Some(format!(
        "below {first}{others}, patterns tell apart more items than are listed; `bexum ask` answers for \
         any one of them"
    ))
}

/// Every route by which an allowed query is granted, in words.
pub(crate) fn routes(decider: &mut Decider<'_>, query: &bexum_core::Query<'_>) -> Vec<String> {
    let estate = decider.index.estate();
    let grants = reach::sources(decider, query);
    let told = grants.iter().map(|grant| {
        format!(
            "{} to {} at {}",
            estate.statement_label(grant.statement),
            phrases::subject(estate, grant.subject),
            estate.scope(grant.scope).path,
        )
    });
    told.collect()
}

/// The id of a position in the catalogue.
pub(crate) fn action_id(estate: &Estate, position: usize) -> ActionId {
    estate.catalogue.action_at(position)
}
