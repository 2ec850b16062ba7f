//! A table read key by key: each access says what it wants, and the reader keeps the faults.

use bexum_core::declaration::{Ask, Element, List, WindowWritten};
use bexum_core::fault::{Fault, LocatedFault};
use bexum_core::name::{nearest, new_word};
use bexum_core::origin::{FileId, Origin, Spanned};
use bexum_core::time::Time;
use toml::de::{DeTable, DeValue};

use super::value;

/// A value with its span.
pub(super) type Value<'i> = toml::Spanned<DeValue<'i>>;

/// Reads one table; `about` is known in every one (spec section 2).
pub(super) struct Reader<'r, 'i> {
    pub(super) file: FileId,
    pub(super) faults: &'r mut Vec<LocatedFault>,
    /// The table in words, for messages: `a user`.
    pub(super) what: &'static str,
    pub(super) table: &'r DeTable<'i>,
    /// Where the table starts.
    pub(super) origin: Origin,
}

impl<'r, 'i> Reader<'r, 'i> {
    /// Reports every key that is not among `known`.
    pub(super) fn only(&mut self, known: &'static [&'static str]) {
        for key in self.table.keys() {
            let name = key.get_ref().as_ref();
            if name != "about" && !known.contains(&name) {
                let fault = Fault::UnknownKey {
                    key: name.to_owned(),
                    table: self.what,
                    nearest: new_word(name)
                        .filter(|new| known.contains(new))
                        .or_else(|| nearest(name, known.iter().copied())),
                    known,
                };
                let origin = value::origin(self.file, key.span());
                self.faults.push(LocatedFault::new(fault, origin));
            }
        }
    }

    pub(super) fn get(&self, key: &str) -> Option<&'r Value<'i>> {
        self.table.get(key)
    }

    pub(super) fn origin_of(&self, value: &Value<'i>) -> Origin {
        value::origin(self.file, value.span())
    }

    pub(super) fn wrong(&mut self, key: &str, expected: &'static str, value: &Value<'i>) {
        let found = value::type_in_words(value.get_ref());
        let fault = Fault::WrongType { key: key.to_owned(), expected, found };
        let origin = self.origin_of(value);
        self.faults.push(LocatedFault::new(fault, origin));
    }

    fn wrong_element(&mut self, key: &'static str, expected: &'static str, item: &Value<'i>) {
        let found = value::type_in_words(item.get_ref());
        let fault = Fault::WrongElement { key, expected, found };
        let origin = self.origin_of(item);
        self.faults.push(LocatedFault::new(fault, origin));
    }

    /// Reports a key that must be there.
    pub(super) fn missing(&mut self, key: &'static str) {
        let fault = Fault::MissingKey { key, table: self.what };
        self.faults.push(LocatedFault::new(fault, self.origin));
    }

    /// Reports each of these keys that is not there.
    pub(super) fn expect_all(&mut self, keys: &[&'static str]) {
        for key in keys {
            if self.get(key).is_none() {
                self.missing(key);
            }
        }
    }

    pub(super) fn text(&mut self, key: &'static str) -> Option<Spanned<String>> {
        let value = self.get(key)?;
        match value.get_ref().as_str() {
            Some(text) => Some(Spanned::new(text.to_owned(), self.origin_of(value))),
            None => {
                self.wrong(key, "a string", value);
                None
            }
        }
    }

    pub(super) fn about(&mut self) -> Option<String> {
        self.text("about").map(|written| written.value)
    }

    pub(super) fn boolean(&mut self, key: &'static str, default: bool) -> bool {
        let Some(value) = self.get(key) else { return default };
        value.get_ref().as_bool().unwrap_or_else(|| {
            self.wrong(key, "`true` or `false`", value);
            default
        })
    }

    /// A list of strings, for which a single string may stand.
    pub(super) fn list(&mut self, key: &'static str) -> Option<List> {
        let value = self.get(key)?;
        let origin = self.origin_of(value);
        if let Some(text) = value.get_ref().as_str() {
            return Some(Spanned::new(vec![Spanned::new(text.to_owned(), origin)], origin));
        }
        let Some(array) = value.get_ref().as_array() else {
            self.wrong(key, "a string or a list of strings", value);
            return None;
        };
        let mut items = Vec::with_capacity(array.len());
        let mut sound = true;
        for item in array.iter() {
            match item.get_ref().as_str() {
                Some(text) => items.push(Spanned::new(text.to_owned(), self.origin_of(item))),
                None => {
                    self.wrong_element(key, "a string", item);
                    sound = false;
                }
            }
        }
        (sound || !items.is_empty()).then_some(Spanned::new(items, origin))
    }

    /// The scalars of a list, each with its place; `None` where it is none.
    pub(super) fn values(
        &mut self,
        key: &'static str,
        written: &'r Value<'i>,
    ) -> Option<Spanned<Vec<Spanned<bexum_core::attribute::Value>>>> {
        let Some(array) = written.get_ref().as_array() else {
            self.wrong(key, "a list", written);
            return None;
        };
        let mut items = Vec::with_capacity(array.len());
        for item in array.iter() {
            let scalar = value::scalar(self.file, item, self.faults)?;
            items.push(Spanned::new(scalar, self.origin_of(item)));
        }
        Some(Spanned::new(items, self.origin_of(written)))
    }

    /// The elements of a list, none when the key is not written.
    pub(super) fn names(&mut self, key: &'static str) -> Vec<Spanned<String>> {
        self.list(key).map(|list| list.value).unwrap_or_default()
    }

    /// Principals, each perhaps in a table with a window; `None` when the key is not written.
    pub(super) fn elements(&mut self, key: &'static str) -> Option<Vec<Element>> {
        let value = self.get(key)?;
        let single = |text: &str, origin| Element {
            who: Spanned::new(text.to_owned(), origin),
            window: WindowWritten::default(),
        };
        if let Some(text) = value.get_ref().as_str() {
            return Some(vec![single(text, self.origin_of(value))]);
        }
        let Some(array) = value.get_ref().as_array() else {
            self.wrong(key, "a principal or a list of principals", value);
            return Some(Vec::new());
        };
        let mut elements = Vec::with_capacity(array.len());
        for item in array.iter() {
            match item.get_ref() {
                DeValue::String(text) => elements.push(single(text, self.origin_of(item))),
                DeValue::Table(table) => elements.extend(self.element(table, item)),
                _ => self.wrong_element(key, "a principal, or a table with `who`", item),
            }
        }
        Some(elements)
    }

    fn element(&mut self, table: &'r DeTable<'i>, value: &Value<'i>) -> Option<Element> {
        let mut inner = Reader {
            file: self.file,
            faults: &mut *self.faults,
            what: "a windowed element",
            table,
            origin: value::origin(self.file, value.span()),
        };
        inner.only(&["who", "from", "until"]);
        inner.about();
        let window = inner.window();
        if inner.get("from").is_none() && inner.get("until").is_none() {
            inner.missing("from");
        }
        if inner.get("who").is_none() {
            inner.missing("who");
        }
        Some(Element { who: inner.text("who")?, window })
    }

    /// Users who asked, each in a table; one alone may stand without the list.
    pub(super) fn asks(&mut self, key: &'static str) -> Vec<Ask> {
        let Some(value) = self.get(key) else { return Vec::new() };
        let Some(array) = value.get_ref().as_array() else {
            self.wrong(key, "a list of tables with `who` and `at`", value);
            return Vec::new();
        };
        let mut asks = Vec::with_capacity(array.len());
        for item in array.iter() {
            let Some(table) = item.get_ref().as_table() else {
                self.wrong_element(key, "a table with `who` and `at`", item);
                continue;
            };
            let mut inner = Reader {
                file: self.file,
                faults: &mut *self.faults,
                what: "somebody who asks",
                table,
                origin: value::origin(self.file, item.span()),
            };
            inner.only(&["who", "at", "why"]);
            inner.about();
            inner.expect_all(&["who", "at"]);
            let (who, at) = (inner.text("who"), inner.time("at"));
            let why = inner.text("why").map(|why| why.value);
            if let (Some(who), Some(at)) = (who, at) {
                asks.push(Ask { who, at: at.value, why });
            }
        }
        asks
    }

    pub(super) fn window(&mut self) -> WindowWritten {
        WindowWritten { from: self.time("from"), until: self.time("until") }
    }

    pub(super) fn time(&mut self, key: &'static str) -> Option<Spanned<Time>> {
        let value = self.get(key)?;
        let time = value.get_ref().as_datetime().and_then(value::time);
        if time.is_none() {
            self.wrong(key, "a date and time with an offset in the years 0001 to 9999 (UTC), like `2026-03-01T08:00:00Z`", value);
        }
        Some(Spanned::new(time?, self.origin_of(value)))
    }

    /// One word of a fixed set.
    pub(super) fn word<T: Copy>(
        &mut self,
        key: &'static str,
        known: &'static [&'static str],
        values: &[T],
    ) -> Option<Spanned<T>> {
        let written = self.text(key)?;
        let at = known.iter().position(|word| *word == written.value);
        if at.is_none() {
            let fault = Fault::WrongWord { key, found: written.value.clone(), known };
            self.faults.push(LocatedFault::new(fault, written.origin));
        }
        Some(Spanned::new(values[at?], written.origin))
    }

    /// A table of attributes, flattened.
    pub(super) fn attributes(
        &mut self,
        key: &'static str,
    ) -> Vec<(Spanned<String>, bexum_core::attribute::Value)> {
        self.flat(key).values
    }

    /// A table of attributes, flattened, with the tables in it that hold nothing.
    pub(super) fn flat(&mut self, key: &'static str) -> value::Flat {
        let Some(value) = self.get(key) else { return value::Flat::default() };
        match value.get_ref().as_table() {
            Some(table) => value::attributes(self.file, table, self.faults),
            None => {
                self.wrong(key, "a table", value);
                value::Flat::default()
            }
        }
    }
}
