//! Whom and where a change can concern at all: everybody and everything else decides as before,
//! and is not asked.

use std::collections::BTreeMap;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::attribute::{Attributes, Value};
use crate::estate::Estate;
use crate::id::{PolicyId, ScopeId, StatementId};
use crate::policy::Effect;
use crate::principal::{Membership, Principal, Subject};
use crate::request::Place;
use crate::time::Window;

/// What differs between two estates, by whom and what it can concern.
#[derive(Debug, Default)]
pub(super) struct Touches {
    /// Whether anybody may do anything otherwise anywhere.
    pub(super) everything: bool,
    /// Scopes at and below which it may concern everybody.
    below: Vec<String>,
    /// Scopes at which it may concern everybody: the scope itself, its items and what is placed
    /// there.
    at: Vec<String>,
    /// Scopes at and below which it may concern those for whom a subject counts; `None`: everywhere.
    subjects: FxHashMap<String, FxHashSet<Option<String>>>,
}

/// A part of the tree in which somebody may be concerned.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Part {
    Everywhere,
    Below(String),
    At(String),
}

/// One statement, as far as it decides.
type Said = (Effect, Vec<Box<str>>, Vec<String>, Option<Box<str>>);
/// An attachment or (`true`) a ceiling, multiplied out: whom it names, where, which policy, when.
type Tie = (bool, String, Option<String>, String, Window);

impl Touches {
    pub(super) fn between(before: &Estate, after: &Estate) -> Self {
        let mut touches = Self {
            everything: catalogue(before) != catalogue(after) || !declares_the_same(before, after),
            ..Self::default()
        };
        touches.scopes(before, after);
        touches.identities(before, after);
        touches.policies(before, after);
        touches
    }

    /// Where it may concern somebody for whom these subjects count.
    pub(super) fn of(&self, subjects: impl Iterator<Item = String>) -> Vec<Part> {
        if self.everything {
            return vec![Part::Everywhere];
        }
        let mut found: Vec<Part> = self.below.iter().cloned().map(Part::Below).collect();
        found.extend(self.at.iter().cloned().map(Part::At));
        for scopes in subjects.filter_map(|subject| self.subjects.get(&subject)) {
            let part = |at: &Option<String>| at.clone().map_or(Part::Everywhere, Part::Below);
            found.extend(scopes.iter().map(part));
        }
        found
    }

    fn scopes(&mut self, before: &Estate, after: &Estate) {
        for (one, other) in [(before, after), (after, before)] {
            for (id, scope) in one.scopes.iter() {
                match other.scopes.find(&scope.path) {
                    Some(same) if is_same_scope((one, id), (other, same)) => {}
                    Some(_) => self.below.push(scope.path.to_string()),
                    None => {
                        self.below.push(scope.path.to_string());
                        // It takes its name from the items of what holds it.
                        let above = scope.parent.map(|above| one.scope(above).path.to_string());
                        self.at.extend(above);
                    }
                }
            }
        }
    }

    /// Users, groups, roles and policies as targets.
    fn identities(&mut self, before: &Estate, after: &Estate) {
        for (one, other) in [(before, after), (after, before)] {
            for (path, place) in &one.identities_at {
                let there = other.identities_at.get(path).map(|place| shown(other, *place));
                if there != Some(shown(one, *place)) {
                    self.at.push(one.scope(place.scope()).path.to_string());
                }
            }
        }
    }

    fn policies(&mut self, before: &Estate, after: &Estate) {
        let names: FxHashSet<&str> =
            before.policies.iter().chain(&after.policies).map(|policy| &*policy.name).collect();
        let differs = |name: &&str| said(before, name) != said(after, name);
        let differing: FxHashSet<&str> = names.into_iter().filter(differs).collect();
        let (ties, other_ties) = (ties(before), ties(after));
        for (mine, others) in [(&ties, &other_ties), (&other_ties, &ties)] {
            for tie in mine {
                let (_, subject, at, policy, _) = tie;
                if differing.contains(policy.as_str()) || !others.contains(tie) {
                    self.subjects.entry(subject.clone()).or_default().insert(at.clone());
                }
            }
        }
    }

    /// Whether a policy that bounds a session says something else.
    pub(super) fn bound_differs(before: &Estate, after: &Estate, under: &[&str]) -> bool {
        under.iter().any(|name| said(before, name) != said(after, name))
    }
}

/// Whether the same is declared of attributes.
pub(super) fn declares_the_same(before: &Estate, after: &Estate) -> bool {
    format!("{:?}", before.vocabulary) == format!("{:?}", after.vocabulary)
}

/// Services decide nothing; all else of the catalogue does.
fn catalogue(estate: &Estate) -> Vec<String> {
    let catalogue = &estate.catalogue;
    let kinds = catalogue.kinds.iter().map(|kind| {
        let name = |id: &crate::id::KindId| catalogue.kind(*id).name.to_string();
        let [items, holds] = [&kind.items, &kind.holds].map(|list| {
            let mut names: Vec<String> = list.iter().map(name).collect();
            names.sort_unstable();
            names
        });
        format!("{} {items:?} {holds:?}", kind.name)
    });
    let actions = catalogue
        .actions
        .iter()
        .map(|action| format!("{} {:?} {:?}", action.name, action.level, action.addresses));
    let mut all: Vec<String> = kinds.chain(actions).collect();
    all.sort_unstable();
    all
}

fn is_same_scope((one, id): (&Estate, ScopeId), (other, same): (&Estate, ScopeId)) -> bool {
    let (a, b) = (one.scope(id), other.scope(same));
    let kind = |estate: &Estate, of: Option<crate::id::KindId>| {
        of.map(|kind| estate.catalogue.kind(kind).name.clone())
    };
    (a.scope_type, a.sealed) == (b.scope_type, b.sealed)
        && kind(one, a.kind) == kind(other, b.kind)
        && attributes(one, &a.attributes) == attributes(other, &b.attributes)
}

pub(super) fn attributes(estate: &Estate, of: &Attributes) -> BTreeMap<String, Value> {
    let named = of.iter();
    named.map(|(id, value)| (estate.attribute_names.name(id).to_owned(), value.clone())).collect()
}

/// What conditions can ask of a target that is an identity.
pub(super) fn shown(estate: &Estate, place: Place) -> String {
    let Place::Identity(who, _) = place else { return String::new() };
    let members = |list: &[Membership]| -> Vec<String> {
        let mut all: Vec<String> = list
            .iter()
            .map(|one| format!("{} {:?}", estate.principal_id(one.who), one.window))
            .collect();
        all.sort_unstable();
        all
    };
    let more = match who {
        Principal::User(id) => {
            let manager = estate.user(id).manager;
            format!("{:?}", manager.map(|id| estate.principal_id(Principal::User(id))))
        }
        Principal::Group(id) => {
            let group = estate.group(id);
            let owners = group.owners.as_ref().map(|owners| {
                let mut all: Vec<String> =
                    owners.iter().map(|id| estate.principal_id(Principal::User(*id))).collect();
                all.sort_unstable();
                all
            });
            let listed = group.members.as_deref().map(members);
            format!("{owners:?} {listed:?} {:?}", group.join)
        }
        Principal::Role(_) | Principal::Workload(_) => String::new(),
    };
    let own = estate.identity(who).map(|identity| attributes(estate, &identity.attributes));
    format!("{} {own:?} {more}", estate.principal_id(who))
}

/// The statements of a policy, as far as they decide; `None` where there is no such policy.
fn said(estate: &Estate, policy: &str) -> Option<Vec<Said>> {
    let policy = estate.policy(estate.find_policy(policy)?);
    let one = |id: &StatementId| {
        let statement = estate.statement(*id);
        let named = statement.actions.ones().map(|i| estate.catalogue.actions[i].name.clone());
        let mut actions: Vec<Box<str>> = named.collect();
        actions.sort_unstable();
        let mut on: Vec<String> = statement.on.texts().map(str::to_owned).collect();
        on.sort_unstable();
        (statement.effect, actions, on, statement.when.as_ref().map(|when| when.text.clone()))
    };
    let mut all: Vec<Said> = policy.allows.iter().chain(&policy.denies).map(one).collect();
    all.sort_unstable();
    all.dedup();
    Some(all)
}

/// Every attachment and every ceiling.
pub(super) fn ties(estate: &Estate) -> FxHashSet<Tie> {
    let subject = |subject: Subject| subject_id(estate, subject);
    let path = |at: ScopeId| estate.scope(at).path.to_string();
    let policy = |id: PolicyId| estate.policy(id).name.to_string();
    let mut all: FxHashSet<Tie> = FxHashSet::default();
    for one in &estate.attachments {
        for to in &one.to {
            for at in &one.at {
                let at = Some(path(at.value));
                let ties = one
                    .policies
                    .iter()
                    .map(|id| (false, subject(to.value), at.clone(), policy(id.value), one.window));
                all.extend(ties);
            }
        }
    }
    for one in &estate.ceilings {
        let over: Vec<Option<String>> = match &one.over {
            None => vec![None],
            Some(over) => over.iter().map(|at| Some(path(at.value))).collect(),
        };
        for bound in &one.bound {
            for at in &over {
                let ties = one
                    .policies
                    .iter()
                    .map(|id| (true, subject(*bound), at.clone(), policy(id.value), one.window));
                all.extend(ties);
            }
        }
    }
    all
}

pub(super) fn subject_id(estate: &Estate, subject: Subject) -> String {
    match subject {
        Subject::Everyone => "everyone".to_owned(),
        Subject::One(who) => estate.principal_id(who),
    }
}
