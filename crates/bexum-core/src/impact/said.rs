//! All that has a say about one cell, as text that can be held against that of another estate.

use std::collections::{BTreeMap, BTreeSet};

use super::touches::{attributes, shown};
use crate::engine::{Decider, Session};
use crate::estate::Estate;
use crate::id::{ActionId, PolicyId, ScopeId, StatementId};
use crate::policy::Effect;
use crate::reach::{Spot, Viewpoint};
use crate::request::Place;
use crate::time::Window;

/// The statements in play that name an action, with the place where each starts, whether it grants,
/// refuses or bounds, and when; the seals above; and what conditions can ask of the target.
pub(super) fn all_said(
    decider: &Decider<'_>,
    session: &Session<'_>,
    view: &Viewpoint,
    spot: &Spot,
    action: ActionId,
) -> String {
    let (estate, scope_index) = (decider.index.estate(), &decider.index.scope_index);
    let mut all: BTreeSet<String> = BTreeSet::new();
    let mut add = |word: &str, anchor: usize, policy: PolicyId, window: Window| {
        let said = statements(estate, policy, action, word);
        match word {
            // Any allow grants and any deny refuses, whatever policy it stands in.
            "allow" | "deny" => {
                all.extend(said.iter().map(|text| format!("{word} {anchor} {window:?} {text}")));
            }
            // Each ceiling bounds by itself: one that says nothing about the action bounds most.
            _ => {
                let mut said = said;
                said.sort_unstable();
                all.insert(format!("{word} {anchor} {window:?} {said:?}"));
            }
        }
    };
    let bound = |policy: PolicyId| match estate.policy(policy).allows.is_empty() {
        true => "bounds by denies",
        false => "bounds",
    };
    view.under.iter().for_each(|policy| add(bound(*policy), 0, *policy, Window::ALWAYS));
    let chain: Vec<(ScopeId, usize, bool)> = scope_index.chain(spot.scope()).collect();
    let overs = chain.iter().map(|(at, anchor, _)| (Some(*at), *anchor));
    for (over, anchor) in std::iter::once((None, 0)).chain(overs) {
        scope_index.each_ceiling(over, session.subjects(), |entry| {
            let window = estate.ceilings[entry.origin as usize].window;
            add(bound(entry.policy), anchor, entry.policy, window);
            false
        });
    }
    for (at, anchor, _) in &chain {
        for effect in [Effect::Allow, Effect::Deny] {
            scope_index.attached_at(*at).each_sought(session.subjects_of(effect), |entry| {
                let window = estate.attachments[entry.origin as usize].window;
                add(effect.word(), *anchor, entry.policy, window);
                false
            });
        }
    }
    let seals: Vec<usize> = chain.iter().filter(|(.., sealed)| *sealed).map(|at| at.1).collect();
    let mut borne = BTreeMap::new();
    for (at, ..) in chain.iter().rev() {
        borne.extend(attributes(estate, &estate.scope(*at).attributes));
    }
    let identity = match spot.place {
        Place::Identity(..) | Place::Policy(..) => shown(estate, spot.place, None),
        Place::Scope(_) | Place::Item(_) => String::new(),
    };
    let scope = estate.scope(spot.scope());
    let kind = scope.kind.map(|kind| &estate.catalogue.kind(kind).name);
    let is_item = matches!(spot.place, Place::Item(_));
    format!("{all:?} {seals:?} {borne:?} {identity} {:?} {kind:?} {is_item}", scope.scope_type)
}

/// What a policy says about an action.
fn statements(estate: &Estate, policy: PolicyId, action: ActionId, word: &str) -> Vec<String> {
    let policy = estate.policy(policy);
    let says = |id: &&StatementId| estate.statement(**id).actions.contains(action.index());
    let wanted: Vec<&StatementId> = match word {
        "allow" => policy.allows.iter().filter(says).collect(),
        "deny" => policy.denies.iter().filter(says).collect(),
        _ => policy.allows.iter().chain(&policy.denies).filter(says).collect(),
    };
    let told = wanted.iter().map(|id| {
        let statement = estate.statement(**id);
        let mut on: Vec<&str> = statement.on.texts().collect();
        on.sort_unstable();
        let when = statement.when.as_ref().map(|when| &when.text);
        format!("{} {on:?} {when:?}", statement.effect)
    });
    told.collect()
}
