//! What could grant: another role, a group, an attachment, a policy.

use super::at_least::{Gauge, Tie, seal_depth};
use super::{Candidate, Choice, Concerned, Extent, Places, Step, WaySearch};
use crate::edit::{Edit, ListOf, Target};
use crate::engine::{Closure, Decider, EvalContext, NullSink};
use crate::id::{GroupId, PolicyId, RoleId, ScopeId};
use crate::policy::Effect;
use crate::principal::{Principal, Subject};
use crate::request::Query;
use crate::time::Window;
use crate::trace::Recorder;
use crate::truth::Truth;

impl WaySearch<'_> {
    /// Steps that may grant, (a) to (g) of the spec; (d), to hold or take up a role that one has
    /// not, only where asked for.
    pub(super) fn grants(
        &self,
        decider: &mut Decider<'_>,
        query: &Query<'_>,
        met: &Recorder,
        with_holding: bool,
    ) -> Vec<Candidate> {
        let closure = decider.closure_of(query);
        let mut found = self.circumstances(met);
        found.extend(self.other_roles(query, &closure));
        found.extend(self.groups_to_join(query, &closure));
        if with_holding {
            found.extend(self.roles_to_hold(query));
        }
        found.extend(self.enabling(query));
        found.extend(self.windows_off(query, &closure));
        // One attachment more lifts no deny and no ceiling.
        let is_refused = !met.denies.is_empty() || met.ceilings.iter().any(|one| one.bounds);
        if !is_refused && !closure.is_disabled {
            let to = self.attachable_to(query);
            found.extend(self.attachments(decider, query, &closure, &to));
            found.extend(to.iter().map(|who| self.new_policy(query, *who, Effect::Allow)));
        }
        found
    }

    /// (b) Another role taken up, or none.
    fn other_roles(&self, query: &Query<'_>, closure: &Closure<'_>) -> Vec<Candidate> {
        let able = closure.roles.iter().chain(&closure.takeable).map(|role| Some(*role));
        let others = able.chain([None]).filter(|role| *role != query.take_up);
        others
            .map(|role| {
                let name = role.map(|role| self.estate().role(role).identity.name.to_string());
                let step = Step { options: vec![Choice::Role(name)], ..Step::default() };
                Candidate::new(step, Extent::nothing())
            })
            .collect()
    }

    /// (c) Put into a group.
    fn groups_to_join(&self, query: &Query<'_>, closure: &Closure<'_>) -> Vec<Candidate> {
        if matches!(query.who, Principal::Role(_)) {
            return Vec::new();
        }
        let mut decider = Decider::new(self.index());
        let groups = (0..self.estate().groups.len()).map(GroupId::new);
        let outside = groups.filter(|group| {
            closure.groups.binary_search(group).is_err() || query.also.contains(group)
        });
        let may_help = outside.filter(|group| {
            // A target may be asked who is in it.
            if query.target.place.identity() == Some(Principal::Group(*group)) {
                return true;
            }
            let mut supposed = query.clone();
            supposed.also.push(*group);
            supposed.also.sort_unstable();
            decider.decide(&supposed).verdict() == self.wanted
        });
        may_help
            .map(|group| self.joined(query.who, Principal::Group(group), ListOf::Members))
            .collect()
    }

    /// (d) Put among the holders of a role, or among those who may take it up, and taking it up.
    fn roles_to_hold(&self, query: &Query<'_>) -> Vec<Candidate> {
        let (estate, index) = (self.estate(), self.index());
        let mut decider = Decider::new(index);
        let mut found = Vec::new();
        for role in (0..estate.roles.len()).map(RoleId::new) {
            let into = Principal::Role(role);
            // A role may also bring another to whoever takes it up, and a target may be asked.
            let is_tried = matches!(query.who, Principal::Role(_))
                || query.target.place.identity() == Some(into);
            let holding = Closure::supposing(index, query.who, &query.also, &[role], query.time);
            if is_tried
                || decider.decide_for(query, holding, &mut NullSink).verdict() == self.wanted
            {
                found.push(self.joined(query.who, into, ListOf::HeldBy));
            }
            let mut able = Closure::new(index, query.who, &query.also, query.time);
            able.takeable.push(role);
            able.takeable.sort_unstable();
            let acting = Query { take_up: Some(role), ..query.clone() };
            if is_tried || decider.decide_for(&acting, able, &mut NullSink).verdict() == self.wanted
            {
                let mut taken = self.joined(query.who, into, ListOf::TakenBy);
                for (step, _) in &mut taken.alternatives {
                    if query.take_up != Some(role) {
                        let name = estate.role(role).identity.name.to_string();
                        step.options.push(Choice::Role(Some(name)));
                    }
                }
                found.push(taken);
            }
        }
        found
    }

    /// A step that puts somebody into a list.
    fn joined(&self, who: Principal, into: Principal, list: ListOf) -> Candidate {
        let estate = self.estate();
        let edit = Edit::Add {
            who: vec![estate.principal_id(who)],
            list,
            of: estate.principal_name(into).to_owned(),
            window: Window::ALWAYS,
        };
        let extent = Extent { into: vec![into], ..self.extent_of_place(who, into) };
        let is_asker = self.estate().find_principal(&self.request.who) == Some(who);
        let gauge = match (into, list) {
            _ if !is_asker => None,
            (Principal::Role(role), ListOf::TakenBy) => Some(Gauge::MayTakeUp(role)),
            _ => Some(Gauge::Joins(into)),
        };
        Candidate { gauge, ..Candidate::new(Step::of(edit), extent) }
    }

    /// What it can concern that somebody comes to a group or role, or does so no more.
    pub(super) fn extent_of_place(&self, who: Principal, into: Principal) -> Extent {
        let whole = self.whole();
        let places = whole.places_of(&[who], into);
        match whole.read_at(into) {
            None => Extent::new(Concerned::These(vec![who]), places),
            Some(at) => Extent::new(Concerned::Everybody, places.and(at)),
        }
    }

    /// What something that refuses these people things can concern, wherever it does.
    pub(super) fn wherever_granted(&self, who: Vec<Principal>) -> Extent {
        let places = self.whole().granted_below(&who);
        Extent::new(Concerned::These(who), places)
    }

    /// (f) Enabled.
    pub(super) fn enabling(&self, query: &Query<'_>) -> Option<Candidate> {
        let Principal::User(id) = query.who else { return None };
        let user = self.estate().user(id);
        let edit = Edit::Set {
            target: Target::User(user.identity.name.to_string()),
            keys: vec![("enabled".to_owned(), crate::attribute::Value::Boolean(true))],
        };
        let candidate = Candidate::new(Step::of(edit), self.wherever_granted(vec![query.who]));
        (!user.enabled).then_some(candidate)
    }

    /// (f) The window of one membership, holding or attachment taken off.
    fn windows_off(&self, query: &Query<'_>, closure: &Closure<'_>) -> Vec<Candidate> {
        let (estate, index, at) = (self.estate(), self.index(), query.time);
        let mut found = Vec::new();
        let holders = self.held(query, closure);
        for &holder in &holders {
            let groups = index.groups_of.get(&holder).into_iter().flatten();
            for edge in groups.filter(|edge| edge.listed && !edge.window.holds(at)) {
                found.push(self.joined(holder, Principal::Group(edge.into), ListOf::Members));
            }
            let lists = [
                (&index.held_roles_of, ListOf::HeldBy),
                (&index.takeable_roles_of, ListOf::TakenBy),
            ];
            for (edges, list) in lists {
                let edges = edges.get(&holder).into_iter().flatten();
                for edge in edges.filter(|edge| !edge.window.holds(at)) {
                    found.push(self.joined(holder, Principal::Role(edge.into), list));
                }
            }
        }
        if let Some(Principal::Group(group)) = query.target.place.identity() {
            // A target may be asked who is in it.
            for member in estate.group(group).members.iter().flatten() {
                if !member.window.holds(at) {
                    found.push(self.joined(member.who, Principal::Group(group), ListOf::Members));
                }
            }
        }
        let subjects = holders.iter().map(|who| Subject::One(*who)).chain([Subject::Everyone]);
        for subject in subjects {
            for &id in index.attachments_of.get(&subject).into_iter().flatten() {
                let attachment = estate.attachment(id);
                if attachment.window.holds(at) {
                    continue;
                }
                let above = attachment.at.iter().map(|scope| scope.value);
                let above = above.filter(|scope| estate.scopes.holds(*scope, query.target.scope()));
                for scope in above {
                    let policies = attachment.policies.iter().map(|policy| policy.value);
                    found.extend(policies.map(|policy| self.attached(policy, subject, scope)));
                }
            }
        }
        found
    }

    /// Everything that somebody is at a moment, the role taken up and what it brings among it.
    pub(super) fn held(&self, query: &Query<'_>, closure: &Closure<'_>) -> Vec<Principal> {
        let mut holders = vec![query.who];
        holders.extend(closure.groups.iter().map(|group| Principal::Group(*group)));
        holders.extend(closure.roles.iter().map(|role| Principal::Role(*role)));
        if let Some(role) = query.take_up {
            let taken = crate::engine::RoleClosure::new(self.index(), role, query.time);
            holders.extend(taken.roles.iter().map(|role| Principal::Role(*role)));
        }
        holders.sort_unstable();
        holders.dedup();
        holders
    }

    /// To whom an attachment for somebody may be made: to themselves, a group in which they are
    /// directly, the role that they take up.
    pub(super) fn attachable_to(&self, query: &Query<'_>) -> Vec<Principal> {
        let mut to = vec![query.who];
        let groups = self.index().groups_of.get(&query.who).into_iter().flatten();
        let open = groups.filter(|edge| edge.window.holds(query.time));
        to.extend(open.map(|edge| Principal::Group(edge.into)));
        to.extend(query.take_up.map(Principal::Role));
        to.sort_unstable();
        to.dedup();
        to
    }

    /// (e) A policy attached, at the nearest scope at which that works.
    fn attachments(
        &self,
        decider: &mut Decider<'_>,
        query: &Query<'_>,
        closure: &Closure<'_>,
        to: &[Principal],
    ) -> Vec<Candidate> {
        let estate = self.estate();
        let session = decider.session(query);
        let context = EvalContext {
            index: self.index(),
            query,
            closure,
            roles: Some(session.roles_of(Effect::Allow)),
        };
        let mut found = Vec::new();
        let policies = (0..estate.policies.len()).map(PolicyId::new);
        let restricted: Vec<PolicyId> =
            policies.clone().filter(|id| estate.policy(*id).attachable.is_some()).collect();
        // What is attached above a seal allows nothing below it.
        let from_depth = seal_depth(self.index(), query.target.scope());
        for policy in policies {
            let body = estate.policy(policy);
            if !body.allowed_actions.contains(query.action.index()) {
                continue;
            }
            let statements: Vec<_> = body
                .allows
                .iter()
                .filter(|id| estate.statement(**id).actions.contains(query.action.index()))
                .collect();
            let matches_at = |scope: &ScopeId| {
                let anchor = estate.scope(*scope).depth as usize;
                anchor >= from_depth
                    && statements.iter().any(|id| context.truth(**id, anchor) == Truth::True)
            };
            let scopes: Vec<ScopeId> =
                estate.scopes.chain(query.target.scope()).filter(matches_at).collect();
            let Some(&nearest) = scopes.first() else { continue };
            let is_restricted =
                restricted.iter().any(|one| *one == policy || estate.includes(policy, *one));
            let is_sure = !is_restricted
                && !session.is_refused(query.take_up)
                && !body.denied_actions.contains(query.action.index());
            for who in to {
                // With a role taken up, only what is attached to it allows anything.
                if !session.is_granted_what_is_for(*who, self.index()) {
                    continue;
                }
                let each = scopes.iter().map(|scope| {
                    let one = self.attached(policy, Subject::One(*who), *scope);
                    one.alternatives
                });
                let tie = Tie { policy, to: *who, at: nearest };
                found.push(Candidate {
                    // Of what may not work it is not known which of these is the way.
                    gauge: is_sure.then_some(Gauge::Attaches(tie)),
                    is_sure,
                    ..Candidate::of(each.flatten().collect())
                });
            }
        }
        found
    }

    fn attached(&self, policy: PolicyId, to: Subject, at: ScopeId) -> Candidate {
        let estate = self.estate();
        let edit = Edit::Attach {
            policies: vec![estate.policy(policy).name.to_string()],
            to: vec![self.subject_name(to)],
            at: vec![estate.scope(at).path.to_string()],
            window: Window::ALWAYS,
        };
        Candidate::new(Step::of(edit), Extent::new(concerned(to), Places::Below(vec![at])))
    }

    pub(super) fn subject_name(&self, subject: Subject) -> String {
        match subject {
            Subject::Everyone => "everyone".to_owned(),
            Subject::One(who) => self.estate().principal_id(who),
        }
    }

    /// (g) A new policy of this action on this path alone.
    pub(super) fn new_policy(
        &self,
        query: &Query<'_>,
        who: Principal,
        effect: Effect,
    ) -> Candidate {
        let estate = self.estate();
        let names = (1..).map(|n: usize| format!("way-{n}"));
        let free = names.into_iter().find(|name| estate.find_policy(name).is_none());
        let policy = free.unwrap_or_default();
        let scope = query.target.scope();
        let edits = vec![
            Edit::New { target: Target::Policy(policy.clone()), preset: None, keys: Vec::new() },
            Edit::State {
                policy: policy.clone(),
                effect,
                actions: vec![estate.catalogue.action(query.action).name.to_string()],
                on: vec![format!("/{}", query.target.path)],
                when: None,
                name: None,
            },
            Edit::Attach {
                policies: vec![policy],
                to: vec![estate.principal_id(who)],
                at: vec![estate.scope(scope).path.to_string()],
                window: Window::ALWAYS,
            },
        ];
        let step = Step { edits, options: Vec::new() };
        let gauge = (effect == Effect::Allow).then_some(Gauge::Allows(who));
        let extent = Extent::path_alone(Concerned::These(vec![who]));
        Candidate { gauge, ..Candidate::new(step, extent) }
    }
}

/// Whom an attachment or a ceiling concerns.
pub(super) fn concerned(subject: Subject) -> Concerned {
    match subject {
        Subject::Everyone => Concerned::Everybody,
        Subject::One(who) => Concerned::These(vec![who]),
    }
}
