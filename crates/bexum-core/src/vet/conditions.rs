//! What statements and conditions say, with their places; and what attributes there are.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use rustc_hash::FxHashMap;

use super::Vet;
use crate::attribute::{Attributes, Value, is_reserved};
use crate::condition::ast::{Expression, Operand, Operator, Path, Root};
use crate::condition::parser::parse;
use crate::declaration::Statement;
use crate::edit::Edit;
use crate::estate::Estate;
use crate::id::{AttributeId, ScopeId, StatementId};
use crate::origin::{Origin, SourceSpan};
use crate::policy::Effect;
use crate::truth::Truth;

/// A condition, parsed, with whose it is.
pub(super) struct Written {
    /// `policy:reader allow 1`, `group:imaging`.
    pub(super) about: String,
    /// The statement; `None` of a group's `members-when`.
    pub(super) statement: Option<StatementId>,
    pub(super) text: String,
    pub(super) origin: Origin,
    pub(super) expression: Expression,
}

impl Written {
    /// Where a part of it stands.
    pub(super) fn place(&self, part: &Range<usize>) -> SourceSpan {
        SourceSpan::inside(self.origin, part.start, part.end)
    }
}

/// A comparison, a bare path, or what is asked by `is set`.
#[derive(Clone, Copy)]
pub(super) enum Atom<'e> {
    Compare(&'e Operand, Operator, &'e Operand),
    Bare(&'e Path),
    IsSet(&'e Path),
}

/// Calls `each` for every atom, and whether it stands under an odd number of `not`.
pub(super) fn atoms<'e>(
    expression: &'e Expression,
    negated: bool,
    each: &mut dyn FnMut(Atom<'e>, bool),
) {
    match expression {
        Expression::And(parts) | Expression::Or(parts) => {
            parts.iter().for_each(|part| atoms(part, negated, each));
        }
        Expression::Not(part) => atoms(part, !negated, each),
        Expression::IsSet(path) => each(Atom::IsSet(path), negated),
        Expression::Bare(path) => each(Atom::Bare(path), negated),
        Expression::Constant(_) => {}
        Expression::Compare(left, operator, right) => {
            each(Atom::Compare(left, *operator, right), negated);
        }
    }
}

/// The least and the most that an expression may come to, by the least and the most of each atom: the
/// order of [`Truth`] is the logic.
pub(super) fn bounds(
    expression: &Expression,
    of: &dyn Fn(Atom<'_>) -> (Truth, Truth),
) -> (Truth, Truth) {
    let both = |join: fn(Truth, Truth) -> Truth, start: Truth, parts: &[Expression]| {
        let parts = parts.iter().map(|part| bounds(part, of));
        parts.fold((start, start), |all, part| (join(all.0, part.0), join(all.1, part.1)))
    };
    match expression {
        Expression::And(parts) => both(Truth::and, Truth::True, parts),
        Expression::Or(parts) => both(Truth::or, Truth::False, parts),
        Expression::Not(part) => {
            let (least, most) = bounds(part, of);
            (most.negate(), least.negate())
        }
        Expression::Constant(holds) => (Truth::from(*holds), Truth::from(*holds)),
        Expression::IsSet(path) => of(Atom::IsSet(path)),
        Expression::Bare(path) => of(Atom::Bare(path)),
        Expression::Compare(left, operator, right) => of(Atom::Compare(left, *operator, right)),
    }
}

impl<'e> Atom<'e> {
    /// The paths in it.
    pub(super) fn paths(self) -> Vec<&'e Path> {
        match self {
            Self::Bare(path) | Self::IsSet(path) => vec![path],
            Self::Compare(left, _, right) => {
                let of = |operand: &'e Operand| match operand {
                    Operand::Path(path) => Some(path),
                    Operand::Literal(..) => None,
                };
                of(left).into_iter().chain(of(right)).collect()
            }
        }
    }

    /// Whether it compares something with a single value that stands in the condition.
    pub(super) fn compares_with_one_value(self) -> bool {
        let is_one = |operand: &Operand| matches!(operand, Operand::Literal(value, _) if !matches!(value, Value::List(_)));
        matches!(self, Self::Compare(left, _, right) if is_one(left) || is_one(right))
    }

    /// A path that is compared with strings for equality, alone or in a list; with those.
    pub(super) fn compared_with(self) -> Option<(&'e Path, Vec<&'e str>, Range<usize>)> {
        let Self::Compare(left, operator, right) = self else { return None };
        if !matches!(
            operator,
            Operator::Equal | Operator::NotEqual | Operator::In | Operator::Overlaps
        ) {
            return None;
        }
        let (path, value, span) = match (left, right) {
            (Operand::Path(path), Operand::Literal(value, span))
            | (Operand::Literal(value, span), Operand::Path(path)) => (path, value, span),
            _ => return None,
        };
        let texts: Vec<&str> = match value {
            Value::Text(text) => vec![text],
            Value::List(values) => values
                .iter()
                .filter_map(|value| match value {
                    Value::Text(text) => Some(&**text),
                    _ => None,
                })
                .collect(),
            _ => Vec::new(),
        };
        Some((path, texts, span.clone()))
    }
}

/// Whether a name is one of the built-in ones.
pub(super) fn is_built_in(path: &Path) -> bool {
    match path.root {
        Root::Given => path.name == "time",
        _ => is_reserved(&path.name),
    }
}

impl<'v> Vet<'v> {
    /// What is declared of each statement, by its policy's name.
    pub(super) fn statements(&self) -> FxHashMap<&'v str, Vec<&'v Statement>> {
        let all = self.declared.policies.iter();
        all.map(|policy| (&*policy.name.value, policy.body.statements.iter().collect())).collect()
    }

    /// A statement as it is declared.
    pub(super) fn declared_statement(
        &self,
        all: &FxHashMap<&'v str, Vec<&'v Statement>>,
        id: StatementId,
    ) -> Option<&'v Statement> {
        let statement = self.estate().statement(id);
        let of_policy = all.get(&*self.estate().policy(statement.policy).name)?;
        let same = of_policy.iter().filter(|one| one.effect == statement.effect);
        same.copied().nth(statement.place - 1)
    }

    /// Every condition of statements and of groups.
    pub(super) fn conditions(&self) -> Vec<Written> {
        let all = self.statements();
        let ids = (0..self.estate().statements.len()).map(StatementId::new);
        let mut found: Vec<Written> = ids
            .filter_map(|id| {
                let when = self.declared_statement(&all, id)?.when.as_ref()?;
                Some(Written {
                    about: self.statement(id),
                    statement: Some(id),
                    text: when.value.clone(),
                    origin: when.origin,
                    expression: parse(&when.value).ok()?,
                })
            })
            .collect();
        found.extend(self.declared.groups.iter().filter_map(|group| {
            let when = group.body.members_when.as_ref()?;
            Some(Written {
                about: format!("group:{}", group.name.value),
                statement: None,
                text: when.value.clone(),
                origin: when.origin,
                expression: parse(&when.value).ok()?,
            })
        }));
        found
    }

    /// Edits that put another statement into the place of one.
    pub(super) fn restated(
        &self,
        id: StatementId,
        change: impl FnOnce(&mut Statement),
    ) -> Vec<Edit> {
        let all = self.statements();
        let Some(declared) = self.declared_statement(&all, id) else { return Vec::new() };
        let mut new = declared.clone();
        change(&mut new);
        let texts = |list: Vec<crate::origin::Spanned<String>>| {
            list.into_iter().map(|one| one.value).collect::<Vec<_>>()
        };
        let policy = self.estate().policy(self.estate().statement(id).policy).name.to_string();
        let is_named = new.name.is_some();
        let state = Edit::State {
            policy: policy.clone(),
            effect: new.effect,
            actions: texts(new.actions.value),
            on: new.on.map(|list| texts(list.value)).unwrap_or_default(),
            when: new.when.map(|when| when.value),
            name: new.name.map(|name| name.value),
        };
        let strike = Edit::Strike { policy, statement: self.called(id) };
        // Two of one name cannot be told apart; else the policy is better never without it.
        if is_named { vec![strike, state] } else { vec![state, strike] }
    }

    /// Edits that put other text into a part of a condition.
    pub(super) fn reworded(&self, one: &Written, part: &Range<usize>, by: &str) -> Vec<Edit> {
        let Some(id) = one.statement else { return Vec::new() };
        let mut text = one.text.clone();
        text.replace_range(part.clone(), by);
        self.restated(id, |statement| {
            if let Some(when) = &mut statement.when {
                when.value = text;
            }
        })
    }

    /// Where a statement's policy is attached or a ceiling: the scopes that its patterns start at;
    /// `None` stands for the root of all paths.
    pub(super) fn anchors(&self, id: StatementId) -> BTreeSet<Option<ScopeId>> {
        let estate = self.estate();
        let carriers = self.carriers(estate.statement(id).policy);
        let mut found = BTreeSet::new();
        for one in &estate.attachments {
            if one.policies.iter().any(|policy| carriers.contains(&policy.value)) {
                found.extend(one.at.iter().map(|at| Some(at.value)));
            }
        }
        for one in &estate.ceilings {
            if one.policies.iter().any(|policy| carriers.contains(&policy.value)) {
                match &one.over {
                    None => found.extend([None]),
                    Some(over) => found.extend(over.iter().map(|at| Some(at.value))),
                }
            }
        }
        found
    }

    /// Whether a statement is a deny.
    pub(super) fn is_deny(&self, id: StatementId) -> bool {
        self.estate().statement(id).effect == Effect::Deny
    }
}

/// The attributes that an estate gives, under one root, with the strings that they have.
#[derive(Default)]
pub(super) struct Borne {
    pub(super) values: BTreeMap<String, BTreeSet<String>>,
}

impl Borne {
    /// Those under a root: of `who`, users' and (of workloads) scopes'; of `target`, everything's.
    pub(super) fn new(estate: &Estate, root: Root) -> Self {
        let mut borne = Self::default();
        if root == Root::Given {
            return borne;
        }
        for user in &estate.users {
            borne.take(estate, &user.identity.attributes);
        }
        estate.scopes.iter().for_each(|(_, scope)| borne.take(estate, &scope.attributes));
        if root == Root::Target {
            let groups = estate.groups.iter().map(|group| &group.identity);
            for identity in groups.chain(estate.roles.iter().map(|role| &role.identity)) {
                borne.take(estate, &identity.attributes);
            }
        }
        borne
    }

    fn take(&mut self, estate: &Estate, attributes: &Attributes) {
        for id in attributes.names() {
            let texts = self.values.entry(estate.attribute_names.name(id).to_owned()).or_default();
            match attributes.value(id) {
                Some(Value::Text(text)) => drop(texts.insert(text.to_string())),
                Some(Value::List(values)) => {
                    texts.extend(values.iter().filter_map(|value| match value {
                        Value::Text(text) => Some(text.to_string()),
                        _ => None,
                    }))
                }
                _ => {}
            }
        }
    }

    pub(super) fn has(&self, name: &str) -> bool {
        self.values.contains_key(name)
    }
}

/// Whether a scope or one above it gives an attribute.
pub(super) fn is_given_at(estate: &Estate, scope: ScopeId, id: AttributeId) -> bool {
    estate.scopes.chain(scope).any(|at| estate.scope(at).attributes.has(id))
}

/// The one known word that is a slip away from another: a letter more, less or other, two letters
/// turned around, or other capitals. Numbers that differ are no slip.
pub(super) fn slip<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    if word.chars().count() < 3 {
        return None;
    }
    let letters = |text: &str| text.chars().filter(|c| !c.is_ascii_digit()).collect::<String>();
    let is_near = |other: &&str| {
        *other != word
            && other.len().abs_diff(word.len()) <= 4
            && (other.eq_ignore_ascii_case(word) || strsim::osa_distance(word, other) == 1)
            && letters(other) != letters(word)
    };
    let mut near = known.into_iter().filter(is_near);
    let first = near.next()?;
    // Which of two was meant nobody knows.
    near.all(|other| other == first).then_some(first)
}
