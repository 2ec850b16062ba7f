//! From effective access to a grid: what a row says, what is folded, what is noted.

use bexum_core::catalogue::{ActionSet, Level};
use bexum_core::engine::{Cells, Closure, Decider, Index};
use bexum_core::id::ActionId;
use bexum_core::principal::Principal;
use bexum_core::reach::{self, Crowd, Row, Spot, SpotSort, Viewpoint};

use super::grid::{Grid, GridRow, LevelCell, Note};
use super::{fold, words};

/// Most names of a group of people that are shown.
const NAMES: usize = 3;

/// A viewpoint and what it is called in headings.
pub(crate) struct Column {
    pub(crate) name: String,
    /// Without the circumstances that all columns share, for machines.
    pub(crate) short: String,
    pub(crate) viewpoint: Viewpoint,
}

/// Makes grids.
pub(crate) struct Sketch<'e> {
    pub(crate) index: &'e Index<'e>,
    pub(crate) full: bool,
    pub(crate) sources: bool,
    /// The estate, the moment and the circumstances, for pages that are passed on.
    pub(crate) origin: String,
}

impl Sketch<'_> {
    /// Everything that the columns' principals can do; what is the same below is folded.
    pub(crate) fn by_principal(
        &self,
        title: String,
        columns: &[Column],
        rows: &[Row],
        wanted: Option<&ActionSet>,
    ) -> Grid {
        let estate = self.index.estate;
        let mut grid = self.grid(title, "where", columns.iter().map(|c| c.name.clone()).collect());
        let mut decider = Decider::new(self.index);
        grid.remarks.extend(columns.iter().filter_map(|column| self.remark(&column.viewpoint)));
        for folded in fold::fold(estate, rows, wanted) {
            let row = &rows[folded.row];
            let mut sources = Vec::new();
            for (column, cells) in columns.iter().zip(&row.cells) {
                self.note(&mut decider, &mut grid.notes, &column.viewpoint, &row.spot, cells);
                if self.sources {
                    sources.extend(self.sources(&mut decider, &column.viewpoint, &row.spot, cells));
                }
            }
            grid.rows.push(GridRow {
                same_below: folded.same_below,
                alike: folded.alike,
                folded: folded.rows.iter().map(|row| rows[*row].spot.shown.clone()).collect(),
                sources,
                ..self.row_of(&row.spot, &row.cells, wanted)
            });
        }
        // A part of the tree starts at the margin, under its whole path; so does every row whose
        // parent is not shown above it.
        let least = grid.rows.iter().map(|row| row.depth).min().unwrap_or(0);
        let mut above: Vec<(usize, String)> = Vec::new();
        for row in &mut grid.rows {
            row.depth -= least;
            above.retain(|(depth, _)| *depth < row.depth);
            let is_below = |(depth, path): &(usize, String)| {
                depth + 1 == row.depth && row.title.starts_with(&format!("{path}/"))
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
        let mut decider = Decider::new(self.index);
        for (spot, groups) in places {
            if places.len() > 1 {
                grid.rows.push(GridRow::heading(&spot.shown));
            }
            for (i, (cells, who)) in groups.iter().enumerate() {
                let first = anybody.seen_by(who[0]);
                self.note(&mut decider, &mut grid.notes, &first, spot, cells);
                let mut sources = Vec::new();
                if self.sources {
                    for who in who.iter().take(NAMES) {
                        let viewpoint = anybody.seen_by(*who);
                        let id = self.index.estate.principal_id(*who);
                        let own = self.sources(&mut decider, &viewpoint, spot, cells);
                        sources.extend(own.into_iter().map(|source| format!("{id}: {source}")));
                    }
                }
                let none = cells.allow.is_clear() && cells.depends.is_clear();
                let others = if none && i > 0 { "all others: " } else { "" };
                let row = self.row(spot, std::slice::from_ref(cells));
                grid.rows.push(GridRow {
                    label: format!(
                        "({}) {others}{}",
                        who.len(),
                        self.names(who, if none { 2 } else { NAMES })
                    ),
                    title: self.names(who, usize::MAX),
                    depth: usize::from(places.len() > 1),
                    sources,
                    ..row
                });
            }
        }
        grid
    }

    /// Who can do some actions, and where.
    pub(crate) fn by_action(
        &self,
        title: String,
        anybody: &Viewpoint,
        found: &[(Principal, Vec<Row>)],
        wanted: &ActionSet,
    ) -> Grid {
        let estate = self.index.estate;
        let mut grid = self.grid(title, "who and where", vec![String::new()]);
        let mut decider = Decider::new(self.index);
        for (who, rows) in self.together(found) {
            let viewpoint = anybody.seen_by(who[0]);
            grid.rows.push(GridRow {
                title: self.names(&who, usize::MAX),
                ..GridRow::heading(&format!("({}) {}", who.len(), self.names(&who, NAMES)))
            });
            for folded in fold::fold(estate, rows, Some(wanted)) {
                let row = &rows[folded.row];
                self.note(&mut decider, &mut grid.notes, &viewpoint, &row.spot, &row.cells[0]);
                let sources = if self.sources {
                    self.sources(&mut decider, &viewpoint, &row.spot, &row.cells[0])
                } else {
                    Vec::new()
                };
                grid.rows.push(GridRow {
                    label: row.spot.shown.clone(),
                    depth: 1,
                    same_below: folded.same_below,
                    alike: folded.alike,
                    folded: folded.rows.iter().map(|row| rows[*row].spot.shown.clone()).collect(),
                    sources,
                    ..self.row_of(&row.spot, &row.cells, Some(wanted))
                });
            }
        }
        grid
    }

    /// Why a viewpoint can do nothing at all, wherever it is asked.
    fn remark(&self, viewpoint: &Viewpoint) -> Option<String> {
        let estate = self.index.estate;
        let who = estate.principal_id(viewpoint.who);
        if let Principal::User(id) = viewpoint.who
            && !estate.user(id).enabled
        {
            return Some(format!("{who} is not enabled: nothing is allowed"));
        }
        let role = viewpoint.take_up?;
        let closure = Closure::new(self.index, viewpoint.who, &viewpoint.also, viewpoint.time);
        let name = &estate.role(role).identity.name;
        (!closure.can_take_up(role))
            .then(|| format!("{who} cannot take up role:{name}: nothing is allowed"))
    }

    /// Principals that can do the same at the same places stand together, save where each one's
    /// own routes are asked for.
    fn together<'f>(&self, found: &'f [(Principal, Vec<Row>)]) -> Vec<(Vec<Principal>, &'f [Row])> {
        let mut groups: Vec<(Vec<Principal>, &[Row])> = Vec::new();
        for (who, rows) in found {
            match groups.iter_mut().find(|(_, known)| !self.sources && *known == rows.as_slice()) {
                Some((together, _)) => together.push(*who),
                None => groups.push((vec![*who], rows)),
            }
        }
        groups
    }

    fn grid(&self, title: String, head: &'static str, columns: Vec<String>) -> Grid {
        let remarks = Vec::new();
        Grid {
            title,
            origin: self.origin.clone(),
            remarks,
            head,
            columns,
            rows: Vec::new(),
            notes: Vec::new(),
            full: self.full,
        }
    }

    fn row(&self, spot: &Spot, cells: &[Cells]) -> GridRow {
        self.row_of(spot, cells, None)
    }

    /// A row; of the actions that apply there, only those in `wanted`.
    fn row_of(&self, spot: &Spot, cells: &[Cells], wanted: Option<&ActionSet>) -> GridRow {
        let estate = self.index.estate;
        let mut applicable = spot.applicable(estate).clone();
        if let Some(wanted) = wanted {
            applicable.intersect_with(wanted);
        }
        let actions = &estate.catalogue.actions;
        let level_cell = |cells: &Cells, level: Level| {
            let of_level = |set: &ActionSet| -> Vec<String> {
                let named = set.ones().map(|i| &actions[i]).filter(|action| action.level == level);
                named.map(|action| action.name.to_string()).collect()
            };
            LevelCell {
                allow: of_level(&cells.allow),
                depends: of_level(&cells.depends),
                total: of_level(&applicable).len(),
            }
        };
        let path = &spot.shown;
        let scope = &estate.scope(spot.scope()).path;
        let label = match spot.sort {
            SpotSort::Scope | SpotSort::Identity => {
                path.rsplit('/').next().unwrap_or(path).to_owned()
            }
            SpotSort::Items => "**".to_owned(),
            SpotSort::Pattern => path.get(scope.len() + 1..).unwrap_or(path).to_owned(),
        };
        GridRow {
            depth: spot.depth(estate),
            label,
            title: path.clone(),
            same_below: 0,
            alike: 0,
            cells: cells
                .iter()
                .map(|cells| Level::ALL.map(|level| level_cell(cells, level)))
                .collect(),
            folded: Vec::new(),
            differs: cells.windows(2).any(|pair| pair[0] != pair[1]),
            sources: Vec::new(),
        }
    }

    fn names(&self, who: &[Principal], most: usize) -> String {
        let names = who.iter().take(most).map(|who| self.index.estate.principal_id(*who));
        let names: Vec<String> = names.collect();
        match who.len().saturating_sub(most) {
            0 => names.join(", "),
            more => format!("{} and {more} more", names.join(", ")),
        }
    }

    /// Adds what the cells that depend wait for to the notes.
    fn note(
        &self,
        decider: &mut Decider<'_>,
        notes: &mut Vec<Note>,
        viewpoint: &Viewpoint,
        spot: &Spot,
        cells: &Cells,
    ) {
        for (i, action) in
            cells.depends.ones().map(|i| (i, &self.index.estate.catalogue.actions[i]))
        {
            let doubt = reach::doubt(decider, &viewpoint.query(spot, action_id(self.index, i)));
            let name = action.name.to_string();
            let known = notes.iter().position(|note| note.doubt == doubt);
            let note = match known {
                Some(at) => &mut notes[at],
                None => {
                    notes.push(Note { doubt, actions: Vec::new(), places: Vec::new() });
                    notes.last_mut().expect("one was added")
                }
            };
            if !note.actions.contains(&name) {
                note.actions.push(name);
            }
            if !note.places.contains(&spot.shown) {
                note.places.push(spot.shown.clone());
            }
        }
    }

    /// Every route by which each allowed action is held; actions with the same routes together.
    fn sources(
        &self,
        decider: &mut Decider<'_>,
        viewpoint: &Viewpoint,
        spot: &Spot,
        cells: &Cells,
    ) -> Vec<String> {
        let mut groups: Vec<(Vec<String>, Vec<String>)> = Vec::new();
        for i in cells.allow.ones() {
            let query = viewpoint.query(spot, action_id(self.index, i));
            let routes = routes(decider, &query);
            let name = self.index.estate.catalogue.actions[i].name.to_string();
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

/// Every route by which an allowed query is granted, in words.
pub(crate) fn routes(decider: &mut Decider<'_>, query: &bexum_core::Query<'_>) -> Vec<String> {
    let estate = decider.index.estate;
    let grants = reach::sources(decider, query);
    let told = grants.iter().map(|grant| {
        format!(
            "{} to {} at {}",
            estate.statement_label(grant.statement),
            words::subject(estate, grant.subject),
            estate.scope(grant.scope).path,
        )
    });
    told.collect()
}

/// The id of a position in the catalogue.
pub(crate) fn action_id(index: &Index<'_>, position: usize) -> ActionId {
    index.estate.catalogue.action_at(position)
}
