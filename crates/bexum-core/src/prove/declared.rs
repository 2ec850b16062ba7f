//! What a declared attribute that nobody gave may have to be (spec-work section 7.1): of the values
//! that stand for all, those that fit; a request with any other is an error.

use crate::attribute::Value;
use crate::request::Given;
use crate::time::Time;
use crate::vocabulary::{AttributeRule, Form, ValueType};

use super::representatives::{ValueDomain, lists};

impl ValueDomain {
    /// The values to try of an attribute that is declared so, and whether they stand for all, given
    /// those of one that is not. With `one-of` they are all there are; else each cell keeps a value,
    /// and the one of everything that nobody names gets some of the declared type and form.
    pub(super) fn declared_values(
        &self,
        rule: &AttributeRule,
        places: usize,
        (undeclared, mut whole): (Vec<Given>, bool),
    ) -> (Vec<Given>, bool) {
        let mut scalars: Vec<Value> = Vec::new();
        let mut others: Vec<Given> = Vec::new();
        let element = AttributeRule { is_list: false, ..rule.clone() };
        let mut add = |scalar: &Value| {
            let read = element.read(scalar).filter(|read| !scalars.contains(read));
            scalars.extend(read);
        };
        for given in undeclared {
            match given {
                Given::Value(Value::List(items)) => items.iter().for_each(&mut add),
                Given::Value(scalar) => add(&scalar),
                other => others.push(other),
            }
        }
        match &rule.one_of {
            Some(known) => (scalars, whole) = (known.to_vec(), true),
            None => {
                self.fresh(rule).iter().for_each(&mut add);
                // Which addresses or times a pattern fits, nobody worked out.
                whole &= rule.form.is_none() || self.fit_patterns.is_empty();
            }
        }
        let mut found: Vec<Given> = Vec::new();
        if rule.is_list {
            let (lists, all) = lists(&scalars, places.max(1));
            whole &= all;
            found.extend(lists.into_iter().map(|list| Given::Value(Value::List(list))));
            found.push(Given::Value(Value::List([].into())));
        } else {
            found.extend(scalars.into_iter().map(Given::Value));
        }
        found.extend(others);
        (found, whole)
    }

    /// Values of a declared type and form, as many as attributes share the domain of which nobody
    /// names one; and every moment of the cells.
    fn fresh(&self, rule: &AttributeRule) -> Vec<Value> {
        let near = i64::try_from(self.shared_by).unwrap_or(i64::MAX);
        let texts = |written: &dyn Fn(usize) -> String| {
            let free = (1..=250).map(written).filter(|text| !self.texts.contains(text));
            free.take(self.shared_by).map(|text| Value::Text(text.into())).collect()
        };
        match (rule.value_type, rule.form) {
            (ValueType::Boolean, _) => vec![Value::Boolean(true), Value::Boolean(false)],
            (ValueType::Integer, _) => {
                let known = self.all_integers();
                let free = (0..).filter(|n| !known.contains(n)).take(self.shared_by);
                free.map(Value::Integer).collect()
            }
            (ValueType::Time, _) => {
                let known = self.times.iter().flat_map(|at| {
                    let at = at.0;
                    (-near..=near).map(move |step| at.saturating_add(step))
                });
                let all = known.chain((0..near).map(|n| 1_000_000 * n)).map(Time);
                let writable = all.filter(|at| (super::EARLIEST..=super::LATEST).contains(at));
                writable.map(Value::Time).collect()
            }
            (ValueType::Text, None) => Vec::new(),
            (ValueType::Text, Some(Form::Address | Form::Range)) => {
                texts(&|n| format!("192.0.2.{n}"))
            }
            (ValueType::Text, Some(Form::Time)) => {
                texts(&|n| format!("2000-01-01T00:{:02}:{:02}Z", n / 60, n % 60))
            }
        }
    }
}
