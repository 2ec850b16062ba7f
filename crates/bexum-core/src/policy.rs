//! Policies and their statements, attachments and ceilings.

use std::fmt;

use crate::catalogue::ActionSet;
use crate::condition::Condition;
use crate::id::{PolicyId, ScopeId, StatementId};
use crate::origin::{Origin, Spanned};
use crate::pattern::PathSet;
use crate::principal::Subject;
use crate::time::Window;

/// What a statement does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Effect {
    /// Grants.
    Allow,
    /// Refuses, whatever grants.
    Deny,
}

impl Effect {
    /// The word for it in files.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["allow", "deny"][self as usize]
    }
}

impl fmt::Display for Effect {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// A statement, checked.
#[derive(Debug)]
pub struct Statement {
    /// The policy whose own statement it is.
    pub policy: PolicyId,
    /// Allow or deny.
    pub effect: Effect,
    /// Its own name, if it has one.
    pub name: Option<Box<str>>,
    /// Its place among its policy's statements of the same effect, from 1.
    pub place: usize,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// The action patterns, as written.
    pub do_written: Box<[Box<str>]>,
    /// The actions that they match.
    pub actions: ActionSet,
    /// Its path patterns.
    pub on: PathSet,
    /// Its condition.
    pub when: Option<Condition>,
    /// Where it starts.
    pub origin: Origin,
}

/// A named list of statements.
#[derive(Debug)]
pub struct Policy {
    /// Its name.
    pub name: Box<str>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Policies that it includes directly.
    pub include: Box<[PolicyId]>,
    /// Allow statements: its own and those of everything it includes, each once, by id.
    pub allows: Box<[StatementId]>,
    /// Deny statements, likewise.
    pub denies: Box<[StatementId]>,
    /// Every action that some allow statement names.
    pub allowed_actions: ActionSet,
    /// Every action that some deny statement names.
    pub denied_actions: ActionSet,
    /// The scope that holds it as a target (spec-work section 7.2).
    pub place: Option<ScopeId>,
    /// Whether it says itself that it is locked.
    pub locked: bool,
    /// The scopes at or below which it may be attached; `None`: anywhere.
    pub attachable: Option<Box<[Spanned<ScopeId>]>>,
    /// Where it is declared.
    pub origin: Origin,
}

impl Policy {
    /// Whether it has no statement, own or included; such a policy can be no ceiling.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.allows.is_empty() && self.denies.is_empty()
    }
}

/// A policy tied to principals at scopes; its lists multiply out (spec section 2).
#[derive(Debug)]
pub struct Attachment {
    /// Policies, each once.
    pub policies: Box<[Spanned<PolicyId>]>,
    /// Principals, each once.
    pub to: Box<[Spanned<Subject>]>,
    /// Scopes, each once.
    pub at: Box<[Spanned<ScopeId>]>,
    /// When it counts.
    pub window: Window,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Where it starts.
    pub origin: Origin,
}

/// A policy used as a limit; each policy under each scope is a limit of its own.
#[derive(Debug)]
pub struct Ceiling {
    /// Policies, each once.
    pub policies: Box<[Spanned<PolicyId>]>,
    /// Scopes, each once; `None`: everywhere.
    pub over: Option<Box<[Spanned<ScopeId>]>>,
    /// Principals, each once.
    pub bound: Box<[Subject]>,
    /// When it counts.
    pub window: Window,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Where it starts.
    pub origin: Origin,
}
