//! Closures: all groups and roles of a principal at a moment, and what that brings to bear.

use rustc_hash::FxHashSet;

use super::index::{Index, MembershipEdge};
use super::subjects::SubjectSet;
use crate::id::{GroupId, RoleId};
use crate::principal::{Principal, Subject};
use crate::time::{Time, Window};

/// What a principal is in, and what is attached to all that, during a window.
///
/// What every decision looks at stands together, at the front.
#[derive(Debug)]
#[repr(C)]
pub struct Closure<'e> {
    /// While all that follows stays as it is.
    pub valid_during: Window,
    pub(crate) subjects: SubjectSet,
    /// Whether it is a user that is not enabled.
    pub is_disabled: bool,
    /// The principal.
    pub principal: Principal,
    /// Its name as written: `user:ines`.
    pub id: Box<str>,
    /// Its manager as written, for users that have one.
    pub manager: Option<Box<str>>,
    /// All its groups, to any depth, by id (so by name).
    pub groups: Vec<GroupId>,
    /// Their bare names.
    pub group_names: Vec<&'e str>,
    /// Active roles, by id (so by name).
    pub roles: Vec<RoleId>,
    /// Their bare names.
    pub role_names: Vec<&'e str>,
    /// Roles that may be taken up and are not active, by id.
    pub takeable: Vec<RoleId>,
}

/// A role taken up: it, and all roles that it brings, with what is attached to them.
#[derive(Debug)]
pub struct RoleClosure<'e> {
    /// The roles, by id (so by name).
    pub roles: Vec<RoleId>,
    /// Their bare names.
    pub role_names: Vec<&'e str>,
    /// While that stays as it is.
    pub valid_during: Window,
    pub(crate) subjects: SubjectSet,
}

/// Grows a set along standings that hold at a moment, keeping the window in which it stays so.
struct ClosureBuilder {
    at: Time,
    valid_during: Window,
}

impl ClosureBuilder {
    fn holding<T: Copy>(&mut self, edges: Option<&Vec<MembershipEdge<T>>>) -> Vec<T> {
        let mut found = Vec::new();
        for edge in edges.into_iter().flatten() {
            self.valid_during = self.valid_during.intersect(&edge.window.valid_around(self.at));
            if edge.window.holds(self.at) {
                found.push(edge.into);
            }
        }
        found
    }
}

impl<'e> Closure<'e> {
    /// Works out everything about `principal` at `at`, supposing that it is in `also` too
    /// (spec section 6, "Groups" and "Active roles").
    #[must_use]
    pub fn new(index: &'e Index, principal: Principal, also: &[GroupId], at: Time) -> Self {
        Self::supposing(index, principal, also, &[], at)
    }

    /// As [`Self::new`], supposing that it holds these roles, too.
    pub(crate) fn supposing(
        index: &'e Index,
        principal: Principal,
        also: &[GroupId],
        held: &[RoleId],
        at: Time,
    ) -> Self {
        let estate = index.estate();
        let mut builder = ClosureBuilder { at, valid_during: Window::ALWAYS };

        let mut groups: FxHashSet<GroupId> = FxHashSet::default();
        let mut queue: Vec<GroupId> = also.to_vec();
        if let Principal::Group(itself) = principal {
            queue.push(itself);
        } else {
            queue.extend(builder.holding(index.groups_of.get(&principal)));
        }
        while let Some(group) = queue.pop() {
            if groups.insert(group) {
                queue.extend(builder.holding(index.groups_of.get(&Principal::Group(group))));
            }
        }
        let mut groups: Vec<GroupId> = groups.into_iter().collect();
        groups.sort_unstable();

        let mut holders: Vec<Principal> = vec![principal];
        holders.extend(groups.iter().copied().map(Principal::Group));
        let mut queue: Vec<RoleId> = held.to_vec();
        if let Principal::Role(itself) = principal {
            queue.push(itself);
        }
        for holder in &holders {
            queue.extend(builder.holding(index.held_roles_of.get(holder)));
        }
        let roles = grow_roles(index, queue, &mut builder);
        holders.extend(roles.iter().copied().map(Principal::Role));
        holders.dedup(); // a role that asks is its own first holder

        let mut takeable: Vec<RoleId> = Vec::new();
        for holder in &holders {
            takeable.extend(builder.holding(index.takeable_roles_of.get(holder)));
        }
        takeable.sort_unstable();
        takeable.dedup();
        takeable.retain(|role| roles.binary_search(role).is_err());

        let mut subjects: Vec<Subject> = holders.into_iter().map(Subject::One).collect();
        subjects.push(Subject::Everyone);
        let manager = match principal {
            Principal::User(id) => estate.user(id).manager.map(Principal::User),
            _ => None,
        };
        Self {
            principal,
            id: estate.principal_id(principal).into(),
            manager: manager.map(|manager| estate.principal_id(manager).into()),
            group_names: groups.iter().map(|id| &*estate.group(*id).identity.name).collect(),
            role_names: role_names(index, &roles),
            subjects: SubjectSet::new(&index.scope_index, &subjects),
            is_disabled: matches!(principal, Principal::User(id) if !estate.user(id).enabled),
            groups,
            roles,
            takeable,
            valid_during: builder.valid_during,
        }
    }

    /// Whether `role` may be taken up, or is active already.
    #[must_use]
    pub fn can_take_up(&self, role: RoleId) -> bool {
        self.roles.binary_search(&role).is_ok() || self.takeable.binary_search(&role).is_ok()
    }
}

impl<'e> RoleClosure<'e> {
    /// `role` and every role whose `held-by` names one of these (spec section 6, "R+").
    #[must_use]
    pub fn new(index: &'e Index, role: RoleId, at: Time) -> Self {
        let mut builder = ClosureBuilder { at, valid_during: Window::ALWAYS };
        let roles = grow_roles(index, vec![role], &mut builder);
        // `everyone` grants to a role taken up as well; nothing else of who asks does.
        let mut subjects = vec![Subject::Everyone];
        subjects.extend(roles.iter().map(|role| Subject::One(Principal::Role(*role))));
        Self {
            subjects: SubjectSet::new(&index.scope_index, &subjects),
            role_names: role_names(index, &roles),
            valid_during: builder.valid_during,
            roles,
        }
    }
}

fn grow_roles(index: &Index, mut queue: Vec<RoleId>, builder: &mut ClosureBuilder) -> Vec<RoleId> {
    let mut roles: FxHashSet<RoleId> = FxHashSet::default();
    while let Some(role) = queue.pop() {
        if roles.insert(role) {
            queue.extend(builder.holding(index.held_roles_of.get(&Principal::Role(role))));
        }
    }
    let mut roles: Vec<RoleId> = roles.into_iter().collect();
    roles.sort_unstable();
    roles
}

fn role_names<'e>(index: &'e Index, roles: &[RoleId]) -> Vec<&'e str> {
    roles.iter().map(|id| &*index.estate().role(*id).identity.name).collect()
}
