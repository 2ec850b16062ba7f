//! A report as a page by itself.

use askama::Template;

use super::report::{Body, Cell, Report};

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'r> {
    title: &'r str,
    parts: Vec<PageSection<'r>>,
}

struct PageSection<'r> {
    title: &'r str,
    fields: Vec<(&'static str, String)>,
    columns: &'static [&'static str],
    rows: Vec<Vec<(&'static str, Vec<String>)>>,
}

/// The page, which needs nothing else.
pub(crate) fn page(report: &Report) -> anyhow::Result<String> {
    let parts = report.sections.iter().map(|section| {
        let mut part = PageSection {
            title: &section.title,
            fields: Vec::new(),
            columns: &[],
            rows: Vec::new(),
        };
        match &section.body {
            Body::Fields(fields) => {
                let told = fields.iter().map(|(name, cell)| (*name, cell.shown()));
                part.fields = told.filter(|(_, value)| !value.is_empty()).collect();
            }
            Body::Rows(columns, rows) => {
                part.columns = columns;
                let row =
                    |row: &Vec<Cell>| columns.iter().copied().zip(row.iter().map(items)).collect();
                part.rows = rows.iter().map(row).collect();
            }
        }
        part
    });
    Ok(Page { title: &report.title, parts: parts.collect() }.render()?)
}

/// What a cell says, element by element.
fn items(cell: &Cell) -> Vec<String> {
    match cell {
        Cell::List(items) | Cell::ListTold(items, _) => items.clone(),
        other => vec![other.shown()],
    }
}
