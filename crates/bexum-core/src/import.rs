//! People and groups from elsewhere (spec-work section 14): what has to be otherwise for the estate to
//! agree with a source about what carries that source, and about nothing else.
//!
//! Reading the source's files is the business of others: here they are [`People`], each with a place in
//! its file, as text.

mod altered;
mod groups;
mod users;

use std::borrow::Cow;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::attribute::Value;
use crate::declaration::{Declarations, Group, Imported, User};
use crate::edit::{Edit, Target};
use crate::estate::Estate;
use crate::name::Grammar;
use crate::origin::Origin;
use crate::time::{Time, Window};
use crate::vocabulary::Vocabulary;

pub use altered::AlteredPeople;

/// A key here that something of a source becomes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MappedKey {
    /// The bare name.
    Name,
    /// `full-name`
    FullName,
    /// `enabled`
    Enabled,
    /// `manager`
    Manager,
    /// `source-id`
    SourceId,
    /// `attributes.NAME`
    Attribute(String),
}

impl MappedKey {
    /// A key as it is written.
    #[must_use]
    pub fn read(text: &str) -> Option<Self> {
        Some(match text {
            "name" => Self::Name,
            "full-name" => Self::FullName,
            "enabled" => Self::Enabled,
            "manager" => Self::Manager,
            "source-id" => Self::SourceId,
            _ => {
                let name = text.strip_prefix("attributes.")?;
                name.split('.').all(|part| Grammar::Attribute.accepts(part)).then_some(())?;
                Self::Attribute(name.to_owned())
            }
        })
    }
}

/// Where people come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// Its name.
    pub name: Box<str>,
    /// What is called otherwise there, and the key here that it becomes.
    pub map: Vec<(Box<str>, MappedKey)>,
    /// Where it is declared.
    pub origin: Origin,
}

/// What declarations keep of what is called otherwise at a source, as far as it is a key here: where
/// something is none, they make no estate.
#[must_use]
pub fn kept_map<'d>(declared: &'d Declarations, source: &str) -> Vec<(&'d str, MappedKey)> {
    let kept = declared.sources.iter().filter(|one| one.name.value == source);
    let pairs = kept.flat_map(|one| &one.body.map);
    pairs.filter_map(|(column, key)| Some((&*column.value, MappedKey::read(&key.value)?))).collect()
}

/// What a source has, as its files say it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct People {
    /// Persons, in the order of the files.
    pub persons: Vec<Person>,
    /// Groups.
    pub groups: Vec<Team>,
    /// The keys that the files speak of: what they do not speak of stays as it is.
    pub speaks_of: SpeaksOf,
}

/// What the files of a source speak of.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SpeaksOf {
    /// Persons: who carries the source and is not in the files is gone.
    pub persons: bool,
    /// Groups, likewise.
    pub groups: bool,
    /// Members of groups.
    pub members: bool,
    /// `full-name` of persons.
    pub full_name: bool,
    /// `manager` of persons.
    pub manager: bool,
    /// Attributes of persons, by their full dotted names.
    pub attributes: Vec<String>,
}

/// A person, as a source has them.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Person {
    /// The name that they have here.
    pub name: String,
    /// The source's own id.
    pub id: Option<String>,
    /// Whether they may do anything; `None`: not said.
    pub enabled: Option<bool>,
    /// The name to show.
    pub full_name: Option<String>,
    /// Their manager: an id of the source, or a name.
    pub manager: Option<Reference>,
    /// Attributes that the mapping names, with what the source says.
    pub attributes: Vec<(String, Given)>,
    /// Where they stand in the files.
    pub place: String,
}

/// A value as a source gives it.
#[derive(Clone, Debug, PartialEq)]
pub enum Given {
    /// Of a type of its own.
    Typed(Value),
    /// As text alone, as tables have it: read as the type that is wanted.
    Text(String),
}

/// A group, as a source has it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Team {
    /// The name that it has here.
    pub name: String,
    /// The source's own id.
    pub id: Option<String>,
    /// Users and groups in it.
    pub members: Vec<Reference>,
    /// Where it stands in the files.
    pub place: String,
}

/// Somebody or something named by a source.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Reference {
    /// An id of the source, or a name, perhaps with `user:` or `group:` before it.
    pub to: String,
    /// When it counts, where a new member comes with that.
    pub window: Window,
    /// Where it stands in the files.
    pub place: String,
}

/// Why nothing is imported, or what of it is not, with its place in the files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Complaint {
    /// The place.
    pub place: String,
    /// What is the matter.
    pub message: String,
    /// What to do about it.
    pub hint: Option<String>,
}

impl Complaint {
    pub(super) fn new(place: &str, message: String, hint: Option<&str>) -> Self {
        Self { place: place.to_owned(), message, hint: hint.map(str::to_owned) }
    }
}

/// How an import is made.
#[derive(Clone, Copy, Debug)]
pub struct Terms<'t> {
    /// The source's name.
    pub source: &'t str,
    /// Whether people and groups of the same name without a source are taken over.
    pub adopt: bool,
    /// The moment, for windows that are over.
    pub now: Time,
}

/// What an import makes of an estate.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Import {
    /// Users and groups that are otherwise then.
    pub people: AlteredPeople,
    /// Users who were disabled, and are enabled.
    pub enabled: Vec<String>,
    /// Users who were enabled, and are disabled.
    pub disabled: Vec<String>,
    /// Those of them who are no longer in the files.
    pub gone: Vec<String>,
    /// How many users carried the source, or are taken over.
    pub of_source: usize,
    /// Users and groups that are new: `user:ines`.
    pub new: Vec<String>,
    /// Users and groups that have another name: before, and then.
    pub renamed: Vec<(String, String)>,
    /// Users and groups that are taken over.
    pub adopted: Vec<String>,
    /// How many users and groups that stay have another key.
    pub changed: usize,
    /// Places in groups that are new, and that are gone.
    pub joined: usize,
    /// Places in groups that are gone.
    pub left: usize,
    /// Groups of the source that are no longer in the files and have users or groups in them, as numbers
    /// of those declared.
    gone_groups: Vec<usize>,
    /// What could not be taken.
    pub not_taken: Vec<Complaint>,
}

impl Import {
    /// Whether a group that somebody is in is no longer in the files, which
    /// [is emptied](Self::empty_gone_groups) where that opens nothing.
    #[must_use]
    pub fn has_gone_groups(&self) -> bool {
        !self.gone_groups.is_empty()
    }
}

/// Who has another name at the source than here, under the same id: the edits that give it to them. They
/// are made before anything else is [imported](import).
///
/// # Errors
/// Everything that is wrong with the files themselves, and names that are taken.
pub fn renames(
    declared: &Declarations,
    people: &People,
    source: &str,
) -> Result<Vec<Edit>, Vec<Complaint>> {
    let mut complaints = Vec::new();
    refuse_doubles(people, &mut complaints);
    let mut edits = Vec::new();
    if complaints.is_empty() {
        edits = renames_of(declared, people, source, &mut complaints);
    }
    if complaints.is_empty() { Ok(edits) } else { Err(complaints) }
}

/// What an import would make of an estate in which everybody has the name that they have at the source,
/// without emptying groups that are gone. Whether what is declared makes an estate is not asked.
///
/// # Errors
/// Everything that does not go with the estate; nothing is imported then.
pub fn import(
    declared: &Declarations,
    people: &People,
    terms: Terms<'_>,
) -> Result<Import, Vec<Complaint>> {
    let users = declared.users.iter().enumerate();
    let groups = declared.groups.iter().enumerate();
    let mut importing = Importing {
        declared,
        vocabulary: Estate::vocabulary_of(declared),
        people,
        terms,
        users: users.map(|(i, one)| (one.name.value.as_str(), i)).collect(),
        groups: groups.map(|(i, one)| (one.name.value.as_str(), i)).collect(),
        made: Import::default(),
        complaints: Vec::new(),
        by_id: FxHashMap::default(),
    };
    importing.users.reserve(people.persons.len().saturating_sub(declared.users.len()));
    importing.users();
    importing.groups();
    importing.made.people.settle(declared);
    match importing.complaints.is_empty() {
        true => Ok(importing.made),
        false => Err(importing.complaints),
    }
}

/// An import under way.
struct Importing<'i> {
    declared: &'i Declarations,
    vocabulary: Vocabulary,
    people: &'i People,
    terms: Terms<'i>,
    made: Import,
    complaints: Vec<Complaint>,
    /// Users by name: their numbers in [`AlteredPeople`].
    users: FxHashMap<&'i str, usize>,
    /// Groups, likewise.
    groups: FxHashMap<&'i str, usize>,
    /// What the source's ids stand for.
    by_id: FxHashMap<&'i str, Named<'i>>,
}

/// A user or group by its kind and bare name.
type Named<'i> = (&'static str, &'i str);

/// Whether a key of the source is carried, and which id.
fn carries(imported: &Imported, source: &str) -> bool {
    imported.source.as_deref() == Some(source)
}

impl<'i> Importing<'i> {
    fn user(&self, at: usize) -> &User {
        self.made.people.users.get(&self.declared.users, at)
    }

    fn group(&self, at: usize) -> &Group {
        self.made.people.groups.get(&self.declared.groups, at)
    }

    fn complain(&mut self, place: &str, message: String, hint: Option<&str>) {
        self.complaints.push(Complaint::new(place, message, hint));
    }

    /// Whether something of the source's may stand for what is here under its name; what is not is
    /// complained of. `Some(true)`: it is taken over.
    fn may_be(&mut self, what: &str, name: &str, imported: &Imported, place: &str) -> Option<bool> {
        match imported.source.as_deref() {
            Some(source) if source == self.terms.source => Some(false),
            None if self.terms.adopt => Some(true),
            None => {
                let message = format!("`{what}:{name}` is here already, and of no source");
                self.complain(place, message, Some("`--adopt` takes over those of no source"));
                None
            }
            Some(other) => {
                let message = format!("`{what}:{name}` is here already, of the source `{other}`");
                self.complain(place, message, None);
                None
            }
        }
    }

    /// Keeps what the source's ids stand for: first what the estate has, then what the files say.
    fn keep_ids(&mut self) {
        let declared = self.declared;
        let users = declared.users.iter().enumerate().map(|(at, one)| {
            (("user", &*one.name.value), &one.body.imported, &self.user(at).imported)
        });
        let groups = declared.groups.iter().enumerate().map(|(at, one)| {
            (("group", &*one.name.value), &one.body.imported, &self.group(at).imported)
        });
        let mut by_id: FxHashMap<&'i str, Named<'i>> = FxHashMap::default();
        by_id.reserve(declared.users.len() + declared.groups.len());
        for (named, was, is) in users.chain(groups) {
            // Another id than it had comes from the files.
            if let (true, Some(id)) = (carries(is, self.terms.source), &was.source_id)
                && is.source_id == was.source_id
            {
                by_id.insert(id, named);
            }
        }
        for (what, name, id, _) in everything(self.people) {
            if let Some(id) = id {
                by_id.insert(id, (what, name));
            }
        }
        self.by_id = by_id;
    }

    /// Whom a reference means: first by id, then by name, of users before groups.
    fn find(&self, reference: &Reference, kinds: &[&'static str]) -> Option<Named<'i>> {
        let to = reference.to.as_str();
        if let Some(found) = self.by_id.get(to) {
            return kinds.contains(&found.0).then_some(*found);
        }
        kinds.iter().find_map(|kind| {
            let bare = to.strip_prefix(kind).and_then(|rest| rest.strip_prefix(':')).unwrap_or(to);
            let all = if *kind == "user" { &self.users } else { &self.groups };
            all.get_key_value(bare).map(|(name, _)| (*kind, *name))
        })
    }

    fn not_taken(&mut self, place: &str, message: String) {
        self.made.not_taken.push(Complaint::new(place, message, None));
    }
}

fn is_of(id: &str, kind: &str) -> bool {
    id.strip_prefix(kind).is_some_and(|rest| rest.starts_with(':'))
}

/// Names that no user or group can have, and names and ids that stand twice.
fn refuse_doubles(people: &People, complaints: &mut Vec<Complaint>) {
    let mut complain =
        |place: &str, message, hint| complaints.push(Complaint::new(place, message, hint));
    let most = people.persons.len() + people.groups.len();
    let mut ids: FxHashMap<&str, &str> = FxHashMap::default();
    let mut names: FxHashMap<(&str, Cow<'_, str>), (&str, &str)> = FxHashMap::default();
    ids.reserve(most);
    names.reserve(most);
    fn lower(name: &str) -> Cow<'_, str> {
        match name.bytes().any(|byte| byte.is_ascii_uppercase()) {
            true => Cow::Owned(name.to_ascii_lowercase()),
            false => Cow::Borrowed(name),
        }
    }
    for (what, name, id, place) in everything(people) {
        if !Grammar::Plain.accepts(name) {
            // Whoever wrote it may have written a book.
            let shown: String = name.chars().take(100).collect();
            let message = format!("`{shown}` is no name for a {what}: {}", Grammar::Plain.rule());
            complain(place, message, Some("take the name from elsewhere: `--map COLUMN=name`"));
            continue;
        }
        let same = names.insert((what, lower(name)), (name, place));
        if let Some((other, first)) = same {
            let message = match other == name {
                true => format!("the {what} `{name}` stands twice, first at {first}"),
                false => format!(
                    "`{name}` and `{other}` (at {first}) differ in case alone, which a {what}'s name may not"
                ),
            };
            complain(place, message, None);
        }
        if let Some(id) = id
            && let Some(first) = ids.insert(id, place)
        {
            complain(place, format!("the id `{id}` stands twice, first at {first}"), None);
        }
    }
}

/// Everybody and everything that the files have: what, name, id, place.
fn everything(people: &People) -> impl Iterator<Item = (&'static str, &str, Option<&str>, &str)> {
    let persons = people.persons.iter();
    let persons = persons.map(|one| ("user", &*one.name, one.id.as_deref(), &*one.place));
    let teams = people.groups.iter();
    persons.chain(teams.map(|one| ("group", &*one.name, one.id.as_deref(), &*one.place)))
}

/// Every user and group that is declared: what, name, where from.
fn declared_ones(declared: &Declarations) -> impl Iterator<Item = (&'static str, &str, &Imported)> {
    let users = declared.users.iter();
    let users = users.map(|one| ("user", &*one.name.value, &one.body.imported));
    let groups = declared.groups.iter();
    users.chain(groups.map(|one| ("group", &*one.name.value, &one.body.imported)))
}

fn renames_of(
    declared: &Declarations,
    people: &People,
    source: &str,
    complaints: &mut Vec<Complaint>,
) -> Vec<Edit> {
    let mut known: FxHashMap<(&str, &str), &str> = FxHashMap::default();
    known.reserve(declared.users.len() + declared.groups.len());
    for (what, name, imported) in declared_ones(declared) {
        if let (true, Some(id)) = (carries(imported, source), &imported.source_id) {
            known.insert((what, id), name);
        }
    }
    // The names that are here, once one is new.
    let mut taken: Option<FxHashSet<(&str, &str)>> = None;
    let mut edits = Vec::new();
    for (what, name, id, place) in everything(people) {
        let old = id.and_then(|id| known.get(&(what, id)).copied());
        let Some(old) = old.filter(|old| *old != name) else { continue };
        let taken = taken.get_or_insert_with(|| {
            declared_ones(declared).map(|(what, name, _)| (what, name)).collect()
        });
        if taken.contains(&(what, name)) {
            let message = format!(
                "`{what}:{old}` is called `{name}` there, but `{what}:{name}` is here already"
            );
            complaints.push(Complaint::new(place, message, None));
            continue;
        }
        let target = match what {
            "user" => Target::User(old.to_owned()),
            _ => Target::Group(old.to_owned()),
        };
        edits.push(Edit::Rename { target, to: name.to_owned() });
    }
    edits
}
