//! Whom statements are sought for: everyone, somebody, and all groups and roles of theirs.

use super::places::Places;
use crate::estate::Estate;
use crate::id::{GroupId, RoleId, ScopeId, UserId};
use crate::principal::{Principal, Subject};

/// A subject as a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Code(u32);

/// How subjects are numbered in one estate.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Codes {
    groups: u32,
    roles: u32,
    users: u32,
    scopes: u32,
}

impl Codes {
    pub(crate) fn new(estate: &Estate) -> Self {
        let count = |n: usize| u32::try_from(n).expect("limits keep every list within u32");
        Self {
            groups: count(estate.groups.len()),
            roles: count(estate.roles.len()),
            users: count(estate.users.len()),
            scopes: count(estate.scopes.len()),
        }
    }

    pub(crate) fn of(self, subject: Subject) -> Code {
        let (roles, users) = (1 + self.groups, 1 + self.groups + self.roles);
        Code(match subject {
            Subject::Everyone => 0,
            Subject::One(Principal::Group(id)) => 1 + id.0,
            Subject::One(Principal::Role(id)) => roles + id.0,
            Subject::One(Principal::User(id)) => users + id.0,
            Subject::One(Principal::Workload(id)) => users + self.users + id.0,
        })
    }

    /// A principal's number, and how many numbers there are.
    pub(crate) fn number(self, who: Principal) -> (usize, usize) {
        let all = 1 + self.groups + self.roles + self.users + self.scopes;
        (self.of(Subject::One(who)).0 as usize, all as usize)
    }

    pub(crate) fn subject(self, code: Code) -> Subject {
        let (roles, users) = (1 + self.groups, 1 + self.groups + self.roles);
        let one = match code.0 {
            0 => return Subject::Everyone,
            n if n < roles => Principal::Group(GroupId(n - 1)),
            n if n < users => Principal::Role(RoleId(n - roles)),
            n if n < users + self.users => Principal::User(UserId(n - users)),
            n => Principal::Workload(ScopeId(n - users - self.users)),
        };
        Subject::One(one)
    }
}

/// So many subjects lie in one place: most principals have no more.
const FEW: usize = 15;
/// A number that nobody has.
const NOBODY: Code = Code(u32::MAX);

/// The subjects that statements are sought for.
///
/// Each decision asks a few times whether somebody is among them, and asks another principal's
/// each time: what it waits for is memory, so that most of them lie in one line of it.
#[derive(Clone, Debug)]
pub(crate) struct Sought {
    /// In order, then nobody.
    few: [Code; FEW],
    length: u32,
    /// The others, in order.
    more: Box<[Code]>,
    /// The ceilings over everything that are for any of them, as positions.
    pub(super) everywhere: Box<[u32]>,
}

impl Sought {
    pub(crate) fn new(places: &Places, subjects: &[Subject]) -> Self {
        let mut codes: Vec<Code> =
            subjects.iter().map(|subject| places.codes.of(*subject)).collect();
        codes.sort_unstable();
        codes.dedup();
        let mut few = [NOBODY; FEW];
        let (first, more) = codes.split_at(codes.len().min(FEW));
        few[..first.len()].copy_from_slice(first);
        let length = codes.len() as u32;
        let mut sought = Self { few, length, more: more.into(), everywhere: Box::default() };
        sought.everywhere = places.everywhere_for(|code| sought.has(code));
        sought
    }

    /// How many there are.
    fn len(&self) -> usize {
        self.length as usize
    }

    /// Each once, in order.
    pub(crate) fn codes(&self) -> impl Iterator<Item = Code> + '_ {
        self.few[..self.len().min(FEW)].iter().chain(&self.more).copied()
    }

    pub(super) fn has(&self, code: Code) -> bool {
        // All of them at once is quicker than one after the other.
        let found = self.few.iter().fold(false, |found, known| found | (*known == code));
        found || !self.more.is_empty() && self.more.binary_search(&code).is_ok()
    }

    /// Brings it nearer.
    pub(crate) fn fetch(&self) {
        std::hint::black_box((self.few[0], self.length));
    }
}

/// Whom statements are sought for: one set of subjects, or the union of two.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Whom<'s>(pub(crate) &'s Sought, pub(crate) Option<&'s Sought>);

impl Whom<'_> {
    pub(super) fn has(self, code: Code) -> bool {
        self.0.has(code) || self.1.is_some_and(|more| more.has(code))
    }

    pub(super) fn len(self) -> usize {
        self.0.len() + self.1.map_or(0, Sought::len)
    }

    pub(super) fn codes(self) -> impl Iterator<Item = Code> {
        self.0.codes().chain(self.1.into_iter().flat_map(Sought::codes))
    }
}
