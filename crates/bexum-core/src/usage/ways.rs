//! All shortest ways from somebody to their groups and roles.

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Element, InList, Thing};
use crate::engine::Index;
use crate::id::{GroupId, RoleId};
use crate::principal::Principal;
use crate::time::Time;

/// The last step of a way: from where, and by which element, if by one.
type Last = (Principal, Option<Element>);

/// Where somebody comes from who asks, at one moment, and how they come to what they are in.
#[derive(Debug)]
pub(super) struct Ways {
    start: Principal,
    /// Of each principal reached, how many steps it takes, and the last of each shortest way.
    reached: FxHashMap<Principal, (usize, Vec<Last>)>,
}

impl Ways {
    pub(super) fn new(
        index: &Index,
        start: Principal,
        also: &[GroupId],
        take_up: Option<RoleId>,
        at: Time,
    ) -> Self {
        let mut ways = Self { start, reached: FxHashMap::default() };
        ways.reached.insert(start, (0, Vec::new()));
        let taken_by: &[crate::principal::Membership] =
            take_up.map_or(&[], |role| &index.estate().role(role).taken_by);
        let (mut edge, mut steps) = (vec![start], 0);
        while !edge.is_empty() {
            steps += 1;
            let mut next = Vec::new();
            for from in edge {
                let mut arrive = |into: Principal, by: Option<Element>| {
                    ways.arrive(from, into, by, steps, &mut next);
                };
                if from == start {
                    also.iter().for_each(|group| arrive(Principal::Group(*group), None));
                }
                for one in index.groups_of.get(&from).into_iter().flatten() {
                    if one.window.holds(at) {
                        let list = InList::Members(one.into);
                        let by = Element { list, who: from, window: one.window };
                        arrive(Principal::Group(one.into), one.listed.then_some(by));
                    }
                }
                for one in index.held_roles_of.get(&from).into_iter().flatten() {
                    if one.window.holds(at) {
                        let list = InList::HeldBy(one.into);
                        let by = Element { list, who: from, window: one.window };
                        arrive(Principal::Role(one.into), Some(by));
                    }
                }
                let Some(role) = take_up else { continue };
                for one in taken_by.iter().filter(|one| one.who == from) {
                    if one.window.holds(at) {
                        let list = InList::TakenBy(role);
                        let by = Element { list, who: from, window: one.window };
                        arrive(Principal::Role(role), Some(by));
                    }
                }
            }
            edge = next;
        }
        ways
    }

    fn arrive(
        &mut self,
        from: Principal,
        into: Principal,
        by: Option<Element>,
        steps: usize,
        next: &mut Vec<Principal>,
    ) {
        let (shortest, last) = self.reached.entry(into).or_insert_with(|| {
            next.push(into);
            (steps, Vec::new())
        });
        if *shortest == steps {
            last.push((from, by));
        }
    }

    /// All groups, or all roles, that who asks is in.
    pub(super) fn all(&self, wanted: fn(&Principal) -> bool) -> Vec<Principal> {
        self.reached.keys().copied().filter(wanted).collect()
    }

    /// The groups, roles and elements on any shortest way to any of these.
    pub(super) fn used(&self, wanted: impl IntoIterator<Item = Principal>) -> FxHashSet<Thing> {
        let mut used = FxHashSet::default();
        let mut waiting: Vec<Principal> = wanted.into_iter().collect();
        let mut seen: FxHashSet<Principal> = FxHashSet::default();
        while let Some(at) = waiting.pop() {
            let Some((_, last)) = self.reached.get(&at) else { continue };
            if !seen.insert(at) {
                continue;
            }
            match at {
                Principal::Group(group) if at != self.start => used.insert(Thing::Group(group)),
                Principal::Role(role) if at != self.start => used.insert(Thing::Role(role)),
                _ => false,
            };
            for (from, by) in last {
                used.extend(by.map(Thing::Membership));
                waiting.push(*from);
            }
        }
        used
    }
}
