//! How a principal comes to its groups and roles: one shortest way to each.

use std::collections::VecDeque;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::engine::Index;
use crate::id::{GroupId, RoleId};
use crate::principal::{Principal, Subject};
use crate::time::{Time, Window};

/// One step of a way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RouteStep {
    /// The group or role arrived at.
    pub into: Principal,
    /// How.
    pub how: How,
    /// While the step holds.
    pub window: Window,
}

/// How a step is made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum How {
    /// It stands in the list of members.
    Member,
    /// `members-when` makes it a member.
    Condition,
    /// The request supposes it (`also`).
    Supposed,
    /// It stands in the role's `held-by`.
    Holds,
    /// The request takes the role up.
    TakesUp,
}

/// A way from the principal; no step when it is named itself, or everyone is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Route {
    /// The steps, nearest to the principal first.
    pub steps: Vec<RouteStep>,
}

/// A way that may be long: its two ends, and how many steps lie between them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BriefRoute {
    /// The steps nearest to the principal.
    pub first: Vec<RouteStep>,
    /// Steps that are left out.
    pub left_out: usize,
    /// The last steps.
    pub last: Vec<RouteStep>,
}

/// Most steps of each end of a [`BriefRoute`].
const END_STEPS: usize = 5;

/// All ways of one query.
#[derive(Debug)]
pub struct Routes {
    came_from: FxHashMap<Principal, Arrival>,
}

/// How a group or role was arrived at.
#[derive(Debug)]
struct Arrival {
    from: Principal,
    step: RouteStep,
    /// Steps from the principal.
    length: usize,
    /// The first of them, shared by all ways that begin so.
    first: Arc<[RouteStep]>,
}

impl Routes {
    /// Searches breadth first from `start`, supposing `also` and taking up `take_up`, so that each
    /// way is a shortest one.
    #[must_use]
    pub fn new(
        index: &Index,
        start: Principal,
        also: &[GroupId],
        take_up: Option<RoleId>,
        at: Time,
    ) -> Self {
        let mut search = RouteSearch {
            index,
            start,
            at,
            queue: VecDeque::from([start]),
            came_from: FxHashMap::default(),
        };
        search.run();
        for group in also {
            let into = Principal::Group(*group);
            search.arrive(start, RouteStep { into, how: How::Supposed, window: Window::ALWAYS });
        }
        search.run();
        if let Some(role) = take_up {
            let mut able = index.estate().role(role).taken_by.iter().filter(|member| {
                let reached = member.who == start || search.came_from.contains_key(&member.who);
                reached && member.window.holds(at)
            });
            let (from, window) =
                able.next().map_or((start, Window::ALWAYS), |member| (member.who, member.window));
            let into = Principal::Role(role);
            search.arrive(from, RouteStep { into, how: How::TakesUp, window });
            search.run();
        }
        Self { came_from: search.came_from }
    }

    /// The way to whom an attachment names.
    #[must_use]
    pub fn to(&self, subject: Subject) -> Route {
        let mut steps = Vec::new();
        let Subject::One(mut at) = subject else { return Route::default() };
        while let Some(arrival) = self.came_from.get(&at) {
            steps.push(arrival.step);
            at = arrival.from;
        }
        steps.reverse();
        Route { steps }
    }

    /// The way to a subject with its middle left out if it is long, at a cost that does not grow with
    /// its length.
    #[must_use]
    pub fn brief(&self, subject: Subject) -> BriefRoute {
        let Subject::One(mut at) = subject else { return BriefRoute::default() };
        let Some(arrival) = self.came_from.get(&at) else { return BriefRoute::default() };
        if arrival.length <= 2 * END_STEPS {
            return BriefRoute { first: self.to(subject).steps, ..BriefRoute::default() };
        }
        let mut last = Vec::with_capacity(END_STEPS);
        while let Some(arrival) = self.came_from.get(&at).filter(|_| last.len() < END_STEPS) {
            last.push(arrival.step);
            at = arrival.from;
        }
        last.reverse();
        let left_out = arrival.length - 2 * END_STEPS;
        BriefRoute { first: arrival.first.to_vec(), left_out, last }
    }
}

struct RouteSearch<'s> {
    index: &'s Index,
    start: Principal,
    at: Time,
    queue: VecDeque<Principal>,
    came_from: FxHashMap<Principal, Arrival>,
}

impl RouteSearch<'_> {
    fn run(&mut self) {
        let index = self.index;
        while let Some(from) = self.queue.pop_front() {
            for standing in index.groups_of.get(&from).into_iter().flatten() {
                if standing.window.holds(self.at) {
                    let how = if standing.listed { How::Member } else { How::Condition };
                    let into = Principal::Group(standing.into);
                    self.arrive(from, RouteStep { into, how, window: standing.window });
                }
            }
            for standing in index.held_roles_of.get(&from).into_iter().flatten() {
                if standing.window.holds(self.at) {
                    let into = Principal::Role(standing.into);
                    self.arrive(from, RouteStep { into, how: How::Holds, window: standing.window });
                }
            }
        }
    }

    fn arrive(&mut self, from: Principal, step: RouteStep) {
        if step.into != self.start && !self.came_from.contains_key(&step.into) {
            let (length, first): (usize, Arc<[RouteStep]>) = match self.came_from.get(&from) {
                None => (1, Arc::from([step])),
                Some(before) if before.length < END_STEPS => {
                    let longer = before.first.iter().copied().chain([step]);
                    (before.length + 1, longer.collect())
                }
                Some(before) => (before.length + 1, Arc::clone(&before.first)),
            };
            self.came_from.insert(step.into, Arrival { from, step, length, first });
            self.queue.push_back(step.into);
        }
    }
}
