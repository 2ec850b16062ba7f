//! A condition as its author wrote it: names unresolved, every part with its byte range.

use std::fmt;
use std::ops::Range;

use super::operators::Takes;
use crate::attribute::Value;
use crate::truth::Truth;

/// An expression.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Expression {
    /// Two or more joined by `and`.
    And(Vec<Expression>),
    /// Two or more joined by `or`.
    Or(Vec<Expression>),
    /// `not …`
    Not(Box<Expression>),
    /// `PATH is set`
    IsSet(Path),
    /// A path that must be true.
    Bare(Path),
    /// `true` or `false`.
    Constant(bool),
    /// Two operands.
    Compare(Operand, Operator, Operand),
}

/// A side of a comparison.
#[derive(Clone, Debug)]
pub enum Operand {
    /// An attribute.
    Path(Path),
    /// A literal, with its byte range.
    Literal(Value, Range<usize>),
}

/// `who.team`
#[derive(Clone, Debug)]
pub struct Path {
    /// Whose attribute.
    pub root: Root,
    /// Its full dotted name.
    pub name: String,
    /// Byte range in the text.
    pub span: Range<usize>,
}

impl PartialEq for Path {
    /// Paths are equal wherever they stand.
    fn eq(&self, other: &Self) -> bool {
        (self.root, &self.name) == (other.root, &other.name)
    }
}

impl Eq for Path {}

impl PartialEq for Operand {
    /// Operands are equal wherever they stand.
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Path(a), Self::Path(b)) => a == b,
            (Self::Literal(a, _), Self::Literal(b, _)) => a == b,
            _ => false,
        }
    }
}

impl Eq for Operand {}

impl Operand {
    /// Its byte range in the text.
    #[must_use]
    pub fn span(&self) -> Range<usize> {
        match self {
            Self::Path(path) => path.span.clone(),
            Self::Literal(_, span) => span.clone(),
        }
    }
}

/// Whose attribute a path names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Root {
    /// Who asks.
    Who,
    /// What is asked about.
    Target,
    /// The circumstances.
    Given,
}

impl Root {
    /// All three.
    pub const ALL: [Self; 3] = [Self::Who, Self::Target, Self::Given];
}

impl fmt::Display for Root {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(["who", "target", "given"][*self as usize])
    }
}

/// A comparison's operator.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Operator {
    /// `=`
    Equal,
    /// `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    Greater,
    /// `>=`
    AtLeast,
    /// `in`
    In,
    /// `overlaps`
    Overlaps,
    /// `fits`
    Fits,
    /// `within`
    Within,
}

impl Operator {
    /// Every operator, in the order of the grammar.
    pub const ALL: [Self; 10] = [
        Self::Equal,
        Self::NotEqual,
        Self::Less,
        Self::AtMost,
        Self::Greater,
        Self::AtLeast,
        Self::In,
        Self::Overlaps,
        Self::Fits,
        Self::Within,
    ];

    /// As it is written.
    #[must_use]
    pub fn sign(self) -> &'static str {
        self.row().sign
    }

    /// The operator that is written so.
    pub(super) fn of_sign(sign: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|operator| operator.sign() == sign)
    }

    /// What a comparison comes to of which an operand is absent (spec section 4).
    pub(crate) fn with_absent(self) -> Truth {
        self.row().with_absent
    }

    /// What it takes on the left and on the right.
    pub(crate) fn takes(self) -> [Takes; 2] {
        self.row().takes
    }

    /// Whether it asks for an order.
    #[must_use]
    pub fn is_ordering(self) -> bool {
        self.takes() == [Takes::Ordered; 2]
    }
}

impl fmt::Display for Operator {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.sign())
    }
}
