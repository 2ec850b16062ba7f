//! What a change does, as rows (RFC 4180): one for each cell, or for sessions with the same change
//! together.

use std::borrow::Cow;
use std::collections::BTreeMap;

use anyhow::Context as _;
use bexum_core::impact::{Cell, Outcome};

const HEAD: [&str; 7] = ["who", "as", "where", "action", "before", "after", "count"];

type Row<'c> = [Cow<'c, str>; 7];

/// All rows, sorted by their fields' bytes.
pub(crate) fn rows(cells: &[Cell], together: bool) -> anyhow::Result<Vec<u8>> {
    let mut rows: Vec<Row<'_>> = match together {
        false => cells.iter().map(|cell| row(cell, 1)).collect(),
        true => {
            alike(cells).iter().flat_map(|(cells, n)| cells.iter().map(|c| row(c, *n))).collect()
        }
    };
    rows.sort_unstable();
    let columns = if together { HEAD.len() } else { HEAD.len() - 1 };
    let mut text = csv::Writer::from_writer(Vec::new());
    text.write_record(&HEAD[..columns])?;
    for row in &rows {
        text.write_record(row[..columns].iter().map(|field| field.as_bytes()))?;
    }
    text.flush()?;
    text.into_inner().context("cannot write the rows")
}

fn row(cell: &Cell, count: usize) -> Row<'_> {
    let text = |text: &'_ String| Cow::Owned(text.clone());
    let role = match cell.role.is_empty() {
        true => Cow::Borrowed(""),
        false => Cow::Owned(format!("role:{}", cell.role)),
    };
    let outcomes = [cell.before, cell.after].map(|outcome| Cow::Borrowed(outcome.word()));
    let [before, after] = outcomes;
    let count = Cow::Owned(count.to_string());
    [text(&cell.who), role, text(&cell.place), text(&cell.action), before, after, count]
}

/// The cells of the first session, by name, of those that come to the same, and how many there are.
fn alike(cells: &[Cell]) -> Vec<(Vec<&Cell>, usize)> {
    let mut sessions: BTreeMap<(&str, String), Vec<&Cell>> = BTreeMap::new();
    for cell in cells {
        let role = if cell.role.is_empty() { String::new() } else { format!("role:{}", cell.role) };
        sessions.entry((&cell.who, role)).or_default().push(cell);
    }
    type Change<'c> = Vec<(&'c str, &'c str, Outcome, Outcome)>;
    let mut known: BTreeMap<Change<'_>, usize> = BTreeMap::new();
    let mut found: Vec<(Vec<&Cell>, usize)> = Vec::new();
    for cells in sessions.into_values() {
        let mut change: Change<'_> =
            cells.iter().map(|c| (&*c.place, &*c.action, c.before, c.after)).collect();
        change.sort_unstable();
        match known.get(&change) {
            Some(at) => found[*at].1 += 1,
            None => {
                known.insert(change, found.len());
                found.push((cells, 1));
            }
        }
    }
    found
}
