//! Evaluation in three values, against whatever can say what an attribute is.

use std::borrow::Cow;

use super::ast::Operator;
use super::check::{Condition, Node, Reference, Side};
use super::operators::compare;
use crate::attribute::Value;
use crate::time::{Time, Window};
use crate::truth::Truth;

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

/// Who can say what an attribute is.
pub trait Facts {
    /// What is known of its value.
    fn fact(&self, reference: Reference) -> Fact<'_>;

    /// Whether it is there, or a name below it is.
    fn has(&self, reference: Reference) -> Truth;
}

impl Condition {
    /// What the condition comes to.
    pub fn eval(&self, facts: &impl Facts) -> Truth {
        eval(&self.root, facts)
    }

    /// The smallest parts that make the condition come to what it comes to, when that is not true:
    /// each in the author's words, with the attributes it names.
    pub fn blame(&self, facts: &impl Facts) -> Vec<Blame> {
        let truth = self.eval(facts);
        let mut found = Vec::new();
        blame(&self.root, &self.text, facts, truth, &mut found);
        found
    }
}

/// A part of a condition that decided what the whole came to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Blame {
    /// The part, in the author's words.
    pub text: String,
    /// What it came to by itself.
    pub truth: Truth,
    /// The attributes it names, in order.
    pub references: Vec<Reference>,
}

pub(crate) fn eval(node: &Node, facts: &impl Facts) -> Truth {
    match node {
        Node::And(parts) => {
            let mut least = Truth::True;
            for part in parts {
                least = least.and(eval(part, facts));
                if least == Truth::False {
                    break;
                }
            }
            least
        }
        Node::Or(parts) => {
            let mut greatest = Truth::False;
            for part in parts {
                greatest = greatest.or(eval(part, facts));
                if greatest == Truth::True {
                    break;
                }
            }
            greatest
        }
        Node::Not(inner) => eval(inner, facts).negate(),
        Node::Has(reference, _) => facts.has(*reference),
        Node::Bare(reference, _) => match facts.fact(*reference) {
            Fact::Absent => Truth::False,
            Fact::Scalar(Scalar::Boolean(b)) => Truth::from(b),
            _ => Truth::Undecided,
        },
        Node::Constant(constant) => Truth::from(*constant),
        Node::Compare(left, operator, right) => {
            let (left, right) = (side(left, facts), side(right, facts));
            match (&left, &right) {
                (Fact::Absent, _) | (_, Fact::Absent) => match operator {
                    Operator::NotEqual => Truth::Undecided,
                    _ => Truth::False,
                },
                (Fact::Unknown, _) | (_, Fact::Unknown) => Truth::Undecided,
                _ => compare(&left, *operator, &right),
            }
        }
    }
}

fn side<'a>(side: &'a Side, facts: &'a impl Facts) -> Fact<'a> {
    match side {
        Side::Attribute(reference, _) => facts.fact(*reference),
        Side::Literal(value, _) => Fact::of(value),
    }
}

/// Walks to the leaves that alone make `node` come to `truth`.
fn blame(node: &Node, text: &str, facts: &impl Facts, truth: Truth, found: &mut Vec<Blame>) {
    let (text, references) = match node {
        Node::And(parts) | Node::Or(parts) => {
            for part in parts.iter().filter(|part| eval(part, facts) == truth) {
                blame(part, text, facts, truth, found);
            }
            return;
        }
        Node::Not(inner) => return blame(inner, text, facts, truth.negate(), found),
        Node::Constant(_) => return,
        Node::Has(reference, span) => (format!("has {}", &text[span.clone()]), vec![*reference]),
        Node::Bare(reference, span) => (text[span.clone()].to_owned(), vec![*reference]),
        Node::Compare(left, _, right) => {
            let references = [left, right].into_iter().filter_map(|side| match side {
                Side::Attribute(reference, _) => Some(*reference),
                Side::Literal(..) => None,
            });
            (text[left.span().start..right.span().end].to_owned(), references.collect())
        }
    };
    found.push(Blame { text, truth, references });
}
