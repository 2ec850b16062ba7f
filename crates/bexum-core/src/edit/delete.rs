//! Things gone, with what names them.

use super::Target;
use super::apply::{Applied, EditFault, find};
use super::keys::expect_declared;
use super::lists::take;
use super::ties::{detach, unlimit};
use super::uses::Sort;
use super::uses::{names, uses};
use crate::declaration::{Declarations, Element, List};

pub(super) fn delete(
    declared: &mut Declarations,
    target: &Target,
    hand_over: Option<&str>,
    with_uses: bool,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    match target {
        Target::Scope(Some(scope_type), path) => {
            let scope = find(&mut declared.scopes, scope_type.word(), path)?;
            if scope.body.scope_type != *scope_type {
                return Err(EditFault::Unknown {
                    what: scope_type.word(),
                    name: path.clone(),
                    nearest: Some(format!("{}:{path}", scope.body.scope_type)),
                });
            }
        }
        Target::Scope(None, path) => expect_declared(declared, path)?,
        _ => expect_declared(declared, &target.to_string())?,
    }
    if let Target::Policy(name) = target {
        super::policies::refuse_locked(declared, name)?;
    }
    if let Target::User(name) = target {
        if find(&mut declared.users, "user", name)?.body.enabled {
            return Err(EditFault::Enabled(name.clone()));
        }
        hand_over_all(declared, name, hand_over, applied)?;
    }
    let found = uses(declared, target);
    if !found.is_empty() && !with_uses {
        return Err(EditFault::InUse { name: target.to_string(), uses: found });
    }
    take_uses(declared, target);
    match target {
        Target::User(name) => declared.users.retain(|one| one.name.value != *name),
        Target::Group(name) => declared.groups.retain(|one| one.name.value != *name),
        Target::Role(name) => declared.roles.retain(|one| one.name.value != *name),
        Target::Policy(name) => declared.policies.retain(|one| one.name.value != *name),
        Target::Scope(_, path) => {
            declared.scopes.retain(|one| !is_at_or_below(&one.name.value, path))
        }
    }
    Ok(())
}

fn is_at_or_below(path: &str, top: &str) -> bool {
    path.strip_prefix(top).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// Gives what a user owns and manages to another, or says what that is.
fn hand_over_all(
    declared: &mut Declarations,
    name: &str,
    to: Option<&str>,
    applied: &mut Applied,
) -> Result<(), EditFault> {
    let who = format!("user:{name}");
    let heir = to.map(|name| format!("user:{name}"));
    if let Some(heir) = &heir {
        expect_declared(declared, heir)?;
        if *heir == who {
            return Err(EditFault::Nothing(format!("{who} cannot be handed over to themselves")));
        }
    }
    let mut has: Vec<String> = Vec::new();
    for group in &mut declared.groups {
        let Some(owners) = &mut group.body.owners else { continue };
        if !owners.iter().any(|owner| owner.value == who) {
            continue;
        }
        has.push(format!("owns group:{}", group.name.value));
        let Some(heir) = &heir else { continue };
        match owners.iter().any(|owner| owner.value == *heir) {
            true => owners.retain(|owner| owner.value != who),
            false => {
                let mine = owners.iter_mut().filter(|owner| owner.value == who);
                mine.for_each(|owner| owner.value.clone_from(heir));
            }
        }
    }
    for user in &mut declared.users {
        let Some(manager) = user.body.manager.as_mut().filter(|manager| manager.value == who)
        else {
            continue;
        };
        has.push(format!("manages user:{}", user.name.value));
        match &heir {
            // Nobody manages themselves.
            Some(heir) if *heir == format!("user:{}", user.name.value) => user.body.manager = None,
            Some(heir) => manager.value.clone_from(heir),
            None => {}
        }
    }
    match (heir, has.is_empty()) {
        (_, true) => Ok(()),
        (None, false) => Err(EditFault::Leaves { name: name.to_owned(), has: has.join(", ") }),
        (Some(heir), false) => {
            applied.note(format!("{heir} takes over: {who} {}", has.join(", ")));
            Ok(())
        }
    }
}

/// Takes away all that names a thing by itself, and what means nothing without it.
fn take_uses(declared: &mut Declarations, target: &Target) {
    let name = target.name().to_owned();
    let goes = |sort: Sort, text: &str| match (target, sort) {
        // What lies below a scope goes with it.
        (Target::Scope(_, path), Sort::Path) => is_at_or_below(text, path),
        (Target::Scope(_, path), Sort::Id) => {
            text.strip_prefix("resource:").is_some_and(|text| is_at_or_below(text, path))
        }
        _ => names(target, sort, text),
    };
    let elements = |all: &mut Vec<Element>| {
        take(all, |one| goes(Sort::Id, &one.who.value));
    };
    for user in &mut declared.users {
        user.body.manager.take_if(|at| goes(Sort::Id, &at.value));
        user.body.place.take_if(|at| goes(Sort::Path, &at.value));
    }
    for group in declared.groups.iter_mut().chain(&mut declared.presets) {
        let body = &mut group.body;
        body.members.iter_mut().for_each(elements);
        body.owners.iter_mut().for_each(|all| all.retain(|one| !goes(Sort::Id, &one.value)));
        body.asks.retain(|ask| !goes(Sort::Id, &ask.who.value));
        body.place.take_if(|at| goes(Sort::Path, &at.value));
    }
    for role in &mut declared.roles {
        elements(&mut role.body.held_by);
        elements(&mut role.body.taken_by);
        role.body.place.take_if(|at| goes(Sort::Path, &at.value));
    }
    // A list that loses its last stays, so that the estate does not load: without it an application
    // would be open to everyone.
    for application in &mut declared.applications {
        let body = &mut application.body;
        let lists = body.open_to.iter_mut().chain(body.roles.iter_mut().map(|(_, list)| list));
        lists.for_each(|list| list.value.retain(|who| !goes(Sort::Id, &who.value)));
    }
    for policy in &mut declared.policies {
        policy.body.include.retain(|one| !goes(Sort::Policy, &one.value));
        policy.body.place.take_if(|at| goes(Sort::Path, &at.value));
        if let Some(attachable) = &mut policy.body.attachable {
            attachable.value.retain(|one| !goes(Sort::Path, &one.value));
        }
    }
    let gone: Vec<String> = match target {
        Target::Scope(_, path) => {
            let all = declared.scopes.iter().map(|scope| scope.name.value.clone());
            all.filter(|other| is_at_or_below(other, path)).collect()
        }
        _ => vec![target.to_string()],
    };
    match target {
        Target::Policy(name) => {
            detach(declared, std::slice::from_ref(name), &[], &[]);
            unlimit(declared, name, &[], &[]);
        }
        Target::Scope(..) => {
            detach_where(declared, &[], &gone);
            let workloads: Vec<String> =
                gone.iter().map(|path| format!("resource:{path}")).collect();
            detach_where(declared, &workloads, &[]);
        }
        _ => detach_where(declared, &gone, &[]),
    }
    let keep = |list: &mut List, sort| {
        list.value.retain(|one| !goes(sort, &one.value));
        !list.value.is_empty()
    };
    declared.checks.retain_mut(|check| {
        check.also.retain(|one| !goes(Sort::Id, &one.value));
        let has_role = check.take_up.as_ref().is_none_or(|role| !goes(Sort::Id, &role.value));
        let is_bound = check.under.iter().all(|one| !goes(Sort::Policy, &one.value));
        keep(&mut check.who, Sort::Id) && keep(&mut check.on, Sort::Path) && has_role && is_bound
    });
    declared.laws.retain_mut(|law| {
        law.except.take_if(|list| !keep(list, Sort::Id));
        keep(&mut law.who, Sort::Id)
    });
    declared.separations.retain_mut(|apart| {
        let at_some = apart.at.as_mut().is_none_or(|list| keep(list, Sort::Path));
        if let Target::Policy(_) = target {
            apart.any_two_of.value.retain(|one| one.value != format!("policy:{name}"));
        }
        keep(&mut apart.any_two_of, Sort::Id) && apart.any_two_of.value.len() > 1 && at_some
    });
}

/// Detaches everything from somebody or at a scope, and takes them out of ceilings.
fn detach_where(declared: &mut Declarations, who: &[String], at: &[String]) {
    let named = |list: &List| list.value.iter().map(|one| one.value.clone()).collect::<Vec<_>>();
    let mut policies: Vec<String> =
        declared.attachments.iter().flat_map(|table| named(&table.policy)).collect();
    let ceilings: Vec<String> =
        declared.ceilings.iter().flat_map(|table| named(&table.policy)).collect();
    policies.sort_unstable();
    policies.dedup();
    if !policies.is_empty() {
        detach(declared, &policies, who, at);
    }
    for policy in ceilings {
        unlimit(declared, &policy, at, who);
    }
}
