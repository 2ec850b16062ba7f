//! The three streams: colour, width, closed pipes.

use std::fmt;
use std::io::{self, BufWriter, IsTerminal, Write};

use anstream::{AutoStream, ColorChoice};
use indicatif::{ProgressBar, ProgressStyle};
use rayon::prelude::*;
use serde::Serialize;

use crate::args::Colour;
use crate::render::{self, style};

/// Width where nothing says otherwise, in columns.
const PLAIN_WIDTH: usize = 100;

/// Applies `--color`; by default the streams decide (`NO_COLOR`, pipes).
pub(crate) fn set_colour(colour: Colour) {
    match colour {
        Colour::Auto => {}
        Colour::Always => ColorChoice::Always.write_global(),
        Colour::Never => ColorChoice::Never.write_global(),
    }
    let choices = [AutoStream::choice(&io::stdout()), AutoStream::choice(&io::stderr())];
    if choices.iter().all(|choice| *choice == ColorChoice::Never) {
        style::leave_out_colours();
    }
}

/// Columns to lay out for: `$COLUMNS`, else the terminal's, else 100; never under 40.
pub(crate) fn width() -> usize {
    let set = std::env::var("COLUMNS").ok().and_then(|text| text.parse::<usize>().ok());
    let of_terminal = || terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    set.or_else(of_terminal).unwrap_or(PLAIN_WIDTH).clamp(40, 160)
}

/// Writes a whole text for people, styled, to standard output.
pub(crate) fn print(text: &str) -> anyhow::Result<()> {
    let text = style::guard(text);
    if !text.contains('\u{1b}') {
        return print_exactly(text.as_bytes());
    }
    let mut out = anstream::stdout().lock();
    out.write_all(text.as_bytes())?;
    out.flush()?;
    Ok(())
}

/// Writes a value as JSON to standard output. What could steer a terminal stands in it as an
/// escape, which a reader of JSON undoes.
pub(crate) fn print_json(shape: &impl Serialize) -> anyhow::Result<()> {
    // By way of a value, keys come in the order of their letters.
    let value = serde_json::to_value(shape)?;
    let mut text = escape_json(&serde_json::to_string_pretty(&value)?);
    text.push('\n');
    print_exactly(text.as_bytes())
}

/// Writes an object whose last field is `rows`, a line each, none kept once it is written.
pub(crate) fn print_json_rows<R: Serialize>(
    head: &impl Serialize,
    rows: impl Iterator<Item = R>,
) -> anyhow::Result<()> {
    print_json_texts(head, rows.map(|row| json_row(&row)))
}

/// Things of which one thread makes the rows together.
const MADE_TOGETHER: usize = 64;
/// Parts that are made before they are written.
const PARTS_AT_ONCE: usize = 8;

/// Prints a JSON document with the rows of many things, made by all cores: `rows` makes those of some
/// of the things.
pub(crate) fn print_json_rows_of<T: Sync, R: Serialize>(
    head: &impl Serialize,
    things: &[T],
    rows: impl Fn(&[T]) -> Vec<R> + Sync,
) -> anyhow::Result<()> {
    let made = |part: &[T]| rows(part).iter().map(json_row).collect::<Vec<_>>();
    let texts = things.chunks(MADE_TOGETHER * PARTS_AT_ONCE).flat_map(|things| {
        let parts = things.par_chunks(MADE_TOGETHER).map(made);
        parts.collect::<Vec<_>>().into_iter().flatten()
    });
    print_json_texts(head, texts)
}

fn json_row(row: &impl Serialize) -> serde_json::Result<String> {
    Ok(escape_json(&serde_json::to_value(row)?.to_string()))
}

fn print_json_texts(
    head: &impl Serialize,
    rows: impl Iterator<Item = serde_json::Result<String>>,
) -> anyhow::Result<()> {
    let mut out = BufWriter::with_capacity(1 << 16, io::stdout().lock());
    let head = escape_json(&serde_json::to_value(head)?.to_string());
    write!(out, "{},\"rows\":[", head.trim_end_matches('}'))?;
    for (i, row) in rows.enumerate() {
        write!(out, "{}\n  {}", if i == 0 { "" } else { "," }, row?)?;
    }
    out.write_all(b"\n]}\n")?;
    out.flush()?;
    Ok(())
}

/// JSON in which escapes stand for what could steer a terminal.
fn escape_json(text: &str) -> String {
    if text.bytes().all(|byte| matches!(byte, b' '..=b'~' | b'\n')) {
        return text.to_owned();
    }
    let mut escaped = String::with_capacity(text.len() + 1);
    for c in text.chars() {
        if c != '\n' && style::steers(c) {
            let mut units = [0; 2];
            for unit in c.encode_utf16(&mut units) {
                escaped.push_str(&format!("\\u{unit:04x}"));
            }
        } else {
            escaped.push(c);
        }
    }
    escaped
}

/// Writes what machines read to standard output, byte for byte.
pub(crate) fn print_exactly(bytes: &[u8]) -> anyhow::Result<()> {
    let mut out = io::stdout().lock();
    out.write_all(bytes)?;
    out.flush()?;
    Ok(())
}

/// Writes a whole text for people, styled, to standard error; nobody is left to tell when that
/// fails.
pub(crate) fn print_error(text: &str) {
    let mut out = anstream::stderr().lock();
    let _ = out.write_all(style::guard(text).as_bytes());
}

/// Passes over the error that whoever read the output has gone: for runs whose exit code says something
/// by itself.
pub(crate) fn unless_gone(printed: anyhow::Result<()>) -> anyhow::Result<()> {
    match printed {
        Err(error) if is_closed_pipe(&error) => Ok(()),
        other => other,
    }
}

/// Whether somebody watches standard error.
pub(crate) fn is_watched() -> bool {
    io::stderr().is_terminal()
}

/// A bar that says how far a long work is, on a terminal only.
pub(crate) fn progress(length: u64, of_what: &str) -> ProgressBar {
    if !is_watched() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::new(length);
    let template = format!("{{bar:30}} {{human_pos}} of {{human_len}} {of_what}");
    // The template has no variable part; were it wrong, the plain bar would do.
    if let Ok(style) = ProgressStyle::with_template(&template) {
        bar.set_style(style);
    }
    bar
}

/// A bar over bytes read, or a sign of life where nobody knows how many there are; on a terminal only.
pub(crate) fn progress_of_bytes(length: Option<u64>) -> ProgressBar {
    if !is_watched() {
        return ProgressBar::hidden();
    }
    let (bar, template) = match length {
        Some(length) => (ProgressBar::new(length), "{bar:30} {bytes} of {total_bytes}, {eta}"),
        None => (ProgressBar::new_spinner(), "{spinner} {bytes}, {bytes_per_sec}"),
    };
    // The template is a constant; were it wrong, the plain bar would do.
    if let Ok(style) = ProgressStyle::with_template(template) {
        bar.set_style(style);
    }
    bar
}

/// An error, and what to do about it.
#[derive(Debug)]
pub(crate) struct Helped {
    message: String,
    /// More about it, a line each.
    lines: Vec<String>,
    help: Option<String>,
}

impl Helped {
    pub(crate) fn error(message: impl fmt::Display, help: Option<String>) -> anyhow::Error {
        Self::listing(message, Vec::new(), help)
    }

    /// A complaint with more about it, a line each.
    pub(crate) fn listing(
        message: impl fmt::Display,
        lines: Vec<String>,
        help: Option<String>,
    ) -> anyhow::Error {
        anyhow::Error::new(Self { message: message.to_string(), lines, help })
    }
}

impl fmt::Display for Helped {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for Helped {}

/// Tells what went wrong.
pub(crate) fn report(error: &anyhow::Error) {
    match error.downcast_ref::<bexum_files::Failure>() {
        Some(failure) => print_error(&render::problem::report(failure, width())),
        None => {
            let message = style::safe(&format!("{error:#}"));
            print_error(&format!("{}: {message}\n", style::paint(style::ERROR, "error")));
            let Some(Helped { lines, help, .. }) = error.downcast_ref() else { return };
            for line in lines {
                print_error(&format!("  {}\n", style::safe(line)));
            }
            if let Some(help) = help {
                print_error(&format!("  help: {}\n", style::safe(help)));
            }
        }
    }
}

/// A reader that went away (`bexum … | head`) is no error.
pub(crate) fn is_closed_pipe(error: &anyhow::Error) -> bool {
    error.chain().any(|cause| {
        let io = cause.downcast_ref::<io::Error>();
        io.is_some_and(|io| io.kind() == io::ErrorKind::BrokenPipe)
    })
}
