//! Effective access as CSV: a row for each principal, place and action, written as it comes.

use std::io;

use bexum_core::catalogue::ActionSet;
use bexum_core::engine::{Cells, Decider, Index};
use bexum_core::principal::Principal;
use bexum_core::reach::{self, Crowd, Row, Spot, Viewpoint};

use super::sketch::{Column, action_id, routes};
use super::style::safe;
use crate::exit::Exit;

struct Writer<'e> {
    csv: csv::Writer<io::StdoutLock<'static>>,
    decider: Decider<'e>,
}

impl<'e> Writer<'e> {
    fn new(index: &'e Index<'e>) -> anyhow::Result<Self> {
        let mut csv = csv::Writer::from_writer(io::stdout().lock());
        csv.write_record(["principal", "scope", "action", "outcome", "source"]).map_err(as_io)?;
        Ok(Self { csv, decider: Decider::new(index) })
    }

    fn cells(
        &mut self,
        name: &str,
        viewpoint: &Viewpoint,
        spot: &Spot,
        cells: &Cells,
        wanted: Option<&ActionSet>,
    ) -> anyhow::Result<()> {
        let index = self.decider.index;
        let is_wanted = |i: &usize| wanted.is_none_or(|wanted| wanted.contains(*i));
        for i in spot.applicable(index.estate).ones().filter(is_wanted) {
            let query = viewpoint.query(spot, action_id(index, i));
            let (outcome, source) = if cells.allow.contains(i) {
                ("allow", safe(&routes(&mut self.decider, &query).join("; ")))
            } else if cells.depends.contains(i) {
                let doubt = reach::doubt(&mut self.decider, &query);
                let told: Vec<String> =
                    doubt.attributes.into_iter().chain(doubt.conditions).collect();
                ("depends", told.join("; "))
            } else {
                ("deny", String::new())
            };
            let action = &*index.estate.catalogue.actions[i].name;
            self.csv.write_record([name, &spot.shown, action, outcome, &source]).map_err(as_io)?;
        }
        Ok(())
    }

    fn finish(mut self) -> anyhow::Result<Exit> {
        self.csv.flush()?;
        Ok(Exit::Done)
    }
}

/// A closed pipe is told by the error beneath.
fn as_io(error: csv::Error) -> io::Error {
    let told = error.to_string();
    match error.into_kind() {
        csv::ErrorKind::Io(error) => error,
        _ => io::Error::other(told),
    }
}

/// What each column's principal can do.
pub(crate) fn write(
    index: &Index<'_>,
    columns: &[Column],
    rows: impl Iterator<Item = Row>,
    wanted: Option<&ActionSet>,
) -> anyhow::Result<Exit> {
    let mut writer = Writer::new(index)?;
    for row in rows {
        for (column, cells) in columns.iter().zip(&row.cells) {
            writer.cells(&column.short, &column.viewpoint, &row.spot, cells, wanted)?;
        }
    }
    writer.finish()
}

/// Who can do what at some places.
pub(crate) fn write_places(
    index: &Index<'_>,
    anybody: &Viewpoint,
    places: &[Crowd],
) -> anyhow::Result<Exit> {
    let mut writer = Writer::new(index)?;
    for (spot, groups) in places {
        for (cells, who) in groups {
            for who in who {
                let name = index.estate.principal_id(*who);
                writer.cells(&name, &anybody.seen_by(*who), spot, cells, None)?;
            }
        }
    }
    writer.finish()
}

/// Who can do some actions, and where.
pub(crate) fn write_actors(
    index: &Index<'_>,
    anybody: &Viewpoint,
    found: &[(Principal, Vec<Row>)],
    wanted: &ActionSet,
) -> anyhow::Result<Exit> {
    let mut writer = Writer::new(index)?;
    for (who, rows) in found {
        let name = index.estate.principal_id(*who);
        for row in rows {
            writer.cells(&name, &anybody.seen_by(*who), &row.spot, &row.cells[0], Some(wanted))?;
        }
    }
    writer.finish()
}
