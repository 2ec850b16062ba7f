//! Scopes: the places of a platform, a tree named by paths.

use std::fmt;
use std::ops::Range;

use crate::attribute::Attributes;
use crate::catalogue::TargetClass;
use crate::id::{KindId, ScopeId};
use crate::name::NameTable;
use crate::origin::Origin;

/// Which of the four sorts of place a scope is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ScopeType {
    /// The top of a tree; one segment.
    Account,
    /// Directly below an account.
    Subscription,
    /// A declared thing, below any scope.
    Resource,
    /// A part of something, below any scope.
    Namespace,
}

impl ScopeType {
    /// All four.
    pub const ALL: [Self; 4] = [Self::Account, Self::Subscription, Self::Resource, Self::Namespace];

    /// The word for it in files.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["account", "subscription", "resource", "namespace"][self as usize]
    }

    /// Whether undeclared items may lie below such a place.
    #[must_use]
    pub fn holds_items(self) -> bool {
        matches!(self, Self::Resource | Self::Namespace)
    }
}

impl fmt::Display for ScopeType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// A scope.
#[derive(Debug)]
pub struct Scope {
    /// Its full path.
    pub path: Box<str>,
    /// Which sort of place it is.
    pub scope_type: ScopeType,
    /// Its catalogued kind; `None` for accounts, subscriptions and namespaces of no such kind.
    pub kind: Option<KindId>,
    /// The scope above.
    pub parent: Option<ScopeId>,
    /// How many segments its path has.
    pub depth: u32,
    /// Whether it shuts out allows attached above it.
    pub sealed: bool,
    /// Its own attributes.
    pub attributes: Attributes,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Where it is declared.
    pub origin: Origin,
    /// One past the last scope below it; scopes stand in the order of their segments.
    pub(crate) end: u32,
}

impl Scope {
    /// What the catalogue sees in it.
    #[must_use]
    pub fn class(&self) -> TargetClass {
        TargetClass::of_scope(self.scope_type, self.kind)
    }

    /// The last segment of its path.
    #[must_use]
    pub fn name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or(&self.path)
    }

    /// Whether undeclared items may lie below it.
    #[must_use]
    pub fn holds_items(&self) -> bool {
        self.scope_type.holds_items()
    }
}

/// All scopes, each before those below it.
#[derive(Debug, Default)]
pub struct ScopeTree {
    scopes: Vec<Scope>,
    /// By path.
    numbers: NameTable,
    /// The scopes in the order in which they were declared.
    as_declared: Box<[ScopeId]>,
}

impl ScopeTree {
    /// Takes scopes sorted by their segments, parents set, the numbers of their paths, and the order in
    /// which they were declared.
    pub(crate) fn new(
        mut scopes: Vec<Scope>,
        numbers: NameTable,
        as_declared: Box<[ScopeId]>,
    ) -> Self {
        for i in (0..scopes.len()).rev() {
            let end = scopes[i].end.max(ScopeId::new(i + 1).0);
            scopes[i].end = end;
            if let Some(parent) = scopes[i].parent {
                let above = &mut scopes[parent.index()].end;
                *above = (*above).max(end);
            }
        }
        Self { scopes, numbers, as_declared }
    }

    /// The scope declared at exactly this path.
    #[must_use]
    pub fn find(&self, path: &str) -> Option<ScopeId> {
        self.numbers.find(path, |number| &self.scopes[number].path).map(ScopeId::new)
    }

    pub(crate) fn numbers(&self) -> &NameTable {
        &self.numbers
    }

    /// The scope that was declared after so many others.
    pub(crate) fn declared_as(&self, at: usize) -> Option<ScopeId> {
        self.as_declared.get(at).copied()
    }

    /// A scope.
    #[must_use]
    pub fn get(&self, id: ScopeId) -> &Scope {
        &self.scopes[id.index()]
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.scopes.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.scopes.is_empty()
    }

    /// Every scope with its id, each before those below it.
    pub fn iter(&self) -> impl Iterator<Item = (ScopeId, &Scope)> {
        self.scopes.iter().enumerate().map(|(i, scope)| (ScopeId::new(i), scope))
    }

    /// The scope and all below it, as a range of indexes.
    #[must_use]
    pub fn subtree(&self, id: ScopeId) -> Range<usize> {
        id.index()..self.get(id).end as usize
    }

    /// Whether `above` is `below` or an ancestor of it.
    #[must_use]
    pub fn holds(&self, above: ScopeId, below: ScopeId) -> bool {
        self.subtree(above).contains(&below.index())
    }

    /// The scope, then each scope above it up to the account.
    pub fn chain(&self, id: ScopeId) -> impl Iterator<Item = ScopeId> + '_ {
        std::iter::successors(Some(id), |id| self.get(*id).parent)
    }

    /// The nearest declared scope at or above a path.
    #[must_use]
    pub fn nearest(&self, path: &str) -> Option<ScopeId> {
        let mut head = path;
        loop {
            if let Some(id) = self.find(head) {
                return Some(id);
            }
            head = &head[..head.rfind('/')?];
        }
    }
}
