//! Grids as a page by itself and as a picture: rectangles, words, no network.

use askama::Template;
use bexum_core::catalogue::Level;

use super::grid::{Grid, GridRow, LevelCell};

#[derive(Template)]
#[template(path = "reach.html")]
struct Page<'g> {
    grid: &'g Grid,
    levels: [&'static str; 4],
}

#[derive(Template)]
#[template(path = "reach.svg", escape = "html")]
struct Picture<'g> {
    grid: &'g Grid,
    levels: [&'static str; 4],
    width: usize,
    height: usize,
    label_width: usize,
}

/// A page.
pub(crate) fn page(grid: &Grid) -> anyhow::Result<String> {
    let levels = Level::ALL.map(Level::word);
    Ok(Page { grid, levels }.render()?)
}

/// Sizes of the picture, in its own units.
const ROW: usize = 22;
const CELL: usize = 74;
const LETTER: usize = 7;
const TOP: usize = 92;

/// A picture of the grid.
pub(crate) fn picture(grid: &Grid) -> anyhow::Result<String> {
    let levels = Level::ALL.map(Level::word);
    let label = |row: &GridRow| row.depth * 2 + row.label_and_more().chars().count();
    let longest = grid.rows.iter().map(label).max().unwrap_or(0).min(90);
    let label_width = longest * LETTER + 24;
    let width = (label_width + grid.columns.len() * (4 * CELL + 16)).max(480);
    let height = TOP + grid.rows.len() * ROW + 24;
    Ok(Picture { grid, levels, width, height, label_width }.render()?)
}

impl GridRow {
    /// The label, and how many rows it stands for besides.
    pub(crate) fn label_and_more(&self) -> String {
        match (self.same_below, self.alike) {
            (0, 0) => self.label.clone(),
            (0, n) => format!("{} and {n} like it", self.label),
            (n, _) => format!("{} and {n} below: the same", self.label),
        }
    }
}

impl LevelCell {
    /// How much of the level is allowed, in quarters: 0 to 4; `x` where nothing applies, `d` in
    /// front where something depends.
    pub(crate) fn shade(&self) -> String {
        if self.total == 0 {
            return "x".to_owned();
        }
        let quarters = match self.allow.len() {
            0 => 0,
            n if n == self.total => 4,
            n => (n * 4 / self.total).clamp(1, 3),
        };
        let doubt = if self.depends.is_empty() { "" } else { " d" };
        format!("q{quarters}{doubt}")
    }
}
