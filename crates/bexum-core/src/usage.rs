//! What requests used: which statements and attachments granted them, and by which memberships who
//! asked came to these (spec-work section 11).
//!
//! Each thread has a [`Counter`] of its own; what they counted is added up in a [`Usage`]. What a
//! counter holds grows with the estate and with the people who ask, not with the requests. A request
//! counts once for each thing that it used, so that counts of parts of a log add up to those of the
//! whole.

mod counter;
mod reads;
mod ways;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::decision::Reason;
use crate::engine::Index;
use crate::estate::Estate;
use crate::id::{ActionId, AttachmentId, GroupId, PolicyId, RoleId, ScopeId, StatementId, UserId};
use crate::principal::{Principal, Subject};
use crate::time::{Time, Window};

pub use counter::{Asking, Counter};

/// How often, and when first and last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Count {
    /// How often.
    pub times: u64,
    /// When first; without meaning where it never was.
    pub first: Time,
    /// When last, likewise.
    pub last: Time,
}

impl Default for Count {
    fn default() -> Self {
        Self { times: 0, first: Time::LATEST, last: Time::EARLIEST }
    }
}

impl Count {
    /// Once more, at a moment.
    pub(crate) fn once(&mut self, at: Time) {
        self.add(Self { times: 1, first: at, last: at });
    }

    /// So much more.
    pub fn add(&mut self, more: Self) {
        self.times += more.times;
        self.first = self.first.min(more.first);
        self.last = self.last.max(more.last);
    }
}

/// A list in which principals stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum InList {
    /// A group's `members`.
    Members(GroupId),
    /// A role's `held-by`.
    HeldBy(RoleId),
    /// A role's `taken-by`.
    TakenBy(RoleId),
}

/// A principal's place in a list; places that say the same twice are one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Element {
    /// Which list.
    pub list: InList,
    /// Who stands there.
    pub who: Principal,
    /// While they do.
    pub window: Window,
}

/// Something that a request can use.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Thing {
    /// Who asked.
    Who(Principal),
    /// A group through which something was granted.
    Group(GroupId),
    /// A role, likewise.
    Role(RoleId),
    /// A policy that is attached or a ceiling, or one that it includes, of which a statement matched.
    Policy(PolicyId),
    /// An allow that matched, of what is attached or of a ceiling.
    Statement(StatementId),
    /// A policy attached to a principal at a scope.
    Attachment(PolicyId, Subject, ScopeId),
    /// A place in a list.
    Membership(Element),
    /// What was asked for.
    Action(ActionId),
    /// The nearest declared scope of what it was asked on.
    Scope(ScopeId),
}

/// By what use is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum By {
    /// By who asked.
    Who,
    /// By group.
    Group,
    /// By role.
    Role,
    /// By policy.
    Policy,
    /// By statement.
    Statement,
    /// By attachment.
    Attachment,
    /// By membership.
    Membership,
    /// By action.
    Action,
    /// By scope.
    Scope,
}

impl By {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Who,
        Self::Group,
        Self::Role,
        Self::Policy,
        Self::Statement,
        Self::Attachment,
        Self::Membership,
        Self::Action,
        Self::Scope,
    ];
}

/// What a log used.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Usage {
    /// How many requests came to each reason, in the order of [`Reason::ALL`].
    pub reasons: [u64; Reason::ALL.len()],
    /// What allowed requests used.
    pub used: FxHashMap<Thing, Count>,
    /// Who was refused, what, and where.
    pub refused: FxHashMap<Thing, Count>,
}

impl Usage {
    /// What another part of the log used.
    pub fn add(&mut self, more: Self) {
        for (sum, more) in self.reasons.iter_mut().zip(more.reasons) {
            *sum += more;
        }
        for (all, more) in [(&mut self.used, more.used), (&mut self.refused, more.refused)] {
            for (thing, count) in more {
                all.entry(thing).or_default().add(count);
            }
        }
    }
}

/// Everything of one sort that an estate has and that can be used: users, all groups and roles,
/// policies with an allow that are attached or ceilings and what these include, attachments of
/// policies with an allow, places in lists, actions, scopes. In the order of names.
#[must_use]
pub fn things(index: &Index, by: By) -> Vec<Thing> {
    let estate = index.estate();
    let mut found: Vec<Thing> = match by {
        By::Who => {
            (0..estate.users.len()).map(|i| Thing::Who(Principal::User(UserId::new(i)))).collect()
        }
        By::Group => (0..estate.groups.len()).map(|i| Thing::Group(GroupId::new(i))).collect(),
        By::Role => (0..estate.roles.len()).map(|i| Thing::Role(RoleId::new(i))).collect(),
        By::Policy => in_force(estate).into_iter().map(Thing::Policy).collect(),
        By::Statement => {
            let of = in_force(estate).into_iter();
            of.flat_map(|id| estate.policy(id).allows.iter().map(|id| Thing::Statement(*id)))
                .collect()
        }
        By::Attachment => (0..estate.attachments.len())
            .map(AttachmentId::new)
            .flat_map(|id| attached(estate, id))
            .filter(|(policy, ..)| !estate.policy(*policy).allows.is_empty())
            .map(|(policy, to, at)| Thing::Attachment(policy, to, at))
            .collect(),
        By::Membership => elements(estate).map(Thing::Membership).collect(),
        By::Action => estate.catalogue.action_ids().map(Thing::Action).collect(),
        By::Scope => estate.scopes.iter().map(|(id, _)| Thing::Scope(id)).collect(),
    };
    found.sort_unstable();
    found.dedup();
    found
}

/// An attachment as written, multiplied out.
pub(crate) fn attached(
    estate: &Estate,
    id: AttachmentId,
) -> impl Iterator<Item = (PolicyId, Subject, ScopeId)> + '_ {
    let written = estate.attachment(id);
    written.policies.iter().flat_map(move |policy| {
        let to = written.to.iter();
        to.flat_map(move |to| written.at.iter().map(move |at| (policy.value, to.value, at.value)))
    })
}

/// Every place in a list.
pub(crate) fn elements(estate: &Estate) -> impl Iterator<Item = Element> + '_ {
    let of = |list: InList| {
        move |one: &crate::principal::Membership| Element { list, who: one.who, window: one.window }
    };
    let groups = estate.groups.iter().enumerate().flat_map(move |(i, group)| {
        let members = group.members.as_deref().unwrap_or_default();
        members.iter().map(of(InList::Members(GroupId::new(i))))
    });
    let roles = estate.roles.iter().enumerate().flat_map(move |(i, role)| {
        let id = RoleId::new(i);
        let held = role.held_by.iter().map(of(InList::HeldBy(id)));
        held.chain(role.taken_by.iter().map(of(InList::TakenBy(id))))
    });
    groups.chain(roles)
}

/// Policies with an allow that are attached or ceilings, and all that they include.
fn in_force(estate: &Estate) -> Vec<PolicyId> {
    let attached = estate.attachments.iter().flat_map(|one| &one.policies);
    let ceilings = estate.ceilings.iter().flat_map(|one| &one.policies);
    let mut waiting: Vec<PolicyId> = attached.chain(ceilings).map(|policy| policy.value).collect();
    let mut found: FxHashSet<PolicyId> = FxHashSet::default();
    while let Some(id) = waiting.pop() {
        if found.insert(id) {
            waiting.extend(&estate.policy(id).include);
        }
    }
    let has_allow = |id: &PolicyId| !estate.policy(*id).allows.is_empty();
    found.into_iter().filter(has_allow).collect()
}
