//! Whom and where a change can concern at all: everybody and everything else decides as before,
//! and is not asked.

use std::collections::BTreeMap;

use rustc_hash::{FxHashMap, FxHashSet};

use super::change::{Difference, Thing};
use crate::attribute::{Attributes, Value};
use crate::catalogue::ActionSet;
use crate::condition::{Condition, Reference};
use crate::engine::{Index, SubjectId};
use crate::estate::Estate;
use crate::id::{ActionId, PolicyId, ScopeId, StatementId};
use crate::policy::{Effect, Statement};
use crate::principal::{Membership, Principal, Subject};
use crate::request::TargetPlace;

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
    /// Where, and by which policy, it may concern those for whom a subject counts.
    subjects: FxHashMap<String, FxHashSet<Tie>>,
    /// Whether it can concern any action: a ceiling bounds all that it does not name.
    any_action: bool,
    /// The actions that it can concern at most, save for those who are in something else.
    actions: FxHashSet<Box<str>>,
}

/// The scope at and below which something is tied to somebody (`None`: everywhere), and the policy
/// whose actions it can concern at most (`None`: any action).
type Tie = (Option<String>, Option<Box<str>>);

/// A part of the tree in which somebody may be concerned.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct TouchedPart {
    pub(super) place: TouchedPlace,
    /// The policy whose actions it can concern at most; `None`: any action.
    pub(super) policy: Option<Box<str>>,
}

/// Where a part lies.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum TouchedPlace {
    Everywhere,
    Below(String),
    At(String),
}

impl TouchedPart {
    /// A part in which any action counts.
    pub(super) fn of_any_action(place: TouchedPlace) -> Self {
        Self { place, policy: None }
    }
}

/// One statement, as far as it decides.
type Said = (Effect, Vec<Box<str>>, Vec<String>, Option<Box<str>>);

impl Touches {
    pub(super) fn between(before: &Estate, after: &Estate, differences: &[Difference]) -> Self {
        let mut touches = Self::default();
        let estates = [before, after];
        let mut policies: FxHashSet<&str> = FxHashSet::default();
        let mut asked: Option<Asked> = None;
        for one in differences {
            match &one.thing {
                Thing::Kind(_) => touches.everything |= !one.is_only(&["about", "service"]),
                Thing::Attribute(_) => touches.everything |= !one.is_only(&["about"]),
                Thing::Scope(path) => touches.scope(estates, path, one),
                // What can be asked of a user as a target is nothing of these, nor of one that is none.
                Thing::User(_) if one.is_only(&["about", "enabled", "full-name", "source"]) => {}
                Thing::User(name) if !has_place(estates, name) => {}
                Thing::User(_) | Thing::Group(_) | Thing::Role(_) => {
                    let asked = asked.get_or_insert_with(|| Asked::of(estates));
                    touches.identity(estates, &one.thing.to_string(), asked);
                }
                Thing::Policy(name) => {
                    if !one.is_only(&["place", "about", "locked", "attachable"]) {
                        policies.insert(name);
                    }
                    if one.keys.is_empty() || one.keys.contains(&"place") {
                        for estate in estates {
                            let policy = estate.find_policy(name).map(|id| estate.policy(id));
                            let place = policy.and_then(|policy| policy.place);
                            touches.at.extend(place.map(|at| estate.scope(at).path.to_string()));
                        }
                    }
                }
                Thing::Attachment { policy, to, at } => {
                    estates.iter().for_each(|estate| touches.add_actions(estate, policy));
                    let tie = (Some(at.clone()), Some(policy.as_str().into()));
                    touches.subjects.entry(to.clone()).or_default().insert(tie);
                }
                Thing::Ceiling { bound, over, .. } => {
                    touches.any_action = true;
                    let tie = (over.clone(), None);
                    touches.subjects.entry(bound.clone()).or_default().insert(tie);
                }
                Thing::Preset(_)
                | Thing::Service(_)
                | Thing::Expectation(_)
                | Thing::EditRights
                | Thing::Vet
                | Thing::Review(_)
                | Thing::Application(_)
                | Thing::Source(_)
                | Thing::Accepted(..)
                | Thing::Name => {}
            }
        }
        for policy in &policies {
            estates.iter().for_each(|estate| touches.add_actions(estate, policy));
        }
        if !policies.is_empty() {
            estates.iter().for_each(|estate| touches.ties_of(estate, &policies));
        }
        touches
    }

    /// Everybody whom it may concern, by id; `None`: all. Users who can never do anything in either estate
    /// are left out where they differ themselves.
    pub(super) fn concerned(
        &self,
        indexes: [&Index; 2],
        differences: &[Difference],
    ) -> Option<FxHashSet<String>> {
        let estates = indexes.map(Index::estate);
        let is_idle = |index: &Index, name: &str| {
            let user = index.estate().find_user(name);
            user.is_none_or(|user| index.can_never_do_anything(Principal::User(user)))
        };
        let seeds = differences.iter().filter(|one| !one.decides_nothing());
        let seeds = seeds.filter_map(|one| match &one.thing {
            Thing::User(name) if indexes.iter().all(|index| is_idle(index, name)) => None,
            Thing::User(_) | Thing::Group(_) | Thing::Role(_) => Some(one.thing.to_string()),
            _ => None,
        });
        let mut found: FxHashSet<String> = seeds.chain(self.subjects.keys().cloned()).collect();
        if self.everything
            || !self.below.is_empty()
            || !self.at.is_empty()
            || found.contains("everyone")
        {
            return None;
        }
        // Nobody is in users and workloads.
        let holds_others = |id: &str| id.starts_with("group:") || id.starts_with("role:");
        let mut waiting: Vec<String> =
            found.iter().filter(|id| holds_others(id)).cloned().collect();
        while let Some(id) = waiting.pop() {
            for estate in estates {
                let below = estate.find_principal(&id).map(|who| within(estate, who));
                for who in below.into_iter().flatten() {
                    let id = estate.principal_id(who);
                    if found.insert(id.clone()) && holds_others(&id) {
                        waiting.push(id);
                    }
                }
            }
        }
        Some(found)
    }

    /// The subjects for whom it may concern something somewhere, as an estate numbers them.
    pub(super) fn numbered(&self, index: &Index) -> FxHashMap<SubjectId, String> {
        let estate = index.estate();
        let numbered = self.subjects.keys().filter_map(|id| {
            let subject = match &**id {
                "everyone" => Subject::Everyone,
                id => Subject::One(estate.find_principal(id)?),
            };
            Some((index.scope_index.subject_ids.of(subject), id.clone()))
        });
        numbered.collect()
    }

    /// Where it may concern somebody for whom these subjects count.
    pub(super) fn of<'s>(&self, subjects: impl Iterator<Item = &'s str>) -> Vec<TouchedPart> {
        if self.everything {
            return vec![TouchedPart::of_any_action(TouchedPlace::Everywhere)];
        }
        let below = self.below.iter().cloned().map(TouchedPlace::Below);
        let at = self.at.iter().cloned().map(TouchedPlace::At);
        let mut found: Vec<TouchedPart> = below.chain(at).map(TouchedPart::of_any_action).collect();
        for ties in subjects.filter_map(|subject| self.subjects.get(subject)) {
            found.extend(ties.iter().map(|(at, policy)| {
                let place = at.clone().map_or(TouchedPlace::Everywhere, TouchedPlace::Below);
                TouchedPart { place, policy: policy.clone() }
            }));
        }
        found
    }

    fn add_actions(&mut self, estate: &Estate, policy: &str) {
        let Some(policy) = estate.find_policy(policy).map(|id| estate.policy(id)) else { return };
        let named = policy.allowed_actions.ones().chain(policy.denied_actions.ones());
        self.actions.extend(named.map(|i| estate.catalogue.actions[i].name.clone()));
    }

    /// The actions that it can concern at most, of those of one of the estates, for somebody who is
    /// the same and in the same in both; `None`: any.
    pub(super) fn actions_of(&self, estate: &Estate) -> Option<ActionSet> {
        if self.everything || self.any_action || !self.below.is_empty() || !self.at.is_empty() {
            return None;
        }
        let mut set = ActionSet::with_capacity(estate.catalogue.actions.len());
        let known = self.actions.iter().filter_map(|name| estate.catalogue.find_action(name));
        set.extend(known.map(ActionId::index));
        Some(set)
    }

    fn scope(&mut self, estates: [&Estate; 2], path: &str, difference: &Difference) {
        if difference.is_only(&["about"]) {
            return;
        }
        self.below.push(path.to_owned());
        if difference.keys.is_empty()
            && let Some((above, _)) = path.rsplit_once('/')
            && estates.iter().any(|estate| estate.scopes.find(above).is_some())
        {
            // It takes its name from the items of what holds it.
            self.at.push(above.to_owned());
        }
    }

    /// A user, group or role as a target.
    fn identity(&mut self, estates: [&Estate; 2], id: &str, asked: &Asked) {
        let seen = estates.map(|estate| {
            let who = estate.find_principal(id)?;
            let place = estate.identity(who)?.place?;
            let place = TargetPlace::Identity(who, place);
            Some((estate.scope(place.scope()).path.to_string(), shown(estate, place, Some(asked))))
        });
        if seen[0] != seen[1] {
            self.at.extend(seen.into_iter().flatten().map(|(at, _)| at));
        }
    }

    /// Adds what is tied by these policies, or by others that include them.
    fn ties_of(&mut self, estate: &Estate, policies: &FxHashSet<&str>) {
        let named: Vec<PolicyId> =
            policies.iter().filter_map(|name| estate.find_policy(name)).collect();
        let all = (0..estate.policies.len()).map(PolicyId::new);
        let has_one =
            |id: &PolicyId| named.iter().any(|named| named == id || estate.includes(*id, *named));
        let differing: FxHashSet<PolicyId> = all.filter(has_one).collect();
        let mut add = |subject: Subject, at: Option<ScopeId>, policy: Option<PolicyId>| {
            let at = at.map(|at| estate.scope(at).path.to_string());
            let policy = policy.map(|policy| estate.policy(policy).name.clone());
            self.subjects.entry(subject_id(estate, subject)).or_default().insert((at, policy));
        };
        for one in &estate.attachments {
            for policy in one.policies.iter().filter(|policy| differing.contains(&policy.value)) {
                for at in &one.at {
                    one.to.iter().for_each(|to| add(to.value, Some(at.value), Some(policy.value)));
                }
            }
        }
        for one in &estate.ceilings {
            if one.policies.iter().any(|policy| differing.contains(&policy.value)) {
                self.any_action = true;
                let over: Vec<Option<ScopeId>> = match &one.over {
                    None => vec![None],
                    Some(over) => over.iter().map(|at| Some(at.value)).collect(),
                };
                one.bound.iter().for_each(|to| over.iter().for_each(|at| add(*to, *at, None)));
            }
        }
    }

    /// Whether a policy that bounds a session says something else.
    pub(super) fn bound_differs(before: &Estate, after: &Estate, under: &[&str]) -> bool {
        under.iter().any(|name| said(before, name) != said(after, name))
    }
}

/// Whether a user is a target in one of the estates.
fn has_place(estates: [&Estate; 2], user: &str) -> bool {
    let in_one =
        |estate: &&Estate| Some(estate.user(estate.find_user(user)?).identity.place.is_some());
    estates.iter().filter_map(in_one).any(|has_place| has_place)
}

/// Who is in a group directly, holds a role, or may take it up.
pub(crate) fn within(estate: &Estate, who: Principal) -> Vec<Principal> {
    let listed = |list: &[Membership]| list.iter().map(|one| one.who).collect::<Vec<_>>();
    match who {
        Principal::Group(id) => {
            let group = estate.group(id);
            let mut all = listed(group.members.as_deref().unwrap_or(&[]));
            all.extend(group.matching.iter().map(|user| Principal::User(*user)));
            all
        }
        Principal::Role(id) => {
            let role = estate.role(id);
            [listed(&role.held_by), listed(&role.taken_by)].concat()
        }
        Principal::User(_) | Principal::Workload(_) => Vec::new(),
    }
}

/// What conditions and braces ask of targets and of who asks, by its written name.
#[derive(Debug, Default)]
pub(super) struct Asked(FxHashSet<String>);

impl Asked {
    fn of(estates: [&Estate; 2]) -> Self {
        let mut asked = Self::default();
        for estate in estates {
            estate.statements.iter().for_each(|statement| asked.add(estate, statement));
        }
        asked
    }

    /// Adds what a statement asks.
    pub(super) fn add(&mut self, estate: &Estate, statement: &Statement) {
        let when = statement.when.iter().flat_map(Condition::references);
        let braces = statement.on.plain.iter().chain(&statement.on.excluded);
        let braces = braces.flat_map(|pattern| pattern.braces().map(|one| one.attribute));
        for reference in when.map(|(reference, _)| reference).chain(braces) {
            if matches!(reference, Reference::Target(_) | Reference::Who(_)) {
                self.0.insert(reference.written(&estate.attribute_names));
            }
        }
    }

    pub(super) fn asks(&self, name: &str) -> bool {
        // A head of attributes is there because of what stands below it.
        let below = format!("{name}.");
        self.0.iter().any(|asked| {
            asked == name || asked.starts_with(&below) || name.starts_with(&format!("{asked}."))
        })
    }
}

pub(super) fn attributes(estate: &Estate, of: &Attributes) -> BTreeMap<String, Value> {
    let named = of.iter();
    named.map(|(id, value)| (estate.attribute_names.name(id).to_owned(), value.clone())).collect()
}

/// What conditions can ask of a target that is an identity; only what is asked, if that is known.
pub(super) fn shown(estate: &Estate, place: TargetPlace, asked: Option<&Asked>) -> String {
    let is_asked = |name: &str| asked.is_none_or(|asked| asked.asks(name));
    let TargetPlace::Identity(who, _) = place else { return String::new() };
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
            let manager = estate.user(id).manager.filter(|_| is_asked("target.manager"));
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
            let owners = owners.filter(|_| is_asked("target.owners"));
            let listed = group.members.as_deref().filter(|_| is_asked("target.members"));
            let join = is_asked("target.join").then_some(group.join);
            format!("{owners:?} {:?} {join:?}", listed.map(members))
        }
        Principal::Role(_) | Principal::Workload(_) => String::new(),
    };
    let own = estate.identity(who).map(|identity| {
        let mut own = attributes(estate, &identity.attributes);
        own.retain(|name, _| is_asked(&format!("target.{name}")));
        own
    });
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

pub(super) fn subject_id(estate: &Estate, subject: Subject) -> String {
    match subject {
        Subject::Everyone => "everyone".to_owned(),
        Subject::One(who) => estate.principal_id(who),
    }
}
