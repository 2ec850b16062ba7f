//! One principal and all laws: through its times, its roles, the targets, and what depends.

use std::ops::Range;
use std::rc::Rc;
use std::sync::atomic::Ordering;

use rustc_hash::FxHashSet;

use super::moments::{moments, moments_of, timeline};
use super::plan::Plan;
use super::print::Print;
use super::search::{AtFirst, ProofSearch, RelevantStatement, SearchResult, with_search};
use super::{Counterexample, Judgement, LEAST_STEPS, Laws, NotWorkedOut, STEPS, WAITING};
use crate::catalogue::{ActionSet, TargetClass};
use crate::engine::{Clause, Closure, Decider, EvalContext, RoleClosure, SubjectSet, SubjectSets};
use crate::expectation::Claim;
use crate::id::{ActionId, RoleId, ScopeId};
use crate::items;
use crate::pattern::residual::FRESH;
use crate::principal::Principal;
use crate::request::{Query, Target, TargetPlace};
use crate::time::{Time, Window};

pub(super) fn judge<'e>(
    laws: &Laws<'e>,
    decider: &mut Decider<'e>,
    who: Principal,
    known: &[Judgement],
) -> Vec<(usize, Judgement)> {
    let mut found: Vec<(usize, Judgement)> = Vec::new();
    for closure in timeline(laws.index, who, laws.now) {
        let mut grants = None;
        for (i, plan) in laws.plans.iter().enumerate() {
            if known[i].counterexample.is_some() || !plan.concerns(&closure) {
                continue;
            }
            let at = match found.iter().position(|(law, _)| *law == i) {
                Some(at) => at,
                None => {
                    found.push((i, Judgement { principals: 1, ..Judgement::default() }));
                    found.len() - 1
                }
            };
            let part = &mut found[at].1;
            if part.counterexample.as_ref().is_some_and(|counterexample| counterexample.given == 0)
            {
                continue;
            }
            let (waiting, steps) = (Vec::new(), laws.share);
            let mut walk = LawWalk { laws, plan, closure: &closure, part, waiting, steps };
            let grants = grants.get_or_insert_with(|| Grants::of(decider, &closure));
            walk.all(decider, grants);
        }
    }
    found
}

/// Most searches for one principal and one law that are made once the steps for them are spent. The law
/// is not decided by then; the others could only show that it is broken.
const MOST_LIMITED: usize = 200;

/// A role to take up, or none, and a stretch of time in which it brings the same.
type Taken<'e> = Option<(RoleId, Rc<RoleClosure<'e>>)>;

/// A part of the tree, and the actions that something attached at its top grants somewhere in it.
type Granted = (Range<usize>, ActionSet);

/// All that grants somebody anything: for each role taken up, or for none, the parts of the tree
/// and the actions.
struct Grants<'e> {
    of: Vec<(Taken<'e>, Vec<Granted>)>,
}

impl<'e> Grants<'e> {
    fn of(decider: &mut Decider<'e>, closure: &Closure<'e>) -> Self {
        let index = decider.index;
        let entries = |subjects: &SubjectSet| {
            let mut found: Vec<Granted> = Vec::new();
            let mut attached: Vec<_> = index
                .attached_to(subjects)
                .map(|attached| (attached.scope, attached.policy))
                .collect();
            attached.sort_unstable();
            attached.dedup();
            for (scope, policy) in attached {
                let range = index.estate().scopes.subtree(scope);
                let actions = &index.estate().policy(policy).allowed_actions;
                match found.last_mut() {
                    Some((known, together)) if *known == range => together.union_with(actions),
                    _ => found.push((range, actions.clone())),
                }
            }
            found
        };
        let mut of = vec![(None, entries(&closure.subjects))];
        for &role in closure.roles.iter().chain(&closure.takeable) {
            let mut at = closure.valid_during.from.unwrap_or(super::EARLIEST);
            // A role may bring more at one time than at another.
            loop {
                let taken = decider.role_closure(role, at);
                let until = taken.valid_during.until;
                let granted = entries(&taken.subjects);
                of.push((Some((role, taken)), granted));
                match until {
                    Some(next) if next > at && closure.valid_during.holds(next) => at = next,
                    _ => break,
                }
            }
        }
        Self { of }
    }
}

/// Somewhere a law may be broken.
#[derive(Clone)]
struct LawTarget {
    path: String,
    place: TargetPlace,
    class: TargetClass,
}

/// A request that depends on what is given, to be searched later.
struct Waiting {
    target: LawTarget,
    take_up: Option<RoleId>,
    time: Time,
    action: ActionId,
}

struct LawWalk<'w, 'e> {
    laws: &'w Laws<'e>,
    plan: &'w Plan<'e>,
    closure: &'w Closure<'e>,
    part: &'w mut Judgement,
    waiting: Vec<Waiting>,
    /// Steps that searches may still take.
    steps: usize,
}

/// What has a say at a scope at some time, and when it does.
struct Play {
    statements: Vec<RelevantStatement>,
    bounds: Vec<Time>,
}

impl<'e> LawWalk<'_, 'e> {
    fn all(&mut self, decider: &mut Decider<'e>, grants: &Grants<'e>) {
        for (taken, granted) in &grants.of {
            let ranges = match self.plan.law.claim {
                Claim::Never if self.closure.is_disabled => Vec::new(),
                Claim::Never => self.granted_ranges(granted),
                Claim::Always => self.plan.ranges.clone(),
            };
            for range in ranges {
                self.below(decider, taken.as_ref(), range);
                if self.is_settled() {
                    return;
                }
            }
        }
        // Targets that differ in nothing that is asked about are searched once.
        let mut searched: FxHashSet<Print> = FxHashSet::default();
        let mut limited = 0;
        let all = std::mem::take(&mut self.waiting);
        let several = all.len() > 1;
        for waiting in all {
            let ended = self.search(decider, &waiting, several.then_some(&mut searched));
            limited += usize::from(!ended && self.steps == 0);
            if self.part.counterexample.is_some() || limited == MOST_LIMITED {
                return;
            }
        }
    }

    fn is_settled(&self) -> bool {
        self.part.counterexample.as_ref().is_some_and(|counterexample| counterexample.given == 0)
    }

    /// The parts of the law's tree in which something may grant one of its actions.
    fn granted_ranges(&self, granted: &[Granted]) -> Vec<Range<usize>> {
        let mut found: Vec<Range<usize>> = Vec::new();
        for (range, actions) in granted {
            for wanted in &self.plan.ranges {
                let both = range.start.max(wanted.start)..range.end.min(wanted.end);
                if !both.is_empty() && !actions.is_disjoint(&self.plan.law.actions) {
                    found.push(both);
                }
            }
        }
        found.sort_unstable_by_key(|range| (range.start, std::cmp::Reverse(range.end)));
        // Subtrees lie within each other or apart.
        found.dedup_by(|inner, outer| inner.start < outer.end);
        found
    }

    fn below(
        &mut self,
        decider: &mut Decider<'e>,
        taken: Option<&(RoleId, Rc<RoleClosure<'e>>)>,
        range: Range<usize>,
    ) {
        let estate = self.laws.index.estate();
        let plan = self.plan;
        let placed = &self.laws.placed;
        let first = placed.partition_point(|at| at.place.scope().index() < range.start);
        let last = placed.partition_point(|at| at.place.scope().index() < range.end);
        let mut places = plan.identities.ones().skip_while(|i| *i < first).peekable();
        for i in range {
            let mut targets = Vec::new();
            let id = ScopeId::new(i);
            let scope = estate.scope(id);
            if plan.scopes.contains(i) {
                let path = scope.path.to_string();
                targets.push(LawTarget {
                    path,
                    place: TargetPlace::Scope(id),
                    class: scope.class(),
                });
            }
            while let Some(place) =
                places.next_if(|place| *place < last && placed[*place].place.scope() == id)
            {
                let at = &placed[place];
                let (place, class) = (at.place, at.place.class(estate));
                targets.push(LawTarget { path: at.path.to_owned(), place, class });
            }
            let has_items = plan.items.contains(i);
            if targets.is_empty() && !has_items {
                continue;
            }
            let play = self.play(taken, id);
            if has_items {
                targets.extend(self.items(decider, taken, id, &play));
            }
            for target in targets {
                self.at(decider, taken, &play, target);
                if self.is_settled() {
                    return;
                }
            }
        }
    }

    /// All statements that have a say at a scope at some time, and the moments around them.
    fn play(&mut self, taken: Option<&(RoleId, Rc<RoleClosure<'e>>)>, scope: ScopeId) -> Play {
        let index = self.laws.index;
        let estate = index.estate();
        let subjects = SubjectSets(&self.closure.subjects, taken.map(|(_, taken)| &taken.subjects));
        let entries = index.policies_above(subjects, scope);
        let mut play = Play { statements: Vec::new(), bounds: Vec::new() };
        for (policy, at, window) in entries {
            let policy = estate.policy(policy);
            let law = &self.plan.law.actions;
            if policy.allowed_actions.is_disjoint(law)
                && policy.denied_actions.is_disjoint(law)
                // A ceiling that allows none of them bounds them all, at its times.
                && policy.allows.is_empty()
            {
                continue;
            }
            play.bounds.extend(window.from.iter().chain(&window.until));
            let anchor = at.map_or(0, |at| estate.scope(at).depth as usize);
            for id in policy.allows.iter().chain(&policy.denies) {
                if !estate.statement(*id).actions.is_disjoint(law) {
                    play.statements.push((*id, anchor));
                }
            }
        }
        play.statements.sort_unstable();
        play.statements.dedup();
        for (id, _) in &play.statements {
            if estate.statement(*id).when.is_some() {
                // Nothing is kept for the many whom a law is about and who are granted nothing.
                self.part.conditional.grow(estate.statements.len());
                self.part.conditional.insert(id.index());
            }
        }
        play
    }

    fn window(&self, taken: Option<&(RoleId, Rc<RoleClosure<'e>>)>) -> Window {
        let valid_during = self.closure.valid_during;
        taken.map_or(valid_during, |(_, taken)| valid_during.intersect(&taken.valid_during))
    }

    fn query<'q>(
        &self,
        target: &'q LawTarget,
        take_up: Option<RoleId>,
        time: Time,
        action: ActionId,
    ) -> Query<'q> {
        Query {
            who: self.closure.principal,
            action,
            target: Target {
                path: &target.path,
                segments: target.path.split('/').collect(),
                place: target.place,
                is_sample: target.path.contains(FRESH),
            },
            take_up,
            also: Vec::new(),
            under: Vec::new(),
            given: Vec::new(),
            item: Vec::new(),
            item_is_open: true,
            time,
        }
    }

    /// A target for every sort of item of a scope.
    fn items(
        &mut self,
        decider: &Decider<'e>,
        taken: Option<&(RoleId, Rc<RoleClosure<'e>>)>,
        id: ScopeId,
        play: &Play,
    ) -> Vec<LawTarget> {
        let index = decider.index;
        let estate = index.estate();
        let scope = estate.scope(id);
        let class = TargetClass::Item(scope.kind);
        let place = TargetPlace::Item(id);
        let sample = LawTarget { path: format!("{}/{FRESH}", scope.path), place, class };
        let applicable = estate.catalogue.applicable(class);
        let wanted = applicable.intersection(&self.plan.law.actions).next();
        let Some(action) = wanted.map(ActionId::new) else { return Vec::new() };
        let time = self.window(taken).from.unwrap_or(self.laws.now);
        let query = self.query(&sample, taken.map(|(role, _)| *role), time, action);
        // Allows see the roles that are taken up, denies and ceilings all of them.
        let taken_names = taken.map_or(&[][..], |(_, taken)| &taken.role_names[..]);
        let mut all_names = [&self.closure.role_names[..], taken_names].concat();
        all_names.sort_unstable();
        all_names.dedup();
        let context =
            |roles| EvalContext { index, query: &query, closure: self.closure, roles: Some(roles) };
        let mut contexts = vec![context(&all_names[..])];
        if taken.is_some() {
            contexts.push(context(taken_names));
        }
        let law = self.plan.law;
        let mut asked = vec![Clause::of_law(law)];
        for (id, anchor) in &play.statements {
            if !estate.statement(*id).actions.is_disjoint(applicable) {
                asked.push(Clause::of_statement(estate, *id, *anchor));
            }
        }
        let (paths, whole) = items::sorts(&contexts, id, &asked);
        if !whole {
            self.part.limit.get_or_insert_with(|| NotWorkedOut::Items(scope.path.to_string()));
        }
        paths.into_iter().map(|path| LawTarget { path, place, class }).collect()
    }

    /// Tries every action on a target at every moment; what depends is left for later.
    fn at(
        &mut self,
        decider: &mut Decider<'e>,
        taken: Option<&(RoleId, Rc<RoleClosure<'e>>)>,
        play: &Play,
        target: LawTarget,
    ) {
        let estate = self.laws.index.estate();
        let mut mask = estate.catalogue.applicable(target.class).clone();
        mask.intersect_with(&self.plan.law.actions);
        let Some(first) = mask.minimum().map(ActionId::new) else { return };
        let take_up = taken.map(|(role, _)| *role);
        for time in self.moments(taken, play, &target, first) {
            let query = self.query(&target, take_up, time, first);
            let cells = decider.reach(&query, &mask);
            let mut open = match self.plan.law.claim {
                Claim::Never => cells.allow,
                Claim::Always => {
                    let mut refused = mask.clone();
                    refused.difference_with(&cells.allow);
                    refused
                }
            };
            if self.plan.law.claim == Claim::Never {
                open.union_with(&cells.depends);
            }
            for action in open.ones().map(ActionId::new) {
                let waiting = Waiting { target: target.clone(), take_up, time, action };
                match self.with_search(decider, &waiting, |search| search.at_first()) {
                    AtFirst::Kept => {}
                    AtFirst::Broken(counterexample) => {
                        self.keep(*counterexample);
                        if self.is_settled() {
                            return;
                        }
                    }
                    AtFirst::Open if self.waiting.len() < WAITING => self.waiting.push(waiting),
                    AtFirst::Open => {
                        self.search(decider, &waiting, None);
                    }
                }
            }
        }
    }

    fn moments(
        &self,
        taken: Option<&(RoleId, Rc<RoleClosure<'e>>)>,
        play: &Play,
        target: &LawTarget,
        action: ActionId,
    ) -> Vec<Time> {
        let index = self.laws.index;
        let estate = index.estate();
        let mut bounds = play.bounds.clone();
        let window = self.window(taken);
        let query = self.query(target, None, window.from.unwrap_or(self.laws.now), action);
        let roles = &self.closure.role_names;
        let context =
            EvalContext { index, query: &query, closure: self.closure, roles: Some(roles) };
        let statements =
            play.statements.iter().filter_map(|(id, _)| estate.statement(*id).when.as_ref());
        let whens: Vec<_> = statements.chain(&self.plan.law.when).collect();
        moments_of(&context, &whens, &mut bounds);
        if let TargetPlace::Identity(Principal::Group(group), _) = target.place {
            // `target.members` changes as its windows open and close.
            let members = estate.group(group).members.iter().flatten();
            bounds.extend(members.flat_map(|m| m.window.from.into_iter().chain(m.window.until)));
        }
        bounds.sort_unstable();
        bounds.dedup();
        moments(window, self.laws.now, &bounds)
    }

    fn keep(&mut self, counterexample: Counterexample) {
        self.part.join(Judgement { counterexample: Some(counterexample), ..Judgement::default() });
    }

    /// Whether the search came to an end; one that was made already is not made again.
    fn search(
        &mut self,
        decider: &mut Decider<'e>,
        waiting: &Waiting,
        searched: Option<&mut FxHashSet<Print>>,
    ) -> bool {
        let (found, steps) = self.with_search(decider, waiting, |search| {
            if let Some(searched) = searched
                && search.fingerprint().is_some_and(|print| !searched.insert(print))
            {
                return (SearchResult::Nothing, 0);
            }
            (search.run(), search.steps)
        });
        self.steps = self.steps.saturating_sub(steps);
        self.laws.steps.fetch_add(steps + 1, Ordering::Relaxed);
        match found {
            SearchResult::Nothing => {}
            SearchResult::Counterexample(counterexample) => self.keep(*counterexample),
            SearchResult::Limit(limit) => {
                self.part.limit.get_or_insert(limit);
                return false;
            }
        }
        true
    }

    fn with_search<T>(
        &self,
        decider: &mut Decider<'e>,
        waiting: &Waiting,
        then: impl FnOnce(&mut ProofSearch<'_, 'e>) -> T,
    ) -> T {
        let Waiting { target, take_up, time, action } = waiting;
        let query = self.query(target, *take_up, *time, *action);
        let most_steps = self.steps.clamp(LEAST_STEPS, STEPS);
        with_search(decider, Some(self.plan.law), query, None, most_steps, then)
    }
}
