//! How much a step opens at least, told without making it: of what does more than enough others no
//! more has to be known.

use std::rc::Rc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Candidate, NEAR, SAMPLE, WaySearch};
use crate::catalogue::ActionSet;
use crate::engine::{Closure, Decider, EvalContext, Index, Session};
use crate::id::{ActionId, PolicyId, RoleId, ScopeId};
use crate::impact::within;
use crate::policy::Effect;
use crate::principal::Principal;
use crate::reach::{
    self, AccessTarget, AccessTargets, TargetSort, Viewpoint, cells_at, items_said_of,
};
use crate::request::Query;
use crate::truth::Truth;

/// So many cells are more than any way is likely to be told with: no more are counted.
const ENOUGH: usize = 200;

/// What a step does, where it can be told without making it how much that is at least.
#[derive(Clone, Copy, Debug)]
pub(super) enum Gauge {
    /// It attaches a policy.
    Attaches(Tie),
    /// It allows this action on this path to somebody.
    Allows(Principal),
    /// It puts the one who asks into a group or among the holders of a role.
    Joins(Principal),
    /// It puts them among those who may take up a role.
    MayTakeUp(RoleId),
}

/// A policy attached to somebody.
#[derive(Clone, Copy, Debug)]
pub(super) struct Tie {
    pub(super) policy: PolicyId,
    pub(super) to: Principal,
    pub(super) at: ScopeId,
}

/// A row, and what is denied there for want of a statement that allows it.
struct Row<'r> {
    target: &'r AccessTarget,
    query: Query<'r>,
    actions: ActionSet,
    /// How deep something has to be attached, so that no seal stops it.
    from_depth: usize,
}

/// Somebody, and what they are denied in some rows.
pub(super) struct Denied<'r> {
    session: Session<'r>,
    rows: Vec<Row<'r>>,
}

/// Somebody in a session of theirs, and the items that what they are told already singles out for
/// them.
pub(super) struct SessionItems {
    pub(super) viewpoint: Viewpoint,
    pub(super) items: Vec<AccessTarget>,
}

impl SessionItems {
    /// With the items among those that some targets stand for.
    pub(super) fn new(
        decider: &mut Decider<'_>,
        viewpoint: Viewpoint,
        targets: &[AccessTarget],
    ) -> Self {
        let each = targets.iter().flat_map(|target| items_said_of(decider, &viewpoint, target));
        let items = each.collect();
        Self { viewpoint, items }
    }

    /// Whether a row is one of these items.
    pub(super) fn has(&self, target: &AccessTarget) -> bool {
        self.items.iter().any(|item| item.shown == target.shown)
    }
}

impl WaySearch<'_> {
    /// Finds out how many cells some steps turn at least: what they open to the one who asks around
    /// the path, and to some of a group right there. Best called for many at once: who asks is
    /// looked at first.
    pub fn gauge(&self, candidates: &mut [Candidate]) {
        let (estate, request, index) = (self.estate(), self.request, self.index());
        let Ok(query) = request.resolve(estate) else { return };
        // What the question supposes of who asks is nothing to the cells that are counted.
        let Ok(viewpoint) = request.viewpoint(estate) else { return };
        if matches!(viewpoint.who, Principal::Group(_)) {
            // A group has no cells.
            return;
        }
        let viewpoint = Viewpoint { also: Vec::new(), under: Vec::new(), ..viewpoint };
        let by_oneself = Viewpoint { take_up: None, ..viewpoint.clone() };
        let here = query.target.scope();
        let is_small = |at: &ScopeId| estate.scopes.subtree(*at).len() <= NEAR;
        let near = estate.scopes.chain(here).filter(is_small).last();
        let scopes = near.map_or(here.index()..here.index() + 1, |at| estate.scopes.subtree(at));
        let targets = AccessTargets::new(estate);
        let near: Vec<AccessTarget> = scopes.flat_map(|at| targets.at(ScopeId::new(at))).collect();
        let here: Vec<AccessTarget> = targets.at(here).collect();
        let path = [AccessTarget::at(&query.target)];
        let mut decider = Decider::new(index);
        // A role has no cells with another taken up.
        let is_role = matches!(viewpoint.who, Principal::Role(_));
        let own_targets = if is_role && viewpoint.take_up.is_some() { &[][..] } else { &near[..] };
        let seen = SessionItems::new(&mut decider, viewpoint, own_targets);
        let own = denied(&mut decider, &seen.viewpoint, own_targets.iter().chain(&seen.items));
        let alone = SessionItems::new(&mut decider, by_oneself.clone(), &near);
        let allowed = Allowed::new(&mut decider, &alone, &near);
        let mut there = Others::new(self, &by_oneself, &here, SAMPLE);
        let mut on_path = Others::new(self, &by_oneself, &path, ENOUGH);
        for candidate in candidates {
            candidate.at_least = match candidate.gauge {
                None => 0,
                Some(Gauge::Joins(into)) => allowed.opened_by_joining(&mut decider, into),
                Some(Gauge::MayTakeUp(_)) if is_role => 0,
                Some(Gauge::MayTakeUp(role)) => allowed.opened_by_role(&mut decider, role),
                Some(Gauge::Attaches(tie)) => {
                    let others = there.of(tie.to, &mut decider);
                    let all = std::iter::once(&own).chain(others);
                    enough(ENOUGH, all.map(|one| opened_to(index, one, tie, |_| true)))
                }
                Some(Gauge::Allows(to)) => {
                    let others = on_path.of(to, &mut decider).iter();
                    let opened = others.filter(|one| {
                        let mut rows = one.rows.iter();
                        one.session.is_granted_what_is_for(to, index)
                            && rows.any(|row| row.actions.contains(query.action.index()))
                    });
                    opened.count()
                }
            };
        }
    }

    /// Some of those who come to a principal, no more than so many.
    pub(super) fn some_of(&self, of: Principal, most: usize) -> Vec<Principal> {
        let (mut found, mut waiting) = (Vec::new(), vec![of]);
        let mut known: FxHashSet<Principal> = FxHashSet::from_iter([of]);
        while let Some(next) = waiting.pop().filter(|_| found.len() < most) {
            if !matches!(next, Principal::Group(_)) {
                found.push(next);
            }
            waiting
                .extend(within(self.estate(), next).into_iter().filter(|one| known.insert(*one)));
        }
        found
    }
}

/// Some of those who come to each principal, and what they are denied.
struct Others<'r> {
    search: &'r WaySearch<'r>,
    viewpoint: &'r Viewpoint,
    targets: &'r [AccessTarget],
    most: usize,
    known: FxHashMap<Principal, Vec<Denied<'r>>>,
}

impl<'r> Others<'r> {
    fn new(
        search: &'r WaySearch<'r>,
        viewpoint: &'r Viewpoint,
        targets: &'r [AccessTarget],
        most: usize,
    ) -> Self {
        Self { search, viewpoint, targets, most, known: FxHashMap::default() }
    }

    /// The sessions that have what is granted to a principal, but for those of the one who asks.
    fn of(&mut self, to: Principal, decider: &mut Decider<'r>) -> &[Denied<'r>] {
        let Self { search, viewpoint, targets, most, .. } = *self;
        self.known.entry(to).or_insert_with(|| {
            let people = search.some_of(to, most).into_iter();
            let others = people.filter(|one| *one != viewpoint.who);
            let sessions = granted_to(decider, viewpoint, to, others);
            sessions.iter().map(|view| denied(decider, view, targets.iter())).collect()
        })
    }
}

/// The sessions of these people that have what is granted to a principal.
pub(super) fn granted_to(
    decider: &mut Decider<'_>,
    viewpoint: &Viewpoint,
    to: Principal,
    people: impl Iterator<Item = Principal>,
) -> Vec<Viewpoint> {
    let mut found = Vec::new();
    for one in people {
        for view in reach::sessions(decider, &viewpoint.seen_by(one)) {
            let session = decider.session_of(view.who, &view.also, view.take_up, view.time);
            if session.is_granted_what_is_for(to, decider.index) {
                found.push(view);
            }
        }
    }
    found
}

/// What the one who asks is allowed at some targets.
struct Allowed<'r> {
    viewpoint: &'r Viewpoint,
    rows: Vec<(&'r AccessTarget, ActionSet)>,
}

impl<'r> Allowed<'r> {
    fn new(decider: &mut Decider<'_>, seen: &'r SessionItems, targets: &'r [AccessTarget]) -> Self {
        let viewpoint = &seen.viewpoint;
        // A target may be asked who is in it.
        let targets = targets.iter().filter(|target| target.sort != TargetSort::Identity);
        let rows = targets.chain(&seen.items);
        let rows = rows.map(|target| (target, cells_at(decider, viewpoint, target, None).allow));
        Self { viewpoint, rows: rows.collect() }
    }

    /// How many cells it opens to come to a group, or to hold a role.
    fn opened_by_joining(&self, decider: &mut Decider<'_>, into: Principal) -> usize {
        let (groups, roles) = match into {
            Principal::Group(id) => (vec![id], Vec::new()),
            Principal::Role(id) => (Vec::new(), vec![id]),
            Principal::User(_) | Principal::Workload(_) => return 0,
        };
        let (who, time) = (self.viewpoint.who, self.viewpoint.time);
        let closure = Closure::supposing(decider.index, who, &groups, &roles, time);
        let session = Session::with(decider, Rc::new(closure), None, time);
        enough(
            ENOUGH,
            self.rows.iter().map(|(target, allowed)| {
                let mut opened = self.allowed_in(decider, &session, None, target);
                opened.difference_with(allowed);
                opened.ones().count()
            }),
        )
    }

    /// How many cells it opens to be able to take up a role.
    fn opened_by_role(&self, decider: &mut Decider<'_>, role: RoleId) -> usize {
        let (who, time) = (self.viewpoint.who, self.viewpoint.time);
        let mut closure = Closure::new(decider.index, who, &[], time);
        if closure.can_take_up(role) {
            return 0;
        }
        closure.takeable.push(role);
        closure.takeable.sort_unstable();
        let session = Session::with(decider, Rc::new(closure), Some(role), time);
        let allowed = |target| self.allowed_in(decider, &session, Some(role), target);
        // What patterns single out for them by themselves may be no row of theirs in the role.
        let rows = self.rows.iter().filter(|(target, _)| target.sort != TargetSort::Pattern);
        enough(ENOUGH, rows.map(|(target, _)| allowed(target).ones().count()))
    }

    fn allowed_in<'e>(
        &self,
        decider: &Decider<'e>,
        session: &Session<'e>,
        take_up: Option<RoleId>,
        target: &AccessTarget,
    ) -> ActionSet {
        let estate = decider.index.estate();
        let applicable = target.applicable(estate);
        let Some(first) = applicable.minimum() else {
            return ActionSet::with_capacity(estate.catalogue.actions.len());
        };
        let viewpoint = Viewpoint { take_up, ..self.viewpoint.clone() };
        let query = viewpoint.query(target, ActionId::new(first));
        decider.reach_in(session, &query, applicable).allow
    }
}

/// The sum, as far as it matters whether it is more than that.
pub(super) fn enough(most: usize, each: impl Iterator<Item = usize>) -> usize {
    let mut sum = 0;
    for one in each {
        sum += one;
        if sum > most {
            break;
        }
    }
    sum
}

/// What somebody is denied at some targets for want of a statement that allows it.
pub(super) fn denied<'r>(
    decider: &mut Decider<'r>,
    viewpoint: &Viewpoint,
    targets: impl Iterator<Item = &'r AccessTarget>,
) -> Denied<'r> {
    let index = decider.index;
    let estate = index.estate();
    let session =
        decider.session_of(viewpoint.who, &viewpoint.also, viewpoint.take_up, viewpoint.time);
    let mut rows: Vec<Row<'_>> = Vec::new();
    for target in targets {
        let applicable = target.applicable(estate);
        let Some(first) = applicable.minimum() else { continue };
        let query = viewpoint.query(target, ActionId::new(first));
        let from_depth = seal_depth(index, target.scope());
        let parts = decider.not_granted(&session, &query, applicable);
        let parts = parts.into_iter().filter(|(_, actions)| !actions.is_empty());
        rows.extend(parts.map(|(query, actions)| Row { target, query, actions, from_depth }));
    }
    Denied { session, rows }
}

/// How many of these cells an attachment opens, in those rows that are some.
pub(super) fn opened_to(
    index: &Index,
    Denied { session, rows }: &Denied<'_>,
    tie: Tie,
    is_row: impl Fn(&AccessTarget) -> bool,
) -> usize {
    let estate = index.estate();
    if !session.is_granted_what_is_for(tie.to, index) {
        return 0;
    }
    let policy = estate.policy(tie.policy);
    let anchor = estate.scope(tie.at).depth as usize;
    let mut count = 0;
    for row in rows.iter().filter(|row| is_row(row.target)) {
        let is_there = estate.scopes.holds(tie.at, row.query.target.scope());
        if !is_there || anchor < row.from_depth || row.actions.is_disjoint(&policy.allowed_actions)
        {
            continue;
        }
        let context = EvalContext {
            index,
            query: &row.query,
            closure: &session.closure,
            roles: Some(session.roles_of(Effect::Allow)),
        };
        let mut opened = ActionSet::with_capacity(estate.catalogue.actions.len());
        for id in &policy.allows {
            let statement = estate.statement(*id);
            let is_asked = !statement.actions.is_disjoint(&row.actions);
            if is_asked && context.truth(*id, anchor) == Truth::True {
                opened.union_with(&statement.actions);
            }
        }
        opened.intersect_with(&row.actions);
        // Where the policy denies something, too, that is not looked at.
        opened.difference_with(&policy.denied_actions);
        count += opened.ones().count();
    }
    count
}

/// How deep the nearest seal stands at or above a scope; 0 where there is none.
pub(super) fn seal_depth(index: &Index, at: ScopeId) -> usize {
    let mut chain = index.scope_index.chain(at);
    chain.find_map(|(_, depth, sealed)| sealed.then_some(depth)).unwrap_or(0)
}
