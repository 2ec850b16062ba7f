//! How a file is written: where its tables and keys stand, so that one of them can be changed and all
//! else stays to the byte.
//!
//! A table can be written in four ways: under a header (`[user.ines]`), between braces, by dotted
//! keys (`user.ines.enabled = true`), or not at all, where only tables below it have headers. What
//! is put in or taken out is a splice: a range of bytes and what stands there instead.

use std::ops::Range;

use toml::de::{DeArray, DeTable, DeValue};

pub(super) type Value<'t> = toml::Spanned<DeValue<'t>>;

/// A range of bytes, and what stands there instead.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Splice {
    pub(super) range: Range<usize>,
    pub(super) text: String,
}

/// A file's text, read.
pub(super) struct Document<'t> {
    pub(super) text: &'t str,
    root: DeTable<'t>,
    /// Where the headers start, in order.
    headers: Vec<usize>,
    /// Where the values end, in order.
    ends: Vec<usize>,
    /// How its lines end.
    pub(super) line_end: &'static str,
}

/// Where keys of a table can be put.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Container {
    /// Before all headers.
    Root,
    /// Below the header at these bytes.
    Header(Range<usize>),
    /// Between these braces.
    Braces(Range<usize>),
    /// Nowhere: it has no header of its own. The header of the first table below it starts here.
    Unwritten(usize),
}

/// A table, and how it is written.
struct TablePlace<'d, 't> {
    table: &'d DeTable<'t>,
    container: Container,
    /// The keys that lead from the container to it.
    dotted: Vec<String>,
}

impl<'t> Document<'t> {
    /// Reads a text that is known to be good TOML.
    pub(super) fn new(text: &'t str) -> Self {
        let (document, _) = DeTable::parse_recoverable(text);
        let root = document.into_inner();
        let mut headers = Vec::new();
        headers_in(text, &root, &mut headers);
        headers.sort_unstable();
        headers.dedup();
        let mut ends = Vec::new();
        ends_in(&root, &mut ends);
        ends.sort_unstable();
        let line_end = if text.contains("\r\n") { "\r\n" } else { "\n" };
        Self { text, root, headers, ends, line_end }
    }

    /// The value at a path of keys.
    pub(super) fn get(&self, path: &[&str]) -> Option<&Value<'t>> {
        let (last, above) = path.split_last()?;
        let mut table = &self.root;
        for key in above {
            table = table.get(*key)?.get_ref().as_table()?;
        }
        table.get(*last)
    }

    /// The table of an array that starts at a byte, with its place in it: `[[attach]]`, or one of
    /// `attach = [{ … }]`.
    pub(super) fn element(&self, path: &[&str], start: usize) -> Option<(usize, &Value<'t>)> {
        let all = self.get(path)?.get_ref().as_array()?;
        all.iter().enumerate().find(|(_, one)| one.span().start == start)
    }

    fn is_header(&self, value: &Value<'_>) -> bool {
        value.get_ref().is_table() && self.text[value.span().start..].starts_with('[')
    }

    fn is_in_braces(&self, value: &Value<'_>) -> bool {
        self.text[value.span().start..].starts_with('{')
    }

    /// The table at a path of keys, or the nearest one on the way that is there, with how many keys
    /// led to it. `from` starts at a table of an array.
    fn nearest<'d>(
        &'d self,
        from: Option<&'d Value<'t>>,
        path: &[&str],
    ) -> (TablePlace<'d, 't>, usize) {
        let mut place =
            TablePlace { table: &self.root, container: Container::Root, dotted: Vec::new() };
        if let Some((value, table)) =
            from.and_then(|value| Some((value, value.get_ref().as_table()?)))
        {
            place.table = table;
            place.container = self.container_of(value).unwrap_or(Container::Root);
        }
        // A table that has no header of its own, unless the way leads on to one that has.
        let mut unwritten = None;
        let mut depth = 0;
        for key in path {
            let Some((key, value)) = place.table.get_key_value(*key) else { break };
            let Some(table) = value.get_ref().as_table() else { break };
            depth += 1;
            place.table = table;
            match self.container_of(value) {
                Some(container) => {
                    place.container = container;
                    place.dotted.clear();
                    unwritten = None;
                }
                None if self.stands_in_header(key.span().start) => {
                    place.dotted.clear();
                    unwritten = Some(table);
                }
                None => place.dotted.push(key.get_ref().to_string()),
            }
        }
        if let Some(table) = unwritten {
            let mut below = Vec::new();
            headers_in(self.text, table, &mut below);
            let first = below.into_iter().min().unwrap_or(self.text.len());
            place.container = Container::Unwritten(first);
        }
        (place, depth)
    }

    fn container_of(&self, value: &Value<'_>) -> Option<Container> {
        if self.is_header(value) {
            return Some(Container::Header(value.span()));
        }
        self.is_in_braces(value).then(|| Container::Braces(value.span()))
    }

    /// Whether a key stands in a header, and not before a `=`.
    fn stands_in_header(&self, at: usize) -> bool {
        self.text[self.line_start(at)..at].trim_start().starts_with('[')
    }

    pub(super) fn line_start(&self, at: usize) -> usize {
        let start = self.text[..at].rfind('\n').map_or(0, |at| at + 1);
        // A byte-order mark stays at the very start.
        if start == 0 && self.text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { start }
    }

    /// Just after the line break that ends a line, or the end of the text.
    pub(super) fn line_after(&self, at: usize) -> usize {
        self.text[at..].find('\n').map_or(self.text.len(), |end| at + end + 1)
    }

    fn line_at(&self, start: usize) -> &str {
        self.text[start..self.line_after(start)].trim()
    }

    /// Puts a line after another, of which a byte is given.
    fn line_below(&self, at: usize, line: &str) -> Splice {
        let end = self.line_after(at);
        let text = match self.text[..end].ends_with('\n') {
            true => format!("{line}{}", self.line_end),
            // The last line of a text without a last line break.
            false => format!("{}{line}", self.line_end),
        };
        Splice { range: end..end, text }
    }

    /// Writes a key of a table that has no such key: `path` leads to the table, `key` may have
    /// several parts.
    pub(super) fn insert(
        &self,
        from: Option<&Value<'t>>,
        path: &[&str],
        key: &[&str],
        value: &str,
    ) -> Option<Splice> {
        let whole: Vec<&str> = path.iter().chain(key).copied().collect();
        let (place, depth) = self.nearest(from, &whole[..whole.len() - 1]);
        let left = place.dotted.iter().map(String::as_str).chain(whole[depth..].iter().copied());
        let named: Vec<String> = left.map(key_text).collect();
        let line = format!("{} = {value}", named.join("."));
        Some(match &place.container {
            Container::Header(header) => {
                let last = self.ends_of(place.table).into_iter().max();
                let below = last.unwrap_or(header.end - 1);
                let indent = match last {
                    Some(last) => self.indent(self.first_line_of(place.table, last)),
                    None => self.indent(header.start),
                };
                self.line_below(below, &format!("{indent}{line}"))
            }
            Container::Root => match self.ends_of(&self.root).into_iter().max() {
                Some(last) => self.line_below(last, &line),
                None => {
                    let start = self.line_start(0);
                    let text = format!("{line}{0}{0}", self.line_end);
                    Splice { range: start..start, text }
                }
            },
            Container::Braces(braces) => {
                let last = self.ends_of(self.table_in(braces, place.table)).into_iter().max();
                match last {
                    None => Splice { range: braces.clone(), text: format!("{{ {line} }}") },
                    Some(last) => {
                        let rest = &self.text[last + 1..braces.end];
                        match rest.trim_start().starts_with(',') {
                            true => {
                                let comma = last + 2 + rest.find(',').unwrap_or(0);
                                Splice { range: comma..comma, text: format!(" {line},") }
                            }
                            false => {
                                Splice { range: last + 1..last + 1, text: format!(", {line}") }
                            }
                        }
                    }
                }
            }
            Container::Unwritten(first) => {
                // A header of its own goes before those of the tables below it.
                let start = self.line_start(*first);
                let header: Vec<String> = path.iter().map(|key| key_text(key)).collect();
                let key: Vec<String> = key.iter().map(|key| key_text(key)).collect();
                let text = format!(
                    "[{}]{2}{} = {value}{2}{2}",
                    header.join("."),
                    key.join("."),
                    self.line_end
                );
                Splice { range: start..start, text }
            }
        })
    }

    /// The table that braces hold, of which another may be a part by dotted keys.
    fn table_in<'d>(&'d self, braces: &Range<usize>, part: &'d DeTable<'t>) -> &'d DeTable<'t> {
        fn seek<'d, 't>(table: &'d DeTable<'t>, at: usize) -> Option<&'d DeTable<'t>> {
            let each = |value: &'d Value<'t>| match value.get_ref() {
                DeValue::Table(inner) if value.span().start == at => Some(inner),
                DeValue::Table(inner) => seek(inner, at),
                DeValue::Array(all) => all.iter().find_map(|one| match one.get_ref() {
                    DeValue::Table(inner) if one.span().start == at => Some(inner),
                    DeValue::Table(inner) => seek(inner, at),
                    _ => None,
                }),
                _ => None,
            };
            table.iter().find_map(|(_, value)| each(value))
        }
        seek(&self.root, braces.start).unwrap_or(part)
    }

    /// The last bytes of the values that are written in a table's own body.
    fn ends_of(&self, table: &DeTable<'_>) -> Vec<usize> {
        let mut found = Vec::new();
        self.bodies(table, &mut |_, value| found.push(value.end - 1));
        found
    }

    /// A byte of the line on which the value that ends at a byte has its key.
    fn first_line_of(&self, table: &DeTable<'_>, end: usize) -> usize {
        let mut found = end;
        self.bodies(table, &mut |key, value| {
            if value.end - 1 == end {
                found = key.start;
            }
        });
        found
    }

    /// The keys and values written in a table's own body, dotted ones too.
    fn bodies(&self, table: &DeTable<'_>, each: &mut dyn FnMut(Range<usize>, Range<usize>)) {
        for (key, value) in table.iter() {
            let is_header = self.text[value.span().start..].starts_with('[')
                && self.stands_in_header(key.span().start);
            match value.get_ref() {
                _ if is_header => {}
                DeValue::Table(inner) if !self.is_in_braces(value) => {
                    if !self.stands_in_header(key.span().start) {
                        self.bodies(inner, each);
                    }
                }
                _ => each(key.span(), value.span()),
            }
        }
    }

    fn indent(&self, at: usize) -> &str {
        let start = self.line_start(at);
        let line = &self.text[start..at.max(start)];
        &line[..line.len() - line.trim_start_matches([' ', '\t']).len()]
    }

    /// Takes away a key with all that stands below it.
    pub(super) fn remove(&self, from: Option<&Value<'t>>, path: &[&str]) -> Vec<Splice> {
        let (last, above) = path.split_last().expect("a key has a name");
        let (place, depth) = self.nearest(from, above);
        let found = place.table.get_key_value(*last).filter(|_| depth == above.len());
        let Some((key, value)) = found else { return Vec::new() };
        self.without(key.span(), value)
    }

    /// What declares a thing with no keys, where the one that goes is the last it has and it has no
    /// header of its own and no braces.
    pub(super) fn left_empty(&self, path: &[&str], key: &[&str]) -> Option<String> {
        let thing = self.get(path)?;
        if self.is_header(thing) || self.is_in_braces(thing) {
            return None;
        }
        let mut table = thing.get_ref().as_table()?;
        for (i, one) in key.iter().enumerate() {
            let value = table.get(*one).filter(|_| table.len() == 1)?;
            if i + 1 < key.len() {
                table = value.get_ref().as_table()?;
            }
        }
        let (place, _) = self.nearest(None, path);
        let spelled =
            |keys: &mut dyn Iterator<Item = &str>| keys.map(key_text).collect::<Vec<_>>().join(".");
        Some(match place.container {
            Container::Unwritten(_) => {
                format!("[{}]{}", spelled(&mut path.iter().copied()), self.line_end)
            }
            _ => {
                let keys = spelled(&mut place.dotted.iter().map(String::as_str));
                format!("{keys} = {{}}{}", self.line_end)
            }
        })
    }

    /// Without one value and its key.
    fn without(&self, key: Range<usize>, value: &Value<'_>) -> Vec<Splice> {
        if self.is_header(value) || value.get_ref().is_array() && self.stands_in_header(key.start) {
            let mut headers = Vec::new();
            headers_at(self.text, value, &mut headers);
            return headers.into_iter().map(|header| self.block_gone(header)).collect();
        }
        if let Some(table) = value.get_ref().as_table()
            && !self.is_in_braces(value)
        {
            let all = table.iter();
            return all.flat_map(|(key, value)| self.without(key.span(), value)).collect();
        }
        if let Some(braces) = self.braces_around(key.start) {
            return vec![self.entry_gone(&braces, value.span())];
        }
        let (start, end) = (self.line_start(key.start), self.line_after(value.span().end - 1));
        vec![Splice { range: start..end, text: String::new() }]
    }

    /// The innermost braces that hold a byte.
    fn braces_around(&self, at: usize) -> Option<Range<usize>> {
        fn seek(text: &str, table: &DeTable<'_>, at: usize, found: &mut Option<Range<usize>>) {
            for (_, value) in table.iter() {
                seek_value(text, value, at, found);
            }
        }
        fn seek_value(text: &str, value: &Value<'_>, at: usize, found: &mut Option<Range<usize>>) {
            match value.get_ref() {
                DeValue::Table(inner) => {
                    let span = value.span();
                    if text[span.start..].starts_with('{') && span.contains(&at) {
                        *found = Some(span);
                    }
                    seek(text, inner, at, found);
                }
                DeValue::Array(all) => {
                    all.iter().for_each(|one| seek_value(text, one, at, found));
                }
                _ => {}
            }
        }
        let mut found = None;
        seek(self.text, &self.root, at, &mut found);
        found
    }

    /// Without an entry of a table in braces.
    fn entry_gone(&self, braces: &Range<usize>, value: Range<usize>) -> Splice {
        let mut ends = Vec::new();
        let none = DeTable::new();
        let table = self.table_in(braces, &none);
        self.bodies(table, &mut |_, value| ends.push(value.end));
        ends.sort_unstable();
        let before = ends.iter().rev().find(|end| **end <= value.start);
        let is_last = ends.last() == Some(&value.end);
        match (before, is_last) {
            // With the comma before it.
            (Some(before), _) => Splice { range: *before..value.end, text: String::new() },
            (None, true) => Splice { range: braces.clone(), text: "{}".to_owned() },
            (None, false) => {
                let comma =
                    self.text[value.end..].find(',').map_or(value.end, |at| value.end + at + 1);
                Splice { range: braces.start + 1..comma, text: String::new() }
            }
        }
    }

    /// The body of a header: from the comments right above it to the last line that belongs to it.
    pub(super) fn block(&self, header: usize) -> Range<usize> {
        let mut start = self.line_start(header);
        loop {
            let above = if start == 0 { 0 } else { self.line_start(start - 1) };
            if above >= start || !self.line_at(above).starts_with('#') {
                break;
            }
            start = above;
        }
        let next = self.headers.iter().find(|other| **other > header);
        let limit = next.map_or(self.text.len(), |next| self.line_start(*next));
        let last = self.ends[..self.ends.partition_point(|end| *end <= limit)].last();
        let last = last.filter(|end| **end > header).map_or(header, |end| end - 1);
        let end = self.line_after(last);
        // Comments that stand right below the last line of it, unless a header follows at once.
        let mut below = end;
        while below < limit && self.line_at(below).starts_with('#') {
            below = self.line_after(below);
        }
        let is_its_own = below == self.text.len() || self.line_at(below).is_empty();
        start..if is_its_own { below } else { end }
    }

    /// Takes away a header with its body and the empty lines that kept it apart.
    pub(super) fn block_gone(&self, header: usize) -> Splice {
        let mut range = self.block(header);
        while range.end < self.text.len() && self.line_at(range.end).is_empty() {
            range.end = self.line_after(range.end);
        }
        if range.end == self.text.len() {
            // Nothing comes after it: what kept it apart from what stands above goes.
            let above = self.text[..range.start].trim_end_matches(['\n', '\r', ' ', '\t']);
            let end = self.line_after(above.len().saturating_sub(1));
            range.start = range.start.min(end.max(self.line_start(0)));
        }
        Splice { range, text: String::new() }
    }

    /// Where a block ends that other blocks are to follow.
    pub(super) fn after_block(&self, header: usize) -> usize {
        self.block(header).end
    }

    /// Every header of a thing and of the tables below it.
    pub(super) fn headers_of(&self, value: &Value<'_>) -> Vec<usize> {
        let mut found = Vec::new();
        headers_at(self.text, value, &mut found);
        found.sort_unstable();
        found
    }

    /// Every place where the key at a depth of a path is spelled, in headers and dotted keys.
    pub(super) fn spelled(&self, path: &[&str]) -> Vec<Range<usize>> {
        let depth = path.len() - 1;
        let mut found = Vec::new();
        for header in &self.headers {
            let keys = keys_in(
                &self.text[*header..],
                self.text[*header..].find(|c| c != '[').unwrap_or(0),
            );
            if keys.len() > depth && keys.iter().zip(path).all(|((_, key), wanted)| key == wanted) {
                found.push(keys[depth].0.start + header..keys[depth].0.end + header);
            }
        }
        // By a dotted key, or as a key of the table above.
        for above in 0..=depth {
            let (place, reached) = self.nearest(None, &path[..above]);
            let is_there = reached == above && place.dotted.is_empty();
            if !is_there || matches!(place.container, Container::Unwritten(_)) {
                continue;
            }
            self.bodies(place.table, &mut |key, _| {
                let start = self.chain_start(key.start);
                let keys = keys_in(&self.text[start..], 0);
                let wanted = &path[above..];
                if keys.len() >= wanted.len()
                    && keys.iter().zip(wanted).all(|((_, key), wanted)| key == wanted)
                {
                    let at = &keys[depth - above].0;
                    found.push(at.start + start..at.end + start);
                }
            });
        }
        found.sort_unstable_by_key(|range| range.start);
        found.dedup();
        found
    }

    /// Where the dotted key begins of which a part stands at a byte.
    fn chain_start(&self, at: usize) -> usize {
        let line = self.line_start(at);
        let braces = self.braces_around(at).filter(|braces| braces.start >= line);
        let Some(braces) = braces else {
            return line
                + (self.text[line..].len()
                    - self.text[line..].trim_start_matches([' ', '\t']).len());
        };
        let mut start = braces.start + 1;
        let none = DeTable::new();
        self.bodies(self.table_in(&braces, &none), &mut |_, value| {
            if value.end <= at {
                start = start.max(value.end + 1);
            }
        });
        start + (self.text[start..].len() - self.text[start..].trim_start().len())
    }
}

/// A key as it is written: bare, where that can be.
pub(crate) fn key_text(key: &str) -> String {
    let is_bare = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
    match !key.is_empty() && key.chars().all(is_bare) {
        true => key.to_owned(),
        false => super::written::quoted(key),
    }
}

fn headers_in(text: &str, table: &DeTable<'_>, found: &mut Vec<usize>) {
    table.iter().for_each(|(_, value)| headers_at(text, value, found));
}

fn headers_at(text: &str, value: &Value<'_>, found: &mut Vec<usize>) {
    match value.get_ref() {
        DeValue::Table(table) => {
            if text[value.span().start..].starts_with('[') {
                found.push(value.span().start);
            }
            headers_in(text, table, found);
        }
        DeValue::Array(all) if holds_tables(all) => {
            all.iter().for_each(|one| headers_at(text, one, found));
        }
        _ => {}
    }
}

/// Where the values of a table end that are no tables themselves, and those in braces and lists.
fn ends_in(table: &DeTable<'_>, found: &mut Vec<usize>) {
    fn of_value(value: &Value<'_>, found: &mut Vec<usize>) {
        found.push(value.span().end);
        match value.get_ref() {
            DeValue::Table(inner) => ends_in(inner, found),
            DeValue::Array(all) => all.iter().for_each(|one| of_value(one, found)),
            _ => {}
        }
    }
    table.iter().for_each(|(_, value)| of_value(value, found));
}

fn holds_tables(all: &DeArray<'_>) -> bool {
    all.iter().all(|one| one.get_ref().is_table())
}

/// The keys of a header or a dotted key that starts at a byte, with where each stands.
fn keys_in(text: &str, start: usize) -> Vec<(Range<usize>, String)> {
    let mut found = Vec::new();
    let bytes = text.as_bytes();
    let mut at = start;
    loop {
        while at < bytes.len() && matches!(bytes[at], b' ' | b'\t') {
            at += 1;
        }
        let Some(first) = bytes.get(at) else { return found };
        let from = at;
        let key = match first {
            b'"' | b'\'' => {
                at += 1;
                while at < bytes.len() && bytes[at] != *first {
                    at += if bytes[at] == b'\\' && *first == b'"' { 2 } else { 1 };
                }
                at = (at + 1).min(bytes.len());
                let literal = text.get(from..at).unwrap_or_default();
                let (read, _) = DeValue::parse_recoverable(literal);
                read.get_ref().as_str().unwrap_or_default().to_owned()
            }
            _ => {
                let is_bare = |b: &u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-');
                at += bytes[at..].iter().take_while(|b| is_bare(b)).count();
                text[from..at].to_owned()
            }
        };
        found.push((from..at, key));
        while at < bytes.len() && matches!(bytes[at], b' ' | b'\t') {
            at += 1;
        }
        match bytes.get(at) {
            Some(b'.') => at += 1,
            _ => return found,
        }
    }
}
