//! Lists and fields, drawn as tables for people or written as JSON, from one description.

use std::borrow::Cow;

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
/// The same where a section shows a few of its rows only, to leave room for other sections.
const LIST_IN_FEW: usize = 1;

impl Cell {
    pub(crate) fn text(text: impl Into<String>) -> Self {
        Self::Text(text.into())
    }

    pub(crate) fn maybe(text: Option<impl Into<String>>) -> Self {
        text.map_or(Self::None, |text| Self::Text(text.into()))
    }

    pub(crate) fn shown(&self) -> String {
        self.shown_within(LIST_SHOWN)
    }

    /// What people are shown, with so many elements of a list, and one more where that is the last.
    fn shown_within(&self, most: usize) -> String {
        match self {
            Self::Text(text) | Self::Told(text, _) => safe(text),
            Self::List(items) | Self::ListTold(items, _) if items.len() > most + 1 => {
                let left = items.len() - most;
                safe(&format!("{} and {left} more", items[..most].join(", ")))
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
                Body::Fields(fields) => {
                    let shown = fields.iter().map(|(name, cell)| (*name, cell.shown().into()));
                    draw_fields(&mut out, shown, 2, width);
                }
                Body::Rows(columns, rows) => {
                    out.push_str(&format!(
                        "\n{} ({})\n",
                        paint(style::HEADING, &section.title),
                        rows.len()
                    ));
                    let most = section.cut.map_or(rows.len(), |(most, _)| most.min(rows.len()));
                    let list = section.cut.map_or(LIST_SHOWN, |_| LIST_IN_FEW);
                    draw_rows_within(&mut out, columns, &rows[..most], list, width);
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

fn draw_fields<'f>(
    out: &mut String,
    fields: impl Iterator<Item = (&'f str, Cow<'f, str>)> + Clone,
    indent: usize,
    width: usize,
) {
    let widest = fields.clone().map(|(name, _)| name.len()).max().unwrap_or(0);
    for (name, value) in fields.filter(|(_, value)| !value.is_empty()) {
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
fn stack_rows(out: &mut String, columns: &[&str], rows: &[Vec<String>], width: usize) {
    for row in rows {
        let mut fields = columns.iter().copied().zip(row);
        if let Some((_, head)) = fields.next() {
            wrap_under(out, "  ", "    ", head, width);
        }
        let told = fields.filter(|(_, text)| !text.is_empty());
        draw_fields(out, told.map(|(name, text)| (name, text.into())), 4, width);
    }
}

/// How wide a text is on a terminal.
fn width_of(text: &str) -> usize {
    if text.is_ascii() { text.len() } else { textwrap::core::display_width(text) }
}

/// The longest texts of a column.
#[derive(Clone, Copy, Debug, Default)]
struct Measure {
    /// In bytes.
    bytes: usize,
    /// As wide as it is drawn.
    whole: usize,
    /// The widest word.
    word: usize,
}

impl Measure {
    /// Of each column of some rows.
    fn of(columns: usize, rows: &[Vec<String>]) -> Vec<Self> {
        let mut measures = vec![Self::default(); columns];
        for row in rows {
            for (measure, text) in measures.iter_mut().zip(row) {
                measure.bytes = measure.bytes.max(text.len());
                measure.whole = measure.whole.max(width_of(text));
                // No word is wider than its text.
                if text.len() > measure.word {
                    let word = text.split(' ').map(width_of).max().unwrap_or(0);
                    measure.word = measure.word.max(word);
                }
            }
        }
        measures
    }

    fn joined(one: Vec<Self>, other: Vec<Self>) -> Vec<Self> {
        let both = one.iter().zip(&other).map(|(one, other)| Self {
            bytes: one.bytes.max(other.bytes),
            whole: one.whole.max(other.whole),
            word: one.word.max(other.word),
        });
        both.collect()
    }
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
    draw_rows_within(out, columns, rows, LIST_SHOWN, width);
}

/// As [`draw_rows`], with so many elements of each list.
fn draw_rows_within(
    out: &mut String,
    columns: &[&str],
    rows: &[Vec<Cell>],
    list: usize,
    width: usize,
) {
    if rows.is_empty() {
        out.push_str(&paint(style::QUIET, "  none"));
        out.push('\n');
        return;
    }
    let shown: Vec<Vec<String>> = rows
        .par_iter()
        .map(|row| row.iter().map(|cell| cell.shown_within(list)).collect())
        .collect();
    draw_shown(out, columns, &shown, width);
}

/// Draws a table of rows whose cells are [`shown`](Cell::shown) already.
pub(crate) fn draw_shown(out: &mut String, columns: &[&str], shown: &[Vec<String>], width: usize) {
    let measures = shown.par_chunks(ROWS_TOGETHER).map(|rows| Measure::of(columns.len(), rows));
    let measures = measures.reduce(|| vec![Measure::default(); columns.len()], Measure::joined);
    // A column in which nobody has anything to say is left out.
    let used: Vec<usize> = (0..columns.len()).filter(|i| measures[*i].bytes > 0).collect();
    // Laying out a column takes the square of the longest text's length.
    if measures.iter().any(|column| column.bytes > COLUMN_BYTES) {
        return stack_rows(out, columns, shown, width);
    }
    let at_least = |of: fn(&Measure) -> usize| -> Vec<usize> {
        used.iter().map(|i| of(&measures[*i]).max(columns[*i].len())).collect()
    };
    // Names and paths are not cut in two for the sake of prose beside them, if there is room.
    let longest = at_least(|column| column.word);
    let room = width.saturating_sub(2);
    if longest.iter().map(|word| word.min(&WORD_KEPT) + 2).sum::<usize>() > room {
        return stack_rows(out, columns, shown, width);
    }
    let natural = at_least(|column| column.whole);
    // The widest columns give way first, and none is cut below its longest word.
    let fit = |cap: usize| -> Vec<usize> {
        let words = longest.iter().map(|word| *word.min(&WORD_KEPT));
        natural.iter().zip(words).map(|(whole, word)| *whole.min(&word.max(cap)) + 2).collect()
    };
    let cap = (0..=room).rev().find(|cap| fit(*cap).iter().sum::<usize>() <= room).unwrap_or(0);
    let fitted = fit(cap);
    let heads: Vec<&str> = used.iter().map(|i| columns[*i]).collect();
    if natural.iter().zip(&fitted).all(|(whole, fitted)| whole + 2 <= *fitted) {
        let mut line = String::new();
        add_line(&mut line, heads.iter().copied(), &fitted);
        out.push_str("  ");
        out.push_str(&paint(style::QUIET, line.trim()));
        out.push('\n');
        let lines = |rows: &[Vec<String>]| {
            let mut lines = String::new();
            for row in rows {
                add_line(&mut lines, used.iter().map(|i| row[*i].as_str()), &fitted);
            }
            lines
        };
        let parts: Vec<String> = shown.par_chunks(ROWS_TOGETHER).map(lines).collect();
        parts.iter().for_each(|part| out.push_str(part));
        return;
    }
    let mut table = Table::new();
    table
        .load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_width(u16::try_from(width.saturating_sub(2)).unwrap_or(u16::MAX))
        .set_header(heads);
    for row in shown {
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

/// Rows that one thread draws together.
const ROWS_TOGETHER: usize = 4_096;

/// Adds a line of cells beside each other, each in a column of its width. A table of many thousand
/// rows is drawn so, as the crate that wraps cells takes ten times as long.
fn add_line<'c>(out: &mut String, cells: impl Iterator<Item = &'c str>, widths: &[usize]) {
    out.push_str("  ");
    let start = out.len();
    for (cell, width) in cells.zip(widths) {
        out.push_str(cell);
        out.extend(std::iter::repeat_n(' ', width.saturating_sub(width_of(cell))));
    }
    out.truncate(start + out[start..].trim_end().len());
    out.push('\n');
}
