//! A new policy that allows just what some people did.

use std::collections::{BTreeMap, BTreeSet};

use rustc_hash::FxHashSet;

use super::{Log, allows};
use crate::attribute::Value;
use crate::edit::{Edit, Target};
use crate::engine::{Decider, Engine};
use crate::estate::Estate;
use crate::id::{ActionId, ScopeId};
use crate::policy::Effect;
use crate::principal::Principal;
use crate::request::TargetPlace;
use crate::time::{Time, Window};

/// What a policy is to allow: an action at a scope, or on what lies below it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Wanted {
    /// The scope.
    pub scope: ScopeId,
    /// Whether what lies below it is meant.
    pub below: bool,
    /// The action.
    pub action: ActionId,
}

/// Why there is no draft.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum DraftFault {
    /// There is nothing to allow.
    #[error("there is nothing to allow: no request of these was found")]
    Nothing,
    /// The name is taken.
    #[error("policy `{0}` is there already")]
    Taken(String),
}

/// A draft.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Draft {
    /// What makes the policy and attaches it.
    pub edits: Vec<Edit>,
}

impl Log {
    /// What these did, and whoever is in one of them, or everybody: of requests that are allowed, or of
    /// all.
    #[must_use]
    pub fn wanted_by(
        &self,
        engine: &Engine,
        by: Option<&[Principal]>,
        at: Time,
        refused_too: bool,
    ) -> BTreeSet<Wanted> {
        let estate = engine.estate();
        let mut people: FxHashSet<Principal> = by.unwrap_or_default().iter().copied().collect();
        for who in by.unwrap_or_default() {
            match who {
                Principal::Group(group) => {
                    let all = estate.transitive_members(*group, at, usize::MAX);
                    people.extend(all.into_iter().map(|(who, _)| who));
                }
                Principal::Role(role) => {
                    let role = estate.role(*role);
                    let all = role.held_by.iter().chain(&role.taken_by);
                    people.extend(all.filter(|one| one.window.holds(at)).map(|one| one.who));
                }
                _ => {}
            }
        }
        let mut decider = Decider::new(engine);
        let mut found = BTreeSet::new();
        for one in self.each().filter(|one| by.is_none() || people.contains(&one.who)) {
            let Some(query) = one.query(estate) else { continue };
            if refused_too || allows(engine, &mut decider, one) {
                found.insert(Wanted {
                    scope: query.target.scope(),
                    below: !matches!(query.target.place, TargetPlace::Scope(_)),
                    action: query.action,
                });
            }
        }
        found
    }
}

/// The edits that make a policy of this name which allows just these, and attach it at the smallest
/// scopes that hold them.
///
/// # Errors
/// Nothing is wanted, or the name is taken.
pub fn draft(
    estate: &Estate,
    name: &str,
    to: &[String],
    wanted: &BTreeSet<Wanted>,
    about: Option<String>,
) -> Result<Draft, DraftFault> {
    if wanted.is_empty() {
        return Err(DraftFault::Nothing);
    }
    if estate.find_policy(name).is_some() {
        return Err(DraftFault::Taken(name.to_owned()));
    }
    let mut actions: BTreeMap<(ScopeId, bool), BTreeSet<ActionId>> = BTreeMap::new();
    for one in wanted {
        actions.entry((one.scope, one.below)).or_default().insert(one.action);
    }
    // Places where the same is done stand in one statement.
    let mut alike: BTreeMap<Vec<ActionId>, Vec<(ScopeId, bool)>> = BTreeMap::new();
    for (place, actions) in actions {
        alike.entry(actions.into_iter().collect()).or_default().push(place);
    }
    let at = smallest(estate, wanted.iter().map(|one| one.scope).collect());
    let keys = about.map(|about| ("about".to_owned(), Value::Text(about.into())));
    let mut edits = vec![Edit::New {
        target: Target::Policy(name.to_owned()),
        preset: None,
        keys: keys.into_iter().collect(),
    }];
    let mut statements: Vec<(Vec<String>, Vec<String>)> = alike
        .into_iter()
        .map(|(actions, places)| {
            let on: Vec<String> = places
                .iter()
                .map(|(scope, below)| {
                    let end = if *below { "/**" } else { "" };
                    format!("/{}{end}", estate.scope(*scope).path)
                })
                .collect();
            let is_all = places.len() == 1 && at.len() == 1 && places[0] == (at[0], true);
            let names = actions.iter().map(|id| estate.catalogue.action(*id).name.to_string());
            (names.collect(), if is_all { Vec::new() } else { on })
        })
        .collect();
    statements.sort();
    edits.extend(statements.into_iter().map(|(actions, on)| Edit::State {
        policy: name.to_owned(),
        effect: Effect::Allow,
        actions,
        on,
        when: None,
        name: None,
    }));
    edits.push(Edit::Attach {
        policies: vec![name.to_owned()],
        to: to.to_vec(),
        at: at.iter().map(|id| estate.scope(*id).path.to_string()).collect(),
        window: Window::ALWAYS,
    });
    Ok(Draft { edits })
}

/// The scopes at which something has to be attached to count at all of these: those that lie in no
/// other of them, or behind a seal that lets no allow of the other through.
fn smallest(estate: &Estate, scopes: BTreeSet<ScopeId>) -> Vec<ScopeId> {
    let is_reached = |id: ScopeId| {
        let mut sealed = false;
        for at in estate.scopes.chain(id) {
            if at != id && !sealed && scopes.contains(&at) {
                return true;
            }
            sealed |= estate.scope(at).sealed;
        }
        false
    };
    scopes.iter().copied().filter(|id| !is_reached(*id)).collect()
}
