//! Tables (RFC 4180) of users, groups and memberships; the first row names the columns.

use bexum_core::Time;
use bexum_core::import::{Given, MappedKey, Person, Reference, Team};
use bexum_core::time::Window;

use super::{Reading, bare};
use crate::quotes::{BadQuote, bad_quote};

/// Letters after which a spreadsheet takes a cell for a formula.
const STARTS_FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

/// A cell that no spreadsheet runs: where it would start a formula, or starts with the mark itself, it
/// has a `'` before it.
#[must_use]
pub fn harmless(cell: &str) -> String {
    match cell.starts_with(STARTS_FORMULA) || cell.starts_with('\'') {
        true => format!("'{cell}"),
        false => cell.to_owned(),
    }
}

/// The cell that [`harmless`] made harmless.
#[must_use]
pub fn plain(cell: &str) -> &str {
    match cell.strip_prefix('\'') {
        Some(rest) if rest.starts_with(STARTS_FORMULA) || rest.starts_with('\'') => rest,
        _ => cell,
    }
}

/// Rows for which there is made room before they are read: a file may hold nothing but line ends.
const MOST_RESERVED: usize = 1 << 20;

/// What a table is about.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Sort {
    Users,
    Groups,
    Memberships,
}

/// What a column is for.
#[derive(Clone, PartialEq, Eq)]
enum Column {
    Key(MappedKey),
    Group,
    Member,
    From,
    Until,
    /// Something that an export tells and an import does not need.
    Quiet,
    /// Nothing here.
    Left(String),
}

impl Column {
    fn is_attribute(&self) -> bool {
        matches!(self, Self::Key(MappedKey::Attribute(_)))
    }
}

impl Reading<'_> {
    pub(super) fn table(&mut self, file: &str, text: &[u8]) {
        if let Some(BadQuote { line, why }) = bad_quote(text) {
            return self.complain(format!("{file}:{line}"), why.to_owned(), None);
        }
        let mut reader = csv::ReaderBuilder::new().has_headers(true).from_reader(text);
        let headers = match reader.headers() {
            Ok(headers) => headers.clone(),
            Err(error) => return self.unread(file, &error),
        };
        let titles: Vec<&str> = headers.iter().map(str::trim).collect();
        let has = |title: &str| titles.contains(&title);
        let sort = match () {
            () if has("member") => Sort::Memberships,
            () if has("group") => Sort::Groups,
            () => Sort::Users,
        };
        let columns: Vec<Column> = titles.iter().map(|title| self.column(sort, title)).collect();
        let place = format!("{file}:1");
        for (i, column) in columns.iter().enumerate() {
            let is_twice = columns[..i].contains(column) && *column != Column::Quiet;
            if is_twice {
                let message =
                    format!("the column `{}` says again what another one says", titles[i]);
                self.complain(place.clone(), message, None);
            }
            if let Column::Left(title) = column {
                self.leave(title, || place.clone());
            }
        }
        let names_them = match sort {
            Sort::Users => Column::Key(MappedKey::Name),
            Sort::Groups | Sort::Memberships => Column::Group,
        };
        if !columns.contains(&names_them) {
            let message = match sort {
                Sort::Memberships => "no column `group`".to_owned(),
                _ => format!(
                    "no column is called `user`, `group` or `userName`: {}",
                    titles.join(", ")
                ),
            };
            let hint =
                "the first row names the columns; `--map COLUMN=name` says which one names users";
            return self.complain(place, message, Some(hint));
        }
        let speaks = &mut self.read.people.speaks_of;
        match sort {
            Sort::Users => speaks.persons = true,
            Sort::Groups => speaks.groups = true,
            Sort::Memberships => speaks.members = true,
        }
        for column in &columns {
            match column {
                Column::Key(MappedKey::FullName) => speaks.full_name = true,
                Column::Key(MappedKey::Manager) => speaks.manager = true,
                Column::Key(MappedKey::Attribute(name)) if !speaks.attributes.contains(name) => {
                    speaks.attributes.push(name.clone());
                }
                _ => {}
            }
        }
        let mut record = csv::StringRecord::new();
        let lines = memchr::memchr_iter(b'\n', text).count().min(MOST_RESERVED);
        match sort {
            Sort::Users => self.read.people.persons.reserve(lines),
            Sort::Groups => self.read.people.groups.reserve(lines),
            Sort::Memberships => self.rows.reserve(lines),
        }
        let mut is_empty = true;
        loop {
            match reader.read_record(&mut record) {
                Ok(false) => break,
                Ok(true) => {}
                Err(error) => return self.unread(file, &error),
            }
            is_empty = false;
            let line = record.position().map_or(0, csv::Position::line);
            let place = format!("{file}:{line}");
            match sort {
                Sort::Users => self.user_row(&place, &columns, &record),
                Sort::Groups => self.group_row(&place, &columns, &record),
                Sort::Memberships => self.member_row(&place, &columns, &record),
            }
        }
        // Nobody at all is a file that was cut off rather than a house that is empty.
        if is_empty {
            self.complain(place, "there is no row below the first".to_owned(), None);
        }
    }

    fn unread(&mut self, file: &str, error: &csv::Error) {
        let line = error.position().map(csv::Position::line);
        let place = line.map_or_else(|| file.to_owned(), |line| format!("{file}:{line}"));
        let message = match error.kind() {
            csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
                format!("this row has {len} cells, the first one has {expected_len}")
            }
            csv::ErrorKind::Utf8 { .. } => "this row is not in UTF-8".to_owned(),
            _ => error.to_string(),
        };
        self.complain(place, message, None);
    }

    fn column(&self, sort: Sort, title: &str) -> Column {
        if let Some((_, key)) = self.mapping.iter().find(|(column, _)| column == title) {
            return match (sort, key) {
                (Sort::Groups, MappedKey::Name) => Column::Group,
                (_, key) => Column::Key(key.clone()),
            };
        }
        let mapped = |key: &MappedKey| self.mapping.iter().any(|(_, known)| known == key);
        let key = |key: MappedKey| match mapped(&key) {
            // The mapping says where this comes from.
            true => Column::Left(title.to_owned()),
            false => Column::Key(key),
        };
        match (sort, title) {
            (Sort::Users, "user" | "userName") => key(MappedKey::Name),
            (Sort::Users, "full-name" | "displayName") => key(MappedKey::FullName),
            (Sort::Users, "enabled" | "active") => key(MappedKey::Enabled),
            (Sort::Users, "manager") => key(MappedKey::Manager),
            (Sort::Users | Sort::Groups, "source-id" | "id") => key(MappedKey::SourceId),
            (Sort::Users, _) if title.starts_with("attributes.") => {
                MappedKey::read(title).map_or(Column::Left(title.to_owned()), Column::Key)
            }
            (Sort::Groups | Sort::Memberships, "group") => Column::Group,
            (Sort::Memberships, "member") => Column::Member,
            (Sort::Memberships, "from") => Column::From,
            (Sort::Memberships, "until") => Column::Until,
            (_, "source" | "place" | "about" | "join" | "owners" | "members-when") => Column::Quiet,
            _ => Column::Left(title.to_owned()),
        }
    }

    fn user_row(&mut self, place: &str, columns: &[Column], record: &csv::StringRecord) {
        let attributes = columns.iter().filter(|column| column.is_attribute()).count();
        let mut person = Person {
            place: place.to_owned(),
            attributes: Vec::with_capacity(attributes),
            ..Person::default()
        };
        let text = |cell: &str| Some(cell.to_owned()).filter(|cell| !cell.is_empty());
        for (column, cell) in columns.iter().zip(record) {
            let cell = plain(cell);
            let Column::Key(key) = column else { continue };
            match key {
                MappedKey::Name => person.name = bare(cell, "user").to_owned(),
                MappedKey::FullName => person.full_name = text(cell),
                MappedKey::SourceId => person.id = text(cell),
                MappedKey::Manager => {
                    person.manager = text(cell).map(|to| Reference {
                        to,
                        window: Window::ALWAYS,
                        place: place.to_owned(),
                    });
                }
                MappedKey::Enabled => match cell.to_ascii_lowercase().as_str() {
                    "" => {}
                    "true" => person.enabled = Some(true),
                    "false" => person.enabled = Some(false),
                    _ => {
                        let message = format!("`{cell}` is neither `true` nor `false`");
                        self.complain(place.to_owned(), message, None);
                    }
                },
                MappedKey::Attribute(name) => {
                    person.attributes.push((name.clone(), Given::Text(cell.to_owned())));
                }
            }
        }
        self.read.people.persons.push(person);
    }

    fn group_row(&mut self, place: &str, columns: &[Column], record: &csv::StringRecord) {
        let mut team = Team { place: place.to_owned(), ..Team::default() };
        for (column, cell) in columns.iter().zip(record) {
            let cell = plain(cell);
            match column {
                Column::Group => team.name = bare(cell, "group").to_owned(),
                Column::Key(MappedKey::SourceId) if !cell.is_empty() => {
                    team.id = Some(cell.to_owned());
                }
                _ => {}
            }
        }
        self.read.people.groups.push(team);
    }

    fn member_row(&mut self, place: &str, columns: &[Column], record: &csv::StringRecord) {
        let (mut group, mut member, mut window) = (String::new(), String::new(), Window::ALWAYS);
        for (column, cell) in columns.iter().zip(record) {
            let cell = plain(cell);
            match column {
                Column::Group => group = bare(cell, "group").to_owned(),
                Column::Member => member = cell.to_owned(),
                Column::From | Column::Until if !cell.is_empty() => {
                    let time = Time::parse(cell);
                    if time.is_none() {
                        let message = format!(
                            "`{cell}` is no time: one is written like `2026-03-01T08:00:00Z`"
                        );
                        self.complain(place.to_owned(), message, None);
                    }
                    match column {
                        Column::From => window.from = time,
                        _ => window.until = time,
                    }
                }
                _ => {}
            }
        }
        if member.is_empty() || group.is_empty() {
            let message = "a row of memberships needs a group and a member".to_owned();
            return self.complain(place.to_owned(), message, None);
        }
        // What acts by itself is in groups by the estate alone.
        if member.starts_with("resource:") {
            return;
        }
        if let (Some(from), Some(until)) = (window.from, window.until)
            && from >= until
        {
            let message = format!("{from} is not before {until}");
            return self.complain(place.to_owned(), message, None);
        }
        self.rows.push((group, Reference { to: member, window, place: place.to_owned() }));
    }
}

#[cfg(test)]
mod tests {
    use super::{STARTS_FORMULA, harmless, plain};

    proptest::proptest! {
        /// No cell runs, and every one is read back as it was.
        #[test]
        fn cells_are_harmless_and_come_back(cell in "['=+@\t\r a-]{0,6}") {
            let written = harmless(&cell);
            proptest::prop_assert!(!written.starts_with(STARTS_FORMULA));
            proptest::prop_assert_eq!(plain(&written), cell);
        }
    }

    #[test]
    fn what_others_wrote_stays_as_it_is() {
        for cell in ["'tis", "O'Neil", "'", "a=b", ""] {
            assert_eq!(plain(cell), cell);
        }
    }
}
