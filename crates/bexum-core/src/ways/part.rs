//! The part of an estate that a step can concern: small enough to be built again for each step.
//!
//! A part holds some people whole: all that they are in at any time, and every attachment and ceiling
//! that names any of that at some scopes or above or below them. Whatever these people are decided
//! there is what they are decided in the estate, and the rows there are the estate's rows. What
//! else it holds (a manager, an owner that a target may be asked for) is there by name, and is not
//! compared.

use std::collections::{BTreeSet, VecDeque};
use std::hash::Hash;

use rustc_hash::FxHashSet;

use super::{Concerned, Extent, Places, Search, Step};
use crate::condition::Reference;
use crate::condition::check::WhoAttribute;
use crate::declaration::{Attachment, Ceiling, Declarations, Element, List, Named, Policy};
use crate::edit::Edit;
use crate::engine::Engine;
use crate::estate::Estate;
use crate::id::{PolicyId, ScopeId};
use crate::impact::within;
use crate::origin::Spanned;
use crate::principal::{Principal, Subject};
use crate::time::Time;

/// A part of an estate, built.
#[derive(Debug)]
pub(super) struct Part {
    pub(super) declared: Declarations,
    pub(super) engine: Engine,
}

impl<'s> Search<'s> {
    /// Everything that these come to, at any time, themselves among it.
    pub(super) fn above(&self, of: &[Principal]) -> FxHashSet<Principal> {
        let index = self.index();
        grown(of, |who| {
            let groups = index.groups_of.get(&who).into_iter().flatten();
            let held = index.held_roles_of.get(&who).into_iter().flatten();
            let taken = index.takeable_roles_of.get(&who).into_iter().flatten();
            let groups = groups.map(|edge| Principal::Group(edge.into));
            groups.chain(held.chain(taken).map(|edge| Principal::Role(edge.into))).collect()
        })
    }

    /// Everything that something brings at a moment, itself among it.
    pub(super) fn held_by_now(&self, of: Principal, at: Time) -> FxHashSet<Principal> {
        let index = self.index();
        grown(&[of], |who| {
            let groups = index.groups_of.get(&who).into_iter().flatten();
            let groups = groups.filter(|edge| edge.window.holds(at));
            let held = index.held_roles_of.get(&who).into_iter().flatten();
            let held = held.filter(|edge| edge.window.holds(at));
            let groups = groups.map(|edge| Principal::Group(edge.into));
            groups.chain(held.map(|edge| Principal::Role(edge.into))).collect()
        })
    }

    /// Everybody who comes to any of these, at any time, themselves among them.
    pub(super) fn below(&self, of: &[Principal]) -> FxHashSet<Principal> {
        grown(of, |who| within(self.estate(), who))
    }

    pub(super) fn named(&self, all: impl IntoIterator<Item = Principal>) -> BTreeSet<String> {
        all.into_iter().map(|who| self.estate().principal_id(who)).collect()
    }

    /// Where it may matter that somebody comes to a group or role, or does so no more.
    pub(super) fn places_of(&self, who: &[Principal], into: Principal) -> Places {
        let (estate, index) = (self.estate(), self.index());
        let brought = self.above(&[into]);
        let mut subjects: Vec<Subject> = brought.iter().map(|who| Subject::One(*who)).collect();
        if brought.iter().any(|who| matches!(who, Principal::Role(_))) {
            // With a role comes a session of its own, which has what everyone has.
            subjects.push(Subject::Everyone);
        }
        let mut found: Vec<ScopeId> = Vec::new();
        for subject in &subjects {
            for id in index.attachments_of.get(subject).into_iter().flatten() {
                found.extend(estate.attachment(*id).at.iter().map(|at| at.value));
            }
        }
        // Conditions may ask what somebody is in.
        let asking = self.asks_what_one_is_in();
        let seeds: Vec<Principal> = self.below(who).into_iter().chain([into]).collect();
        let all = self.above(&seeds);
        let is_theirs = |subject: Subject| match subject {
            Subject::Everyone => true,
            Subject::One(who) => all.contains(&who),
        };
        for attachment in &estate.attachments {
            let asks = attachment.policies.iter().any(|one| asking.contains(&one.value));
            if asks && attachment.to.iter().any(|to| is_theirs(to.value)) {
                found.extend(attachment.at.iter().map(|at| at.value));
            }
        }
        for ceiling in &estate.ceilings {
            let brings = ceiling.bound.iter().any(|subject| subjects.contains(subject));
            let asks = ceiling.policies.iter().any(|one| asking.contains(&one.value))
                && ceiling.bound.iter().any(|subject| is_theirs(*subject));
            if brings || asks {
                match &ceiling.over {
                    None => return Places::Everywhere,
                    Some(over) => found.extend(over.iter().map(|at| at.value)),
                }
            }
        }
        found.sort_unstable();
        found.dedup();
        Places::Below(found)
    }

    /// Policies with a statement that asks what somebody is in.
    fn asks_what_one_is_in(&self) -> FxHashSet<PolicyId> {
        let estate = self.estate();
        let asks = |reference: Reference| {
            matches!(reference, Reference::Who(WhoAttribute::Groups | WhoAttribute::Roles))
        };
        let such = (0..estate.policies.len()).map(PolicyId::new).filter(|id| {
            let body = estate.policy(*id);
            body.allows.iter().chain(&body.denies).any(|id| {
                let statement = estate.statement(*id);
                let mut patterns = statement.on.plain.iter().chain(&statement.on.excluded);
                let in_condition = statement
                    .when
                    .as_ref()
                    .is_some_and(|when| when.references().iter().any(|(one, _)| asks(*one)));
                in_condition
                    || patterns.any(|pattern| pattern.braces().any(|brace| asks(brace.attribute)))
            })
        });
        such.collect()
    }

    pub(super) fn make_part(&self, extent: &Extent) -> Part {
        let Extent { concerned, places, into, .. } = extent;
        let whole = || Part { declared: self.declared.clone(), engine: self.engine.clone() };
        let estate = self.estate();
        let mut seeds: Vec<Principal> = match (concerned, places) {
            (Concerned::Everybody, Places::Everywhere) => return whole(),
            (Concerned::Everybody, _) => estate.principals().collect(),
            (Concerned::These(seeds), _) => self.below(seeds).into_iter().collect(),
            (Concerned::Only(people), _) => people.clone(),
        };
        let request = self.request;
        let named = [&*request.who].into_iter().chain(request.take_up.as_deref());
        let named = named.chain(request.also.iter().map(|group| &**group));
        seeds.extend(named.filter_map(|name| estate.find_principal(name)));
        seeds.extend(into);
        self.built(&self.above(&seeds), places).unwrap_or_else(whole)
    }

    /// The part that holds these whole, with rows at these places and at the request's target.
    fn built(&self, people: &FxHashSet<Principal>, places: &Places) -> Option<Part> {
        let declared = self.taken(people, places);
        let estate = Estate::build_beside(&declared, self.estate()).ok()?;
        Some(Part { declared, engine: Engine::new(estate) })
    }

    fn taken(&self, people: &FxHashSet<Principal>, places: &Places) -> Declarations {
        let (all, estate) = (self.declared, self.estate());
        let mut rows: FxHashSet<ScopeId> = FxHashSet::default();
        match places {
            Places::Everywhere => rows.extend(estate.scopes.iter().map(|(id, _)| id)),
            Places::Below(below) => {
                let target = crate::request::resolve_target(estate, &self.request.on).ok();
                let target = target.map(|target| target.place.scope());
                rows.extend(target);
                for at in below {
                    rows.extend(estate.scopes.subtree(*at).map(ScopeId::new));
                }
            }
        }
        let known = self.with_named(people, &rows);
        let mut scopes: FxHashSet<ScopeId> = FxHashSet::default();
        rows.iter().for_each(|at| scopes.extend(estate.scopes.chain(*at)));
        let policies = self.policies_for(&known, &rows, &scopes);
        let things = known.iter().filter_map(|who| match who {
            Principal::Workload(scope) => Some(*scope),
            other => estate.identity(*other)?.place,
        });
        let bodies = policies.iter().map(|id| estate.policy(*id));
        let of_policies = bodies.flat_map(|body| {
            let attachable = body.attachable.iter().flatten().map(|at| at.value);
            attachable.chain(body.place)
        });
        let ties_at = scopes.clone();
        for at in things.chain(of_policies) {
            scopes.extend(estate.scopes.chain(at));
        }

        let is_known =
            |one: &str| estate.find_principal(one).is_some_and(|who| known.contains(&who));
        let is_subject = |one: &Spanned<String>| one.value == "everyone" || is_known(&one.value);
        let is_scope = |one: &str| estate.scopes.find(one).is_some_and(|id| scopes.contains(&id));
        let is_place = |one: &Spanned<String>| {
            estate.scopes.find(&one.value).is_some_and(|id| ties_at.contains(&id))
        };
        let is_policy =
            |one: &str| estate.find_policy(one).is_some_and(|id| policies.contains(&id));
        let keep = |list: &mut Vec<Element>| list.retain(|one| is_known(&one.who.value));
        let mut groups = named(&all.groups, |name| is_known(&format!("group:{name}")));
        for group in &mut groups {
            group.body.members.iter_mut().for_each(keep);
            let owners = group.body.owners.iter_mut();
            owners.for_each(|list| list.retain(|one| is_known(&one.value)));
            group.body.asks.clear();
        }
        let mut roles = named(&all.roles, |name| is_known(&format!("role:{name}")));
        for role in &mut roles {
            keep(&mut role.body.held_by);
            keep(&mut role.body.taken_by);
        }
        let fewer = |list: &List, is: &dyn Fn(&Spanned<String>) -> bool| List {
            value: list.value.iter().filter(|one| is(one)).cloned().collect(),
            origin: list.origin,
        };
        let attachments = all.attachments.iter().filter_map(|one| {
            let to = fewer(&one.to, &is_subject);
            let at = fewer(&one.at, &is_place);
            let is_empty = to.value.is_empty() || at.value.is_empty();
            (!is_empty).then(|| Attachment { to, at, ..one.clone() })
        });
        let ceilings = all.ceilings.iter().filter_map(|one| {
            let bound = one.bound.as_ref().map(|list| fewer(list, &is_subject));
            let over = one.over.as_ref().map(|list| fewer(list, &is_place));
            let is_empty = bound.iter().chain(&over).any(|list| list.value.is_empty());
            (!is_empty).then(|| Ceiling { bound, over, ..one.clone() })
        });
        Declarations {
            name: all.name.clone(),
            attributes: all.attributes.clone(),
            services: all.services.clone(),
            kinds: all.kinds.clone(),
            scopes: named(&all.scopes, is_scope),
            users: named(&all.users, |name| is_known(&format!("user:{name}"))),
            groups,
            roles,
            policies: named(&all.policies, is_policy),
            attachments: attachments.collect(),
            ceilings: ceilings.collect(),
            ..Declarations::default()
        }
    }

    /// These, the identities that stand in these rows, whom those name, and all managers.
    fn with_named(
        &self,
        people: &FxHashSet<Principal>,
        rows: &FxHashSet<ScopeId>,
    ) -> FxHashSet<Principal> {
        let estate = self.estate();
        let mut known = people.clone();
        for who in estate.principals() {
            let place = estate.identity(who).and_then(|identity| identity.place);
            if !place.is_some_and(|place| rows.contains(&place)) {
                continue;
            }
            known.insert(who);
            known.extend(within(estate, who));
            if let Principal::Group(id) = who {
                known.extend(
                    estate.group(id).owners.iter().flatten().map(|id| Principal::User(*id)),
                );
            }
        }
        let all: Vec<Principal> = known.iter().copied().collect();
        grown(&all, |who| match who {
            Principal::User(id) => {
                estate.user(id).manager.into_iter().map(Principal::User).collect()
            }
            _ => Vec::new(),
        })
    }

    /// The policies that are tied to any of these at these scopes, or that stand in these rows, with
    /// all that they include.
    fn policies_for(
        &self,
        known: &FxHashSet<Principal>,
        rows: &FxHashSet<ScopeId>,
        scopes: &FxHashSet<ScopeId>,
    ) -> FxHashSet<PolicyId> {
        let estate = self.estate();
        let is_known = |subject: Subject| match subject {
            Subject::Everyone => true,
            Subject::One(who) => known.contains(&who),
        };
        let is_there = |at: ScopeId| scopes.contains(&at);
        let attached = estate.attachments.iter().filter(|one| {
            one.at.iter().any(|at| is_there(at.value)) && one.to.iter().any(|to| is_known(to.value))
        });
        let bound = estate.ceilings.iter().filter(|one| {
            let stands =
                one.over.as_ref().is_none_or(|over| over.iter().any(|at| is_there(at.value)));
            stands && one.bound.iter().any(|to| is_known(*to))
        });
        let tied =
            attached.flat_map(|one| &one.policies).chain(bound.flat_map(|one| &one.policies));
        let all = (0..estate.policies.len()).map(PolicyId::new);
        let standing =
            all.filter(|id| estate.policy(*id).place.is_some_and(|at| rows.contains(&at)));
        let under = self.request.under.iter().filter_map(|name| estate.find_policy(name));
        let seeds: Vec<PolicyId> = tied.map(|one| one.value).chain(standing).chain(under).collect();
        grown(&seeds, |id| estate.policy(id).include.to_vec())
    }

    /// Adds the policies that a step names, where they are missing.
    pub(super) fn add_policies(&self, declared: &mut Declarations, step: &Step) {
        let named = step.edits.iter().flat_map(|edit| match edit {
            Edit::Attach { policies, .. } => &policies[..],
            Edit::State { policy, .. } | Edit::Spare { policy, .. } => std::slice::from_ref(policy),
            _ => &[],
        });
        let before = declared.policies.len();
        add_named(self.declared, &mut declared.policies, named.map(String::as_str));
        let known: FxHashSet<String> =
            declared.scopes.iter().map(|one| one.name.value.clone()).collect();
        for policy in &mut declared.policies[before..] {
            // Those that stand in its rows are in the part already.
            policy.body.place = None;
            let is_there = |at: &Spanned<String>| known.contains(&at.value);
            let fewer = |list: &mut List| list.value.retain(is_there);
            policy.body.attachable.iter_mut().for_each(fewer);
        }
    }
}

/// The declarations whose names are so.
fn named<T: Clone>(all: &[Named<T>], is: impl Fn(&str) -> bool) -> Vec<Named<T>> {
    all.iter().filter(|one| is(&one.name.value)).cloned().collect()
}

/// Adds policies by name, with all that they include, each once.
fn add_named<'n>(
    all: &'n Declarations,
    to: &mut Vec<Named<Policy>>,
    names: impl Iterator<Item = &'n str>,
) {
    let mut known: FxHashSet<String> = to.iter().map(|one| one.name.value.clone()).collect();
    let mut waiting: VecDeque<&str> = names.collect();
    if waiting.is_empty() {
        return;
    }
    let by_name: rustc_hash::FxHashMap<&str, &Named<Policy>> =
        all.policies.iter().map(|one| (one.name.value.as_str(), one)).collect();
    while let Some(name) = waiting.pop_front() {
        let Some(policy) = by_name.get(name) else { continue };
        if known.insert(name.to_owned()) {
            to.push((*policy).clone());
            waiting.extend(policy.body.include.iter().map(|one| one.value.as_str()));
        }
    }
}

/// Everything that is reached from some, themselves among it.
fn grown<T: Copy + Eq + Hash>(from: &[T], next: impl Fn(T) -> Vec<T>) -> FxHashSet<T> {
    let mut found: FxHashSet<T> = from.iter().copied().collect();
    let mut waiting: Vec<T> = from.to_vec();
    while let Some(who) = waiting.pop() {
        for other in next(who) {
            if found.insert(other) {
                waiting.push(other);
            }
        }
    }
    found
}
