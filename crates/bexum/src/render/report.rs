//! Lists and fields, drawn as tables for people or written as JSON, from one description.

use comfy_table::{ColumnConstraint, ContentArrangement, Table, Width, presets};
use rayon::prelude::*;
use serde_json::{Value as Json, json};

use super::style::{self, paint, safe};

/// A value in a report.
#[derive(Clone, Debug)]
pub(crate) enum Cell {
    Text(String),
    List(Vec<String>),
    Number(usize),
    Flag(bool),
    /// A node of a tree: how deep it stands, its own name, and its full path.
    Node {
        depth: usize,
        name: String,
        path: String,
    },
    /// One thing for people, another for machines.
    Told(String, Json),
    /// A list for people, something else for machines.
    ListTold(Vec<String>, Json),
    /// Nothing to say.
    None,
}

/// Most elements of a list that are shown to people; JSON has them all.
const LIST_SHOWN: usize = 40;

impl Cell {
    pub(crate) fn text(text: impl Into<String>) -> Self {
        Self::Text(text.into())
    }

    pub(crate) fn maybe(text: Option<impl Into<String>>) -> Self {
        text.map_or(Self::None, |text| Self::Text(text.into()))
    }

    pub(crate) fn shown(&self) -> String {
        match self {
            Self::Text(text) | Self::Told(text, _) => safe(text),
            Self::List(items) | Self::ListTold(items, _) if items.len() > LIST_SHOWN => {
                let left = items.len() - LIST_SHOWN;
                safe(&format!("{} and {left} more", items[..LIST_SHOWN].join(", ")))
            }
            Self::List(items) | Self::ListTold(items, _) => safe(&items.join(", ")),
            Self::Number(n) => n.to_string(),
            Self::Flag(b) => if *b { "yes" } else { "no" }.to_owned(),
            Self::Node { depth, name, .. } => format!("{}{}", "  ".repeat(*depth), safe(name)),
            Self::None => String::new(),
        }
    }

    /// For machines.
    pub(crate) fn json(&self) -> Json {
        match self {
            Self::Text(text) | Self::Node { path: text, .. } => json!(text),
            Self::List(items) => json!(items),
            Self::Number(n) => json!(n),
            Self::Flag(b) => json!(b),
            Self::Told(_, value) | Self::ListTold(_, value) => value.clone(),
            Self::None => Json::Null,
        }
    }
}

/// A part of a report.
#[derive(Debug)]
pub(crate) struct Section {
    /// Its key in JSON.
    pub(crate) key: &'static str,
    /// Its heading; rows are counted in it.
    pub(crate) title: String,
    pub(crate) body: Body,
    /// Most rows that people are shown, and how to see all of them.
    pub(crate) cut: Option<(usize, &'static str)>,
}

#[derive(Debug)]
pub(crate) enum Body {
    /// Names and values.
    Fields(Vec<(&'static str, Cell)>),
    /// Columns, then rows as wide.
    Rows(&'static [&'static str], Vec<Vec<Cell>>),
}

/// Sections under one title.
#[derive(Debug, Default)]
pub(crate) struct Report {
    pub(crate) title: String,
    pub(crate) sections: Vec<Section>,
    /// For people, where to look next; perhaps nothing.
    pub(crate) next: String,
}

impl Report {
    /// Nothing under a title.
    pub(crate) fn new(title: String) -> Self {
        Self { title, ..Self::default() }
    }

    /// Shows people at most so many rows of the last section, and the command that shows all.
    pub(crate) fn cut(&mut self, most: usize, command: &'static str) {
        if let Some(section) = self.sections.last_mut() {
            section.cut = Some((most, command));
        }
    }

    pub(crate) fn fields(&mut self, key: &'static str, fields: Vec<(&'static str, Cell)>) {
        let body = Body::Fields(fields);
        self.sections.push(Section { key, title: String::new(), body, cut: None });
    }

    pub(crate) fn rows(
        &mut self,
        key: &'static str,
        title: impl Into<String>,
        columns: &'static [&'static str],
        rows: Vec<Vec<Cell>>,
    ) {
        let body = Body::Rows(columns, rows);
        self.sections.push(Section { key, title: title.into(), body, cut: None });
    }

    /// For people.
    pub(crate) fn text(&self, width: usize) -> String {
        let mut out = format!("{}\n", paint(style::HEADING, &safe(&self.title)));
        for section in &self.sections {
            match &section.body {
                Body::Fields(fields) => draw_fields(&mut out, fields, 2, width),
                Body::Rows(columns, rows) => {
                    out.push_str(&format!(
                        "\n{} ({})\n",
                        paint(style::HEADING, &section.title),
                        rows.len()
                    ));
                    let most = section.cut.map_or(rows.len(), |(most, _)| most.min(rows.len()));
                    draw_rows(&mut out, columns, &rows[..most], width);
                    if let (Some((_, more)), left @ 1..) = (section.cut, rows.len() - most) {
                        let more = format!("  and {left} more: `{more}`");
                        out.push_str(&paint(style::QUIET, &more));
                        out.push('\n');
                    }
                }
            }
        }
        if !self.next.is_empty() {
            out.push('\n');
            wrap_under(&mut out, "", "  ", &self.next, width);
        }
        out
    }
}

fn draw_fields(out: &mut String, fields: &[(&str, Cell)], indent: usize, width: usize) {
    let widest = fields.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    for (name, cell) in fields {
        let value = cell.shown();
        if value.is_empty() {
            continue;
        }
        let name = paint(style::QUIET, &format!("{name:<widest$}"));
        let first = format!("{:indent$}{name}  ", "");
        let rest = " ".repeat(indent + widest + 2);
        wrap_under(out, &first, &rest, &value, width);
    }
}

/// Longest word that a table keeps whole.
const WORD_KEPT: usize = 48;
/// Longest text that is laid out in a column, in bytes; longer ones are stacked.
const COLUMN_BYTES: usize = 2000;

/// Where there is no room for a table: each row by itself, a line for each thing it says.
fn stack_rows(out: &mut String, columns: &[&str], rows: &[Vec<Cell>], width: usize) {
    for row in rows {
        let mut fields = columns.iter().copied().zip(row.iter().cloned());
        if let Some((_, head)) = fields.next() {
            wrap_under(out, "  ", "    ", &head.shown(), width);
        }
        let told = fields.filter(|(_, cell)| !cell.shown().is_empty()).collect::<Vec<_>>();
        draw_fields(out, &told, 4, width);
    }
}

fn longest_word(text: &str) -> Option<usize> {
    text.split(' ').map(textwrap::core::display_width).max()
}

/// A text with what stands before its first line and before the others; words stay whole.
pub(crate) fn wrap_under(out: &mut String, first: &str, rest: &str, text: &str, width: usize) {
    let options = textwrap::Options::new(width)
        .initial_indent(first)
        .subsequent_indent(rest)
        .wrap_algorithm(textwrap::WrapAlgorithm::FirstFit)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .break_words(false);
    for line in textwrap::wrap(text, options) {
        out.push_str(line.trim_end());
        out.push('\n');
    }
}

/// Draws rows as a table, or, where there is no room for one, as a block each.
pub(crate) fn draw_rows(out: &mut String, columns: &[&str], rows: &[Vec<Cell>], width: usize) {
    if rows.is_empty() {
        out.push_str(&paint(style::QUIET, "  none"));
        out.push('\n');
        return;
    }
    let shown: Vec<Vec<String>> =
        rows.par_iter().map(|row| row.iter().map(Cell::shown).collect()).collect();
    // A column in which nobody has anything to say is left out.
    let used: Vec<usize> = (0..columns.len())
        .filter(|i| shown.iter().any(|row| row.get(*i).is_some_and(|cell| !cell.is_empty())))
        .collect();
    // Laying out a column takes the square of the longest text's length.
    if shown.iter().flatten().any(|cell| cell.len() > COLUMN_BYTES) {
        return stack_rows(out, columns, rows, width);
    }
    // Names and paths are not cut in two for the sake of prose beside them, if there is room.
    let longest: Vec<usize> = used
        .iter()
        .map(|i| {
            let words = shown.par_iter().filter_map(|row| longest_word(&row[*i])).max();
            words.unwrap_or(0).max(columns[*i].len())
        })
        .collect();
    let room = width.saturating_sub(2);
    if longest.iter().map(|word| word.min(&WORD_KEPT) + 2).sum::<usize>() > room {
        return stack_rows(out, columns, rows, width);
    }
    let natural: Vec<usize> = used
        .iter()
        .map(|i| {
            let cells = shown.par_iter().map(|row| textwrap::core::display_width(&row[*i])).max();
            cells.unwrap_or(0).max(columns[*i].len())
        })
        .collect();
    // The widest columns give way first, and none is cut below its longest word.
    let fit = |cap: usize| -> Vec<usize> {
        let words = longest.iter().map(|word| *word.min(&WORD_KEPT));
        natural.iter().zip(words).map(|(whole, word)| *whole.min(&word.max(cap)) + 2).collect()
    };
    let cap = (0..=room).rev().find(|cap| fit(*cap).iter().sum::<usize>() <= room).unwrap_or(0);
    let fitted = fit(cap);
    let heads: Vec<&str> = used.iter().map(|i| columns[*i]).collect();
    if natural.iter().zip(&fitted).all(|(whole, fitted)| whole + 2 <= *fitted) {
        out.push_str("  ");
        out.push_str(&paint(style::QUIET, one_line(heads.iter().copied(), &fitted).trim_end()));
        out.push('\n');
        let line = |row: &Vec<String>| {
            let line = one_line(used.iter().map(|i| row[*i].as_str()), &fitted);
            format!("  {}\n", line.trim_end())
        };
        let lines: Vec<String> = shown.par_iter().map(line).collect();
        lines.iter().for_each(|line| out.push_str(line));
        return;
    }
    let mut table = Table::new();
    table
        .load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_width(u16::try_from(width.saturating_sub(2)).unwrap_or(u16::MAX))
        .set_header(heads);
    for row in &shown {
        table.add_row(used.iter().map(|i| &row[*i]));
    }
    for (column, fitted) in table.column_iter_mut().zip(fitted) {
        column.set_padding((0, 2));
        column.set_constraint(ColumnConstraint::Absolute(Width::Fixed(fitted as u16)));
    }
    for (i, line) in table.lines().enumerate() {
        let line = line.trim_end();
        out.push_str("  ");
        if i == 0 {
            out.push_str(&paint(style::QUIET, line));
        } else {
            out.push_str(line);
        }
        out.push('\n');
    }
}

/// Cells beside each other, each in a column of its width. A table of many thousand rows is drawn
/// so, as the crate that wraps cells takes ten times as long.
fn one_line<'c>(cells: impl Iterator<Item = &'c str>, widths: &[usize]) -> String {
    let mut line = String::new();
    for (cell, width) in cells.zip(widths) {
        line.push_str(cell);
        let left = width.saturating_sub(textwrap::core::display_width(cell));
        line.extend(std::iter::repeat_n(' ', left));
    }
    line
}
