//! Accounts and sealed scopes that nobody governs, or one person alone.

use crate::catalogue::{Level, TargetClass};
use crate::decision::Reason;
use crate::diagnostic::Severity;
use crate::engine::Decider;
use crate::id::{ActionId, ScopeId};
use crate::principal::{Principal, Subject};
use crate::reach::{AccessTarget, AccessTargets, actions_of, sessions};
use crate::scope::ScopeType;
use crate::vet::supposed::Ever;
use crate::vet::{Findings, Rule, Vet};

pub(super) static RULE: Rule = Rule {
    name: "lockout",
    severity: Severity::Error,
    finds: "an account, or what lies under a seal, where no person can do anything of level `govern`; \
            as a warning, where only one can",
    why: "Nobody is left who could give access there, or the one who could is away when it matters.",
    example: r#"[resource."veyra/survey/vault"]
kind   = "store"
sealed = true
[policy.keeper]
[[policy.keeper.allow]]
do = "*"
[[attach]]
policy = "keeper"
to     = "group:imaging"
at     = "veyra"
"#,
    fine: r#"[resource."veyra/survey/vault"]
kind   = "store"
sealed = true
[policy.keeper]
[[policy.keeper.allow]]
do = "*"
[[attach]]
policy = "keeper"
to     = "group:imaging"
at     = ["veyra", "veyra/survey/vault"]
"#,
    asks_whom: false,
    mends_one_at_a_time: false,
    find,
};

/// How many people are tried for one scope.
const MOST: usize = 200;
/// How many places are asked about at once.
const PLACES: usize = 12;

fn find(vet: &Vet<'_>, found: &mut Findings<'_>) {
    let estate = vet.estate();
    let meant: Vec<ScopeId> = estate
        .scopes
        .iter()
        .filter(|(_, scope)| scope.sealed || scope.scope_type == ScopeType::Account)
        .map(|(id, _)| id)
        .filter(|id| can_be_governed(vet, *id))
        .collect();
    let governed = vet.in_order(meant.len(), |i| governors(vet, meant[i]));
    for (at, governed) in meant.into_iter().zip(governed) {
        let Some(people) = governed else {
            found.not_decided += 1;
            continue;
        };
        let scope = estate.scope(at);
        let what = match scope.sealed {
            true => "under the seal of",
            false => "in",
        };
        match &people[..] {
            [] => {
                let message = format!("no person can govern anything {what} `{}`", scope.path);
                found.add(&*scope.path, scope.origin, message);
            }
            [one] => {
                let who = estate.principal_id(*one);
                let message = format!("`{who}` alone can govern anything {what} `{}`", scope.path);
                found.add(&*scope.path, scope.origin, message);
                found.matters(Severity::Warning);
            }
            _ => {}
        }
    }
}

/// Whether any action of level `govern` applies at a scope or below it.
fn can_be_governed(vet: &Vet<'_>, at: ScopeId) -> bool {
    let estate = vet.estate();
    let govern = actions_of(estate, Level::Govern);
    estate.scopes.subtree(at).map(ScopeId::new).any(|id| {
        let scope = estate.scope(id);
        let applies = |class| !estate.catalogue.applicable(class).is_disjoint(&govern);
        applies(scope.class()) || scope.holds_items() && applies(TargetClass::Item(scope.kind))
    })
}

/// Two enabled users who can govern something there in some circumstances, at some moment, or as many
/// as there are; `None` where that could not be found out.
fn governors(vet: &Vet<'_>, at: ScopeId) -> Option<Vec<Principal>> {
    let estate = vet.estate();
    let govern = actions_of(estate, Level::Govern);
    let is_near = |one: ScopeId| estate.scopes.holds(one, at) || estate.scopes.holds(at, one);
    let giving = estate.attachments.iter().filter(|one| {
        let gives = one
            .policies
            .iter()
            .any(|policy| !estate.policy(policy.value).allowed_actions.is_disjoint(&govern));
        gives && one.at.iter().any(|one| is_near(one.value))
    });
    let mut subjects: Vec<Subject> =
        giving.flat_map(|one| one.to.iter().map(|to| to.value)).collect();
    subjects.sort_unstable();
    subjects.dedup();
    let people = vet.people_of(&subjects).into_iter().filter(|who| match who {
        Principal::User(id) => estate.user(*id).enabled,
        _ => false,
    });
    // Whoever is allowed something at once needs no analysis.
    let places = places(vet, at);
    let mut found: Vec<Principal> = Vec::new();
    let mut others: Vec<Principal> = Vec::new();
    let mut decider = vet.engine.decider();
    for who in people.take(MOST + 1) {
        match is_allowed_some(vet, &mut decider, who, &places) {
            true => found.push(who),
            false => others.push(who),
        }
        if found.len() == 2 {
            return Some(found);
        }
    }
    if found.len() + others.len() > MOST {
        return None;
    }
    let mut open = false;
    for who in others {
        match vet.ever_allowed(who, "*.@govern", at) {
            Ever::Yes => found.push(who),
            Ever::Never | Ever::Nobody => {}
            Ever::NotDecided => open = true,
        }
        if found.len() == 2 {
            return Some(found);
        }
    }
    (!open).then_some(found)
}

/// Some places at and below a scope where an action of level `govern` applies.
fn places(vet: &Vet<'_>, at: ScopeId) -> Vec<(AccessTarget, ActionId)> {
    let estate = vet.estate();
    let govern = actions_of(estate, Level::Govern);
    let targets = AccessTargets::new(estate);
    let there = targets.below(Some(at)).take(20 * PLACES).filter_map(|target| {
        let action = target.applicable(estate).intersection(&govern).next()?;
        Some((target, estate.catalogue.action_at(action)))
    });
    there.take(PLACES).collect()
}

/// Whether somebody is allowed one of these now, by themselves or with a role taken up, nothing said
/// of the circumstances.
fn is_allowed_some(
    vet: &Vet<'_>,
    decider: &mut Decider<'_>,
    who: Principal,
    places: &[(AccessTarget, ActionId)],
) -> bool {
    let view = vet.viewpoint(who);
    let sessions = sessions(decider, &view);
    places.iter().any(|(target, action)| {
        sessions
            .iter()
            .any(|session| decider.decide(&session.query(target, *action)) == Reason::Granted)
    })
}
