//! Attributes: typed values under dotted names, and the table of names that an estate uses.

use rustc_hash::FxHashMap;

use crate::id::AttributeId;
use crate::origin::Spanned;
use crate::time::Time;

/// One attribute's value (spec section 2, "Attributes").
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Value {
    /// A string.
    Text(Box<str>),
    /// A 64-bit integer.
    Integer(i64),
    /// A boolean.
    Boolean(bool),
    /// A moment.
    Time(Time),
    /// A list of scalars of one type; may be empty. Never holds a list.
    List(Box<[Value]>),
}

impl Value {
    /// The type in a word, for messages.
    #[must_use]
    pub fn type_name(&self) -> &'static str {
        match self {
            Self::Text(_) => "string",
            Self::Integer(_) => "integer",
            Self::Boolean(_) => "boolean",
            Self::Time(_) => "time",
            Self::List(_) => "list",
        }
    }
}

/// The attribute names of an estate, interned with all their dotted heads.
#[derive(Clone, Debug, Default)]
pub struct AttributeNames {
    names: Vec<Box<str>>,
    parents: Vec<Option<AttributeId>>,
    ids: FxHashMap<Box<str>, AttributeId>,
}

impl AttributeNames {
    /// The id of `name`, made if new; `device` is interned before `device.managed`.
    pub(crate) fn intern(&mut self, name: &str) -> AttributeId {
        if let Some(&id) = self.ids.get(name) {
            return id;
        }
        let parent = name.rfind('.').map(|dot| self.intern(&name[..dot]));
        let id = AttributeId::new(self.names.len());
        self.names.push(name.into());
        self.parents.push(parent);
        self.ids.insert(name.into(), id);
        id
    }

    /// The id of a name that the estate uses.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<AttributeId> {
        self.ids.get(name).copied()
    }

    /// How many there are.
    pub(crate) fn len(&self) -> usize {
        self.names.len()
    }

    /// Every name with its id.
    pub(crate) fn iter(&self) -> impl Iterator<Item = (AttributeId, &str)> {
        self.names.iter().enumerate().map(|(i, name)| (AttributeId::new(i), &**name))
    }

    /// The full dotted name.
    #[must_use]
    pub fn name(&self, id: AttributeId) -> &str {
        &self.names[id.index()]
    }

    /// The name without its last segment: `device` for `device.managed`.
    #[must_use]
    pub fn parent(&self, id: AttributeId) -> Option<AttributeId> {
        self.parents[id.index()]
    }
}

/// The attributes of one thing, sorted by id.
///
/// A name that is only the head of a table (`device`) stands there without a value, so that `has`
/// can find it.
#[derive(Clone, Debug, Default)]
pub struct Attributes {
    entries: Box<[(AttributeId, Option<Value>)]>,
}

impl Attributes {
    /// Collects flattened attributes; heads of tables are added.
    pub(crate) fn new<'w>(
        names: &mut AttributeNames,
        written: impl IntoIterator<Item = (&'w str, Value)>,
    ) -> Self {
        let mut entries: Vec<(AttributeId, Option<Value>)> = Vec::new();
        for (name, value) in written {
            let id = names.intern(name);
            let mut head = names.parent(id);
            while let Some(parent) = head {
                entries.push((parent, None));
                head = names.parent(parent);
            }
            entries.push((id, Some(value)));
        }
        // A value sorts before the bare head of the same name, which is then dropped.
        entries.sort_by_key(|(id, value)| (*id, value.is_none()));
        entries.dedup_by_key(|(id, _)| *id);
        Self { entries: entries.into() }
    }

    /// Whether these were collected from `written`, with these names.
    pub(crate) fn are_written_as(
        &self,
        names: &AttributeNames,
        written: &[(Spanned<String>, Value)],
    ) -> bool {
        let is_same = |(name, value): &(Spanned<String>, Value)| {
            names.get(&name.value).and_then(|id| self.value(id)) == Some(value)
        };
        self.iter().count() == written.len() && written.iter().all(is_same)
    }

    /// The value under exactly this name.
    #[must_use]
    pub fn value(&self, id: AttributeId) -> Option<&Value> {
        self.entry(id).and_then(|(_, value)| value.as_ref())
    }

    /// Whether there is a value under this name, or under a name below it.
    #[must_use]
    pub fn has(&self, id: AttributeId) -> bool {
        self.entry(id).is_some()
    }

    /// Every name that has a value, with it, by id.
    pub fn iter(&self) -> impl Iterator<Item = (AttributeId, &Value)> {
        self.entries.iter().filter_map(|(id, value)| Some((*id, value.as_ref()?)))
    }

    /// Every name that has a value, or is the head of one that has, by id.
    pub(crate) fn names(&self) -> impl Iterator<Item = AttributeId> + '_ {
        self.entries.iter().map(|(id, _)| *id)
    }

    /// Whether there is none at all.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    fn entry(&self, id: AttributeId) -> Option<&(AttributeId, Option<Value>)> {
        // Things bear a handful of attributes: a scan beats a search.
        self.entries.iter().find(|(known, _)| *known == id)
    }
}

/// Built-in names under `who.` (spec section 4).
pub const WHO_BUILTINS: [&str; 6] = ["id", "type", "name", "groups", "roles", "manager"];
/// Built-in names under `target.`.
pub const TARGET_BUILTINS: [&str; 8] =
    ["path", "name", "kind", "account", "owners", "members", "join", "manager"];

/// Whether no attribute of the estate or of an item may bear this name, nor a table's head.
#[must_use]
pub fn is_reserved(name: &str) -> bool {
    WHO_BUILTINS.contains(&name) || TARGET_BUILTINS.contains(&name)
}
