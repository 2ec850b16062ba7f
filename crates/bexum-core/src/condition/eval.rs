//! Evaluation in three values, against whatever can say what an attribute is.

use super::ast::Operator;
use super::check::{Ahead, Condition, Node, Reference, Side};
use super::fact::{Fact, Scalar};
use super::operators::{compare, within_blocks};
use crate::truth::Truth;

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
            let (left_fact, right_fact) = (side(left, facts), side(right, facts));
            match (&left_fact, &right_fact) {
                (Fact::Absent, _) | (_, Fact::Absent) => match operator {
                    Operator::NotEqual => Truth::Undecided,
                    _ => Truth::False,
                },
                (Fact::Unknown, _) | (_, Fact::Unknown) => Truth::Undecided,
                _ => compare_sides((left, left_fact), *operator, (right, right_fact)),
            }
        }
    }
}

fn side<'a>(side: &'a Side, facts: &'a impl Facts) -> Fact<'a> {
    match side {
        Side::Attribute(reference, _) => facts.fact(*reference),
        Side::Literal(value, ..) => Fact::of(value),
    }
}

/// Compares, with what was read out of literals ahead of time.
fn compare_sides(
    (left, left_fact): (&Side, Fact<'_>),
    operator: Operator,
    (right, right_fact): (&Side, Fact<'_>),
) -> Truth {
    if let (Operator::Within, Side::Literal(_, _, Ahead::Blocks(blocks))) = (operator, right) {
        let Fact::Scalar(Scalar::Text(address)) = left_fact else { return Truth::Undecided };
        // A literal with anything that cannot be read was refused.
        return within_blocks(address, blocks);
    }
    let moment = |side: &Side, other: &Fact<'_>| match (side, other) {
        (Side::Literal(_, _, Ahead::Moment(at)), Fact::Scalar(Scalar::Time(_))) => {
            Some(Fact::Scalar(Scalar::Time(*at)))
        }
        _ => None,
    };
    match (moment(left, &right_fact), moment(right, &left_fact)) {
        (Some(at), _) => compare(&at, operator, &right_fact),
        (_, Some(at)) => compare(&left_fact, operator, &at),
        _ => compare(&left_fact, operator, &right_fact),
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
