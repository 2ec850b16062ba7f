//! Declared attributes, and whether what the estate says fits them (spec-work section 7.1).

use rustc_hash::FxHashMap;

use super::{Builder, boxed};
use crate::attribute::{Value, WHO_BUILTINS};
use crate::condition::ast::Root;
use crate::declaration::{AttributeBody, Declarations};
use crate::fault::{Fault, LocatedFault};
use crate::origin::{Origin, Spanned};
use crate::vocabulary::{
    AttributeRule, Declared, DeclaredAttribute, Form, ValueType, Vocabulary, is_built_in,
};

/// Whose attributes are read, and under which roots.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Bearer {
    /// Its own root is `who`, and as a target it is read under `target`.
    User,
    /// Read under `target` alone.
    GroupOrRole,
    /// Its own root is `target`, and a workload's are read under `who`.
    Scope,
}

impl Builder<'_> {
    pub(super) fn build_vocabulary(&mut self, declared: &Declarations) {
        let mut first: FxHashMap<(Root, &str), Origin> = FxHashMap::default();
        let mut vocabulary = Vocabulary::default();
        for attribute in &declared.attributes {
            let (root, name) = (attribute.root, attribute.name.value.as_str());
            let written = format!("{root}.{name}");
            if let Some(before) = first.insert((root, name), attribute.name.origin) {
                let fault = Fault::Duplicate { what: "attribute", name: written };
                let located = LocatedFault::new(fault, attribute.name.origin);
                self.faults.push(located.and_see(before, "first declared here"));
                continue;
            }
            let head = name.split('.').next().unwrap_or_default();
            if is_built_in(head) {
                self.fault(Fault::ReservedAttribute(head.to_owned()), attribute.name.origin);
            }
            // Known by name to requests, whether or not anything asks about it.
            self.attribute_names.intern(name);
            let rule = attribute.body.as_ref().and_then(|body| self.build_rule(body));
            let about = boxed(attribute.about.as_ref());
            let origin = attribute.name.origin;
            vocabulary.of_mut(root).add(name, DeclaredAttribute { rule, about, origin });
        }
        for root in Root::ALL {
            let declared = vocabulary.of(root);
            for (name, attribute) in declared.iter() {
                let Some(below) = declared.below(name).first() else { continue };
                let fault = Fault::AttributeHead {
                    name: format!("{root}.{name}"),
                    below: format!("{root}.{below}"),
                };
                let mut located = LocatedFault::new(fault, attribute.origin);
                if let Some(below) = declared.get(below) {
                    located = located.and_see(below.origin, "below it");
                }
                self.faults.push(located);
            }
        }
        self.vocabulary = vocabulary;
    }

    /// What the values are; `None` where something about it is wrong, which is told.
    fn build_rule(&mut self, body: &AttributeBody) -> Option<AttributeRule> {
        let value_type = self.word("type", &body.value_type, &ValueType::WORDS);
        let form = body.form.as_ref().map(|form| self.word("form", form, &Form::WORDS));
        let value_type = ValueType::ALL[value_type?];
        let wrong_type =
            |key, with| Fault::NotOfType { key, with, value_type: value_type.word().to_owned() };
        let mut is_sound = true;
        if let (Some(form), true) = (&body.form, value_type != ValueType::Text) {
            self.fault(wrong_type("form", "strings"), form.origin);
            is_sound = false;
        }
        let form = match form {
            Some(word) => Some(Form::ALL[word?]),
            None => None,
        };
        let mut rule = AttributeRule { value_type, is_list: body.is_list, one_of: None, form };
        if let Some(one_of) = &body.one_of {
            if one_of.value.is_empty() {
                self.fault(Fault::EmptyList("one-of"), one_of.origin);
                return None;
            }
            if !matches!(value_type, ValueType::Text | ValueType::Integer) {
                self.fault(wrong_type("one-of", "strings and integers"), one_of.origin);
                return None;
            }
            for element in &one_of.value {
                if is_sound && !rule.element_fits(&element.value) {
                    let single = AttributeRule { is_list: false, ..rule.clone() };
                    let (value, rule) = (element.value.to_string(), single.to_string());
                    self.fault(Fault::OneOfElement { value, rule }, element.origin);
                    is_sound = false;
                }
            }
            rule.one_of = Some(one_of.value.iter().map(|element| element.value.clone()).collect());
        }
        is_sound.then_some(rule)
    }

    /// The place of a word among those that are known; another is a fault.
    fn word(
        &mut self,
        key: &'static str,
        written: &Spanned<String>,
        known: &'static [&'static str],
    ) -> Option<usize> {
        let at = known.iter().position(|word| *word == written.value);
        if at.is_none() {
            let found = written.value.clone();
            self.fault(Fault::WrongWord { key, found, known }, written.origin);
        }
        at
    }

    /// Refuses a brace that names what a closed root does not declare, or a declared time.
    pub(super) fn refuse_brace(&self, root: Root, name: &str) -> Option<Fault> {
        let declared = self.vocabulary.of(root);
        let written = format!("{root}.{name}");
        let is_built_in = root == Root::Who && WHO_BUILTINS.contains(&name);
        if !declared.is_closed() || is_built_in {
            return None;
        }
        if declared.get(name).is_none() {
            let nearest = declared.nearest(name).map(|near| format!("{root}.{near}"));
            return Some(Fault::UndeclaredAttribute { name: written, nearest });
        }
        declared.rule(name)?.is_time().then_some(Fault::TimeInPath(written))
    }

    /// Refuses what a closed root does not declare, and what does not fit a declaration under a root
    /// that can read it.
    pub(super) fn refuse_misfits(&mut self, bearer: Bearer, written: &[(Spanned<String>, Value)]) {
        let (own, other) = match bearer {
            Bearer::User => (Root::Who, Some(Root::Target)),
            Bearer::GroupOrRole => (Root::Target, None),
            Bearer::Scope => (Root::Target, Some(Root::Who)),
        };
        if self.vocabulary.is_empty() {
            return;
        }
        let mut found = Vec::new();
        for (name, value) in written {
            let declared = self.vocabulary.of(own);
            if declared.is_closed() && declared.get(&name.value).is_none() {
                let nearest = declared.nearest(&name.value).map(|near| format!("{own}.{near}"));
                let written = format!("{own}.{}", name.value);
                let fault = Fault::UndeclaredAttribute { name: written, nearest };
                found.push(LocatedFault::new(fault, name.origin));
            }
            for root in std::iter::once(own).chain(other) {
                found.extend(misfit(self.vocabulary.of(root), root, name, value));
            }
        }
        self.faults.extend(found);
    }
}

fn misfit(
    declared: &Declared,
    root: Root,
    name: &Spanned<String>,
    value: &Value,
) -> Option<LocatedFault> {
    let attribute = declared.get(&name.value)?;
    let rule = attribute.rule.as_ref().filter(|rule| !rule.fits(value))?;
    let fault = Fault::DoesNotFit {
        name: format!("{root}.{}", name.value),
        rule: rule.to_string(),
        value: value.to_string(),
        nearest: rule.nearest(value).map(|near| format!("'{near}'")),
    };
    Some(LocatedFault::new(fault, name.origin).and_see(attribute.origin, "declared here"))
}
