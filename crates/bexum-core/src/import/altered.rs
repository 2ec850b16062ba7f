//! What is declared, and what an import makes of it: only that is kept which is otherwise, so that an
//! import of many people of whom few are otherwise copies those few alone.

use std::collections::BTreeMap;

use crate::declaration::{Declarations, Group, Imported, Named, User};
use crate::origin::Spanned;

/// Things of one sort that are otherwise than declared.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Altered<T> {
    /// By their places among those declared.
    changed: BTreeMap<usize, T>,
    /// Those that are new; they count on from those declared.
    new: Vec<Named<T>>,
}

impl<T> Default for Altered<T> {
    fn default() -> Self {
        Self { changed: BTreeMap::new(), new: Vec::new() }
    }
}

impl<T: Clone + PartialEq> Altered<T> {
    fn is_nothing(&self) -> bool {
        self.changed.is_empty() && self.new.is_empty()
    }

    /// How many there are then.
    pub(super) fn count(&self, declared: &[Named<T>]) -> usize {
        declared.len() + self.new.len()
    }

    /// One as it is then.
    pub(super) fn get<'a>(&'a self, declared: &'a [Named<T>], at: usize) -> &'a T {
        match at.checked_sub(declared.len()) {
            Some(new) => &self.new[new].body,
            None => self.changed.get(&at).unwrap_or(&declared[at].body),
        }
    }

    pub(super) fn name<'a>(&'a self, declared: &'a [Named<T>], at: usize) -> &'a str {
        let of = declared.get(at).unwrap_or_else(|| &self.new[at - declared.len()]);
        &of.name.value
    }

    /// One that is about to be changed.
    pub(super) fn get_mut(&mut self, declared: &[Named<T>], at: usize) -> &mut T {
        match at.checked_sub(declared.len()) {
            Some(new) => &mut self.new[new].body,
            None => self.changed.entry(at).or_insert_with(|| declared[at].body.clone()),
        }
    }

    pub(super) fn set(&mut self, declared: &[Named<T>], at: usize, body: T) {
        match at.checked_sub(declared.len()) {
            Some(new) => self.new[new].body = body,
            None => drop(self.changed.insert(at, body)),
        }
    }

    /// Adds a new one; its number.
    pub(super) fn add(&mut self, declared: &[Named<T>], name: Spanned<String>, body: T) -> usize {
        self.new.push(Named { name, about: None, body });
        declared.len() + self.new.len() - 1
    }

    fn settle(&mut self, declared: &[Named<T>]) {
        self.changed.retain(|at, body| declared[*at].body != *body);
    }

    /// Those that are otherwise as they are declared, and as they are then, with those that are new.
    fn into_parts(self, declared: &[Named<T>]) -> (Vec<Named<T>>, Vec<Named<T>>) {
        let was: Vec<Named<T>> = self.changed.keys().map(|at| declared[*at].clone()).collect();
        let changed = was.iter().zip(self.changed.into_values());
        let changed = changed.map(|(was, body)| Named {
            name: was.name.clone(),
            about: was.about.clone(),
            body,
        });
        let is = changed.chain(self.new).collect();
        (was, is)
    }
}

/// Users and groups that are otherwise than declared.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct AlteredPeople {
    pub(super) users: Altered<User>,
    pub(super) groups: Altered<Group>,
}

impl AlteredPeople {
    /// Whether nobody and nothing is.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.users.is_nothing() && self.groups.is_nothing()
    }

    /// Whether only names to show and where people and groups are from are otherwise, which no decision
    /// looks at.
    #[must_use]
    pub fn decides_nothing(&self, declared: &Declarations) -> bool {
        let user = |(at, body): (&usize, &User)| {
            let old = &declared.users[*at].body;
            let says =
                |one: &User| User { full_name: None, imported: Imported::default(), ..one.clone() };
            says(old) == says(body)
        };
        let group = |(at, body): (&usize, &Group)| {
            let old = &declared.groups[*at].body;
            let says = |one: &Group| Group { imported: Imported::default(), ..one.clone() };
            says(old) == says(body)
        };
        self.users.new.is_empty()
            && self.groups.new.is_empty()
            && self.users.changed.iter().all(user)
            && self.groups.changed.iter().all(group)
    }

    /// Those that are otherwise as they are declared; and as they are then, with those that are new.
    #[must_use]
    pub fn into_parts(self, declared: &Declarations) -> (Declarations, Declarations) {
        let (users, new_users) = self.users.into_parts(&declared.users);
        let (groups, new_groups) = self.groups.into_parts(&declared.groups);
        let name = &declared.name;
        let of = |users, groups| Declarations {
            name: name.clone(),
            users,
            groups,
            ..Declarations::default()
        };
        (of(users, groups), of(new_users, new_groups))
    }

    /// Forgets what was changed to what it was.
    pub(super) fn settle(&mut self, declared: &Declarations) {
        self.users.settle(&declared.users);
        self.groups.settle(&declared.groups);
    }

    /// All that is declared then.
    pub(super) fn applied(&self, declared: &Declarations) -> Declarations {
        let mut all = declared.clone();
        for (at, body) in &self.users.changed {
            all.users[*at].body = body.clone();
        }
        for (at, body) in &self.groups.changed {
            all.groups[*at].body = body.clone();
        }
        all.users.extend(self.users.new.iter().cloned());
        all.groups.extend(self.groups.new.iter().cloned());
        all
    }
}
