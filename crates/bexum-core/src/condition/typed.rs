//! What the declared types of attributes say about a condition (spec-work section 7.1).
//!
//! Whether a comparison can ever be decided is not told by a table of its own: it is tried on samples
//! of all that may stand on either side, by the same comparison that decides requests.

use std::borrow::Cow;

use super::ast::{Operand, Operator, Path, Root};
use super::fact::Fact;
use super::operators::{Takes, compare, fits};
use super::{ConditionFault, Located};
use crate::attribute::{TARGET_BUILTINS, Value, WHO_BUILTINS};
use crate::catalogue::RESERVED_KINDS;
use crate::principal::{Join, PrincipalType};
use crate::time::Time;
use crate::truth::Truth;
use crate::vocabulary::{AttributeRule, Form, ValueType, Vocabulary};

/// What is declared, as far as conditions are concerned.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Typed<'v> {
    /// Declared attributes.
    pub(crate) vocabulary: &'v Vocabulary,
    /// The names of all catalogued kinds.
    pub(crate) kinds: &'v [String],
}

impl<'v> Typed<'v> {
    /// What an attribute's values are, where that is known: of a closed root.
    fn rule(&self, path: &Path) -> Option<Cow<'v, AttributeRule>> {
        let declared = self.vocabulary.of(path.root);
        if !declared.is_closed() {
            return None;
        }
        match self.built_in(path) {
            Some(rule) => Some(Cow::Owned(rule)),
            None => declared.rule(&path.name).map(Cow::Borrowed),
        }
    }

    fn built_in(&self, path: &Path) -> Option<AttributeRule> {
        let text =
            AttributeRule { value_type: ValueType::Text, is_list: false, one_of: None, form: None };
        let words = |words: &mut dyn Iterator<Item = &str>| AttributeRule {
            one_of: Some(words.map(|word| Value::Text(word.into())).collect()),
            ..text.clone()
        };
        Some(match (path.root, path.name.as_str()) {
            (Root::Given, "time") => AttributeRule { value_type: ValueType::Time, ..text },
            (Root::Who, "type") => words(&mut PrincipalType::ALL.into_iter().map(|one| one.word())),
            (Root::Target, "join") => words(&mut Join::ALL.into_iter().map(Join::word)),
            (Root::Target, "kind") => {
                let kinds = self.kinds.iter().map(String::as_str);
                words(&mut kinds.chain(RESERVED_KINDS))
            }
            (Root::Who, "groups" | "roles") | (Root::Target, "owners" | "members") => {
                AttributeRule { is_list: true, ..text }
            }
            (Root::Who, name) if WHO_BUILTINS.contains(&name) => text,
            (Root::Target, name) if TARGET_BUILTINS.contains(&name) => text,
            _ => return None,
        })
    }

    /// Refuses a path that is not declared; before `is set` the head of declared names stands too.
    pub(super) fn refuse_undeclared(&self, path: &Path, is_set: bool) -> Option<Located> {
        let declared = self.vocabulary.of(path.root);
        let is_known = !declared.is_closed()
            || declared.get(&path.name).is_some()
            || self.built_in(path).is_some()
            || is_set && !declared.below(&path.name).is_empty();
        let near = || declared.nearest(&path.name).map(|near| format!("{}.{near}", path.root));
        (!is_known).then(|| {
            let path_text = format!("{}.{}", path.root, path.name);
            located(ConditionFault::Undeclared { path: path_text, nearest: near() }, &path.span)
        })
    }

    /// Whether a string of this attribute is read as a moment beside `<`.
    pub(super) fn is_moment(&self, path: &Path) -> bool {
        self.rule(path).is_some_and(|rule| rule.is_moment() && !rule.is_list)
    }

    /// Refuses what the types of both sides make undecided for ever, and literals that an attribute
    /// never is.
    pub(super) fn refuse_types(
        &self,
        left: &Operand,
        operator: Operator,
        right: &Operand,
    ) -> Vec<Located> {
        let rules = [left, right].map(|operand| match operand {
            Operand::Path(path) => self.rule(path),
            Operand::Literal(..) => None,
        });
        let [left_rule, right_rule] = &rules;
        if left_rule.is_none() && right_rule.is_none() {
            return Vec::new();
        }
        if let (Some(rule), Operand::Path(path), Operand::Literal(Value::Text(pattern), span)) =
            (left_rule, left, right)
            && operator.takes()[1] == Takes::Pattern
            && !rule.is_list
            && let Some(known) = &rule.one_of
        {
            let is_fitted =
                |value: &Value| matches!(value, Value::Text(text) if fits(pattern, text));
            let mut texts = known.iter().filter(|value| matches!(value, Value::Text(_))).peekable();
            if texts.peek().is_some() && !texts.any(is_fitted) {
                let fault = ConditionFault::FitsNone {
                    path: format!("{}.{}", path.root, path.name),
                    pattern: pattern.to_string(),
                    rule: rule.to_string(),
                };
                return vec![located(fault, span)];
            }
        }
        let left_samples = samples(left, left_rule.as_deref(), operator);
        let right_samples = samples(right, right_rule.as_deref(), operator);
        let is_decided = left_samples.iter().any(|left| {
            let left = Fact::of(left);
            right_samples
                .iter()
                .any(|right| compare(&left, operator, &Fact::of(right)) != Truth::Undecided)
        });
        if !is_decided {
            let told = |operand: &Operand, rule: Option<&AttributeRule>| match (operand, rule) {
                (Operand::Path(path), Some(rule)) => {
                    format!("`{}.{}` ({rule})", path.root, path.name)
                }
                (Operand::Path(path), None) => format!("`{}.{}`", path.root, path.name),
                (Operand::Literal(value, _), _) => format!("`{value}`"),
            };
            let fault = ConditionFault::NeverTyped {
                operator,
                left: told(left, left_rule.as_deref()),
                right: told(right, right_rule.as_deref()),
            };
            return vec![located(fault, &(left.span().start..right.span().end))];
        }
        let names_values = matches!(
            operator,
            Operator::Equal | Operator::NotEqual | Operator::In | Operator::Overlaps
        );
        let mut found = Vec::new();
        for (path, rule, literal) in [(left, left_rule, right), (right, right_rule, left)] {
            if let (true, Operand::Path(path), Some(rule), Operand::Literal(value, span)) =
                (names_values, path, rule, literal)
            {
                found.extend(never_such(path, rule, value).map(|fault| located(fault, span)));
            }
        }
        found
    }
}

fn located(fault: ConditionFault, span: &std::ops::Range<usize>) -> Located {
    Located { fault, start: span.start, end: span.end }
}

/// The first of a literal's values that is not in `one-of`, or has not the form.
fn never_such(path: &Path, rule: &AttributeRule, literal: &Value) -> Option<ConditionFault> {
    let items = match literal {
        Value::List(items) => &**items,
        scalar => std::slice::from_ref(scalar),
    };
    // A literal of another type is told by what it is compared with; a time may be a string here.
    let wrong =
        items.iter().find(|item| rule.value_type != ValueType::Time && !rule.element_fits(item))?;
    Some(ConditionFault::NeverSuch {
        path: format!("{}.{}", path.root, path.name),
        value: wrong.to_string(),
        rule: rule.to_string(),
        nearest: rule.nearest(wrong).map(|near| format!("'{near}'")),
    })
}

/// Values of every sort that may stand on a side.
fn samples(operand: &Operand, rule: Option<&AttributeRule>, operator: Operator) -> Vec<Value> {
    const MOMENT: &str = "2026-01-01T00:00:00Z";
    let text = |text: &str| Value::Text(text.into());
    let moment = Time::parse(MOMENT).map(Value::Time);
    if let Operand::Literal(value, _) = operand {
        return vec![value.clone()];
    }
    let texts = || ["x", MOMENT, "192.0.2.1", "192.0.2.0/24"].map(text).to_vec();
    let Some(rule) = rule else {
        let scalars = texts().into_iter().chain([Value::Integer(1), Value::Boolean(true)]);
        let scalars: Vec<Value> = scalars.chain(moment).collect();
        let lists = scalars.iter().map(|one| Value::List([one.clone()].into()));
        return lists.chain(scalars.iter().cloned()).collect();
    };
    let scalars: Vec<Value> = match (&rule.one_of, rule.value_type, rule.form) {
        (Some(known), ..) => known.to_vec(),
        (_, ValueType::Integer, _) => vec![Value::Integer(1)],
        (_, ValueType::Boolean, _) => vec![Value::Boolean(true)],
        (_, ValueType::Time, _) => moment.into_iter().collect(),
        (_, ValueType::Text, None) => texts(),
        (_, ValueType::Text, Some(Form::Address)) => vec![text("192.0.2.1")],
        (_, ValueType::Text, Some(Form::Range)) => vec![text("192.0.2.1"), text("192.0.2.0/24")],
        (_, ValueType::Text, Some(Form::Time)) => vec![text(MOMENT)],
    };
    let read = |scalar: Value| match &scalar {
        Value::Text(text) if rule.is_moment() && !rule.is_list && operator.is_ordering() => {
            Time::parse(text).map_or(scalar, Value::Time)
        }
        _ => scalar,
    };
    let scalars = scalars.into_iter().map(read);
    match rule.is_list {
        true => scalars.map(|one| Value::List([one].into())).collect(),
        false => scalars.collect(),
    }
}
