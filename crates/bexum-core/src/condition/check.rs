//! From a parsed condition to one that can be evaluated: names resolved, literals judged.

use std::ops::Range;

use super::ast::{Expression, Operand, Operator, Path, Root};
use super::fact::{Fact, Scalar};
use super::operators::{Block, Takes, compare, parse_address};
use super::program::{ConditionStep, Draft, Literal, Program, Term};
use super::typed::Typed;
use super::{ConditionFault, Located, parser};
use crate::attribute::{AttributeNames, TARGET_BUILTINS, Value, WHO_BUILTINS};
use crate::id::AttributeId;
use crate::time::Time;
use crate::truth::Truth;

/// A condition that evaluation takes: parsed, every name resolved, every literal of use.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Condition {
    /// In the author's words.
    pub text: Box<str>,
    pub(crate) program: Program,
}

/// An attribute that a condition or a brace names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Reference {
    /// Under `who.`
    Who(WhoAttribute),
    /// Under `target.`
    Target(TargetAttribute),
    /// Under `given.`, save the time.
    Given(AttributeId),
    /// `given.time`
    Time,
}

/// An attribute under `who.`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum WhoAttribute {
    /// `who.id`
    Id,
    /// `who.type`
    Type,
    /// `who.name`
    Name,
    /// `who.groups`
    Groups,
    /// `who.roles`
    Roles,
    /// `who.manager`
    Manager,
    /// One that the estate gives.
    Own(AttributeId),
}

/// An attribute under `target.`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum TargetAttribute {
    /// `target.path`
    Path,
    /// `target.name`
    Name,
    /// `target.kind`
    Kind,
    /// `target.account`
    Account,
    /// `target.owners`
    Owners,
    /// `target.members`
    Members,
    /// `target.join`
    Join,
    /// `target.manager`
    Manager,
    /// One that the estate or the request's item gives.
    Own(AttributeId),
}

impl Condition {
    /// Parses and checks `text`; new attribute names are interned.
    ///
    /// # Errors
    /// Every fault of the text with its byte range; one only when it does not parse.
    pub(crate) fn read(
        text: &str,
        names: &mut AttributeNames,
        typed: Typed<'_>,
    ) -> Result<Self, Vec<Located>> {
        let parsed = parser::parse(text).map_err(|fault| vec![fault])?;
        let mut checker = Checker { names, typed, faults: Vec::new(), program: Draft::default() };
        checker.check(&parsed);
        if checker.faults.is_empty() {
            Ok(Self { text: text.into(), program: checker.program.finish() })
        } else {
            Err(checker.faults)
        }
    }

    /// Every attribute that it names, with the byte range of each mention.
    #[must_use]
    pub fn references(&self) -> Vec<(Reference, Range<usize>)> {
        (0..self.program.steps.len()).flat_map(|at| self.program.references(at)).collect()
    }
}

/// The reference of a full dotted name under a root; a built-in of the other root is refused by
/// those who call this before.
pub(crate) fn resolve_reference(root: Root, name: &str, names: &mut AttributeNames) -> Reference {
    use TargetAttribute as T;
    use WhoAttribute as W;
    match (root, name) {
        (Root::Given, "time") => Reference::Time,
        (Root::Given, _) => Reference::Given(names.intern(name)),
        (Root::Who, _) => Reference::Who(match name {
            "id" => W::Id,
            "type" => W::Type,
            "name" => W::Name,
            "groups" => W::Groups,
            "roles" => W::Roles,
            "manager" => W::Manager,
            _ => W::Own(names.intern(name)),
        }),
        (Root::Target, _) => Reference::Target(match name {
            "path" => T::Path,
            "name" => T::Name,
            "kind" => T::Kind,
            "account" => T::Account,
            "owners" => T::Owners,
            "members" => T::Members,
            "join" => T::Join,
            "manager" => T::Manager,
            _ => T::Own(names.intern(name)),
        }),
    }
}

impl Reference {
    /// As its author writes it: `who.team`.
    #[must_use]
    pub fn written(self, names: &AttributeNames) -> String {
        use TargetAttribute as T;
        use WhoAttribute as W;
        let (root, name) = match self {
            Self::Time => (Root::Given, "time"),
            Self::Given(id) => (Root::Given, names.name(id)),
            Self::Who(attribute) => (
                Root::Who,
                match attribute {
                    W::Id => "id",
                    W::Type => "type",
                    W::Name => "name",
                    W::Groups => "groups",
                    W::Roles => "roles",
                    W::Manager => "manager",
                    W::Own(id) => names.name(id),
                },
            ),
            Self::Target(attribute) => (
                Root::Target,
                match attribute {
                    T::Path => "path",
                    T::Name => "name",
                    T::Kind => "kind",
                    T::Account => "account",
                    T::Owners => "owners",
                    T::Members => "members",
                    T::Join => "join",
                    T::Manager => "manager",
                    T::Own(id) => names.name(id),
                },
            ),
        };
        format!("{root}.{name}")
    }
}

struct Checker<'n> {
    names: &'n mut AttributeNames,
    typed: Typed<'n>,
    faults: Vec<Located>,
    program: Draft,
}

impl Checker<'_> {
    fn fault(&mut self, fault: ConditionFault, span: Range<usize>) {
        self.faults.push(Located { fault, start: span.start, end: span.end });
    }

    fn check(&mut self, expression: &Expression) {
        let nowhere = [0..0, 0..0];
        match expression {
            Expression::And(parts) | Expression::Or(parts) => {
                let here = self.program.push(ConditionStep::Not, nowhere);
                parts.iter().for_each(|part| self.check(part));
                let end = self.program.steps.len() as u32;
                self.program.steps[here] = match expression {
                    Expression::And(_) => ConditionStep::And(end),
                    _ => ConditionStep::Or(end),
                };
            }
            Expression::Not(inner) => {
                self.program.push(ConditionStep::Not, nowhere);
                self.check(inner);
            }
            Expression::IsSet(path) => self.check_is_set(path),
            Expression::Bare(path) => {
                let step = ConditionStep::Bare(self.check_path(path));
                self.program.push(step, [path.span.clone(), 0..0]);
            }
            Expression::Constant(constant) => {
                self.program.push(ConditionStep::Constant(*constant), nowhere);
            }
            Expression::Compare(left, operator, right) => {
                let before = self.faults.len();
                self.check_literals(left, *operator, right);
                if self.faults.len() == before {
                    self.faults.extend(self.typed.refuse_types(left, *operator, right));
                }
                let spans = [left.span(), right.span()];
                let left = self.check_operand(left, *operator);
                let right = self.check_operand(right, *operator);
                self.program.push(ConditionStep::Compare(left, *operator, right), spans);
            }
        }
    }

    /// Of the head of declared names, whether one of these is set: what else a table holds is not
    /// looked at.
    fn check_is_set(&mut self, path: &Path) {
        self.faults.extend(self.typed.refuse_undeclared(path, true));
        let declared = self.typed.vocabulary.of(path.root);
        let below =
            if declared.get(&path.name).is_some() { &[] } else { declared.below(&path.name) };
        if below.is_empty() {
            let step = ConditionStep::IsSet(self.resolve(path));
            self.program.push(step, [path.span.clone(), 0..0]);
            return;
        }
        let here = self.program.push(ConditionStep::Not, [0..0, 0..0]);
        for name in below {
            let step = ConditionStep::IsSet(resolve_reference(path.root, name, self.names));
            self.program.push(step, [path.span.clone(), 0..0]);
        }
        self.program.steps[here] = ConditionStep::Or(self.program.steps.len() as u32);
    }

    fn check_path(&mut self, path: &Path) -> Reference {
        self.faults.extend(self.typed.refuse_undeclared(path, false));
        self.resolve(path)
    }

    fn resolve(&mut self, path: &Path) -> Reference {
        let name = path.name.as_str();
        let (own, other, right) = match path.root {
            Root::Who => (&WHO_BUILTINS[..], &TARGET_BUILTINS[..], Root::Target),
            Root::Target => (&TARGET_BUILTINS[..], &WHO_BUILTINS[..], Root::Who),
            Root::Given => (&[][..], &[][..], Root::Given),
        };
        if other.contains(&name) && !own.contains(&name) {
            let fault =
                ConditionFault::WrongRoot { name: name.to_owned(), wrong: path.root, right };
            self.fault(fault, path.span.clone());
        }
        resolve_reference(path.root, name, self.names)
    }

    fn check_operand(&mut self, operand: &Operand, operator: Operator) -> Term {
        match operand {
            Operand::Path(path) => {
                let reference = self.check_path(path);
                match operator.is_ordering() && self.typed.is_moment(path) {
                    true => Term::Moment(reference),
                    false => Term::Attribute(reference),
                }
            }
            Operand::Literal(value, _) => {
                Term::Literal(self.program.literal(Literal::read(value, operator)))
            }
        }
    }

    /// Refuses literals that can only leave the comparison undecided.
    fn check_literals(&mut self, left: &Operand, operator: Operator, right: &Operand) {
        let before = self.faults.len();
        let is_pattern = operator.takes()[1] == Takes::Pattern;
        if is_pattern && !matches!(right, Operand::Literal(Value::Text(_), _)) {
            self.fault(ConditionFault::FitsPattern, right.span());
        } else if let Operand::Literal(value, span) = right {
            self.check_alone(value, operator, "right", span);
        }
        if let Operand::Literal(value, span) = left {
            self.check_alone(value, operator, "left", span);
        }
        if let (Operand::Literal(a, start), Operand::Literal(b, end)) = (left, right) {
            let never = compare(&Fact::of(a), operator, &Fact::of(b)) == Truth::Undecided;
            if never && self.faults.len() == before {
                self.fault(ConditionFault::NeverBoth(operator), start.start..end.end);
            }
        }
    }

    fn check_alone(
        &mut self,
        value: &Value,
        operator: Operator,
        side: &'static str,
        span: &Range<usize>,
    ) {
        let useful = match operator.takes()[usize::from(side == "right")] {
            Takes::Scalar => !matches!(value, Value::List(_)),
            Takes::List => matches!(value, Value::List(_)),
            Takes::Text | Takes::Pattern => matches!(value, Value::Text(_)),
            Takes::Address | Takes::Ranges => return self.check_within(value, side, span),
            Takes::Ordered => match value {
                Value::Integer(_) => true,
                Value::Text(text) => Time::parse(text).is_some(),
                _ => false,
            },
        };
        if !useful {
            let literal = match value {
                Value::Text(_) if operator.is_ordering() => "a string that is no time".to_owned(),
                Value::Boolean(_) => "a boolean".to_owned(),
                Value::List(_) => "a list".to_owned(),
                Value::Integer(_) => "an integer".to_owned(),
                _ => "a string".to_owned(),
            };
            self.fault(ConditionFault::Never { operator, literal, side }, span.clone());
        }
    }

    fn check_within(&mut self, value: &Value, side: &'static str, span: &Range<usize>) {
        let items: Vec<Scalar<'_>> = match (Fact::of(value), side) {
            (Fact::Scalar(item), _) => vec![item],
            (Fact::List(list), "right") => list.iter().collect(),
            _ => {
                let literal = "a list".to_owned();
                let fault = ConditionFault::Never { operator: Operator::Within, literal, side };
                return self.fault(fault, span.clone());
            }
        };
        for item in items {
            let shown = match item {
                Scalar::Text(text) => {
                    let read = if side == "left" {
                        parse_address(text).is_some()
                    } else {
                        Block::parse(text).is_some()
                    };
                    if read {
                        continue;
                    }
                    text.to_owned()
                }
                other => other.to_value().to_string(),
            };
            self.fault(ConditionFault::Range(shown), span.clone());
        }
    }
}
