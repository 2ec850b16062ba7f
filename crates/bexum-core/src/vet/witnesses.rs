//! Requests that show that something has an effect, or matches, or grants: found by asking a few for
//! each thing, so that only what no request speaks for has to be decided by analysis.
//!
//! A witness is sound by itself: the request is decided by the engine, and what it met says that
//! without the thing the answer would be the other one.

use std::sync::{Mutex, PoisonError};

use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};

use super::Vet;
use crate::decision::Reason;
use crate::engine::{Candidate, Decider};
use crate::id::{AttachmentId, CeilingId, GroupId, PolicyId, RoleId, ScopeId, StatementId};
use crate::principal::{Principal, Subject};
use crate::prove::fulfilled;
use crate::reach::{AccessTarget, AccessTargets, TargetSort, Viewpoint};
use crate::time::{Time, Window};
use crate::trace::Recorder;

/// An attachment, multiplied out.
pub(super) type Tie = (PolicyId, Subject, ScopeId);

/// A place in a list: who stands there, in the list of what, and whether it is one of `taken-by`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Entry {
    pub(super) who: Principal,
    pub(super) into: Principal,
    pub(super) is_taken: bool,
}

/// What requests were found to speak for.
#[derive(Debug, Default)]
pub(super) struct Witnesses {
    /// Statements that matched.
    pub(super) matched: FixedBitSet,
    /// Allows by which a request was allowed.
    pub(super) granted: FixedBitSet,
    /// Statements without which a request is decided otherwise.
    pub(super) statements: FixedBitSet,
    /// Attachments without which one is.
    pub(super) ties: FxHashSet<Tie>,
    /// Places in lists without which one is.
    pub(super) entries: FxHashSet<Entry>,
}

/// People, places and actions that are tried for one attachment.
const PEOPLE: usize = 3;
const PLACES: usize = 12;
const ACTIONS: usize = 2;

struct Asking<'v> {
    vet: &'v Vet<'v>,
    targets: AccessTargets<'v>,
    viewpoint: Viewpoint,
    /// Whether conditions read what somebody is in: then leaving something may do more than to take
    /// away what it brings.
    is_asked_what_one_is_in: bool,
    found: Mutex<Witnesses>,
}

impl Witnesses {
    pub(super) fn new(vet: &Vet<'_>) -> Self {
        let estate = vet.estate();
        let Some(somebody) = estate.principals().next() else { return Self::default() };
        let viewpoint = vet.viewpoint(somebody);
        let statements = FixedBitSet::with_capacity(estate.statements.len());
        let found = Self {
            matched: statements.clone(),
            granted: statements.clone(),
            statements,
            ..Self::default()
        };
        let asking = Asking {
            vet,
            targets: AccessTargets::new(estate),
            viewpoint,
            is_asked_what_one_is_in: vet.whole().is_asked_what_one_is_in(),
            found: Mutex::new(found),
        };
        (vet.each)(estate.attachments.len(), &|i| asking.attachment(AttachmentId::new(i)));
        (vet.each)(estate.ceilings.len(), &|i| asking.ceiling(CeilingId::new(i)));
        (vet.each)(estate.groups.len(), &|i| {
            let members = estate.groups[i].members.as_deref().unwrap_or_default();
            let into = Principal::Group(GroupId::new(i));
            members.iter().for_each(|one| asking.entry(one.who, into, one.window, false));
        });
        (vet.each)(estate.roles.len(), &|i| {
            let (role, into) = (&estate.roles[i], Principal::Role(RoleId::new(i)));
            role.held_by.iter().for_each(|one| asking.entry(one.who, into, one.window, false));
            role.taken_by.iter().for_each(|one| asking.entry(one.who, into, one.window, true));
        });
        asking.found.into_inner().unwrap_or_else(PoisonError::into_inner)
    }
}

impl<'v> Asking<'v> {
    /// Asks for each policy of an attachment, some people at some places.
    fn attachment(&self, id: AttachmentId) {
        let estate = self.vet.estate();
        let one = estate.attachment(id);
        if !one.window.holds(self.vet.now) {
            return;
        }
        let mut decider = Decider::new(self.vet.index());
        for to in &one.to {
            let people = self.people(to.value);
            for at in &one.at {
                for policy in &one.policies {
                    self.tie(&mut decider, (policy.value, to.value, at.value), &people);
                }
            }
        }
    }

    fn tie(&self, decider: &mut Decider<'_>, tie: Tie, people: &[(Principal, Option<RoleId>)]) {
        let estate = self.vet.estate();
        let body = estate.policy(tie.0);
        let targets = self.places(tie.2);
        let anchor = estate.scope(tie.2).depth as usize;
        for id in body.allows.iter().chain(&body.denies) {
            self.statement(decider, *id, anchor, (people, &targets), &|| self.has(tie, *id));
        }
    }

    /// Asks for a statement whose patterns start so many segments down, until enough is known: as
    /// things are, then in circumstances in which it matches.
    fn statement(
        &self,
        decider: &mut Decider<'_>,
        id: StatementId,
        anchor: usize,
        (people, targets): (&[(Principal, Option<RoleId>)], &[AccessTarget]),
        is_enough: &dyn Fn() -> bool,
    ) {
        let estate = self.vet.estate();
        for (who, role) in people {
            let session = self.viewpoint.seen_by(*who).acting(*role);
            for target in targets {
                if is_enough() {
                    return;
                }
                let statement = estate.statement(id);
                let actions = target.applicable(estate).intersection(&statement.actions);
                for action in actions.take(ACTIONS) {
                    let action = estate.catalogue.action_at(action);
                    let query = session.query(target, action);
                    let (reason, met) = Recorder::of(decider, &query);
                    self.learn(reason, &met);
                    if let Some(query) = fulfilled(decider, &query, id, anchor)
                        && !query.given.is_empty() | !query.item.is_empty()
                    {
                        let (reason, met) = Recorder::of(decider, &query);
                        self.learn(reason, &met);
                    }
                }
            }
        }
    }

    /// Asks for each statement of a ceiling.
    fn ceiling(&self, id: CeilingId) {
        let estate = self.vet.estate();
        let one = estate.ceiling(id);
        if !one.window.holds(self.vet.now) {
            return;
        }
        let accounts = || estate.scopes.iter().filter(|(_, scope)| scope.parent.is_none());
        let over: Vec<(ScopeId, usize)> = match &one.over {
            Some(over) => {
                over.iter().map(|at| (at.value, estate.scope(at.value).depth as usize)).collect()
            }
            None => accounts().map(|(id, _)| (id, 0)).take(PEOPLE).collect(),
        };
        let mut decider = Decider::new(self.vet.index());
        for bound in &one.bound {
            let people = self.people(*bound);
            for (at, anchor) in &over {
                let targets = self.places(*at);
                for policy in &one.policies {
                    let body = estate.policy(policy.value);
                    for id in body.allows.iter().chain(&body.denies) {
                        let is_known = || {
                            let found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
                            found.matched.contains(id.index())
                        };
                        let among = (&people[..], &targets[..]);
                        self.statement(&mut decider, *id, *anchor, among, &is_known);
                    }
                }
            }
        }
    }

    /// Whether all is known that asking for a statement by way of an attachment is for.
    fn has(&self, tie: Tie, id: StatementId) -> bool {
        let found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        found.statements.contains(id.index()) && found.ties.contains(&tie)
    }

    /// Takes from one answer what it speaks for.
    fn learn(&self, reason: Reason, met: &Recorder) {
        let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        for finding in met.allows.iter().chain(&met.denies) {
            found.matched.insert(finding.candidate.statement.index());
        }
        let bounding = met.ceilings.iter().filter(|one| one.bounds).count();
        for one in &met.ceilings {
            for statement in &one.statements {
                if statement.truth != crate::truth::Truth::False {
                    found.matched.insert(statement.statement.index());
                }
            }
        }
        let decisive = match reason {
            Reason::Granted => {
                for finding in &met.allows {
                    found.granted.insert(finding.candidate.statement.index());
                }
                &met.allows
            }
            Reason::Denied if bounding == 0 && !met.allows.is_empty() => &met.denies,
            _ => return,
        };
        let candidates = || decisive.iter().map(|finding| finding.candidate);
        let tie = |one: Candidate| (one.policy, one.subject, one.scope);
        if let Some(first) = candidates().next() {
            // With a deny goes what else its attachment brings; something must be left that allows.
            let leaves_an_allow = reason == Reason::Granted
                || met.allows.iter().any(|finding| tie(finding.candidate) != tie(first));
            if leaves_an_allow && candidates().all(|one| tie(one) == tie(first)) {
                found.ties.insert(tie(first));
            }
            if candidates().all(|one| one.statement == first.statement) {
                found.statements.insert(first.statement.index());
            }
        }
    }

    /// Some enabled people who come to a subject now, each with the role to take up for it.
    fn people(&self, subject: Subject) -> Vec<(Principal, Option<RoleId>)> {
        let estate = self.vet.estate();
        let Subject::One(wanted) = subject else {
            let all = estate.principals();
            let all = all.filter(|who| self.asks(*who)).map(|who| (who, None));
            return all.take(PEOPLE).collect();
        };
        let mut found = Vec::new();
        // A role by itself is a session, too.
        if let Principal::Role(_) = wanted {
            found.push((wanted, None));
        }
        let mut below: Vec<Principal> = self.vet.whole().below(&[wanted]).into_iter().collect();
        below.sort_unstable();
        let mut decider = Decider::new(self.vet.index());
        for who in below.into_iter().filter(|who| self.asks(*who)) {
            if found.len() >= PEOPLE {
                break;
            }
            let closure = decider.closure_for(who, &[], self.vet.now);
            let role = match wanted {
                Principal::Role(role) if !closure.roles.contains(&role) => Some(role),
                _ => None,
            };
            if role.is_none_or(|role| closure.can_take_up(role)) {
                found.push((who, role));
            }
        }
        found
    }

    /// Whether somebody asks by themselves, and is enabled.
    fn asks(&self, who: Principal) -> bool {
        match who {
            Principal::User(id) => self.vet.estate().user(id).enabled,
            Principal::Workload(_) => true,
            Principal::Group(_) | Principal::Role(_) => false,
        }
    }

    /// Some places at and below a scope: one of each class first.
    fn places(&self, at: ScopeId) -> Vec<AccessTarget> {
        let estate = self.vet.estate();
        let mut known: FxHashMap<_, usize> = FxHashMap::default();
        let mut found = Vec::new();
        for target in self.targets.below(Some(at)).take(20 * PLACES) {
            let times = known.entry(target.place.class(estate)).or_default();
            *times += 1;
            if *times > 2 {
                continue;
            }
            // An item that no pattern singles out, by a name that could be one's.
            let asked = match target.sort {
                TargetSort::Items => format!("{}/x", estate.scope(target.scope()).path),
                _ => target.asked.clone(),
            };
            let sort =
                if target.sort == TargetSort::Items { TargetSort::Pattern } else { target.sort };
            found.push(AccessTarget { shown: asked.clone(), asked, sort, ..target });
            if found.len() == PLACES {
                break;
            }
        }
        found
    }

    /// Asks whether somebody has something by a place in a list alone.
    fn entry(&self, who: Principal, into: Principal, window: Window, is_taken: bool) {
        let now = self.vet.now;
        let whole = self.vet.whole();
        if !window.holds(now) || self.is_asked_what_one_is_in || whole.read_at(into).is_some() {
            return;
        }
        let below = whole.below(&[who]);
        let mut people: Vec<Principal> = below.into_iter().filter(|who| self.asks(*who)).collect();
        people.sort_unstable();
        let entry = Entry { who, into, is_taken };
        for person in people.into_iter().take(PEOPLE) {
            let mut lost: Vec<Principal> = self.lost_without(person, entry, now);
            lost.sort_unstable();
            if self.is_missed(person, entry, &lost) {
                let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
                found.entries.insert(entry);
                return;
            }
        }
    }

    /// All that somebody comes to now by way of a place in a list alone: groups, active roles, and
    /// of one of `taken-by` what the role brings.
    fn lost_without(&self, person: Principal, entry: Entry, now: Time) -> Vec<Principal> {
        let index = self.vet.index();
        let reached = |without: bool| {
            let mut seen: FxHashSet<Principal> = FxHashSet::from_iter([person]);
            let mut waiting = vec![person];
            while let Some(who) = waiting.pop() {
                let groups = index.groups_of.get(&who).into_iter().flatten();
                let groups = groups
                    .filter(|edge| edge.window.holds(now))
                    .map(|edge| (Principal::Group(edge.into), edge.listed));
                let held = index.held_roles_of.get(&who).into_iter().flatten();
                let held = held
                    .filter(|edge| edge.window.holds(now))
                    .map(|edge| (Principal::Role(edge.into), true));
                for (into, listed) in groups.chain(held) {
                    let is_it = listed && !entry.is_taken && who == entry.who && into == entry.into;
                    if !(without && is_it) && seen.insert(into) {
                        waiting.push(into);
                    }
                }
            }
            seen
        };
        let (with, without) = (reached(false), reached(true));
        if !entry.is_taken {
            return with.into_iter().filter(|one| !without.contains(one)).collect();
        }
        let is_lost = !without.contains(&entry.into)
            && !with.iter().any(|who| {
                let taken = index.takeable_roles_of.get(who).into_iter().flatten();
                taken
                    .filter(|edge| edge.window.holds(now))
                    .any(|edge| Principal::Role(edge.into) == entry.into && *who != entry.who)
            });
        if is_lost { vec![entry.into] } else { Vec::new() }
    }

    /// Whether somebody is allowed something by what they would lose, and by nothing else.
    fn is_missed(&self, person: Principal, entry: Entry, lost: &[Principal]) -> bool {
        let (estate, index) = (self.vet.estate(), self.vet.index());
        let mut decider = Decider::new(index);
        let role = match (entry.is_taken, entry.into) {
            (true, Principal::Role(role)) => Some(role),
            _ => None,
        };
        let session = self.viewpoint.seen_by(person).acting(role);
        let subjects = lost.iter().map(|who| Subject::One(*who));
        for subject in subjects {
            for id in index.attachments_of.get(&subject).into_iter().flatten() {
                let one = estate.attachment(*id);
                for at in one.at.iter().take(PEOPLE) {
                    for target in self.places(at.value).iter().take(PLACES / 2) {
                        for policy in &one.policies {
                            let body = estate.policy(policy.value);
                            let applicable = target.applicable(estate);
                            let actions = applicable.intersection(&body.allowed_actions);
                            for action in actions.take(ACTIONS) {
                                let action = estate.catalogue.action_at(action);
                                let query = session.query(target, action);
                                let (reason, met) = Recorder::of(&mut decider, &query);
                                let by_lost = |subject: Subject| match subject {
                                    Subject::One(who) => lost.contains(&who),
                                    Subject::Everyone => role.is_some(),
                                };
                                let all = met.allows.iter();
                                let only =
                                    all.map(|finding| finding.candidate.subject).all(by_lost);
                                if reason == Reason::Granted && only {
                                    return true;
                                }
                            }
                        }
                    }
                }
            }
        }
        false
    }
}
