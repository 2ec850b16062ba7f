//! Which groups and roles a statement asks about by itself.

use crate::attribute::Value;
use crate::condition::Reference;
use crate::condition::ast::Operator;
use crate::condition::check::WhoAttribute;
use crate::condition::{ConditionStep, Program, Term};
use crate::estate::Estate;
use crate::id::{GroupId, RoleId};
use crate::policy::Statement;

/// The groups and roles that a statement reads.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Reads {
    pub(super) groups: Vec<GroupId>,
    pub(super) roles: Vec<RoleId>,
    /// Whether it may be any group: they are compared with what is no literal.
    pub(super) all_groups: bool,
    pub(super) all_roles: bool,
}

impl Reads {
    pub(super) fn of(estate: &Estate, statement: &Statement) -> Self {
        let mut reads = Self::default();
        if let Some(when) = &statement.when {
            when.program.steps.iter().for_each(|step| reads.step(estate, &when.program, *step));
        }
        for pattern in statement.on.plain.iter().chain(&statement.on.excluded) {
            pattern.braces().for_each(|brace| reads.any(brace.attribute));
        }
        reads
    }

    pub(super) fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    fn any(&mut self, reference: Reference) {
        self.all_groups |= reference == Reference::Who(WhoAttribute::Groups);
        self.all_roles |= reference == Reference::Who(WhoAttribute::Roles);
    }

    fn step(&mut self, estate: &Estate, program: &Program, step: ConditionStep) {
        let (list, literal) = match step {
            ConditionStep::IsSet(reference) | ConditionStep::Bare(reference) => {
                return self.any(reference);
            }
            ConditionStep::Compare(left, operator, right) => match (left, right) {
                (Term::Attribute(list), Term::Literal(literal))
                | (Term::Literal(literal), Term::Attribute(list))
                    if operator != Operator::Fits =>
                {
                    (list, literal)
                }
                _ => {
                    let named = [left, right].into_iter().filter_map(Term::attribute);
                    return named.for_each(|reference| self.any(reference));
                }
            },
            ConditionStep::And(_)
            | ConditionStep::Or(_)
            | ConditionStep::Not
            | ConditionStep::Constant(_) => return,
        };
        let texts: Vec<&Value> = match &program.literal(literal).value {
            Value::List(all) => all.iter().collect(),
            one => vec![one],
        };
        let texts = texts.into_iter().filter_map(|one| match one {
            Value::Text(text) => Some(text),
            _ => None,
        });
        match list {
            Reference::Who(WhoAttribute::Groups) => {
                self.groups.extend(texts.filter_map(|name| estate.find_group(name)));
            }
            Reference::Who(WhoAttribute::Roles) => {
                self.roles.extend(texts.filter_map(|name| estate.find_role(name)));
            }
            _ => {}
        }
    }
}
