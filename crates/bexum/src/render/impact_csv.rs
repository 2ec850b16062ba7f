//! What a change does, as rows (RFC 4180): one for each cell, or for sessions with the same change
//! together.

use std::io;

use bexum_core::impact::{Changes, Outcome};

use super::reach_csv::as_io;

const HEAD: [&str; 7] = ["who", "as", "where", "action", "before", "after", "count"];

/// Writes all rows, sorted by their fields' bytes, none kept once it is written.
pub(crate) fn print(changes: &Changes, together: bool) -> anyhow::Result<()> {
    let mut csv = csv::Writer::from_writer(io::stdout().lock());
    let columns = if together { HEAD.len() } else { HEAD.len() - 1 };
    csv.write_record(&HEAD[..columns]).map_err(as_io)?;
    if !together {
        for cell in changes.cells() {
            let role = role(&cell.role);
            let [before, after] = words([cell.before, cell.after]);
            csv.write_record([&cell.who, &role, &cell.place, &cell.action, before, after])
                .map_err(as_io)?;
        }
    }
    // Sessions that come from the same to the same stand together, whatever opens there.
    let alike = if together { changes.only(|_| true) } else { Changes::default() };
    for block in alike.blocks() {
        let Some((who, role_taken)) = block.sessions.first() else { continue };
        let (role, count) = (role(role_taken), block.sessions.len().to_string());
        for (place, change) in block.cells() {
            let [before, after] = words([change.before, change.after]);
            csv.write_record([who, &*role, &place, &change.action, before, after, &count])
                .map_err(as_io)?;
        }
    }
    csv.flush()?;
    Ok(())
}

fn role(name: &str) -> String {
    if name.is_empty() { String::new() } else { format!("role:{name}") }
}

fn words(outcomes: [Outcome; 2]) -> [&'static str; 2] {
    outcomes.map(Outcome::word)
}
