//! Declared attributes: what may stand under a root, and which values fit (spec-work section 7.1).
//!
//! A root with any declaration is closed: what it does not declare can be named nowhere. One without
//! is open, and takes whatever is written.

use std::fmt;

use rustc_hash::FxHashMap;

use crate::attribute::{TARGET_BUILTINS, Value, WHO_BUILTINS};
use crate::condition::ast::Root;
use crate::condition::{is_address, range_ends};
use crate::name::nearest;
use crate::origin::Origin;
use crate::time::Time;

/// The type of a declared attribute, or of the elements of a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ValueType {
    /// `string`
    Text,
    /// `integer`
    Integer,
    /// `boolean`
    Boolean,
    /// `time`
    Time,
}

impl ValueType {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Text, Self::Integer, Self::Boolean, Self::Time];
    /// The word of each, in the order of [`Self::ALL`].
    pub const WORDS: [&'static str; 4] = ["string", "integer", "boolean", "time"];

    /// As it is written.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::WORDS[self as usize]
    }

    fn is_of(self, value: &Value) -> bool {
        matches!(
            (self, value),
            (Self::Text, Value::Text(_))
                | (Self::Integer, Value::Integer(_))
                | (Self::Boolean, Value::Boolean(_))
                | (Self::Time, Value::Time(_))
        )
    }
}

/// What a declared string has to be read as.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// An IP address.
    Address,
    /// An IP address or a range of them.
    Range,
    /// A moment.
    Time,
}

impl Form {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Address, Self::Range, Self::Time];
    /// The word of each, in the order of [`Self::ALL`].
    pub const WORDS: [&'static str; 3] = ["address", "range", "time"];

    /// As it is written.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::WORDS[self as usize]
    }

    /// Whether a text has this form.
    #[must_use]
    pub fn is_of(self, text: &str) -> bool {
        match self {
            Self::Address => is_address(text),
            Self::Range => range_ends(text).is_some(),
            Self::Time => Time::parse(text).is_some(),
        }
    }
}

/// What a declaration says of an attribute's values.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AttributeRule {
    /// Of the value, or of each element.
    pub value_type: ValueType,
    /// Whether it is a list.
    pub is_list: bool,
    /// The only values, or elements, that there are.
    pub one_of: Option<Box<[Value]>>,
    /// How each string reads.
    pub form: Option<Form>,
}

impl AttributeRule {
    /// Whether a value, as an estate has it, fits.
    #[must_use]
    pub fn fits(&self, value: &Value) -> bool {
        match value {
            Value::List(items) => self.is_list && items.iter().all(|item| self.element_fits(item)),
            scalar => !self.is_list && self.element_fits(scalar),
        }
    }

    /// Whether a scalar fits as the value, or as an element of the list.
    #[must_use]
    pub fn element_fits(&self, scalar: &Value) -> bool {
        self.value_type.is_of(scalar)
            && self.one_of.as_ref().is_none_or(|known| known.contains(scalar))
            && match (self.form, scalar) {
                (Some(form), Value::Text(text)) => form.is_of(text),
                _ => true,
            }
    }

    /// A value as a request gives it, if it fits: texts stand for declared times, and are times from
    /// here on.
    #[must_use]
    pub fn read(&self, value: &Value) -> Option<Value> {
        let read = match value {
            Value::List(items) => Value::List(items.iter().map(|item| self.moment(item)).collect()),
            scalar => self.moment(scalar),
        };
        self.fits(&read).then_some(read)
    }

    fn moment(&self, scalar: &Value) -> Value {
        match (self.value_type, scalar) {
            (ValueType::Time, Value::Text(text)) => {
                Time::parse(text).map_or_else(|| scalar.clone(), Value::Time)
            }
            _ => scalar.clone(),
        }
    }

    /// Whether beside `<` its strings are read as moments.
    pub(crate) fn is_moment(&self) -> bool {
        self.form == Some(Form::Time)
    }

    /// Whether it is a time, or a list of them.
    #[must_use]
    pub fn is_time(&self) -> bool {
        self.value_type == ValueType::Time
    }

    /// The known value nearest to one that is none of `one-of`.
    #[must_use]
    pub fn nearest(&self, value: &Value) -> Option<&str> {
        let Value::Text(text) = value else { return None };
        let known = self.one_of.iter().flatten().filter_map(|value| match value {
            Value::Text(text) => Some(&**text),
            _ => None,
        });
        nearest(text, known)
    }
}

impl fmt::Display for AttributeRule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = self.value_type.word();
        match (self.is_list, self.value_type) {
            (true, _) => write!(f, "a list of {word}s")?,
            (false, ValueType::Integer) => write!(f, "an {word}")?,
            (false, _) => write!(f, "a {word}")?,
        }
        match self.form {
            Some(Form::Address) => f.write_str(" that is an address")?,
            Some(Form::Range) => f.write_str(" that is an address or a range")?,
            Some(Form::Time) => f.write_str(" that is a time")?,
            None => {}
        }
        if let Some(known) = &self.one_of {
            /// Values that are named in a message.
            const SHOWN: usize = 8;
            let shown: Vec<String> = known.iter().take(SHOWN).map(ToString::to_string).collect();
            let more = if known.len() > SHOWN { ", …" } else { "" };
            write!(f, ", one of {}{more}", shown.join(", "))?;
        }
        Ok(())
    }
}

/// A declared attribute.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeclaredAttribute {
    /// What its values are; `None` where the declaration has a fault: then any value fits.
    pub rule: Option<AttributeRule>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Where it is declared.
    pub origin: Origin,
}

/// What is declared under one root.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Declared {
    by_name: FxHashMap<Box<str>, DeclaredAttribute>,
    /// The declared names below each head, in order.
    below: FxHashMap<Box<str>, Vec<Box<str>>>,
}

impl Declared {
    pub(crate) fn add(&mut self, name: &str, attribute: DeclaredAttribute) {
        for (dot, _) in name.match_indices('.') {
            let below = self.below.entry(name[..dot].into()).or_default();
            let at = below.partition_point(|known| **known < *name);
            below.insert(at, name.into());
        }
        self.by_name.insert(name.into(), attribute);
    }

    /// Whether anything is declared, so that nothing else can be named.
    #[must_use]
    pub fn is_closed(&self) -> bool {
        !self.by_name.is_empty()
    }

    /// A declared attribute.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&DeclaredAttribute> {
        self.by_name.get(name)
    }

    /// What is known of the values of an attribute, if anything.
    #[must_use]
    pub fn rule(&self, name: &str) -> Option<&AttributeRule> {
        self.get(name)?.rule.as_ref()
    }

    /// The declared names of which this one is a head, in order.
    #[must_use]
    pub fn below(&self, head: &str) -> &[Box<str>] {
        self.below.get(head).map_or(&[], Vec::as_slice)
    }

    /// The declared name nearest to one that is not.
    #[must_use]
    pub fn nearest(&self, name: &str) -> Option<&str> {
        nearest(name, self.by_name.keys().map(|name| &**name))
    }

    /// Everything that is declared, by name.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &DeclaredAttribute)> {
        let mut all: Vec<_> = self.by_name.iter().map(|(name, one)| (&**name, one)).collect();
        all.sort_unstable_by_key(|(name, _)| *name);
        all.into_iter()
    }

    /// What keeps a value that a request gives under this name from being one; of a root that is
    /// closed.
    pub(crate) fn misfit(&self, name: &str, value: &Value) -> Option<Misfit> {
        if let Some(declared) = self.get(name) {
            let rule = declared.rule.as_ref()?;
            return rule.read(value).is_none().then(|| Misfit::Value(rule.to_string()));
        }
        if !self.below(name).is_empty() {
            return Some(Misfit::NoTable);
        }
        self.misfit_table(name.rsplit_once('.')?.0)
    }

    /// What keeps a table under this name from being one.
    pub(crate) fn misfit_table(&self, name: &str) -> Option<Misfit> {
        let heads = name.match_indices('.').map(|(dot, _)| &name[..dot]).chain([name]);
        let declared = heads.into_iter().find(|head| self.get(head).is_some())?;
        Some(Misfit::Table(declared.to_owned()))
    }
}

/// Why something that a request gives does not fit what is declared.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Misfit {
    /// The value is not such.
    Value(String),
    /// A value stands at the head of declared names.
    NoTable,
    /// A table stands where this name is declared.
    Table(String),
}

/// What is declared under each root.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Vocabulary {
    /// Of principals.
    pub who: Declared,
    /// Of targets.
    pub target: Declared,
    /// Of circumstances.
    pub given: Declared,
}

impl Vocabulary {
    /// What is declared under a root.
    #[must_use]
    pub fn of(&self, root: Root) -> &Declared {
        match root {
            Root::Who => &self.who,
            Root::Target => &self.target,
            Root::Given => &self.given,
        }
    }

    pub(crate) fn of_mut(&mut self, root: Root) -> &mut Declared {
        match root {
            Root::Who => &mut self.who,
            Root::Target => &mut self.target,
            Root::Given => &mut self.given,
        }
    }

    /// Whether nothing is declared at all.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        [Root::Who, Root::Target, Root::Given].iter().all(|root| !self.of(*root).is_closed())
    }
}

/// Whether a name is built in under any root: no attribute is declared by it.
#[must_use]
pub fn is_built_in(name: &str) -> bool {
    WHO_BUILTINS.contains(&name) || TARGET_BUILTINS.contains(&name) || name == "time"
}
