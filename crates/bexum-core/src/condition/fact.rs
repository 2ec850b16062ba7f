//! What conditions and braces are told of an attribute: values, borrowed from wherever they are.

use std::borrow::Cow;

use crate::attribute::Value;
use crate::time::{Time, Window};

/// What is known of an attribute.
#[derive(Clone, Copy, Debug)]
pub enum Fact<'a> {
    /// It is known not to be there.
    Absent,
    /// Nobody said.
    Unknown,
    /// One value.
    Scalar(Scalar<'a>),
    /// A list of values of one type.
    List(ListFact<'a>),
}

/// A scalar value, borrowed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Scalar<'a> {
    /// A string.
    Text(&'a str),
    /// An integer.
    Integer(i64),
    /// A boolean.
    Boolean(bool),
    /// A moment.
    Time(Time),
}

/// A list of scalars, wherever it is kept.
#[derive(Clone, Copy, Debug)]
pub enum ListFact<'a> {
    /// As an attribute's value; holds no lists.
    Values(&'a [Value]),
    /// Names.
    Names(&'a [&'a str]),
    /// Names that count in a window each, seen at a moment.
    Windowed(&'a [(Box<str>, Window)], Time),
}

impl<'a> ListFact<'a> {
    /// The elements.
    pub fn iter(&self) -> impl Iterator<Item = Scalar<'a>> + use<'a> {
        let list = *self;
        let length = match list {
            Self::Values(values) => values.len(),
            Self::Names(names) => names.len(),
            Self::Windowed(names, _) => names.len(),
        };
        (0..length).filter_map(move |i| match list {
            Self::Values(values) => Scalar::of(&values[i]),
            Self::Names(names) => Some(Scalar::Text(names[i])),
            Self::Windowed(names, at) => names[i].1.holds(at).then_some(Scalar::Text(&names[i].0)),
        })
    }
}

impl<'a> Scalar<'a> {
    fn of(value: &'a Value) -> Option<Self> {
        Some(match value {
            Value::Text(text) => Self::Text(text),
            Value::Integer(n) => Self::Integer(*n),
            Value::Boolean(b) => Self::Boolean(*b),
            Value::Time(time) => Self::Time(*time),
            Value::List(_) => return None,
        })
    }

    /// An owned copy.
    #[must_use]
    pub fn to_value(self) -> Value {
        match self {
            Self::Text(text) => Value::Text(text.into()),
            Self::Integer(n) => Value::Integer(n),
            Self::Boolean(b) => Value::Boolean(b),
            Self::Time(time) => Value::Time(time),
        }
    }

    /// How it is written into a path in a brace's place: `None` when it cannot stand in a segment
    /// (empty, with a `/`, or a time; spec section 3).
    #[must_use]
    pub fn as_segment(self) -> Option<Cow<'a, str>> {
        match self {
            Self::Text(text) if text.is_empty() || text.contains('/') => None,
            Self::Text(text) => Some(Cow::Borrowed(text)),
            Self::Integer(n) => Some(Cow::Owned(n.to_string())),
            Self::Boolean(b) => Some(Cow::Borrowed(if b { "true" } else { "false" })),
            Self::Time(_) => None,
        }
    }
}

impl<'a> Fact<'a> {
    /// A value that is there.
    #[must_use]
    pub fn of(value: &'a Value) -> Self {
        match value {
            Value::List(items) => Self::List(ListFact::Values(items)),
            scalar => Scalar::of(scalar).map_or(Self::Absent, Self::Scalar),
        }
    }

    /// A string that is there.
    #[must_use]
    pub fn text(text: &'a str) -> Self {
        Self::Scalar(Scalar::Text(text))
    }

    /// An owned copy of what is there.
    #[must_use]
    pub fn to_value(&self) -> Option<Value> {
        match self {
            Self::Absent | Self::Unknown => None,
            Self::Scalar(scalar) => Some(scalar.to_value()),
            Self::List(list) => Some(Value::List(list.iter().map(Scalar::to_value).collect())),
        }
    }
}
