//! Principals: users, groups, roles, and resources that act by themselves.

use std::fmt;

use crate::attribute::Attributes;
use crate::condition::Condition;
use crate::id::{GroupId, RoleId, ScopeId, UserId};
use crate::origin::Origin;
use crate::time::{Time, Window};

/// Who asks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Principal {
    /// A user.
    User(UserId),
    /// A group: somebody who is in it and in nothing else.
    Group(GroupId),
    /// A role: somebody who holds it and nothing else.
    Role(RoleId),
    /// A workload: a resource that acts by itself.
    Workload(ScopeId),
}

/// Somebody whom an attachment or a ceiling names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Subject {
    /// Every principal there is.
    Everyone,
    /// One principal, or those who are in it.
    One(Principal),
}

/// The word before the colon in a principal's name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PrincipalType {
    /// `user:`
    User,
    /// `group:`
    Group,
    /// `role:`
    Role,
    /// `resource:`
    Resource,
}

impl PrincipalType {
    /// All four, in the order they are listed to people.
    pub const ALL: [Self; 4] = [Self::User, Self::Group, Self::Role, Self::Resource];

    /// The word.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["user", "group", "role", "resource"][self as usize]
    }

    /// Splits `user:ines` at its colon.
    #[must_use]
    pub fn split(text: &str) -> Option<(Self, &str)> {
        let (word, name) = text.split_once(':')?;
        Some((Self::ALL.into_iter().find(|t| t.word() == word)?, name))
    }
}

impl fmt::Display for PrincipalType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// How people come into a group.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Join {
    /// By themselves.
    Open,
    /// When an owner agrees.
    Approval,
    /// Only when an owner adds them.
    #[default]
    Closed,
}

impl Join {
    /// All three.
    pub const ALL: [Self; 3] = [Self::Open, Self::Approval, Self::Closed];

    /// The word for it in files.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["open", "approval", "closed"][self as usize]
    }
}

/// A principal that stands in a list, perhaps only for a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Membership {
    /// Who.
    pub who: Principal,
    /// When.
    pub window: Window,
    /// Where it is written.
    pub origin: Origin,
}

/// What every identity (user, group, role) has.
#[derive(Debug)]
pub struct Identity {
    /// Its bare name.
    pub name: Box<str>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// The scope that makes it a target at `PLACE/NAME`.
    pub place: Option<ScopeId>,
    /// Its own attributes.
    pub attributes: Attributes,
    /// Where it is declared.
    pub origin: Origin,
}

/// Where an import had somebody or something from (spec-work section 7.3); it decides nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Imported {
    /// The source's name.
    pub source: Option<Box<str>>,
    /// The id that the source has for it.
    pub source_id: Option<Box<str>>,
}

/// Somebody who asked to be let into a group (spec-work section 7.3).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ask {
    /// Who.
    pub who: UserId,
    /// When.
    pub at: Time,
    /// Why, in their words.
    pub why: Option<Box<str>>,
}

/// A user.
#[derive(Debug)]
pub struct User {
    /// What every identity has.
    pub identity: Identity,
    /// The name to show.
    pub full_name: Option<Box<str>>,
    /// Whether the user may do anything at all.
    pub enabled: bool,
    /// Another user.
    pub manager: Option<UserId>,
    /// Where an import had it from.
    pub imported: Imported,
}

/// A group.
#[derive(Debug)]
pub struct Group {
    /// What every identity has.
    pub identity: Identity,
    /// Members, as written; `None` when the key is not written.
    pub members: Option<Box<[Membership]>>,
    /// Users whom `members-when` makes members, by id.
    pub matching: Box<[UserId]>,
    /// The condition `members-when`.
    pub members_when: Option<Condition>,
    /// Owners, as written; `None` when the key is not written.
    pub owners: Option<Box<[UserId]>>,
    /// How people come in.
    pub join: Join,
    /// Who asked to be let in, each once.
    pub asks: Box<[Ask]>,
    /// Where an import had it from.
    pub imported: Imported,
}

/// A role.
#[derive(Debug)]
pub struct Role {
    /// What every identity has.
    pub identity: Identity,
    /// Those for whom it is always active.
    pub held_by: Box<[Membership]>,
    /// Those who may take it up in a request.
    pub taken_by: Box<[Membership]>,
}
