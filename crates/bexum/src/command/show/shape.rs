//! What is shown, for machines.

use bexum_wire::show::{Section, Show};

use crate::render::report::{Body, Cell, Report};

/// A report as JSON; its titles and what it says to people besides are left out.
pub(super) fn of(report: &Report) -> Show {
    let sections = report.sections.iter().map(|section| {
        let told = match &section.body {
            Body::Fields(fields) => Section::Fields(
                fields.iter().map(|(name, cell)| (key(name), cell.json())).collect(),
            ),
            Body::Rows(columns, rows) => {
                let row = |row: &Vec<Cell>| {
                    columns.iter().zip(row).map(|(c, cell)| (key(c), cell.json())).collect()
                };
                Section::Rows(rows.iter().map(row).collect())
            }
        };
        (section.key.to_owned(), told)
    });
    Show { version: bexum_wire::VERSION, sections: sections.collect() }
}

/// What a field or a column is called in JSON.
fn key(name: &str) -> String {
    name.replace(' ', "-")
}
