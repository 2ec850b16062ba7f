//! The frozen whole: everything an estate declares, checked, resolved and sorted.

mod builder;

use std::collections::VecDeque;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::attribute::AttributeNames;
use crate::catalogue::Catalogue;
use crate::declaration::Declarations;
use crate::edit_rights::EditRights;
use crate::expectation::{Check, Law, Separation};
use crate::fault::LocatedFault;
use crate::id::{AttachmentId, CeilingId, GroupId, PolicyId, RoleId, ScopeId, StatementId, UserId};
use crate::name::NameTable;
use crate::origin::Origin;
use crate::policy::{Attachment, Ceiling, Policy, Statement};
use crate::principal::{Group, Identity, Principal, PrincipalType, Role, User};
use crate::request::TargetPlace;
use crate::scope::{Scope, ScopeTree};
use crate::time::Time;
use crate::vet;
use crate::vocabulary::Vocabulary;

/// An estate without a fault. It never changes; analyses of what would be take another one.
#[derive(Debug)]
pub struct Estate {
    /// Its name.
    pub name: Box<str>,
    /// Services, kinds, actions.
    pub catalogue: Arc<Catalogue>,
    /// The tree of scopes.
    pub scopes: Arc<ScopeTree>,
    /// Users by id, sorted by name.
    pub users: Vec<User>,
    /// Groups by id, sorted by name.
    pub groups: Vec<Group>,
    /// Roles by id, sorted by name.
    pub roles: Vec<Role>,
    /// Policies by id, sorted by name.
    pub policies: Vec<Policy>,
    /// Statements by id: by policy, allows before denies, in the order written.
    pub statements: Vec<Statement>,
    /// Attachments by id, in the order written.
    pub attachments: Vec<Attachment>,
    /// Ceilings by id, in the order written.
    pub ceilings: Vec<Ceiling>,
    /// Requests with the answers that are expected, in the order written.
    pub checks: Vec<Check>,
    /// Laws about all requests of a sort, in the order written.
    pub laws: Vec<Law>,
    /// What nobody may have together, in the order written.
    pub separations: Vec<Separation>,
    /// Who may edit what.
    pub edit_rights: EditRights,
    /// How the rules of `vet` are set, and what is accepted.
    pub vet: vet::Settings,
    /// What people are asked about who still needs what.
    pub reviews: Vec<crate::review::Review>,
    /// What people sign in to, by name.
    pub applications: Vec<crate::application::Application>,
    /// Where people come from, by name.
    pub sources: Vec<crate::import::Source>,
    /// Keys that new groups may come with.
    pub(crate) presets: Vec<Preset>,
    /// Declared attributes.
    pub vocabulary: Vocabulary,
    /// The names of all attributes that it gives or asks about.
    pub attribute_names: AttributeNames,
    /// The most segments of any path pattern.
    pub(crate) longest_pattern: usize,
    /// Users, groups, roles and policies that are targets, by their paths.
    pub(crate) identities_at: FxHashMap<Box<str>, TargetPlace>,
    user_numbers: NameTable,
    group_numbers: NameTable,
    role_numbers: NameTable,
    policy_numbers: NameTable,
}

/// Keys that a new group may come with; they decide nothing.
#[derive(Debug)]
pub(crate) struct Preset {
    pub(crate) name: String,
    /// What it says, as text that can be compared.
    pub(crate) says: String,
    pub(crate) origin: Origin,
}

impl Estate {
    /// Checks and resolves what was declared.
    ///
    /// # Errors
    /// Every fault there is, sorted by place.
    pub fn build(declared: &Declarations) -> Result<Self, Vec<LocatedFault>> {
        builder::build(declared, None)
    }

    /// As [`Self::build`], beside another estate with which it is to be compared: attributes that both
    /// know by name have the same number in both.
    ///
    /// # Errors
    /// Every fault there is, sorted by place.
    pub fn build_beside(declared: &Declarations, other: &Self) -> Result<Self, Vec<LocatedFault>> {
        builder::build(declared, Some(other))
    }

    /// The attributes that are declared, as the estate that these declarations make has them.
    #[must_use]
    pub fn vocabulary_of(declared: &Declarations) -> Vocabulary {
        builder::vocabulary(declared)
    }

    /// Whether every attribute of another estate has the same number here.
    pub(crate) fn shares_numbers_of(&self, other: &Self) -> bool {
        let names = &other.attribute_names;
        names.iter().all(|(id, name)| self.attribute_names.get(name) == Some(id))
    }

    /// Every user, by name.
    pub fn each_user(&self) -> impl Iterator<Item = UserId> + use<> {
        (0..self.users.len()).map(UserId::new)
    }

    /// A user.
    #[must_use]
    pub fn user(&self, id: UserId) -> &User {
        &self.users[id.index()]
    }

    /// A group.
    #[must_use]
    pub fn group(&self, id: GroupId) -> &Group {
        &self.groups[id.index()]
    }

    /// A role.
    #[must_use]
    pub fn role(&self, id: RoleId) -> &Role {
        &self.roles[id.index()]
    }

    /// A scope.
    #[must_use]
    pub fn scope(&self, id: ScopeId) -> &Scope {
        self.scopes.get(id)
    }

    /// A policy.
    #[must_use]
    pub fn policy(&self, id: PolicyId) -> &Policy {
        &self.policies[id.index()]
    }

    /// A statement.
    #[must_use]
    pub fn statement(&self, id: StatementId) -> &Statement {
        &self.statements[id.index()]
    }

    /// An attachment.
    #[must_use]
    pub fn attachment(&self, id: AttachmentId) -> &Attachment {
        &self.attachments[id.index()]
    }

    /// A ceiling.
    #[must_use]
    pub fn ceiling(&self, id: CeilingId) -> &Ceiling {
        &self.ceilings[id.index()]
    }

    /// The user of a bare name.
    #[must_use]
    pub fn find_user(&self, name: &str) -> Option<UserId> {
        let found = self.user_numbers.find(name, |at| &self.users[at].identity.name);
        found.map(UserId::new)
    }

    /// The group of a bare name.
    #[must_use]
    pub fn find_group(&self, name: &str) -> Option<GroupId> {
        let found = self.group_numbers.find(name, |at| &self.groups[at].identity.name);
        found.map(GroupId::new)
    }

    /// The role of a bare name.
    #[must_use]
    pub fn find_role(&self, name: &str) -> Option<RoleId> {
        let found = self.role_numbers.find(name, |at| &self.roles[at].identity.name);
        found.map(RoleId::new)
    }

    /// The policy of a name.
    #[must_use]
    pub fn find_policy(&self, name: &str) -> Option<PolicyId> {
        self.policy_numbers.find(name, |at| &self.policies[at].name).map(PolicyId::new)
    }

    /// The principal of a name like `user:ines`; a `resource:` is one that is declared as such.
    #[must_use]
    pub fn find_principal(&self, text: &str) -> Option<Principal> {
        let (principal_type, name) = PrincipalType::split(text)?;
        match principal_type {
            PrincipalType::User => self.find_user(name).map(Principal::User),
            PrincipalType::Group => self.find_group(name).map(Principal::Group),
            PrincipalType::Role => self.find_role(name).map(Principal::Role),
            PrincipalType::Resource => {
                let id = self.scopes.find(name)?;
                let is_resource = self.scope(id).scope_type == crate::scope::ScopeType::Resource;
                is_resource.then_some(Principal::Workload(id))
            }
        }
    }

    /// The identity of a user, group or role; a workload has none.
    #[must_use]
    pub fn identity(&self, principal: Principal) -> Option<&Identity> {
        match principal {
            Principal::User(id) => Some(&self.user(id).identity),
            Principal::Group(id) => Some(&self.group(id).identity),
            Principal::Role(id) => Some(&self.role(id).identity),
            Principal::Workload(_) => None,
        }
    }

    /// The user, group, role or policy that is the target at `path`, if one is.
    #[must_use]
    pub fn identity_at(&self, path: &str) -> Option<TargetPlace> {
        self.identities_at.get(path).copied()
    }

    /// The bare name: what follows the colon.
    #[must_use]
    pub fn principal_name(&self, principal: Principal) -> &str {
        match (principal, self.identity(principal)) {
            (Principal::Workload(scope), _) => &self.scope(scope).path,
            (_, Some(identity)) => &identity.name,
            (_, None) => "",
        }
    }

    /// The word before the colon.
    #[must_use]
    pub fn principal_type(principal: Principal) -> PrincipalType {
        match principal {
            Principal::User(_) => PrincipalType::User,
            Principal::Group(_) => PrincipalType::Group,
            Principal::Role(_) => PrincipalType::Role,
            Principal::Workload(_) => PrincipalType::Resource,
        }
    }

    /// The name as it is written in files: `user:ines`.
    #[must_use]
    pub fn principal_id(&self, principal: Principal) -> String {
        format!("{}:{}", Self::principal_type(principal), self.principal_name(principal))
    }

    /// How a statement is called: its policy, then its name in quotes or its place.
    #[must_use]
    pub fn statement_label(&self, id: StatementId) -> String {
        let statement = self.statement(id);
        let policy = &self.policy(statement.policy).name;
        match &statement.name {
            Some(name) => format!("{policy} \"{name}\""),
            None => format!("{policy} {} {}", statement.effect, statement.place),
        }
    }

    /// Whether a policy is locked: it says so, or a locked one includes it, to any depth (spec-work
    /// section 7.2).
    #[must_use]
    pub fn is_locked(&self, policy: PolicyId) -> bool {
        let locked = self.policies.iter().enumerate().filter(|(_, one)| one.locked);
        locked.map(|(i, _)| PolicyId::new(i)).any(|id| id == policy || self.includes(id, policy))
    }

    /// Whether a policy includes another, directly or through others.
    #[must_use]
    pub fn includes(&self, policy: PolicyId, wanted: PolicyId) -> bool {
        let mut seen: FxHashSet<PolicyId> = FxHashSet::default();
        let mut waiting = vec![policy];
        while let Some(id) = waiting.pop() {
            if self.policy(id).include.contains(&wanted) {
                return true;
            }
            waiting.extend(self.policy(id).include.iter().filter(|id| seen.insert(**id)));
        }
        false
    }

    /// Everybody who is in a group at a moment, directly or through others: each once, with the
    /// group that lists it, direct ones first; no more than `most`.
    #[must_use]
    pub fn transitive_members(
        &self,
        group: GroupId,
        at: Time,
        most: usize,
    ) -> Vec<(Principal, GroupId)> {
        let mut found: Vec<(Principal, GroupId)> = Vec::new();
        let mut seen: FxHashSet<Principal> = FxHashSet::default();
        let mut queue = VecDeque::from([group]);
        while let Some(holder) = queue.pop_front() {
            let body = self.group(holder);
            let listed = body.members.iter().flatten();
            let listed = listed.filter(|m| m.window.holds(at)).map(|m| m.who);
            let matching = body.matching.iter().map(|user| Principal::User(*user));
            for member in listed.chain(matching) {
                if found.len() == most {
                    return found;
                }
                if seen.insert(member) {
                    found.push((member, holder));
                    if let Principal::Group(inner) = member {
                        queue.push_back(inner);
                    }
                }
            }
        }
        found
    }

    /// The ids of all users, groups, roles and resources, in that order.
    pub fn principals(&self) -> impl Iterator<Item = Principal> + '_ {
        let users = (0..self.users.len()).map(|i| Principal::User(UserId::new(i)));
        let groups = (0..self.groups.len()).map(|i| Principal::Group(GroupId::new(i)));
        let roles = (0..self.roles.len()).map(|i| Principal::Role(RoleId::new(i)));
        let workloads = self.scopes.iter().filter_map(|(id, scope)| {
            (scope.scope_type == crate::scope::ScopeType::Resource)
                .then_some(Principal::Workload(id))
        });
        users.chain(groups).chain(roles).chain(workloads)
    }
}
