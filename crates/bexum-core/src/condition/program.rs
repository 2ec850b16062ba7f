//! A checked condition laid flat: its parts in one list, in the order they are asked.

use std::ops::Range;

use super::ast::Operator;
use super::check::Reference;
use super::operators::{Block, Takes};
use crate::attribute::Value;
use crate::time::Time;

/// An expression: the first step is the whole, and each part stands right before those it is made
/// of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Program {
    pub(crate) steps: Box<[ConditionStep]>,
    pub(crate) literals: Box<[Literal]>,
    /// Where the attributes and literals of each step stand in the text.
    spans: Box<[[Range<u32>; 2]]>,
}

/// A part of an expression.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ConditionStep {
    /// `and` of the parts that follow, up to this step.
    And(u32),
    /// `or`, likewise.
    Or(u32),
    /// `not` of the part that follows.
    Not,
    IsSet(Reference),
    Bare(Reference),
    Constant(bool),
    Compare(Term, Operator, Term),
}

/// A side of a comparison.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Term {
    Attribute(Reference),
    /// An attribute of which a string is read as a moment.
    Moment(Reference),
    /// By its place among the literals.
    Literal(u32),
}

/// A literal, and what was read out of it ahead of every evaluation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Literal {
    pub(crate) value: Value,
    pub(crate) precomputed: Precomputed,
}

/// What was read out of a literal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Precomputed {
    Nothing,
    /// The moment that a string names.
    Moment(Time),
    /// The addresses and ranges on the right of `within`.
    Blocks(Box<[Block]>),
}

impl Term {
    /// The attribute that stands there, if one does.
    pub(crate) fn attribute(self) -> Option<Reference> {
        match self {
            Self::Attribute(reference) | Self::Moment(reference) => Some(reference),
            Self::Literal(_) => None,
        }
    }
}

impl Literal {
    pub(super) fn read(value: &Value, operator: Operator) -> Self {
        let block = |item: &Value| match item {
            Value::Text(text) => Block::parse(text),
            _ => None,
        };
        let takes_ranges = operator.takes()[1] == Takes::Ranges;
        let precomputed = match value {
            Value::List(items) if takes_ranges => {
                Precomputed::Blocks(items.iter().filter_map(block).collect())
            }
            text if takes_ranges => Precomputed::Blocks(block(text).into_iter().collect()),
            Value::Text(text) => {
                Time::parse(text).map_or(Precomputed::Nothing, Precomputed::Moment)
            }
            _ => Precomputed::Nothing,
        };
        Self { value: value.clone(), precomputed }
    }
}

impl Program {
    /// The step after the part that begins at `at`.
    pub(super) fn after(&self, at: usize) -> usize {
        match self.steps[at] {
            ConditionStep::And(end) | ConditionStep::Or(end) => end as usize,
            ConditionStep::Not => self.after(at + 1),
            _ => at + 1,
        }
    }

    /// The parts that the part at `at` is made of.
    pub(super) fn parts(&self, at: usize) -> impl Iterator<Item = usize> + '_ {
        let end = self.after(at);
        let first = (at + 1 < end).then_some(at + 1);
        std::iter::successors(first, move |part| Some(self.after(*part)).filter(|next| *next < end))
    }

    pub(crate) fn literal(&self, place: u32) -> &Literal {
        &self.literals[place as usize]
    }

    /// From the first attribute or literal of a step to the last.
    pub(super) fn span(&self, at: usize) -> Range<usize> {
        let [first, second] = &self.spans[at];
        first.start as usize..first.end.max(second.end) as usize
    }

    /// The attributes that a step names by itself, with their byte ranges.
    pub(super) fn references(
        &self,
        at: usize,
    ) -> impl Iterator<Item = (Reference, Range<usize>)> + '_ {
        let named = match self.steps[at] {
            ConditionStep::IsSet(reference) | ConditionStep::Bare(reference) => {
                [Some(reference), None]
            }
            ConditionStep::Compare(left, _, right) => [left.attribute(), right.attribute()],
            ConditionStep::And(_)
            | ConditionStep::Or(_)
            | ConditionStep::Not
            | ConditionStep::Constant(_) => [None, None],
        };
        let spans = self.spans[at].iter().map(|span| span.start as usize..span.end as usize);
        named.into_iter().zip(spans).filter_map(|(reference, span)| Some((reference?, span)))
    }
}

/// Program on its way.
#[derive(Debug, Default)]
pub(super) struct Draft {
    pub(super) steps: Vec<ConditionStep>,
    literals: Vec<Literal>,
    spans: Vec<[Range<u32>; 2]>,
}

impl Draft {
    /// Adds a step, and says which it is; a condition's text is far within `u32`.
    pub(super) fn push(&mut self, step: ConditionStep, spans: [Range<usize>; 2]) -> usize {
        self.steps.push(step);
        self.spans.push(spans.map(|span| span.start as u32..span.end as u32));
        self.steps.len() - 1
    }

    pub(super) fn literal(&mut self, literal: Literal) -> u32 {
        self.literals.push(literal);
        self.literals.len() as u32 - 1
    }

    pub(super) fn finish(self) -> Program {
        Program {
            steps: self.steps.into(),
            literals: self.literals.into(),
            spans: self.spans.into(),
        }
    }
}
