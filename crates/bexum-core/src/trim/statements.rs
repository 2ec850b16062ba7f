//! Statements with fewer actions, and about fewer places.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Aim, Stage, Things};
use crate::catalogue::ActionSet;
use crate::condition::Reference;
use crate::edit::{Edit, is_locked};
use crate::estate::Estate;
use crate::id::{ActionId, PolicyId, ScopeId, StatementId};
use crate::pattern::action::ActionPattern;
use crate::pattern::matching::Braces;
use crate::pattern::path::Brace;
use crate::pattern::residual::Below;
use crate::policy::{Effect, Statement};
use crate::truth::Truth;

/// The statements that may be changed, in the order of their labels: allows of policies that are meant,
/// attached, not locked, without any deny, and no part of a ceiling.
fn changeable(stage: &Stage, aim: &Aim<'_>) -> Vec<StatementId> {
    let estate = stage.estate();
    let things = Things::of(estate, aim.things);
    let ceilings = estate.ceilings.iter().flat_map(|one| &one.policies).map(|one| one.value);
    let in_ceilings: FxHashSet<StatementId> =
        ceilings.flat_map(|policy| estate.policy(policy).allows.iter().copied()).collect();
    let in_force = in_force(estate);
    let mut found: Vec<StatementId> = in_force
        .into_iter()
        .filter(|id| {
            let statement = estate.statement(*id);
            let policy = estate.policy(statement.policy);
            statement.effect == Effect::Allow
                && things.has_policy(statement.policy)
                && policy.denies.is_empty()
                && !in_ceilings.contains(id)
                && !is_locked(&stage.declared, &policy.name)
        })
        .collect();
    found.sort_by_cached_key(|id| {
        let statement = estate.statement(*id);
        (estate.policy(statement.policy).name.clone(), statement.place)
    });
    found
}

/// Allows of policies that are attached, with what these include.
fn in_force(estate: &Estate) -> FxHashSet<StatementId> {
    let policies: FxHashSet<PolicyId> =
        estate.attachments.iter().flat_map(|one| &one.policies).map(|one| one.value).collect();
    policies.into_iter().flat_map(|id| estate.policy(id).allows.iter().copied()).collect()
}

/// As an edit calls it.
fn called(statement: &Statement) -> String {
    match &statement.name {
        Some(name) => name.to_string(),
        None => format!("{} {}", statement.effect, statement.place),
    }
}

/// Statements without the actions that every request of the log is allowed without.
///
/// Only allows get smaller, so nothing is opened; and of what is allowed, some other statement that
/// stays still allows it.
pub(super) fn fewer_actions(stage: &Stage, aim: &Aim<'_>) -> Vec<Edit> {
    let estate = stage.estate();
    let changeable = changeable(stage, aim);
    let mut gone: FxHashMap<StatementId, FxHashSet<ActionId>> = FxHashMap::default();
    let mut by_action: FxHashMap<ActionId, Vec<&[StatementId]>> = FxHashMap::default();
    for (action, statements) in &stage.used.granting {
        by_action.entry(*action).or_default().push(statements);
    }
    for id in &changeable {
        for action in estate.statement(*id).actions.ones().map(ActionId::new) {
            if aim.keep.contains(action.index()) {
                continue;
            }
            let says = |other: &StatementId| {
                gone.get(other).is_none_or(|actions| !actions.contains(&action))
            };
            let rows = by_action.get(&action).map_or(&[][..], Vec::as_slice);
            let is_spared = rows
                .iter()
                .filter(|row| row.contains(id))
                .all(|row| row.iter().any(|other| other != id && says(other)));
            if is_spared {
                gone.entry(*id).or_default().insert(action);
            }
        }
    }
    // Those of one policy that go come last first, for the places of the others move then.
    let (mut edits, mut strikes) = (Vec::new(), BTreeMap::new());
    for id in &changeable {
        let Some(gone) = gone.get(id) else { continue };
        let statement = estate.statement(*id);
        let policy = estate.policy(statement.policy).name.to_string();
        let mut left = ActionSet::with_capacity(estate.catalogue.actions.len());
        let stays = |action: &usize| !gone.contains(&ActionId::new(*action));
        left.extend(statement.actions.ones().filter(stays));
        if left.is_empty() {
            strikes.insert((policy, std::cmp::Reverse(statement.place)), called(statement));
            continue;
        }
        edits.push(Edit::Restate {
            policy,
            statement: called(statement),
            actions: spelled(estate, statement, &left),
            on: Vec::new(),
        });
    }
    let strike = |((policy, _), statement)| Edit::Strike { policy, statement };
    edits.extend(strikes.into_iter().map(strike));
    edits
}

/// Patterns for just these of a statement's actions: those that are written and still say no more, and
/// the names of the others.
fn spelled(estate: &Estate, statement: &Statement, left: &ActionSet) -> Vec<String> {
    let named = |text: &str| -> Option<(bool, Vec<usize>)> {
        let pattern = ActionPattern::parse(text).ok()?;
        let all = estate.catalogue.actions.iter().enumerate();
        let of = all.filter(|(_, one)| pattern.names(one)).map(|(i, _)| i).collect();
        Some((pattern.excludes, of))
    };
    let mut found: Vec<String> = Vec::new();
    let mut said = ActionSet::with_capacity(estate.catalogue.actions.len());
    for text in &statement.do_written {
        let Some((false, of)) = named(text) else { continue };
        if !of.is_empty() && of.iter().all(|action| left.contains(*action)) {
            said.extend(of);
            found.push(text.to_string());
        }
    }
    for action in left.ones().filter(|action| !said.contains(*action)) {
        found.push(estate.catalogue.actions[action].name.to_string());
    }
    found
}

/// A brace of which nothing is known.
struct AnyBrace;

impl Braces<Reference> for AnyBrace {
    fn alternatives(&self, _: &Brace<Reference>, each: &mut dyn FnMut(Option<&str>)) {
        each(None);
    }
}

/// Whether the paths of a statement, where its policy is attached, hold a scope, and with `and_below`
/// all that lies below it, whoever asks and whatever is given.
fn covers(statement: &Statement, path: &[&str], anchor: usize, and_below: bool) -> bool {
    let on = &statement.on;
    if on.matches(path, anchor, &AnyBrace) != Truth::True {
        return false;
    }
    let is_all = |pattern: &crate::pattern::PathPattern| {
        pattern.braces().next().is_none() && pattern.below(path, anchor, &AnyBrace) == Below::All
    };
    let is_none = |pattern: &crate::pattern::PathPattern| {
        pattern.below(path, anchor, &AnyBrace) == Below::Nothing
    };
    !and_below || on.plain.iter().any(is_all) && on.excluded.iter().all(is_none)
}

/// Scopes, each alone or with all that lies below it.
struct Chosen {
    scopes: BTreeMap<ScopeId, bool>,
}

impl Chosen {
    /// The scopes that a statement was used at; those within others are left out.
    fn of(estate: &Estate, used: &FxHashSet<(ScopeId, bool)>) -> Self {
        let mut scopes: BTreeMap<ScopeId, bool> = BTreeMap::new();
        for (scope, is_below) in used {
            *scopes.entry(*scope).or_default() |= is_below;
        }
        let whole = Self { scopes };
        let is_within = |id: ScopeId| {
            estate.scopes.chain(id).skip(1).any(|above| whole.scopes.get(&above) == Some(&true))
        };
        let scopes = whole.scopes.iter().filter(|(id, _)| !is_within(**id));
        Self { scopes: scopes.map(|(id, is_below)| (*id, *is_below)).collect() }
    }

    /// Whether a scope is among them, and with `and_below` all below it.
    fn holds(&self, estate: &Estate, scope: ScopeId, and_below: bool) -> bool {
        let alone = self.scopes.contains_key(&scope) && !and_below;
        alone || estate.scopes.chain(scope).any(|above| self.scopes.get(&above) == Some(&true))
    }

    fn patterns(&self, estate: &Estate) -> Vec<String> {
        let pattern = |(id, is_below): (&ScopeId, &bool)| {
            let end = if *is_below { "/**" } else { "" };
            format!("/{}{end}", estate.scope(*id).path)
        };
        self.scopes.iter().map(pattern).collect()
    }
}

/// Statements that are about the scopes that were used, where that is less than they are about now.
pub(super) fn fewer_places(stage: &Stage, aim: &Aim<'_>) -> Vec<Edit> {
    let estate = stage.estate();
    let anchors = anchors(estate);
    let with_things = with_things(estate);
    let mut edits = Vec::new();
    for id in changeable(stage, aim) {
        let Some(used) = stage.used.places.get(&id) else { continue };
        let statement = estate.statement(id);
        let at = anchors.get(&id).map_or(&[][..], Vec::as_slice);
        let chosen = Chosen::of(estate, used);
        let may_be = chosen.scopes.iter().all(|(scope, is_below)| {
            let path: Vec<&str> = estate.scope(*scope).path.split('/').collect();
            at.iter().all(|anchor| {
                let depth = estate.scope(*anchor).depth as usize;
                if estate.scopes.holds(*anchor, *scope) {
                    return covers(statement, &path, depth, *is_below);
                }
                // An attachment below a chosen scope reaches only its own part of it.
                let own: Vec<&str> = estate.scope(*anchor).path.split('/').collect();
                let is_part = *is_below && estate.scopes.holds(*scope, *anchor);
                !is_part || covers(statement, &own, depth, true)
            })
        });
        if !may_be {
            continue;
        }
        let is_less = at.iter().any(|anchor| {
            let depth = estate.scope(*anchor).depth as usize;
            estate.scopes.subtree(*anchor).map(ScopeId::new).any(|scope| {
                let path: Vec<&str> = estate.scope(scope).path.split('/').collect();
                let is_meant = statement.on.matches(&path, depth, &AnyBrace) != Truth::False;
                let are_items_meant = with_things(scope)
                    && statement
                        .on
                        .plain
                        .iter()
                        .any(|one| one.below(&path, depth, &AnyBrace) != Below::Nothing);
                is_meant && !chosen.holds(estate, scope, false)
                    || are_items_meant && !chosen.holds(estate, scope, true)
            })
        });
        // What it says already is no step, however it is looked at.
        let patterns = chosen.patterns(estate);
        let written: BTreeSet<&str> = statement.on.texts().collect();
        let is_said = written == patterns.iter().map(String::as_str).collect();
        if is_less && !is_said {
            edits.push(Edit::Restate {
                policy: estate.policy(statement.policy).name.to_string(),
                statement: called(statement),
                actions: Vec::new(),
                on: patterns,
            });
        }
    }
    edits
}

/// Where each statement's policy, or one that includes it, is attached.
fn anchors(estate: &Estate) -> FxHashMap<StatementId, Vec<ScopeId>> {
    let mut of_policy: FxHashMap<PolicyId, FxHashSet<ScopeId>> = FxHashMap::default();
    for one in &estate.attachments {
        for policy in &one.policies {
            let at = one.at.iter().map(|at| at.value);
            of_policy.entry(policy.value).or_default().extend(at);
        }
    }
    let mut found: FxHashMap<StatementId, Vec<ScopeId>> = FxHashMap::default();
    for (policy, at) in of_policy {
        for id in &estate.policy(policy).allows {
            found.entry(*id).or_default().extend(&at);
        }
    }
    for at in found.values_mut() {
        at.sort_unstable();
        at.dedup();
    }
    found
}

/// Whether something that is no declared scope can be asked for right below a scope: an item, or
/// somebody or something that has its place there.
fn with_things(estate: &Estate) -> impl Fn(ScopeId) -> bool + '_ {
    let principals = estate.principals().filter_map(|who| estate.identity(who)?.place);
    let policies = estate.policies.iter().filter_map(|one| one.place);
    let places: FxHashSet<ScopeId> = principals.chain(policies).collect();
    let of_namespaces = estate.catalogue.find_kind("namespace");
    move |id| {
        let scope = estate.scope(id);
        let kind = scope.kind.or(of_namespaces).filter(|_| scope.holds_items());
        let has_items = kind.is_some_and(|kind| !estate.catalogue.kind(kind).items.is_empty());
        has_items || places.contains(&id)
    }
}
