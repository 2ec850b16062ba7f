//! Effective access as a grid: rows of places or people, cells for each level, ready to be drawn as
//! text, as a page, or as a picture.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use bexum_core::catalogue::Level;
use bexum_core::reach;

use rayon::prelude::*;

use super::report::{Cell, draw_rows, draw_shown, wrap_under};
use super::style::{self, paint, safe};

/// Lines that one thread colours together.
const LINES_TOGETHER: usize = 8_192;

/// What is drawn.
#[derive(Debug)]
pub(crate) struct Grid {
    pub(crate) title: String,
    /// The estate, the moment and the circumstances, for pages that are passed on.
    pub(crate) origin: String,
    /// What keeps a whole viewpoint from doing anything, a line each.
    pub(crate) remarks: Vec<String>,
    /// What the rows are: `where` or `who`.
    pub(crate) head: &'static str,
    /// The names of the viewpoints; one where nothing is compared.
    pub(crate) columns: Vec<String>,
    pub(crate) rows: Vec<GridRow>,
    pub(crate) notes: Notes,
    /// Whether actions are named instead of counted.
    pub(crate) full: bool,
}

/// A row: a place or people, and what can be done.
#[derive(Clone, Debug, Default)]
pub(crate) struct GridRow {
    pub(crate) depth: usize,
    pub(crate) label: String,
    /// The whole path, or everybody's names.
    pub(crate) title: String,
    /// How many rows below say the same and are not shown.
    pub(crate) same_below: usize,
    /// How many beside it say the same and are not shown.
    pub(crate) alike: usize,
    /// The paths of the rows below or beside it that are not shown.
    pub(crate) folded: Vec<String>,
    /// For each viewpoint, the four levels; rows that are alike share them.
    pub(crate) cells: Arc<Vec<[LevelCell; 4]>>,
    /// Whether the viewpoints differ here.
    pub(crate) differs: bool,
    /// Where each action comes from, a line each.
    pub(crate) sources: Vec<String>,
    /// Whether it says what a role adds to the row above it.
    pub(crate) is_role: bool,
}

/// The actions of one level in one row.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct LevelCell {
    pub(crate) allow: Vec<Arc<str>>,
    pub(crate) depends: Vec<Arc<str>>,
    pub(crate) total: usize,
}

/// What cells that depend wait for.
#[derive(Debug)]
pub(crate) struct Note {
    doubt: reach::Doubt,
    actions: Vec<Arc<str>>,
    known_actions: HashSet<Arc<str>>,
    first_place: String,
    places: HashSet<String>,
}

/// All notes, in the order in which they came up.
#[derive(Debug, Default)]
pub(crate) struct Notes {
    all: Vec<Note>,
    by_doubt: HashMap<reach::Doubt, usize>,
}

impl Notes {
    /// Adds what some actions wait for at a place; which of the notes says so.
    pub(super) fn add(
        &mut self,
        doubt: &reach::Doubt,
        actions: impl Iterator<Item = Arc<str>>,
        place: &str,
    ) -> usize {
        let at = self.by_doubt.get(doubt).copied().unwrap_or_else(|| {
            self.by_doubt.insert(doubt.clone(), self.all.len());
            self.all.push(Note {
                doubt: doubt.clone(),
                actions: Vec::new(),
                known_actions: HashSet::default(),
                first_place: place.to_owned(),
                places: HashSet::default(),
            });
            self.all.len() - 1
        });
        let note = &mut self.all[at];
        for action in actions {
            if note.known_actions.insert(Arc::clone(&action)) {
                note.actions.push(action);
            }
        }
        self.met(at, place);
        at
    }

    /// Of a note, that it is so at another place, too.
    pub(super) fn met(&mut self, note: usize, place: &str) {
        let places = &mut self.all[note].places;
        if !places.contains(place) {
            places.insert(place.to_owned());
        }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = &Note> {
        self.all.iter()
    }
}

/// The marks that stand in cells, for a legend.
#[derive(Debug, Default)]
pub(crate) struct Marks {
    allow: bool,
    depends: bool,
    none: bool,
    blank: bool,
    role: bool,
}

impl Marks {
    fn take_in(&mut self, rows: &[GridRow]) {
        for row in rows {
            let cells = &row.cells[0];
            self.role |= row.is_role;
            self.allow |= cells.iter().any(|cell| !cell.allow.is_empty());
            self.depends |= cells.iter().any(|cell| !cell.depends.is_empty());
            let is_none = |cell: &LevelCell| cell.allow.is_empty() && cell.depends.is_empty();
            self.none |= cells.iter().any(|cell| cell.total > 0 && is_none(cell));
            // A heading has no cell, and a role's row is blank where the role adds nothing.
            let is_place = !row.is_role && cells.iter().any(|cell| cell.total > 0);
            self.blank |= is_place && cells.iter().any(|cell| cell.total == 0);
        }
    }

    fn told(&self) -> String {
        let marks = [
            (self.allow, "1/2 one of two that apply is allowed"),
            (self.depends, "+1? one more depends on what is not given"),
            (self.none, "– none"),
            (self.blank, "blank: no such action applies"),
            (self.role, "as role:… what taking up that role adds"),
        ];
        let told = marks.into_iter().filter(|(met, _)| *met).map(|(_, mark)| mark);
        told.collect::<Vec<_>>().join("; ")
    }
}

impl GridRow {
    /// A row that only names what the rows below it are about.
    pub(super) fn heading(label: &str) -> Self {
        Self {
            label: label.to_owned(),
            title: label.to_owned(),
            cells: Arc::new(vec![Default::default()]),
            ..Self::default()
        }
    }
}

impl LevelCell {
    /// `3/3`, `1/2 +1?`, `–` for nothing, empty where no action applies.
    pub(crate) fn short(&self) -> String {
        if self.total == 0 {
            return String::new();
        }
        let depends = match self.depends.len() {
            0 => String::new(),
            n => format!("+{n}?"),
        };
        match (self.allow.len(), depends.is_empty()) {
            (0, true) => "–".to_owned(),
            (0, false) => format!("{depends} of {}", self.total),
            (n, true) => format!("{n}/{}", self.total),
            (n, false) => format!("{n}/{} {depends}", self.total),
        }
    }

    /// Every action, those that depend with a question mark.
    pub(crate) fn long(&self) -> String {
        let depends = self.depends.iter().map(|name| format!("{name}?"));
        let allow = self.allow.iter().map(|name| name.to_string());
        let all: Vec<String> = allow.chain(depends).collect();
        if all.is_empty() && self.total > 0 { "–".to_owned() } else { all.join(", ") }
    }
}

impl Grid {
    /// For a terminal.
    pub(crate) fn text(&self, width: usize) -> String {
        let mut marks = Marks::default();
        let mut out = self.beginning();
        out.push_str(&self.part(&mut marks, width));
        out.push_str(&self.ending(&marks, width));
        out
    }

    /// For a terminal, what stands above the rows.
    pub(crate) fn beginning(&self) -> String {
        let mut out = format!("{}\n", paint(style::HEADING, &safe(&self.title)));
        for remark in &self.remarks {
            out.push_str(&format!("{}\n", paint(style::DENY, remark)));
        }
        out.push('\n');
        out
    }

    /// The rows so far, and what is met in them.
    pub(crate) fn part(&self, marks: &mut Marks, width: usize) -> String {
        let mut out = String::new();
        let is_long = self.full || self.rows.iter().any(|row| !row.sources.is_empty());
        if self.rows.is_empty() {
            out.push_str("nothing\n");
        } else if self.columns.len() > 1 {
            self.side_by_side(&mut out, width);
        } else if is_long {
            self.long(&mut out, width);
        } else {
            self.compact(&mut out, marks, width);
        }
        out
    }

    /// What stands below all rows.
    pub(crate) fn ending(&self, marks: &Marks, width: usize) -> String {
        let mut out = String::new();
        let legend = marks.told();
        if !legend.is_empty() {
            let mut text = String::new();
            wrap_under(&mut text, "  ", "  ", &legend, width);
            out.push_str(&format!("{}\n", paint(style::QUIET, text.trim_end())));
        }
        self.draw_notes(&mut out, width);
        out
    }

    /// Whether some row says what a role adds.
    pub(crate) fn has_roles(&self) -> bool {
        self.rows.iter().any(|row| row.is_role)
    }

    fn node(row: &GridRow) -> Cell {
        Cell::Node { depth: row.depth, name: row.label.clone(), path: row.title.clone() }
    }

    /// A row that says for how many others the one above it stands, if it does.
    fn same(row: &GridRow, columns: usize) -> Option<Vec<Cell>> {
        let (depth, name) = match (row.same_below, row.alike) {
            (0, 0) => return None,
            (0, alike) => (row.depth, format!("… {alike} like it")),
            (below, _) => (row.depth + 1, format!("… {below} below: the same")),
        };
        // It is told of the row above, of which that of a role is a part.
        let depth = depth - usize::from(row.is_role);
        let mut cells = vec![Cell::None; columns];
        cells[0] = Cell::Node { depth, name, path: String::new() };
        Some(cells)
    }

    fn compact(&self, out: &mut String, marks: &mut Marks, width: usize) {
        let columns = [self.head, "observe", "operate", "alter", "govern"];
        let shown = self.rows.par_iter().flat_map_iter(|row| {
            let mut cells = vec![Self::node(row).shown()];
            cells.extend(row.cells[0].iter().map(LevelCell::short));
            let same = Self::same(row, columns.len());
            let same = same.map(|cells| cells.iter().map(Cell::shown).collect());
            std::iter::once(cells).chain(same)
        });
        let shown: Vec<Vec<String>> = shown.collect();
        let mut plain = String::new();
        draw_shown(&mut plain, &columns, &shown, width);
        if style::is_plain() {
            out.push_str(&plain);
        } else {
            let lines: Vec<&str> = plain.split_inclusive('\n').collect();
            let parts = lines.par_chunks(LINES_TOGETHER).map(|lines| coloured(&lines.concat()));
            out.push_str(&parts.collect::<Vec<_>>().concat());
        }
        marks.take_in(&self.rows);
    }

    /// The first viewpoint as counts, the others as what they have more, less, or in doubt.
    fn side_by_side(&self, out: &mut String, width: usize) {
        // Long names stand above the table, and numbers in its head.
        let longest = self.columns.iter().map(|name| name.chars().count()).max().unwrap_or(0);
        let numbered = longest > width / (self.columns.len() + 1) + 8;
        let heads: Vec<String> = match numbered {
            true => (1..=self.columns.len()).map(|i| format!("({i})")).collect(),
            false => self.columns.clone(),
        };
        if numbered {
            for (head, name) in heads.iter().zip(&self.columns) {
                wrap(out, &format!("  {head} "), 6, name, width);
            }
            out.push('\n');
        }
        let mut columns = vec![self.head];
        columns.extend(heads.iter().map(String::as_str));
        let mut rows = Vec::new();
        for row in &self.rows {
            let mut cells = vec![Self::node(row), Cell::text(summary(&row.cells[0], self.full))];
            cells.extend(
                row.cells[1..].iter().map(|other| Cell::text(difference(&row.cells[0], other))),
            );
            rows.push(cells);
            rows.extend(Self::same(row, columns.len()));
        }
        let mut plain = String::new();
        draw_rows(&mut plain, &columns, &rows, width);
        out.push_str(&coloured(&plain));
        let differing = self.rows.iter().filter(|row| row.differs).count();
        out.push_str(&paint(
            style::QUIET,
            &format!(
                "  {} of {} rows differ; + more, − less, ? depends\n",
                differing,
                self.rows.len()
            ),
        ));
    }

    fn long(&self, out: &mut String, width: usize) {
        for row in &self.rows {
            out.push_str(&format!("{}\n", paint(style::NAME, &safe(&row.title))));
            for (level, cell) in Level::ALL.into_iter().zip(&row.cells[0]) {
                if cell.total > 0 {
                    let text = if self.full { cell.long() } else { cell.short() };
                    let level = paint(style::QUIET, &format!("{:<8}", level.word()));
                    wrap(out, &format!("  {level} "), 11, &text, width);
                }
            }
            for source in &row.sources {
                wrap(out, "    ", 8, source, width);
            }
            if let Some(same) = Self::same(row, 1) {
                out.push_str(&format!("  {}\n", same[0].shown().trim_start()));
            }
        }
    }

    fn draw_notes(&self, out: &mut String, width: usize) {
        if self.notes.is_empty() {
            return;
        }
        out.push_str(&format!("\n{}\n", paint(style::HEADING, "what depends, and on what")));
        for note in self.notes.iter() {
            wrap(out, "  ", 4, &note.told(), width);
        }
    }
}

impl Note {
    /// The note in a sentence.
    pub(crate) fn told(&self) -> String {
        let conditions: Vec<String> =
            self.doubt.conditions.iter().map(|text| format!("`{}`", safe(text))).collect();
        let needs = match (self.doubt.attributes.is_empty(), conditions.is_empty()) {
            (false, false) => {
                format!("{}, in {}", self.doubt.attributes.join(", "), conditions.join(" and "))
            }
            (false, true) => format!("{}, in its paths", self.doubt.attributes.join(", ")),
            (true, false) => format!("{}, whose types do not meet", conditions.join(" and ")),
            (true, true) => "something undecided".to_owned(),
        };
        let places = match self.places.len().saturating_sub(1) {
            0 => self.first_place.clone(),
            n => format!("{} and {n} more", self.first_place),
        };
        format!("{} at {places}: on {needs}", self.actions.join(", "))
    }
}

fn wrap(out: &mut String, first: &str, rest: usize, text: &str, width: usize) {
    wrap_under(out, first, &" ".repeat(rest), &safe(text), width);
}

/// Shares in colour: all of a level, some of it, none, in doubt.
fn coloured(plain: &str) -> String {
    if style::is_plain() {
        return plain.to_owned();
    }
    let mut out = String::with_capacity(plain.len() * 2);
    for line in plain.split_inclusive('\n') {
        // What a role adds stands back behind what somebody can do anyway.
        let label = line.trim_start();
        let indent = line.len() - label.len();
        let is_role = label.starts_with("as role:");
        let end = label.find("  ").filter(|_| is_role).unwrap_or(0);
        out.push_str(&line[..indent]);
        if end > 0 {
            out.push_str(&paint(style::QUIET, &label[..end]));
        }
        colour_words(&mut out, &label[end..]);
    }
    out
}

fn colour_words(out: &mut String, line: &str) {
    for piece in line.split_inclusive([' ', '\n']) {
        let word = piece.trim_end().trim_end_matches(',');
        let style = match word.split_once('/') {
            Some((some, all)) if some == all && some.parse::<u32>().is_ok() => style::ALLOW,
            Some((some, all)) if some.parse::<u32>().is_ok() && all.parse::<u32>().is_ok() => {
                style::HEADING
            }
            _ if word == "–" => style::QUIET,
            _ if word.starts_with('+') && word.ends_with('?') => style::DENY,
            _ if word.starts_with('+') => style::ALLOW,
            _ if word.starts_with(['−', '?']) && word.len() > 3 => style::DENY,
            _ => {
                out.push_str(piece);
                continue;
            }
        };
        out.push_str(&paint(style, word));
        out.push_str(&piece[word.len()..]);
    }
}

/// `observe 3/3 operate –`
fn summary(cells: &[LevelCell; 4], full: bool) -> String {
    let has_any = |cell: &LevelCell| !cell.allow.is_empty() || !cell.depends.is_empty();
    let levels = Level::ALL.into_iter().zip(cells).filter(|(_, cell)| has_any(cell));
    let told = levels
        .map(|(level, cell)| format!("{level} {}", if full { cell.long() } else { cell.short() }));
    let told: Vec<String> = told.collect();
    if told.is_empty() { "–".to_owned() } else { told.join(", ") }
}

/// What the other has more, less, or in doubt.
fn difference(first: &[LevelCell; 4], other: &[LevelCell; 4]) -> String {
    let all = |cells: &[LevelCell; 4], depends: bool| -> Vec<Arc<str>> {
        let pick =
            |cell: &LevelCell| if depends { cell.depends.clone() } else { cell.allow.clone() };
        cells.iter().flat_map(pick).collect()
    };
    let (allow, other_allow) = (all(first, false), all(other, false));
    let (depends, other_depends) = (all(first, true), all(other, true));
    let mut told = Vec::new();
    told.extend(other_allow.iter().filter(|a| !allow.contains(a)).map(|a| format!("+{a}")));
    let gone = |name: &&Arc<str>| !other_allow.contains(name) && !other_depends.contains(name);
    told.extend(allow.iter().chain(&depends).filter(gone).map(|a| format!("−{a}")));
    told.extend(other_depends.iter().filter(|a| !depends.contains(a)).map(|a| format!("?{a}")));
    if told.is_empty() { "the same".to_owned() } else { told.join(", ") }
}
