//! One table of a file, changed key by key.

use std::collections::HashSet;

use bexum_core::attribute::Value;
use bexum_core::declaration::{
    Ask, Declarations, Element, Group, List, Named, Policy, Role, Scope, Statement, User,
};
use bexum_core::edit::Places;
use bexum_core::origin::{Origin, Spanned};
use bexum_core::principal::Join;

use super::document::{self, Document, Splice, key_text};
use super::sync::FileEdit;
use super::written::{self, quoted, toml_value};

/// Something under a name of its own, as it is written.
pub(super) trait Thing: Clone + PartialEq + Places + Send + Sync + Sized {
    /// The word for it in headers: `user`.
    fn word(thing: &Named<Self>) -> &'static str;
    /// All things of its sort.
    fn all(declared: &mut Declarations) -> &mut Vec<Named<Self>>;
    /// Its table, where there is none yet.
    fn write(thing: &Named<Self>) -> String;
    /// Changes what its table says.
    fn change(table: &mut Table<'_, '_>, old: &Named<Self>, new: &Named<Self>) -> Option<()>;
}

macro_rules! things {
    ($($type:ty: $word:ident $all:ident;)*) => {
        $(impl Thing for $type {
            fn word(_: &Named<Self>) -> &'static str {
                stringify!($word)
            }

            fn all(declared: &mut Declarations) -> &mut Vec<Named<Self>> {
                &mut declared.$all
            }

            fn write(thing: &Named<Self>) -> String {
                written::$word(thing)
            }

            fn change(
                table: &mut Table<'_, '_>,
                old: &Named<Self>,
                new: &Named<Self>,
            ) -> Option<()> {
                table.$word(old, new)
            }
        })*
    };
}

things! {
    User: user users;
    Group: group groups;
    Role: role roles;
    Policy: policy policies;
}

impl Thing for Scope {
    fn word(thing: &Named<Self>) -> &'static str {
        thing.body.scope_type.word()
    }

    fn all(declared: &mut Declarations) -> &mut Vec<Named<Self>> {
        &mut declared.scopes
    }

    fn write(thing: &Named<Self>) -> String {
        written::scope(thing)
    }

    fn change(table: &mut Table<'_, '_>, old: &Named<Self>, new: &Named<Self>) -> Option<()> {
        table.scope(old, new)
    }
}

/// A table of a file while it is changed.
pub(super) struct Table<'f, 's> {
    pub(super) file: &'f mut FileEdit<'s>,
    /// The keys that lead to it; those that lead to the array, where it is one of an array.
    pub(super) path: Vec<&'f str>,
    pub(super) element: Option<usize>,
}

impl Table<'_, '_> {
    /// Where a key stands: from which table, and by which path.
    fn value(&self, key: &[&str]) -> Option<&document::Value<'_>> {
        let document = &self.file.document;
        match self.element {
            None => document.get(&[&self.path, key].concat()),
            Some(start) => {
                let (_, element) = document.element(&self.path, start)?;
                let mut value = element;
                for key in key {
                    value = value.get_ref().as_table()?.get(*key)?;
                }
                Some(value)
            }
        }
    }

    /// Writes a key, over what it said if it was written.
    fn set(&mut self, key: &[&str], text: &str) -> Option<()> {
        let splice = match self.value(key) {
            Some(value) => Splice { range: value.span(), text: text.to_owned() },
            None => {
                let document = &self.file.document;
                match self.element {
                    None => document.insert(None, &self.path, key, text)?,
                    Some(start) => {
                        let (_, element) = document.element(&self.path, start)?;
                        document.insert(Some(element), &[], key, text)?
                    }
                }
            }
        };
        self.file.splices.push(splice);
        Some(())
    }

    fn unset(&mut self, key: &[&str]) -> Option<()> {
        let document = &self.file.document;
        let mut gone = match self.element {
            None => document.remove(None, &[&self.path, key].concat()),
            Some(start) => {
                let (_, element) = document.element(&self.path, start)?;
                document.remove(Some(element), key)
            }
        };
        let left = self.element.is_none().then(|| document.left_empty(&self.path, key)).flatten();
        if let (Some(first), Some(left)) = (gone.first_mut(), left) {
            // It is still declared.
            first.text = left;
        }
        self.file.splices.extend(gone);
        Some(())
    }

    fn text(&mut self, key: &str, old: Option<&str>, new: Option<&str>) -> Option<()> {
        match new {
            _ if old == new => Some(()),
            Some(new) => self.set(&[key], &quoted(new)),
            None => self.unset(&[key]),
        }
    }

    /// A text with an origin: one of the same origin is changed where it stands.
    fn word(
        &mut self,
        key: &str,
        old: Option<&Spanned<String>>,
        new: Option<&Spanned<String>>,
    ) -> Option<()> {
        let is_in_place = old.zip(new).is_some_and(|(old, new)| old.origin == new.origin);
        if is_in_place {
            return Some(());
        }
        self.text(key, old.map(|old| old.value.as_str()), new.map(|new| new.value.as_str()))
    }

    fn boolean(&mut self, key: &str, old: bool, new: bool, default: bool) -> Option<()> {
        match new {
            _ if old == new => Some(()),
            _ if new == default => self.unset(&[key]),
            _ => self.set(&[key], if new { "true" } else { "false" }),
        }
    }

    fn attributes(
        &mut self,
        old: &[(Spanned<String>, Value)],
        new: &[(Spanned<String>, Value)],
    ) -> Option<()> {
        let find = |all: &[(Spanned<String>, Value)], name: &str| {
            all.iter().find(|(known, _)| known.value == name).map(|(_, value)| value.clone())
        };
        let keys = |name: &'_ str| -> Vec<String> {
            std::iter::once("attributes").chain(name.split('.')).map(str::to_owned).collect()
        };
        // What is gone as a whole goes as a whole.
        let is_left =
            |head: &[String]| new.iter().any(|(name, _)| keys(&name.value).starts_with(head));
        let gone = old.iter().filter(|(name, _)| find(new, &name.value).is_none());
        let mut heads: Vec<Vec<String>> = Vec::new();
        for (name, _) in gone {
            let keys = keys(&name.value);
            let head = (1..=keys.len()).map(|n| &keys[..n]).find(|head| !is_left(head))?;
            if !heads.iter().any(|known| known == head) {
                heads.push(head.to_vec());
            }
        }
        for head in heads {
            self.unset(&head.iter().map(String::as_str).collect::<Vec<_>>())?;
        }
        for (name, value) in new {
            if find(old, &name.value).as_ref() != Some(value) {
                let keys = keys(&name.value);
                self.set(&keys.iter().map(String::as_str).collect::<Vec<_>>(), &toml_value(value))?;
            }
        }
        Some(())
    }

    /// A list of texts; `None`: not written.
    pub(super) fn names(
        &mut self,
        key: &str,
        old: Option<&[Spanned<String>]>,
        new: Option<&[Spanned<String>]>,
    ) -> Option<()> {
        self.list(&[key], old, new, |one| one.origin, |one| quoted(&one.value))
    }

    /// As [`Self::names`], for a list in a table further down.
    pub(super) fn names_at(
        &mut self,
        path: &[&str],
        old: &[Spanned<String>],
        new: &[Spanned<String>],
    ) -> Option<()> {
        self.list(path, Some(old), Some(new), |one| one.origin, |one| quoted(&one.value))
    }

    fn elements(
        &mut self,
        key: &str,
        old: Option<&[Element]>,
        new: Option<&[Element]>,
    ) -> Option<()> {
        self.list(&[key], old, new, |one| one.who.origin, written::element)
    }

    /// A list of which each element has an origin; one that begins with the default is new.
    fn list<T>(
        &mut self,
        path: &[&str],
        old: Option<&[T]>,
        new: Option<&[T]>,
        origin: impl Fn(&T) -> Origin,
        write: impl Fn(&T) -> String,
    ) -> Option<()> {
        let Some(new) = new else {
            return if old.is_some() { self.unset(path) } else { Some(()) };
        };
        let kept: HashSet<Origin> = new.iter().map(&origin).collect();
        let stays = |one: &T| kept.contains(&origin(one));
        let old = old.unwrap_or_default();
        let gone: Vec<&T> = old.iter().filter(|one| !stays(one)).collect();
        let more: Vec<String> =
            new.iter().filter(|one| origin(one) == Origin::default()).map(&write).collect();
        let Some(value) = self.value(path) else {
            return if new.is_empty() { Some(()) } else { self.set(path, &written::list(more)) };
        };
        let array = value.get_ref().as_array();
        let spans: Vec<_> =
            array.into_iter().flat_map(|all| all.iter()).map(|one| one.span()).collect();
        // Elements stand one after the other.
        let place = |one: &T| {
            let start = origin(one).start as usize;
            let at = spans.partition_point(|span| span.end <= start);
            spans.get(at).filter(|span| span.contains(&start)).map(|_| at)
        };
        let places: Vec<usize> = match array {
            None => vec![0; gone.len()],
            Some(_) => gone.iter().map(|one| place(one)).collect::<Option<_>>()?,
        };
        let document = &self.file.document;
        let splices = match (places.is_empty(), more.is_empty()) {
            (true, true) => Vec::new(),
            (true, false) => vec![document.extend(value, &more)],
            (false, true) => document.shrink(value, &places),
            (false, false) => {
                // What stays is written as it was.
                let raw = |one: &T| {
                    let whole = value.span();
                    let span = place(one)
                        .map(|at| spans[at].clone())
                        .or_else(|| whole.contains(&(origin(one).start as usize)).then_some(whole));
                    span.map_or_else(|| write(one), |span| document.text[span].to_owned())
                };
                let kept = new.iter().filter(|one| origin(one) != Origin::default()).map(raw);
                let text = written::list(kept.chain(more));
                vec![Splice { range: value.span(), text }]
            }
        };
        self.file.splices.extend(splices);
        Some(())
    }

    fn user(&mut self, old: &Named<User>, new: &Named<User>) -> Option<()> {
        let (a, b) = (&old.body, &new.body);
        self.text("about", old.about.as_deref(), new.about.as_deref())?;
        self.text("full-name", a.full_name.as_deref(), b.full_name.as_deref())?;
        self.boolean("enabled", a.enabled, b.enabled, true)?;
        self.word("manager", a.manager.as_ref(), b.manager.as_ref())?;
        self.word("place", a.place.as_ref(), b.place.as_ref())?;
        self.text("source", a.imported.source.as_deref(), b.imported.source.as_deref())?;
        self.text("source-id", a.imported.source_id.as_deref(), b.imported.source_id.as_deref())?;
        self.attributes(&a.attributes, &b.attributes)
    }

    fn group(&mut self, old: &Named<Group>, new: &Named<Group>) -> Option<()> {
        let (a, b) = (&old.body, &new.body);
        self.text("about", old.about.as_deref(), new.about.as_deref())?;
        self.elements("members", a.members.as_deref(), b.members.as_deref())?;
        self.word("members-when", a.members_when.as_ref(), b.members_when.as_ref())?;
        self.names("owners", a.owners.as_deref(), b.owners.as_deref())?;
        let join = |join: Option<Join>| join.map(Join::word);
        self.text("join", join(a.join), join(b.join))?;
        self.word("place", a.place.as_ref(), b.place.as_ref())?;
        let asks = |asks: &'_ [Ask]| -> Option<Vec<Ask>> {
            // An empty list says what none says.
            (!asks.is_empty()).then(|| asks.to_vec())
        };
        let (was, is) = (asks(&a.asks), asks(&b.asks));
        self.list(&["asks"], was.as_deref(), is.as_deref(), |one| one.who.origin, written::ask)?;
        self.text("source", a.imported.source.as_deref(), b.imported.source.as_deref())?;
        self.text("source-id", a.imported.source_id.as_deref(), b.imported.source_id.as_deref())?;
        self.attributes(&a.attributes, &b.attributes)
    }

    fn role(&mut self, old: &Named<Role>, new: &Named<Role>) -> Option<()> {
        let (a, b) = (&old.body, &new.body);
        self.text("about", old.about.as_deref(), new.about.as_deref())?;
        self.elements("held-by", Some(&a.held_by), Some(&b.held_by))?;
        self.elements("taken-by", Some(&a.taken_by), Some(&b.taken_by))?;
        self.word("place", a.place.as_ref(), b.place.as_ref())?;
        self.attributes(&a.attributes, &b.attributes)
    }

    fn scope(&mut self, old: &Named<Scope>, new: &Named<Scope>) -> Option<()> {
        let (a, b) = (&old.body, &new.body);
        self.text("about", old.about.as_deref(), new.about.as_deref())?;
        self.word("kind", a.kind.as_ref(), b.kind.as_ref())?;
        self.boolean("sealed", a.sealed, b.sealed, false)?;
        self.attributes(&a.attributes, &b.attributes)
    }

    fn policy(&mut self, old: &Named<Policy>, new: &Named<Policy>) -> Option<()> {
        let (a, b) = (&old.body, &new.body);
        self.text("about", old.about.as_deref(), new.about.as_deref())?;
        self.names("include", Some(&a.include), Some(&b.include))?;
        self.word("place", a.place.as_ref(), b.place.as_ref())?;
        self.boolean("locked", a.locked, b.locked, false)?;
        let list = |list: &'_ Option<List>| -> Option<Vec<Spanned<String>>> {
            list.as_ref().map(|list| list.value.clone())
        };
        let (was, is) = (list(&a.attachable), list(&b.attachable));
        self.names("attachable", was.as_deref(), is.as_deref())?;
        self.statements(old, new)
    }

    /// Statements gone and new, and patterns that are other ones in one.
    fn statements(&mut self, old: &Named<Policy>, new: &Named<Policy>) -> Option<()> {
        let (a, b) = (&old.body.statements, &new.body.statements);
        let name = self.path[1];
        let is_left = |one: &&Statement| b.iter().any(|other| other.origin == one.origin);
        let mut blocks_gone = Vec::new();
        for gone in a.iter().filter(|one| !is_left(one)) {
            let document = &self.file.document;
            let path = ["policy", name, gone.effect.word()];
            let (at, value) = document.element(&path, gone.origin.start as usize)?;
            match document.headers_of(value).is_empty() {
                true => {
                    let splices = document.shrink(document.get(&path)?, &[at]);
                    self.file.splices.extend(splices);
                }
                false => blocks_gone.push(gone.origin.start as usize),
            }
        }
        for (one, other) in a
            .iter()
            .filter_map(|one| Some((one, b.iter().find(|other| other.origin == one.origin)?)))
        {
            let (was, is) = (one.on.as_ref(), other.on.as_ref());
            let (was, is) = (was.map(|list| &list.value[..]), is.map(|list| &list.value[..]));
            let path = vec!["policy", name, one.effect.word()];
            let element = Some(one.origin.start as usize);
            let mut table = Table { file: &mut *self.file, path, element };
            table.names("on", was, is)?;
            table.names("do", Some(&one.actions.value), Some(&other.actions.value))?;
        }
        let document = &self.file.document;
        let headers = document.headers_of(document.get(&["policy", name])?);
        let stays = headers.iter().any(|header| !blocks_gone.contains(header));
        for (i, start) in blocks_gone.iter().enumerate() {
            let splice = match (stays, i) {
                // Its last block goes: it is still a policy.
                (false, 0) => Splice {
                    range: document.block(*start),
                    text: format!("[policy.{}]{}", key_text(name), document.line_end),
                },
                _ => document.block_gone(*start),
            };
            self.file.splices.push(splice);
        }
        for statement in b.iter().filter(|one| one.origin == Origin::default()) {
            self.new_statement(name, statement)?;
        }
        Some(())
    }

    fn new_statement(&mut self, name: &str, statement: &Statement) -> Option<()> {
        let document = &self.file.document;
        let word = statement.effect.word();
        let policy = document.get(&["policy", name])?;
        let headers = document.headers_of(policy);
        let in_braces = || written::statement_in_braces(statement);
        let splice = match document.get(&["policy", name, word]) {
            // A list between brackets.
            Some(list)
                if document.text[list.span().start..].starts_with('[')
                    && !document.text[list.span().start..].starts_with("[[") =>
            {
                document.extend(list, &[in_braces()])
            }
            None if headers.is_empty() => {
                document.insert(None, &["policy", name], &[word], &written::list([in_braces()]))?
            }
            _ => {
                let end = document.after_block(*headers.last()?);
                let block = written::statement_block(name, statement);
                let block = block.replace('\n', document.line_end);
                let apart = match document.text[..end].ends_with('\n') {
                    true => document.line_end.to_owned(),
                    false => document.line_end.repeat(2),
                };
                // Blocks of one policy keep the distance that they have.
                let apart = if headers.len() > 1 && is_tight(document, &headers) {
                    apart.replacen(document.line_end, "", 1)
                } else {
                    apart
                };
                Splice { range: end..end, text: format!("{apart}{block}") }
            }
        };
        self.file.splices.push(splice);
        Some(())
    }
}

/// Whether the blocks of a policy follow each other without an empty line.
fn is_tight(document: &Document<'_>, headers: &[usize]) -> bool {
    headers.windows(2).all(|pair| document.block(pair[0]).end == document.block(pair[1]).start)
}
