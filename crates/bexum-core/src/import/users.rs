//! Users: who is new, who is otherwise, who is gone.

use std::borrow::Cow;

use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};

use super::{Given, Importing, Person, carries};
use crate::attribute::{Value, is_reserved};
use crate::declaration::{Imported, User};
use crate::name::Grammar;
use crate::origin::{Origin, Spanned};
use crate::time::Time;
use crate::vocabulary::{Misfit, ValueType};

fn spanned(text: &str) -> Spanned<String> {
    Spanned::new(text.to_owned(), Origin::default())
}

impl Importing<'_> {
    pub(super) fn users(&mut self) {
        let (people, declared) = (self.people, self.declared);
        self.refuse_attributes();
        // The names that were here, once one is new.
        let mut lower: Option<FxHashSet<String>> = None;
        let mut in_files = FixedBitSet::with_capacity(declared.users.len());
        for person in &people.persons {
            let known = self.users.get(&*person.name).copied();
            let mut is_near = |users: &FxHashMap<&str, usize>| {
                let all = || users.keys().map(|name| name.to_ascii_lowercase()).collect();
                lower.get_or_insert_with(all).contains(&person.name.to_ascii_lowercase())
            };
            if known.is_none() && is_near(&self.users) {
                let message = format!(
                    "a user is here already whose name differs from `{}` in case alone",
                    person.name
                );
                self.complain(&person.place, message, None);
                continue;
            }
            let Some(at) = known else {
                let mut user = Cow::Owned(User {
                    enabled: person.enabled.unwrap_or(true),
                    imported: self.imported(person.id.as_deref()),
                    ..User::default()
                });
                self.agree(&mut user, person);
                let name = spanned(&person.name);
                let users = &mut self.made.people.users;
                let at = users.add(&declared.users, name, user.into_owned());
                self.made.new.push(format!("user:{}", person.name));
                self.users.insert(&person.name, at);
                continue;
            };
            in_files.grow_and_insert(at);
            let mut user = match declared.users.get(at) {
                Some(user) => Cow::Borrowed(&user.body),
                None => Cow::Owned(self.user(at).clone()),
            };
            let is_adopted = self.may_be("user", &person.name, &user.imported, &person.place);
            let Some(is_adopted) = is_adopted else { continue };
            let was_enabled = user.enabled;
            let is_changed = self.agree(&mut user, person);
            self.made.adopted.extend(is_adopted.then(|| format!("user:{}", person.name)));
            self.made.of_source += 1;
            self.turned(&person.name, was_enabled, user.enabled);
            self.made.changed += usize::from(is_changed);
            if let Cow::Owned(user) = user {
                self.made.people.users.set(&declared.users, at, user);
            }
        }
        if people.speaks_of.manager || !people.groups.is_empty() {
            self.keep_ids();
        }
        self.managers();
        if people.speaks_of.persons {
            self.gone(&in_files);
        }
    }

    fn imported(&self, id: Option<&str>) -> Imported {
        Imported { source: Some(self.terms.source.to_owned()), source_id: id.map(str::to_owned) }
    }

    fn turned(&mut self, name: &str, before: bool, after: bool) {
        match (before, after) {
            (true, false) => self.made.disabled.push(format!("user:{name}")),
            (false, true) => self.made.enabled.push(format!("user:{name}")),
            _ => {}
        }
    }

    /// Makes a user what the source has, but for the manager; whether another key than the source's and
    /// `enabled` changes.
    fn agree(&mut self, user: &mut Cow<'_, User>, person: &Person) -> bool {
        let speaks = &self.people.speaks_of;
        let mut is_changed = false;
        let id = person.id.as_deref().or(user.imported.source_id.as_deref());
        if !carries(&user.imported, self.terms.source) || user.imported.source_id.as_deref() != id {
            let imported = self.imported(id);
            user.to_mut().imported = imported;
        }
        if let Some(enabled) = person.enabled.filter(|enabled| *enabled != user.enabled) {
            user.to_mut().enabled = enabled;
        }
        // A name of nothing is as good as none: that is no difference.
        let has_none = user.full_name.as_deref().is_none_or(str::is_empty);
        let says_none = has_none && person.full_name.is_none();
        if speaks.full_name && !says_none && user.full_name != person.full_name {
            user.to_mut().full_name.clone_from(&person.full_name);
            is_changed = true;
        }
        for name in &speaks.attributes {
            let place = user.attributes.iter().position(|(known, _)| known.value == *name);
            let old = place.map(|place| &user.attributes[place].1);
            let given = person.attributes.iter().find(|(known, _)| known == name);
            let value = given.and_then(|(_, given)| self.value(name, given, old, person));
            if old == value.as_ref() {
                continue;
            }
            is_changed = true;
            let attributes = &mut user.to_mut().attributes;
            match (place, value) {
                (Some(place), Some(value)) => attributes[place].1 = value,
                (Some(place), None) => drop(attributes.remove(place)),
                (None, Some(value)) => attributes.push((spanned(name), value)),
                (None, None) => {}
            }
        }
        is_changed
    }

    /// What a source says of an attribute, as a value of the type that is wanted: the one declared, else
    /// that of the value here, else what it looks like to the source. A text of nothing is none, save
    /// where it stands here already.
    fn value(
        &mut self,
        name: &str,
        given: &Given,
        old: Option<&Value>,
        person: &Person,
    ) -> Option<Value> {
        let (text, typed) = match given {
            Given::Text(text) => (text.as_str(), None),
            Given::Typed(Value::Text(text)) => (&**text, None),
            Given::Typed(value) => ("", Some(value.clone())),
        };
        if typed.is_none() && text.is_empty() {
            return old.filter(|old| **old == Value::Text("".into())).cloned();
        }
        let who = &self.vocabulary.who;
        let of_old = old.and_then(|old| match old {
            Value::Integer(_) => Some(ValueType::Integer),
            Value::Boolean(_) => Some(ValueType::Boolean),
            Value::Time(_) => Some(ValueType::Time),
            Value::Text(_) | Value::List(_) => None,
        });
        let wanted = who.rule(name).map(|rule| rule.value_type).or(of_old);
        let as_wanted = |text: &str| match wanted {
            Some(ValueType::Integer) => text.parse().ok().map(Value::Integer),
            Some(ValueType::Boolean) => match text.to_ascii_lowercase().as_str() {
                "true" => Some(Value::Boolean(true)),
                "false" => Some(Value::Boolean(false)),
                _ => None,
            },
            Some(ValueType::Time) => Time::parse(text).map(Value::Time),
            Some(ValueType::Text) | None => Some(Value::Text(text.into())),
        };
        let value = typed.or_else(|| as_wanted(text));
        let Some(value) = value else {
            let word = wanted.map_or("value", ValueType::word);
            let message = format!("`{text}` is no {word}, as `attributes.{name}` is to be");
            self.complain(&person.place, message, None);
            return None;
        };
        if let Some(misfit) = who.misfit(name, &value) {
            let rule = match misfit {
                Misfit::Value(rule) => format!("is declared as {rule}: {value} is not"),
                Misfit::NoTable => "is the head of declared attributes".to_owned(),
                Misfit::Table(head) => format!("cannot be: `{head}` is declared as one attribute"),
            };
            self.complain(&person.place, format!("`attributes.{name}` {rule}"), None);
            return None;
        }
        Some(value)
    }

    /// Names of attributes that cannot be.
    fn refuse_attributes(&mut self) {
        for name in &self.people.speaks_of.attributes {
            let head = name.split('.').next().unwrap_or_default();
            let is_name = name.split('.').all(|part| Grammar::Attribute.accepts(part));
            if !is_name || is_reserved(head) {
                let message = format!("`attributes.{name}` is nothing that a user can have");
                self.complain("the mapping", message, None);
                continue;
            }
            // Said once, and not of everybody in the files.
            let declared = &self.vocabulary.who;
            if declared.is_closed() && declared.get(name).is_none() {
                let hint = match declared.nearest(name) {
                    Some(near) => format!("did you mean `attributes.{near}`?"),
                    None => "declare it in `[attributes.who]`, or leave it out".into(),
                };
                let message = format!("`attributes.{name}` is not declared");
                self.complain("the mapping", message, Some(&hint));
            }
        }
    }

    /// Managers, now that every user of the source is there.
    fn managers(&mut self) {
        if !self.people.speaks_of.manager {
            return;
        }
        let declared = self.declared;
        for person in &self.people.persons {
            let Some(at) = self.users.get(&*person.name).copied() else { continue };
            let manager = match &person.manager {
                None => None,
                Some(reference) => match self.find(reference, &["user"]) {
                    Some(found) => Some(found),
                    None => {
                        let message = format!(
                            "the manager `{}` of `user:{}` is neither in the files nor here",
                            reference.to, person.name
                        );
                        self.not_taken(&reference.place, message);
                        continue;
                    }
                },
            };
            let old = self.user(at).manager.as_ref().map(|old| &*old.value);
            let is_same = match (old, manager) {
                (Some(old), Some((kind, name))) => {
                    old.strip_prefix(kind).and_then(|rest| rest.strip_prefix(':')) == Some(name)
                }
                (old, manager) => old.is_none() && manager.is_none(),
            };
            if !is_same {
                let manager = manager.map(|(kind, name)| spanned(&format!("{kind}:{name}")));
                self.made.people.users.get_mut(&declared.users, at).manager = manager;
                self.made.changed += usize::from(at < declared.users.len());
            }
        }
    }

    /// Who carries the source and is not in the files is disabled, and stays where they are.
    fn gone(&mut self, in_files: &FixedBitSet) {
        let (source, declared) = (self.terms.source, self.declared);
        for (at, user) in declared.users.iter().enumerate() {
            if in_files.contains(at) || !carries(&user.body.imported, source) {
                continue;
            }
            self.made.of_source += 1;
            let name = format!("user:{}", user.name.value);
            if user.body.enabled {
                self.made.people.users.get_mut(&declared.users, at).enabled = false;
                self.made.disabled.push(name.clone());
                self.made.gone.push(name);
            }
        }
    }
}
