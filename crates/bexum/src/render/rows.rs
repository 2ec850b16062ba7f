//! Rows under named columns, written as they come: as a table, or as a list of objects.

use std::io::{self, IsTerminal as _, StdoutLock, Write as _};

use bexum_files::people::harmless;
use serde_json::{Map, Value};

use super::style::guard;

/// Rows on their way out.
pub(crate) enum Rows {
    /// As CSV.
    Table(Box<csv::Writer<StdoutLock<'static>>>),
    /// As JSON.
    List {
        /// The names of the columns.
        head: Vec<String>,
        /// Whether there was one already.
        has_begun: bool,
    },
}

impl Rows {
    /// Begins with the names of the columns.
    pub(crate) fn begin(as_json: bool, head: &[&str]) -> anyhow::Result<Self> {
        if as_json {
            let head = head.iter().map(|name| (*name).to_owned()).collect();
            return Ok(Self::List { head, has_begun: false });
        }
        let mut table = csv::Writer::from_writer(io::stdout().lock());
        table.write_record(head).map_err(as_io)?;
        Ok(Self::Table(Box::new(table)))
    }

    /// One row, a value for each column; null is nothing.
    pub(crate) fn row(&mut self, cells: &[Value]) -> anyhow::Result<()> {
        match self {
            Self::Table(table) => {
                // A terminal is not steered; a file has the bytes.
                let is_terminal = io::stdout().is_terminal();
                for cell in cells {
                    let text = match cell {
                        Value::Null => String::new(),
                        Value::String(text) => harmless(text),
                        Value::Array(all) => harmless(&joined(all)),
                        other => harmless(&other.to_string()),
                    };
                    let shown = if is_terminal { guard(&text).into_owned() } else { text };
                    table.write_field(shown).map_err(as_io)?;
                }
                table.write_record(None::<&[u8]>).map_err(as_io)?;
            }
            Self::List { head, has_begun } => {
                let mut out = io::stdout().lock();
                out.write_all(if *has_begun { b",\n" } else { b"[\n" })?;
                *has_begun = true;
                let row: Map<String, Value> =
                    head.iter().cloned().zip(cells.iter().cloned()).collect();
                serde_json::to_writer(&mut out, &row)?;
            }
        }
        Ok(())
    }

    /// Ends it.
    pub(crate) fn end(self) -> anyhow::Result<()> {
        match self {
            Self::Table(mut table) => table.flush()?,
            Self::List { has_begun, .. } => {
                let end: &[u8] = if has_begun { b"\n]\n" } else { b"[]\n" };
                io::stdout().lock().write_all(end)?;
            }
        }
        Ok(())
    }
}

/// A list in one cell.
fn joined(all: &[Value]) -> String {
    let texts = all.iter().map(|one| one.as_str().map_or_else(|| one.to_string(), str::to_owned));
    texts.collect::<Vec<_>>().join(", ")
}

fn as_io(error: csv::Error) -> io::Error {
    match error.into_kind() {
        csv::ErrorKind::Io(error) => error,
        other => io::Error::other(format!("{other:?}")),
    }
}
