//! Effective access: everything that a principal can do, everybody who can do something.
//!
//! Three outcomes, never two: allowed, denied, or *depends*: denied as things are known, but
//! allowed if all that is undecided came out in favour.

mod actors;
mod classes;
mod origins;
mod rows;
mod targets;

use std::sync::Arc;

use crate::catalogue::{ActionSet, Level};
use crate::engine::{Cells, Decider};
use crate::estate::Estate;
use crate::id::{ActionId, AttributeId, GroupId, PolicyId, RoleId};
use crate::pattern::residual::FRESH;
use crate::principal::Principal;
use crate::request::{Given, Query, Target};
use crate::time::Time;

pub use actors::Actors;
pub use classes::Classes;
pub(crate) use classes::nowhere;
pub use origins::{Doubt, doubt, doubts, sources};
pub(crate) use rows::items_said_of;
pub use rows::{
    Limited, access_at, by_principal, by_principal_at, by_target, cells_at, rows_at, targets_for,
};
pub use targets::{AccessTarget, AccessTargets, TargetSort};

/// A principal in some circumstances: everything of a request but the action and the target.
#[derive(Clone, Debug)]
pub struct Viewpoint {
    /// Who asks.
    pub who: Principal,
    /// The role to take up.
    pub take_up: Option<RoleId>,
    /// Groups supposed, sorted.
    pub also: Vec<GroupId>,
    /// Policies that bound the session, each once.
    pub under: Vec<PolicyId>,
    /// Circumstances.
    pub given: Vec<(AttributeId, Given)>,
    /// The moment.
    pub time: Time,
}

impl Viewpoint {
    /// The same circumstances for somebody else.
    #[must_use]
    pub fn seen_by(&self, who: Principal) -> Self {
        Self { who, ..self.clone() }
    }

    /// The same circumstances with a role taken up, if one is.
    #[must_use]
    pub fn acting(&self, role: Option<RoleId>) -> Self {
        Self { take_up: role.or(self.take_up), ..self.clone() }
    }

    /// Asks for one action on a target.
    #[must_use]
    pub fn query<'a>(&self, target: &'a AccessTarget, action: ActionId) -> Query<'a> {
        Query {
            who: self.who,
            action,
            target: Target {
                path: &target.asked,
                segments: target.asked.split('/').collect(),
                place: target.place,
                is_sample: target.asked.contains(FRESH),
            },
            take_up: self.take_up,
            also: self.also.clone(),
            under: self.under.clone(),
            given: self.given.clone(),
            item: Vec::new(),
            // What an item bears by itself nobody said.
            item_is_open: true,
            time: self.time,
        }
    }
}

/// What somebody can do at a target.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Access {
    /// By themselves.
    pub own: Cells,
    /// What each role adds that they can take up, by name; none that adds nothing.
    pub by_role: Vec<(RoleId, Cells)>,
}

impl Access {
    /// Whether everything is denied, in every session.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.own.is_nothing() && self.by_role.is_empty()
    }

    /// Each session that can do something: the role taken up, if one is, and what that adds.
    pub fn sessions(&self) -> impl Iterator<Item = (Option<RoleId>, &Cells)> {
        let own = std::iter::once((None, &self.own));
        own.chain(self.by_role.iter().map(|(role, cells)| (Some(*role), cells)))
    }

    /// Keeps some actions only.
    pub fn keep(&mut self, wanted: &ActionSet) {
        for cells in std::iter::once(&mut self.own).chain(self.by_role.iter_mut().map(|(_, c)| c)) {
            cells.allow.intersect_with(wanted);
            cells.depends.intersect_with(wanted);
        }
        self.by_role.retain(|(_, cells)| !cells.is_nothing());
    }
}

/// A target and what each of some people can do there.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Row {
    /// Where.
    pub target: AccessTarget,
    /// What, for each of them; shared by rows that are alike.
    pub access: Arc<[Access]>,
}

impl Row {
    /// What each role adds, to each of the people: by the role's name; none that adds nothing to
    /// anybody. The cells are those of each of the people in turn.
    #[must_use]
    pub fn by_role(&self) -> Vec<(RoleId, Vec<Option<&Cells>>)> {
        let mut roles: Vec<RoleId> =
            self.access.iter().flat_map(|one| one.by_role.iter().map(|(role, _)| *role)).collect();
        roles.sort_unstable();
        roles.dedup();
        let adds = |role| {
            let of =
                |access: &'_ Access| access.by_role.iter().position(|(other, _)| *other == role);
            self.access.iter().map(|one| of(one).map(|at| &one.by_role[at].1)).collect()
        };
        roles.into_iter().map(|role| (role, adds(role))).collect()
    }
}

/// A target, and principals with the same access to it together.
pub type Crowd = (AccessTarget, Vec<(Access, Vec<Principal>)>);

/// Somebody by themselves, then with each role taken up that they can take up, by its name (spec
/// section 8, "session").
///
/// A role asks by itself alone; a viewpoint that takes up a role is the only one.
pub fn sessions(decider: &mut Decider<'_>, viewpoint: &Viewpoint) -> Vec<Viewpoint> {
    let mut sessions = vec![viewpoint.clone()];
    if viewpoint.take_up.is_some() || matches!(viewpoint.who, Principal::Role(_)) {
        return sessions;
    }
    let closure = decider.closure_for(viewpoint.who, &viewpoint.also, viewpoint.time);
    let mut roles: Vec<RoleId> = closure.roles.iter().chain(&closure.takeable).copied().collect();
    roles.sort_unstable();
    sessions.extend(
        roles.into_iter().map(|role| Viewpoint { take_up: Some(role), ..viewpoint.clone() }),
    );
    sessions
}

/// The actions of a level.
#[must_use]
pub fn actions_of(estate: &Estate, level: Level) -> ActionSet {
    let mut set = ActionSet::with_capacity(estate.catalogue.actions.len());
    let of_level = estate.catalogue.actions.iter().enumerate().filter(|(_, a)| a.level == level);
    set.extend(of_level.map(|(i, _)| i));
    set
}
