//! What takes away a deny, a ceiling, or an allow.

use super::candidates::concerned;
use super::{Candidate, Concerned, Extent, Places, Step, WaySearch};
use crate::attribute::Value;
use crate::edit::{Edit, ListOf, Target, is_locked};
use crate::engine::Closure;
use crate::id::{PolicyId, ScopeId, StatementId};
use crate::policy::Effect;
use crate::principal::{Principal, Subject};
use crate::request::Query;
use crate::trace::{CeilingFinding, Finding, Recorder};
use crate::truth::Truth;

impl WaySearch<'_> {
    /// Steps that take away what refuses: denies that match or are undecided, ceilings that bound.
    pub(super) fn lifts(&self, query: &Query<'_>, met: &Recorder) -> Vec<Candidate> {
        let closure = self.engine.decider().closure_of(query);
        let mut found = Vec::new();
        for deny in &met.denies {
            found.extend(self.ties_gone(query, &closure, deny));
        }
        for ceiling in met.ceilings.iter().filter(|ceiling| ceiling.bounds) {
            found.extend(self.ceiling_lifted(query, &closure, ceiling));
        }
        found
    }

    /// Steps that have an allowed request denied.
    pub(super) fn closings(&self, query: &Query<'_>, met: &Recorder) -> Vec<Candidate> {
        let closure = self.engine.decider().closure_of(query);
        let mut found = Vec::new();
        for allow in &met.allows {
            found.extend(self.ties_gone(query, &closure, allow));
        }
        if let Principal::User(id) = query.who {
            let edit = Edit::Set {
                target: Target::User(self.estate().user(id).identity.name.to_string()),
                keys: vec![("enabled".to_owned(), Value::Boolean(false))],
            };
            found.push(Candidate::new(Step::of(edit), self.wherever_granted(vec![query.who])));
        }
        let to = self.attachable_to(query);
        found.extend(to.iter().map(|who| self.new_policy(query, *who, Effect::Deny)));
        found
    }

    /// Steps after which a statement does not reach this request any more: an element gone through
    /// which its attachment reaches, the attachment gone, this path spared.
    fn ties_gone(&self, query: &Query<'_>, closure: &Closure<'_>, met: &Finding) -> Vec<Candidate> {
        let candidate = met.candidate;
        let mut found = self.elements_gone(query, closure, candidate.subject);
        let estate = self.estate();
        let edit = Edit::Detach {
            policies: vec![estate.policy(candidate.policy).name.to_string()],
            from: vec![self.subject_name(candidate.subject)],
            at: vec![estate.scope(candidate.scope).path.to_string()],
        };
        let places = Places::Below(vec![candidate.scope]);
        found.push(Candidate::new(
            Step::of(edit),
            Extent::new(concerned(candidate.subject), places),
        ));
        found.extend(self.spared(query, candidate.statement));
        found
    }

    /// The elements of lists through which somebody comes to a subject.
    fn elements_gone(
        &self,
        query: &Query<'_>,
        closure: &Closure<'_>,
        to: Subject,
    ) -> Vec<Candidate> {
        let Subject::One(to) = to else { return Vec::new() };
        let (index, at) = (self.index(), query.time);
        let held = self.held(query, closure);
        let mut found = Vec::new();
        for &holder in &held {
            let groups = index.groups_of.get(&holder).into_iter().flatten();
            let groups = groups
                .filter(|edge| edge.listed && edge.window.holds(at))
                .map(|edge| (Principal::Group(edge.into), ListOf::Members));
            let roles = index.held_roles_of.get(&holder).into_iter().flatten();
            let roles = roles
                .filter(|edge| edge.window.holds(at))
                .map(|edge| (Principal::Role(edge.into), ListOf::HeldBy));
            let taken = index.takeable_roles_of.get(&holder).into_iter().flatten();
            let taken = taken
                .filter(|edge| edge.window.holds(at) && Some(edge.into) == query.take_up)
                .map(|edge| (Principal::Role(edge.into), ListOf::TakenBy));
            for (into, list) in groups.chain(roles).chain(taken) {
                let leads_there = self.whole().held_by_now(into, at).contains(&to);
                if leads_there {
                    found.push(self.removed(holder, into, list));
                }
            }
        }
        found
    }

    fn removed(&self, who: Principal, from: Principal, list: ListOf) -> Candidate {
        let estate = self.estate();
        let edit = Edit::Remove {
            who: vec![estate.principal_id(who)],
            list,
            of: estate.principal_name(from).to_owned(),
        };
        Candidate::new(Step::of(edit), self.extent_of_place(who, from))
    }

    /// A statement that spares the path, unless its policy is locked.
    fn spared(&self, query: &Query<'_>, id: StatementId) -> Option<Candidate> {
        let estate = self.estate();
        let statement = estate.statement(id);
        let policy = estate.policy(statement.policy).name.to_string();
        if is_locked(self.declared, &policy) {
            return None;
        }
        let place = || format!("{} {}", statement.effect.word(), statement.place);
        let edit = Edit::Spare {
            policy,
            statement: statement.name.as_ref().map_or_else(place, ToString::to_string),
            paths: vec![format!("/{}", query.target.path)],
        };
        Some(self.of_policy(Step::of(edit), statement.policy))
    }

    /// A step that changes what a policy says of the path: it concerns everybody to whom it, or one
    /// that includes it, is attached or is a ceiling.
    fn of_policy(&self, step: Step, policy: PolicyId) -> Candidate {
        let estate = self.estate();
        let has_it = |id: PolicyId| id == policy || estate.includes(id, policy);
        let attached = estate
            .attachments
            .iter()
            .filter(|one| one.policies.iter().any(|policy| has_it(policy.value)))
            .flat_map(|one| one.to.iter().map(|to| to.value));
        let bound = estate
            .ceilings
            .iter()
            .filter(|one| one.policies.iter().any(|policy| has_it(policy.value)))
            .flat_map(|one| one.bound.iter().copied());
        let mut who: Vec<Principal> = Vec::new();
        let mut is_everybody =
            self.request.under.iter().any(|name| estate.find_policy(name).is_some_and(has_it));
        for subject in attached.chain(bound) {
            match subject {
                Subject::Everyone => is_everybody = true,
                Subject::One(one) => who.push(one),
            }
        }
        who.sort_unstable();
        who.dedup();
        let concerned = match is_everybody {
            true => Concerned::Everybody,
            false => Concerned::These(who),
        };
        Candidate::new(step, Extent::path_alone(concerned))
    }

    /// Steps after which a ceiling does not bound this request any more.
    fn ceiling_lifted(
        &self,
        query: &Query<'_>,
        closure: &Closure<'_>,
        met: &CeilingFinding,
    ) -> Vec<Candidate> {
        let estate = self.estate();
        let mut found = Vec::new();
        let policy = estate.policy(met.limit.policy).name.to_string();
        if let Some(id) = met.limit.ceiling {
            let ceiling = estate.ceiling(id);
            let over: Vec<String> = met
                .limit
                .over
                .map(|over| estate.scope(over).path.to_string())
                .into_iter()
                .collect();
            let bounded = |who: Concerned| match (met.limit.over, who) {
                (Some(over), who) => Extent::new(who, Places::Below(vec![over])),
                (None, Concerned::These(who)) => self.wherever_granted(who),
                (None, who) => Extent::new(who, Places::Everywhere),
            };
            let unlimit = |bound: Vec<String>| {
                Step::of(Edit::Unlimit { policy: policy.clone(), over: over.clone(), bound })
            };
            for who in self.held(query, closure) {
                if ceiling.bound.contains(&Subject::One(who)) {
                    let step = unlimit(vec![estate.principal_id(who)]);
                    found.push(Candidate::new(step, bounded(Concerned::These(vec![who]))));
                }
            }
            let all = self.bound_by(met.limit.policy, met.limit.over);
            found.push(Candidate::new(unlimit(Vec::new()), bounded(all)));
        }
        let denies = met.statements.iter().filter(|one| {
            estate.statement(one.statement).effect == Effect::Deny && one.truth != Truth::False
        });
        found.extend(denies.filter_map(|one| self.spared(query, one.statement)));
        let body = estate.policy(met.limit.policy);
        if !body.allows.is_empty() && !is_locked(self.declared, &policy) {
            let edit = Edit::State {
                policy,
                effect: Effect::Allow,
                actions: vec![estate.catalogue.action(query.action).name.to_string()],
                on: vec![format!("/{}", query.target.path)],
                when: None,
                name: None,
            };
            found.push(self.of_policy(Step::of(edit), met.limit.policy));
        }
        found
    }

    /// Whom the ceilings of a policy over a scope bound; without a scope, all of them.
    fn bound_by(&self, policy: PolicyId, over: Option<ScopeId>) -> Concerned {
        let ceilings = self.estate().ceilings.iter();
        let such = ceilings.filter(|one| {
            one.policies.iter().any(|known| known.value == policy)
                && over
                    .is_none_or(|over| one.over.iter().flatten().any(|known| known.value == over))
        });
        let mut who: Vec<Principal> = Vec::new();
        for subject in such.flat_map(|one| one.bound.iter()) {
            match subject {
                Subject::Everyone => return Concerned::Everybody,
                Subject::One(one) => who.push(*one),
            }
        }
        who.sort_unstable();
        who.dedup();
        Concerned::These(who)
    }
}
