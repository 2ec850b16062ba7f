//! The subjects whose statements count for somebody who asks: everyone, themselves, and all their
//! groups and roles, as numbers.

use super::scope_index::ScopeIndex;
use crate::estate::Estate;
use crate::id::{GroupId, RoleId, ScopeId, UserId};
use crate::principal::{Principal, Subject};

/// A subject as a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct SubjectId(u32);

/// How subjects are numbered in one estate.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SubjectNumbers {
    groups: u32,
    roles: u32,
    users: u32,
    scopes: u32,
}

impl SubjectNumbers {
    pub(crate) fn new(estate: &Estate) -> Self {
        let count = |n: usize| u32::try_from(n).expect("limits keep every list within u32");
        Self {
            groups: count(estate.groups.len()),
            roles: count(estate.roles.len()),
            users: count(estate.users.len()),
            scopes: count(estate.scopes.len()),
        }
    }

    pub(crate) fn of(self, subject: Subject) -> SubjectId {
        let (roles, users) = (1 + self.groups, 1 + self.groups + self.roles);
        SubjectId(match subject {
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

    /// The subject of a number that [`SubjectNumbers::number`] gave.
    pub(crate) fn numbered(self, number: usize) -> Subject {
        self.subject(SubjectId(number as u32))
    }

    pub(crate) fn subject(self, subject_id: SubjectId) -> Subject {
        let (roles, users) = (1 + self.groups, 1 + self.groups + self.roles);
        let one = match subject_id.0 {
            0 => return Subject::Everyone,
            n if n < roles => Principal::Group(GroupId(n - 1)),
            n if n < users => Principal::Role(RoleId(n - roles)),
            n if n < users + self.users => Principal::User(UserId(n - users)),
            n => Principal::Workload(ScopeId(n - users - self.users)),
        };
        Subject::One(one)
    }
}

/// How many subjects lie side by side, in one cache line; most principals have no more.
const FEW: usize = 15;
/// A number that nobody has.
const NOBODY: SubjectId = SubjectId(u32::MAX);

/// The subjects whose statements count for somebody.
///
/// Each decision asks a few times whether somebody is among them, and asks another principal's
/// each time: what it waits for is memory, so that most of them lie in one line of it.
#[derive(Clone, Debug)]
pub(crate) struct SubjectSet {
    /// In order, then nobody.
    pub(super) few: [SubjectId; FEW],
    pub(super) length: u32,
    /// The subjects beyond [`FEW`], in order.
    more: Box<[SubjectId]>,
    /// The ceilings over everything that are for any of them, as positions.
    pub(super) everywhere: Box<[u32]>,
}

impl SubjectSet {
    pub(crate) fn new(scope_index: &ScopeIndex, subjects: &[Subject]) -> Self {
        let mut subject_ids: Vec<SubjectId> =
            subjects.iter().map(|subject| scope_index.subject_ids.of(*subject)).collect();
        subject_ids.sort_unstable();
        subject_ids.dedup();
        let mut few = [NOBODY; FEW];
        let (first, more) = subject_ids.split_at(subject_ids.len().min(FEW));
        few[..first.len()].copy_from_slice(first);
        let length = subject_ids.len() as u32;
        let mut subjects = Self { few, length, more: more.into(), everywhere: Box::default() };
        subjects.everywhere = scope_index.everywhere_for(|subject_id| subjects.has(subject_id));
        subjects
    }

    /// How many there are.
    fn len(&self) -> usize {
        self.length as usize
    }

    /// Each once, in order.
    pub(crate) fn subject_ids(&self) -> impl Iterator<Item = SubjectId> + '_ {
        self.few[..self.len().min(FEW)].iter().chain(&self.more).copied()
    }

    pub(super) fn has(&self, subject_id: SubjectId) -> bool {
        // All of them at once is quicker than one after the other.
        let found = self.few.iter().fold(false, |found, known| found | (*known == subject_id));
        found || !self.more.is_empty() && self.more.binary_search(&subject_id).is_ok()
    }
}

/// One set of subjects, or the union of two.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SubjectSets<'s>(pub(crate) &'s SubjectSet, pub(crate) Option<&'s SubjectSet>);

impl SubjectSets<'_> {
    pub(super) fn has(self, subject_id: SubjectId) -> bool {
        self.0.has(subject_id) || self.1.is_some_and(|more| more.has(subject_id))
    }

    pub(super) fn len(self) -> usize {
        self.0.len() + self.1.map_or(0, SubjectSet::len)
    }

    pub(crate) fn subject_ids(self) -> impl Iterator<Item = SubjectId> {
        self.0.subject_ids().chain(self.1.into_iter().flat_map(SubjectSet::subject_ids))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_subject_has_a_number_of_its_own_and_is_found_by_it() {
        let subject_numbers = SubjectNumbers { groups: 3, roles: 2, users: 4, scopes: 5 };
        let groups = (0..3).map(|i| Principal::Group(GroupId(i)));
        let roles = (0..2).map(|i| Principal::Role(RoleId(i)));
        let users = (0..4).map(|i| Principal::User(UserId(i)));
        let workloads = (0..5).map(|i| Principal::Workload(ScopeId(i)));
        let all: Vec<Principal> = groups.chain(roles).chain(users).chain(workloads).collect();
        let mut numbers = vec![subject_numbers.of(Subject::Everyone).0 as usize];
        for who in all {
            let (number, count) = subject_numbers.number(who);
            assert!(number < count, "{who:?}");
            assert_eq!(subject_numbers.numbered(number), Subject::One(who));
            numbers.push(number);
        }
        assert_eq!(subject_numbers.numbered(numbers[0]), Subject::Everyone);
        numbers.sort_unstable();
        assert_eq!(numbers, (0..15).collect::<Vec<_>>());
    }
}
