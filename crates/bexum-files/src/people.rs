//! People and groups from elsewhere: SCIM resources (RFC 7643, RFC 7644) and tables (RFC 4180), read
//! into what the core imports. Every complaint has its place: a line, or a JSON pointer.

mod json;
mod scim;
mod tables;

pub use tables::{harmless, plain};

use std::collections::BTreeMap;

use bexum_core::import::{Complaint, MappedKey, People, Reference, Team};

/// What columns and attributes of a source become here, besides those of the standard.
pub type Mapping = [(String, MappedKey)];

/// What files of a source say.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Read {
    /// People and groups.
    pub people: People,
    /// What is in the files and has no place here.
    pub not_taken: Vec<Complaint>,
}

/// Reads the files of a source, each with the name that messages call it.
///
/// # Errors
/// Everything that is wrong with them.
pub fn read_people(files: &[(String, Vec<u8>)], mapping: &Mapping) -> Result<Read, Vec<Complaint>> {
    let mut reading = Reading { mapping, ..Reading::new() };
    for (name, bytes) in files {
        let text = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
        let first = text.iter().find(|byte| !byte.is_ascii_whitespace());
        match first {
            Some(b'{' | b'[') => reading.scim(name, text),
            Some(_) => reading.table(name, text),
            None => reading.complain(name.clone(), "there is nothing in it".to_owned(), None),
        }
    }
    reading.done()
}

/// Files being read.
struct Reading<'m> {
    mapping: &'m Mapping,
    read: Read,
    complaints: Vec<Complaint>,
    /// Attributes and columns that have no place here: how often, and where first.
    left: BTreeMap<String, (usize, String)>,
    /// Of lists in pages: what they say that there is, and how many there are.
    pages: BTreeMap<(bool, u64), (u64, String)>,
    /// Rows of memberships: the group, and who.
    rows: Vec<(String, Reference)>,
}

/// Complaints beyond so many are counted only.
const MOST_COMPLAINTS: usize = 100;

impl Reading<'_> {
    fn new() -> Self {
        Self {
            mapping: &[],
            read: Read::default(),
            complaints: Vec::new(),
            left: BTreeMap::new(),
            pages: BTreeMap::new(),
            rows: Vec::new(),
        }
    }

    fn complain(&mut self, place: String, message: String, hint: Option<&str>) {
        let hint = hint.map(str::to_owned);
        self.complaints.push(Complaint { place, message, hint });
    }

    /// Something that has no place here.
    fn leave(&mut self, name: &str, place: impl FnOnce() -> String) {
        match self.left.get_mut(name) {
            Some((times, _)) => *times += 1,
            None => {
                self.left.insert(name.to_owned(), (1, place()));
            }
        }
    }

    fn done(mut self) -> Result<Read, Vec<Complaint>> {
        for ((_, said), (count, place)) in std::mem::take(&mut self.pages) {
            if count < said {
                let message = format!("the list says that there are {said}, but {count} are here");
                self.complain(place, message, Some("name the files of all its pages"));
            }
        }
        self.place_rows();
        let speaks = &self.read.people.speaks_of;
        if !speaks.persons && !speaks.groups && !speaks.members && self.complaints.is_empty() {
            let message = "there are no users and no groups in it".to_owned();
            self.complain("the files".to_owned(), message, None);
        }
        if !self.complaints.is_empty() {
            let more = self.complaints.len().saturating_sub(MOST_COMPLAINTS);
            self.complaints.truncate(MOST_COMPLAINTS);
            if more > 0 {
                self.complain("the files".to_owned(), format!("and {more} more like these"), None);
            }
            return Err(self.complaints);
        }
        let left = self.left.into_iter();
        self.read.not_taken.extend(left.map(|(name, (times, place))| Complaint {
            place,
            message: match times {
                1 => format!("`{name}` has no place here"),
                _ => format!("`{name}` has no place here ({times} times)"),
            },
            hint: None,
        }));
        Ok(self.read)
    }

    /// Puts rows of memberships into their groups; a group that no other file has comes by them.
    fn place_rows(&mut self) {
        let groups = &mut self.read.people.groups;
        let mut at: BTreeMap<String, usize> =
            groups.iter().enumerate().map(|(i, group)| (group.name.clone(), i)).collect();
        for (name, member) in std::mem::take(&mut self.rows) {
            let i = *at.entry(name.clone()).or_insert_with(|| {
                groups.push(Team { name, place: member.place.clone(), ..Team::default() });
                groups.len() - 1
            });
            groups[i].members.push(member);
        }
    }
}

/// A name without the word for what it names.
fn bare<'n>(name: &'n str, what: &str) -> &'n str {
    name.strip_prefix(what).and_then(|rest| rest.strip_prefix(':')).unwrap_or(name)
}
