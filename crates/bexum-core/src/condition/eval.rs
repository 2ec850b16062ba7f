//! Evaluation in three values, against whatever can say what an attribute is.

use super::ast::Operator;
use super::check::{Condition, Reference};
use super::fact::{Fact, Scalar};
use super::operators::{compare, within_blocks};
use super::program::{ConditionStep, Literal, Precomputed, Program, Term};
use crate::time::Time;
use crate::truth::Truth;

/// Who can say what an attribute is.
pub trait Facts {
    /// What is known of its value.
    fn fact(&self, reference: Reference) -> Fact<'_>;

    /// Whether it is there, or a name below it is.
    fn is_set(&self, reference: Reference) -> Truth;
}

impl Condition {
    /// What the condition comes to.
    pub fn eval(&self, facts: &impl Facts) -> Truth {
        eval(&self.program, 0, facts)
    }

    /// The parts that are not made of others and name an attribute, by their places.
    pub(crate) fn leaves(&self) -> impl Iterator<Item = usize> + '_ {
        let names_some = |at: &usize| self.program.references(*at).next().is_some();
        (0..self.program.steps.len()).filter(names_some)
    }

    /// What one part comes to by itself.
    pub(crate) fn eval_leaf(&self, leaf: usize, facts: &impl Facts) -> Truth {
        eval(&self.program, leaf, facts)
    }

    /// The attributes that a part names.
    pub(crate) fn leaf_references(&self, leaf: usize) -> impl Iterator<Item = Reference> + '_ {
        self.program.references(leaf).map(|(reference, _)| reference)
    }

    /// The smallest parts that make the condition come to what it comes to, when that is not true:
    /// each in the author's words, with the attributes it names.
    pub fn blame(&self, facts: &impl Facts) -> Vec<Blame> {
        let truth = self.eval(facts);
        let mut found = Vec::new();
        self.blame_part(0, facts, truth, &mut found);
        found
    }

    /// Walks to the leaves that alone make the part at `at` come to `truth`.
    fn blame_part(&self, at: usize, facts: &impl Facts, truth: Truth, found: &mut Vec<Blame>) {
        let program = &self.program;
        let text = &self.text[program.span(at)];
        let text = match program.steps[at] {
            ConditionStep::And(_) | ConditionStep::Or(_) => {
                for part in program.parts(at).filter(|part| eval(program, *part, facts) == truth) {
                    self.blame_part(part, facts, truth, found);
                }
                return;
            }
            ConditionStep::Not => return self.blame_part(at + 1, facts, truth.negate(), found),
            ConditionStep::Constant(_) => return,
            ConditionStep::IsSet(_) => format!("{text} is set"),
            ConditionStep::Bare(_) | ConditionStep::Compare(..) => text.to_owned(),
        };
        let references = program.references(at).map(|(reference, _)| reference).collect();
        found.push(Blame { text, truth, references });
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

/// What the part at `at` comes to.
fn eval(program: &Program, at: usize, facts: &impl Facts) -> Truth {
    match program.steps[at] {
        ConditionStep::And(end) => {
            let mut least = Truth::True;
            let mut part = at + 1;
            while part < end as usize && least != Truth::False {
                least = least.and(eval(program, part, facts));
                part = program.after(part);
            }
            least
        }
        ConditionStep::Or(end) => {
            let mut greatest = Truth::False;
            let mut part = at + 1;
            while part < end as usize && greatest != Truth::True {
                greatest = greatest.or(eval(program, part, facts));
                part = program.after(part);
            }
            greatest
        }
        ConditionStep::Not => eval(program, at + 1, facts).negate(),
        ConditionStep::IsSet(reference) => facts.is_set(reference),
        ConditionStep::Bare(reference) => match facts.fact(reference) {
            Fact::Absent => Truth::False,
            Fact::Scalar(Scalar::Boolean(b)) => Truth::from(b),
            _ => Truth::Undecided,
        },
        ConditionStep::Constant(constant) => Truth::from(constant),
        ConditionStep::Compare(left, operator, right) => {
            let ((left, left_precomputed), (right, right_precomputed)) =
                (side(program, left, facts), side(program, right, facts));
            match (&left, &right) {
                (Fact::Absent, _) | (_, Fact::Absent) => operator.with_absent(),
                (Fact::Unknown, _) | (_, Fact::Unknown) => Truth::Undecided,
                _ => compare_sides((left, left_precomputed), operator, (right, right_precomputed)),
            }
        }
    }
}

fn side<'a>(
    program: &'a Program,
    term: Term,
    facts: &'a impl Facts,
) -> (Fact<'a>, &'a Precomputed) {
    match term {
        Term::Attribute(reference) => (facts.fact(reference), &Precomputed::Nothing),
        Term::Moment(reference) => {
            let fact = match facts.fact(reference) {
                Fact::Scalar(Scalar::Text(text)) => Time::parse(text)
                    .map_or(Fact::Scalar(Scalar::Text(text)), |at| Fact::Scalar(Scalar::Time(at))),
                other => other,
            };
            (fact, &Precomputed::Nothing)
        }
        Term::Literal(place) => {
            let Literal { value, precomputed } = program.literal(place);
            (Fact::of(value), precomputed)
        }
    }
}

/// Compares, with what was read out of literals ahead of time.
fn compare_sides(
    (left, left_precomputed): (Fact<'_>, &Precomputed),
    operator: Operator,
    (right, right_precomputed): (Fact<'_>, &Precomputed),
) -> Truth {
    if let Precomputed::Blocks(blocks) = right_precomputed {
        let Fact::Scalar(Scalar::Text(address)) = left else { return Truth::Undecided };
        // A literal with anything that cannot be read was refused.
        return within_blocks(address, blocks);
    }
    let moment = |precomputed: &Precomputed, other: &Fact<'_>| match (precomputed, other) {
        (Precomputed::Moment(at), Fact::Scalar(Scalar::Time(_))) => {
            Some(Fact::Scalar(Scalar::Time(*at)))
        }
        _ => None,
    };
    match (moment(left_precomputed, &right), moment(right_precomputed, &left)) {
        (Some(at), _) => compare(&at, operator, &right),
        (_, Some(at)) => compare(&left, operator, &at),
        _ => compare(&left, operator, &right),
    }
}
