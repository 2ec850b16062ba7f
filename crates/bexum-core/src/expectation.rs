//! What an estate is expected to decide: checks of single requests, laws about all requests of a
//! sort, and separations of duty. Files keep them beside what they are about.

use std::borrow::Cow;
use std::fmt;

use crate::attribute::Value;
use crate::catalogue::ActionSet;
use crate::condition::Condition;
use crate::decision::{Reason, Verdict};
use crate::id::{GroupId, PolicyId, RoleId, ScopeId};
use crate::origin::Origin;
use crate::pattern::PathSet;
use crate::principal::Subject;
use crate::request::Request;
use crate::time::Time;

/// Requests, and the answer that is expected to each: every combination of who, what and where.
#[derive(Debug)]
pub struct Check {
    /// What it is called; no two expectations share a name.
    pub name: Box<str>,
    /// Principals, by id as written.
    pub who: Box<[Box<str>]>,
    /// Actions.
    pub does: Box<[Box<str>]>,
    /// Paths.
    pub on: Box<[Box<str>]>,
    /// `role:…`: a role to take up.
    pub take_up: Option<Box<str>>,
    /// `group:…`: groups supposed.
    pub also: Box<[Box<str>]>,
    /// Policies that bound the session.
    pub under: Box<[Box<str>]>,
    /// Circumstances, without the time; `None` says that one is absent.
    pub given: Box<[(Box<str>, Option<Value>)]>,
    /// The moment of the request, if the check names one.
    pub time: Option<Time>,
    /// Attributes of the item itself.
    pub item: Option<Box<[ItemAttribute]>>,
    /// The answer.
    pub expect: Verdict,
    /// The reason, if one is expected.
    pub reason: Option<Reason>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Where it starts.
    pub origin: Origin,
}

/// An attribute of an item, by its full dotted name.
pub type ItemAttribute = (Box<str>, Value);

impl Check {
    /// Every request that it makes; `now` is the time of those that name none.
    pub fn requests(&self, now: Time) -> impl Iterator<Item = Request<'_>> {
        let targets = move |who, does| self.on.iter().map(move |on| (who, does, on));
        let triples = self
            .who
            .iter()
            .flat_map(move |who| self.does.iter().flat_map(move |does| targets(who, does)));
        triples.map(move |(who, does, on)| Request {
            take_up: self.take_up.as_deref().map(Cow::Borrowed),
            also: names(&self.also),
            under: names(&self.under),
            given: self
                .given
                .iter()
                .map(|(name, value)| (Cow::Borrowed(&**name), value.clone()))
                .collect(),
            item: self.item.as_ref().map(|item| {
                item.iter().map(|(name, value)| (Cow::Borrowed(&**name), value.clone())).collect()
            }),
            ..Request::new(&**who, &**does, &**on, self.time.unwrap_or(now))
        })
    }

    /// Whether an answer is the one expected.
    #[must_use]
    pub fn accepts(&self, reason: Reason) -> bool {
        reason.verdict() == self.expect && self.reason.is_none_or(|expected| expected == reason)
    }
}

fn names(list: &[Box<str>]) -> Vec<Cow<'_, str>> {
    list.iter().map(|name| Cow::Borrowed(&**name)).collect()
}

/// What a law says of the requests that it concerns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Claim {
    /// None of them is allowed.
    Never,
    /// Each of them is allowed.
    Always,
}

impl Claim {
    /// The word for it in files.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["never", "always"][self as usize]
    }

    /// Whether an answer goes against it.
    #[must_use]
    pub fn is_broken_by(self, reason: Reason) -> bool {
        match self {
            Self::Never => reason == Reason::Granted,
            Self::Always => reason != Reason::Granted,
        }
    }
}

impl fmt::Display for Claim {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// Something that must hold for every request of a sort: by whom, for what, on what, and when.
///
/// A request concerns the law when the principal is in `who` and not in `except` at its time (a
/// group stands for its members, `everyone` for all users and workloads), the action is one of
/// `actions`, and both `on` and `when` are true of it as they would be in a statement.
#[derive(Debug)]
pub struct Law {
    /// What it says of these requests.
    pub claim: Claim,
    /// What it is called: as written, or `never 2` by its place among the laws of its claim.
    pub name: Box<str>,
    /// Whom it concerns.
    pub who: Box<[Subject]>,
    /// Whom it does not concern after all.
    pub except: Box<[Subject]>,
    /// The action patterns, as written.
    pub does_written: Box<[Box<str>]>,
    /// The actions that they match.
    pub actions: ActionSet,
    /// Path patterns, all absolute.
    pub on: PathSet,
    /// Which requests it concerns.
    pub when: Option<Condition>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Where it starts.
    pub origin: Origin,
}

/// Something that nobody may have beside another of its list.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Duty {
    /// A role: holding it, or being able to take it up.
    Role(RoleId),
    /// A group: being in it.
    Group(GroupId),
    /// A policy: being reached by an attachment of it, or of one that includes it.
    Policy(PolicyId),
}

/// Things of which nobody may have two at the same time.
#[derive(Debug)]
pub struct Separation {
    /// What it is called: as written, or `apart 2` by its place.
    pub name: Box<str>,
    /// What is to be kept apart, each once.
    pub any_two_of: Box<[Duty]>,
    /// Scopes at, above or below which a policy must be attached to count; `None`: anywhere.
    pub at: Option<Box<[ScopeId]>>,
    /// What its author says about it.
    pub about: Option<Box<str>>,
    /// Where it starts.
    pub origin: Origin,
}
