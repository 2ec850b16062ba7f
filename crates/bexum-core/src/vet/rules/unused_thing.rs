//! Things that nothing uses.

use std::collections::BTreeSet;

use crate::catalogue::{ActionSet, TargetClass};
use crate::diagnostic::Severity;
use crate::edit::{Edit, Target};
use crate::id::{GroupId, PolicyId, RoleId, ScopeId};
use crate::principal::{Principal, Subject};
use crate::vet::{Findings, Rule, Vet};
use rustc_hash::FxHashSet;

pub(super) static RULE: Rule = Rule {
    name: "unused-thing",
    severity: Severity::Note,
    finds: "a policy attached nowhere, a group without anybody, a role that nobody can have, a scope \
            or kind that no statement reaches",
    why: "What nobody uses nobody looks after, until somebody puts it to use.",
    example: r#"[group.transit]
owners = ["user:ines", "user:lin"]
[role.keeper]
taken-by = ["group:transit"]
"#,
    fine: r#"[group.transit]
members = ["user:lin"]
[role.keeper]
taken-by = ["group:transit"]
[policy.everything]
include = ["reader"]
[[policy.everything.allow]]
do = "*"
[[attach]]
policy = "everything"
to     = "role:keeper"
at     = "veyra"
"#,
    asks_whom: false,
    mends_one_at_a_time: true,
    find,
};

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let used = used_policies(vet);
    for (i, policy) in estate.policies.iter().enumerate() {
        if !used.contains(&PolicyId::new(i)) {
            let name = &policy.name;
            let message = format!("`policy:{name}` is attached nowhere and no ceiling");
            let finding = found.add(format!("policy:{name}"), policy.origin, message);
            // What includes it is attached nowhere either, and would be left with a hole.
            if vet.carriers(PolicyId::new(i)).len() == 1 {
                finding.remedy = vec![delete(Target::Policy(name.to_string()))];
            }
        }
    }
    let inhabited = inhabited(vet);
    for (i, group) in estate.groups.iter().enumerate() {
        if inhabited.contains(&Principal::Group(GroupId::new(i))) {
            continue;
        }
        let name = &group.identity.name;
        let message = format!("nobody who is enabled is in `group:{name}`, or will be");
        let finding = found.add(format!("group:{name}"), group.identity.origin, message);
        finding.hint = Some(format!("`bexum edit delete group:{name} --with-uses`"));
    }
    for (i, role) in estate.roles.iter().enumerate() {
        if inhabited.contains(&Principal::Role(RoleId::new(i))) {
            continue;
        }
        let name = &role.identity.name;
        let message = format!("nobody who is enabled holds `role:{name}`, or can take it up");
        let finding = found.add(format!("role:{name}"), role.identity.origin, message);
        finding.hint = Some(format!("`bexum edit delete role:{name} --with-uses`"));
    }
    unreached(vet, &used, found);
}

fn delete(target: Target) -> Edit {
    Edit::Delete { target, hand_over: None, with_uses: false }
}

/// Policies that an attachment or a ceiling brings, with what they include.
fn used_policies(vet: &Vet<'_>) -> FxHashSet<PolicyId> {
    let estate = vet.estate();
    let attached = estate.attachments.iter().flat_map(|one| &one.policies);
    let ceilings = estate.ceilings.iter().flat_map(|one| &one.policies);
    let mut used: FxHashSet<PolicyId> = FxHashSet::default();
    let mut waiting: Vec<PolicyId> = attached.chain(ceilings).map(|one| one.value).collect();
    while let Some(id) = waiting.pop() {
        if used.insert(id) {
            waiting.extend(&estate.policy(id).include);
        }
    }
    used
}

/// Groups and roles that some enabled user or some workload comes to, now or later.
fn inhabited(vet: &Vet<'_>) -> FxHashSet<Principal> {
    let (estate, index) = (vet.estate(), vet.index());
    let people = estate.principals().filter(|who| match who {
        Principal::User(id) => estate.user(*id).enabled,
        Principal::Workload(_) => true,
        _ => false,
    });
    let mut seen: FxHashSet<Principal> = FxHashSet::default();
    let mut waiting: Vec<Principal> = people.collect();
    while let Some(who) = waiting.pop() {
        let groups = index.groups_of.get(&who).into_iter().flatten();
        let groups = groups.map(|edge| (Principal::Group(edge.into), edge.window));
        let held = index.held_roles_of.get(&who).into_iter().flatten();
        let taken = index.takeable_roles_of.get(&who).into_iter().flatten();
        let roles = held.chain(taken).map(|edge| (Principal::Role(edge.into), edge.window));
        for (into, window) in groups.chain(roles) {
            if !vet.is_over(window) && seen.insert(into) {
                waiting.push(into);
            }
        }
    }
    seen
}

/// Scopes where nothing that is attached or a ceiling has a say about any action, and kinds of which
/// no statement names an action.
fn unreached(vet: &Vet<'_>, used: &FxHashSet<PolicyId>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let mut named = ActionSet::with_capacity(estate.catalogue.actions.len());
    for id in used {
        named.union_with(&estate.policy(*id).allowed_actions);
        named.union_with(&estate.policy(*id).denied_actions);
    }
    for kind in &estate.catalogue.kinds {
        let mut actions = kind.actions.clone();
        if actions.is_empty() || actions.any(|action| named.contains(action)) {
            continue;
        }
        let message = format!("no statement that is attached names an action of `{}`", kind.name);
        found.add(format!("kind:{}", kind.name), kind.origin, message);
    }
    let mut reached: BTreeSet<ScopeId> = BTreeSet::new();
    let tied = estate.attachments.iter().map(|one| &one.at);
    for at in tied.chain(estate.ceilings.iter().filter_map(|one| one.over.as_ref())) {
        for at in at {
            reached.extend(estate.scopes.subtree(at.value).map(ScopeId::new));
            reached.extend(estate.scopes.chain(at.value));
        }
    }
    // What acts by itself is of use, wherever it may act.
    let to = estate.attachments.iter().flat_map(|one| &one.to);
    let acting: FxHashSet<ScopeId> = to
        .filter_map(|to| match to.value {
            Subject::One(Principal::Workload(scope)) => Some(scope),
            _ => None,
        })
        .collect();
    let mut told: Option<ScopeId> = None;
    for (id, scope) in estate.scopes.iter() {
        let is_below = told.is_some_and(|above| estate.scopes.holds(above, id));
        let has_actions = !estate.catalogue.applicable(scope.class()).is_empty()
            || !estate.catalogue.applicable(TargetClass::Item(scope.kind)).is_empty();
        if reached.contains(&id) || is_below || !has_actions || acting.contains(&id) {
            continue;
        }
        told = Some(id);
        let message = format!("nothing is attached at `{}`, above it or below it", scope.path);
        found.add(&*scope.path, scope.origin, message);
    }
}
