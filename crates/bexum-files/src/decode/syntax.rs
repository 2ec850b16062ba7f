//! Errors of the TOML reader, in order, one a line; a name declared twice shows its first place.

use bexum_core::fault::{Fault, LocatedFault};
use bexum_core::origin::{FileId, Origin};
use toml::de::{DeTable, DeValue, Error};

use crate::problem::Problem;

/// Most syntax errors reported of one file: after so many the rest are echoes.
const MOST: usize = 20;

/// What the TOML reader found, sorted by place, the first of each line only.
pub(super) fn problems(
    file: FileId,
    text: &str,
    document: &DeTable<'_>,
    errors: Vec<Error>,
) -> Vec<Problem> {
    let mut errors: Vec<(usize, usize, Error)> = errors
        .into_iter()
        .map(|error| {
            let (start, end) = match error.span() {
                Some(span) => (span.start, span.end),
                None => deepest_line(text),
            };
            (start.min(text.len()), end.min(text.len()), error)
        })
        .collect();
    errors.sort_by_key(|(start, end, _)| (*start, *end));
    let mut problems = Vec::new();
    let mut last_line_end = None;
    for (start, end, error) in errors {
        if last_line_end.is_some_and(|line_end| start <= line_end) {
            continue;
        }
        last_line_end = Some(text[start..].find('\n').map_or(text.len(), |at| start + at));
        let origin =
            |start: usize, end: usize| Origin { file, start: start as u32, end: end as u32 };
        let first = (error.message() == "duplicate key")
            .then(|| first_place(text, document, start))
            .flatten();
        let here = origin(start, end.max(start));
        problems.push(match first {
            Some(First { what: Some(what), name, span }) => {
                let fault = Fault::Duplicate { what, name };
                let located = LocatedFault::new(fault, here)
                    .and_see(origin(span.start, span.end), "first declared here");
                Problem::declared(located)
            }
            Some(First { name, span, .. }) => Problem::Syntax {
                message: format!("key `{name}` stands twice in one table"),
                place: here.into(),
                first: Some(origin(span.start, span.end).into()),
            },
            None => Problem::Syntax {
                message: worded(error.message(), &text[start..]),
                place: here.into(),
                first: None,
            },
        });
        if problems.len() == MOST {
            break;
        }
    }
    problems
}

/// The reader's word, or a plainer one, about what `rest` begins with.
fn worded(message: &str, rest: &str) -> String {
    let line = rest.lines().next().unwrap_or_default();
    if message.starts_with("string values must be quoted") && line.trim().is_empty() {
        return "a value is missing here".to_owned();
    }
    if message.contains("recursion limit") || message.contains("max recursion depth") {
        return "this nests deeper than TOML is read here".to_owned();
    }
    message.to_owned()
}

/// Where something that stands twice stood first.
struct First {
    /// The word for it when it is a thing with a name of its own (`user`).
    what: Option<&'static str>,
    name: String,
    span: std::ops::Range<usize>,
}

fn first_place(text: &str, document: &DeTable<'_>, at: usize) -> Option<First> {
    let line_start = text[..at].rfind('\n').map_or(0, |end| end + 1);
    let line = text[line_start..].lines().next()?;
    let is_header = line.trim_start().starts_with('[');
    let header = if is_header { Some(line) } else { header_above(&text[..line_start]) };
    let path = match header {
        Some(header) => header_path(header)?,
        None => Vec::new(),
    };
    if is_header {
        let (name, above) = path.split_last()?;
        let what = match above {
            [table] => bexum_core::TABLES.into_iter().find(|known| known == table),
            _ => None,
        };
        // The document keeps the last of several headers; the first is looked for in the text.
        let span = first_header(&text[..line_start], &path).or_else(|| {
            let (key, _) = walk(document, above, at)?.get_key_value(name.as_str())?;
            Some(key.span()).filter(|span| span.start < line_start)
        })?;
        return Some(First { what, name: name.clone(), span });
    }
    let table = walk(document, &path, at)?;
    let name = table.iter().filter(|(key, _)| key.span().start < at).find(|(key, _)| {
        text[at..].trim_start_matches(['"', '\'']).starts_with(key.get_ref().as_ref())
    })?;
    Some(First { what: None, name: name.0.get_ref().to_string(), span: name.0.span() })
}

/// Where the name stands in the first header of this path.
fn first_header(text: &str, path: &[String]) -> Option<std::ops::Range<usize>> {
    let name = path.last()?;
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        let is_it = line.trim_start().starts_with('[')
            && line.contains(name.as_str())
            && header_path(line.trim_end()).is_some_and(|known| known == path);
        if is_it {
            let at = start + line.rfind(name.as_str())?;
            return Some(at..at + name.len());
        }
        start += line.len();
    }
    None
}

/// The line that nests deepest, by its dots and brackets; the reader does not say where it gave up.
fn deepest_line(text: &str) -> (usize, usize) {
    let depth = |line: &str| line.bytes().filter(|b| b".[{".contains(b)).count();
    let mut start = 0;
    let mut deepest = (0, 0, 0);
    for line in text.split_inclusive('\n') {
        if depth(line) > deepest.0 {
            deepest = (depth(line), start, start + line.trim_end().len());
        }
        start += line.len();
    }
    (deepest.1, deepest.2)
}

fn header_above(text: &str) -> Option<&str> {
    text.lines().rev().find(|line| line.trim_start().starts_with('['))
}

/// The keys of `[a."b c".d]`, read as TOML reads them.
fn header_path(header: &str) -> Option<Vec<String>> {
    let document = DeTable::parse(header).ok()?;
    let mut path = Vec::new();
    let mut table = Some(document.get_ref());
    while let Some((key, value)) = table.and_then(|table| table.iter().next()) {
        path.push(key.get_ref().to_string());
        table = match value.get_ref() {
            DeValue::Table(inner) => Some(inner),
            _ => None,
        };
    }
    Some(path)
}

/// The table at `path`; of an array, the last element that starts before `at`.
fn walk<'t, 'i>(document: &'t DeTable<'i>, path: &[String], at: usize) -> Option<&'t DeTable<'i>> {
    let mut table = document;
    for name in path {
        table = match table.get(name.as_str())?.get_ref() {
            DeValue::Table(inner) => inner,
            DeValue::Array(array) => {
                let before = array.iter().rev().find(|value| value.span().start < at)?;
                before.get_ref().as_table()?
            }
            _ => return None,
        };
    }
    Some(table)
}
