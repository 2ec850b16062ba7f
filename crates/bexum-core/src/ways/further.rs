//! What attaching a policy opens at least, told more nearly: to several hundred people, with the items
//! that the policy singles out.

use std::sync::atomic::{AtomicUsize, Ordering};

use rustc_hash::{FxHashMap, FxHashSet};

use super::at_least::{Denied, Gauge, SessionItems, Tie, denied, enough, granted_to, opened_to};
use super::{Candidate, Concerned, SAMPLE, WaySearch};
use crate::each::Each;
use crate::engine::{Decider, EvalContext, Session, StatementInPlay};
use crate::id::{ActionId, PolicyId, ScopeId, StatementId};
use crate::items::{self, is_item};
use crate::policy::Effect;
use crate::principal::Principal;
use crate::reach::{AccessTarget, AccessTargets, TargetSort, Viewpoint};
use crate::request::{Query, TargetPlace};

/// How many rows are looked at, of all principals together.
const MOST_ROWS: usize = 8192;

/// How many scopes are looked at.
const MOST_SCOPES: usize = 32;

/// How many people are looked at together.
const TOGETHER: usize = 8;

/// How many items that policies single out are looked at in each of them, about, where there are very
/// many people.
const MOST_ITEMS: usize = 4;

impl WaySearch<'_> {
    /// Looks again at steps that attach a policy, and of which it is not known that they open more than
    /// so many cells. For steps that were [gauged](Self::gauge), once it is
    /// known what is more than the best do. Those who gain by them are shared out by `each`.
    pub fn gauge_further(&self, candidates: &mut [Candidate], most_cells: usize, each: Each<'_>) {
        let (estate, request) = (self.estate(), self.request);
        let (Ok(query), Ok(viewpoint)) = (request.resolve(estate), request.viewpoint(estate))
        else {
            return;
        };
        let ties = candidates.iter_mut().filter_map(|candidate| {
            let is_gauged = candidate.at_least > 0 && candidate.first.is_none();
            match candidate.gauge {
                Some(Gauge::Attaches(tie)) if is_gauged && candidate.at_least <= most_cells => {
                    Some((&mut candidate.at_least, tie))
                }
                _ => None,
            }
        });
        let (also, under) = (Vec::new(), Vec::new());
        let by_oneself = Viewpoint { also, under, take_up: None, ..viewpoint };
        // The fewer people there are, the more rows can be looked at.
        let (few, many): (Vec<_>, Vec<_>) =
            ties.partition(|(_, tie)| self.number(&Concerned::These(vec![tie.to])) <= TOGETHER);
        for ties in [few, many].into_iter().filter(|ties| !ties.is_empty()) {
            self.gauge_ties(ties, (&query, &by_oneself), most_cells, each);
        }
    }

    fn gauge_ties(
        &self,
        ties: Vec<(&mut usize, Tie)>,
        (query, by_oneself): (&Query<'_>, &Viewpoint),
        most_cells: usize,
        each: Each<'_>,
    ) {
        let here = query.target.scope();
        let at_path: Vec<AccessTarget> = AccessTargets::new(self.estate()).at(here).collect();
        let (targets, singled) = self.targets_below(query, by_oneself, &ties);
        let known: FxHashSet<&str> = targets.iter().map(|target| &*target.shown).collect();
        let most_people = (MOST_ROWS / targets.len().max(1)).max(SAMPLE);
        let mut people: FxHashMap<Principal, Vec<Principal>> = FxHashMap::default();
        for (_, tie) in &ties {
            people.entry(tie.to).or_insert_with(|| self.some_of(tie.to, most_people));
        }
        let number = people.values().map(Vec::len).max().unwrap_or_default();
        let opened: Vec<AtomicUsize> = ties.iter().map(|_| AtomicUsize::new(0)).collect();
        // Of most steps the first few people tell that they open more.
        each(number.div_ceil(TOGETHER), &|share| {
            let mut decider = Decider::new(self.index());
            let is_open = |opened: &AtomicUsize| opened.load(Ordering::Relaxed) <= most_cells;
            let mut seen: FxHashMap<Principal, Vec<SessionItems>> = FxHashMap::default();
            for ((_, tie), _) in ties.iter().zip(&opened).filter(|(_, opened)| is_open(opened)) {
                seen.entry(tie.to).or_insert_with(|| {
                    let some = people[&tie.to].iter().skip(share * TOGETHER).take(TOGETHER);
                    let views = granted_to(&mut decider, by_oneself, tie.to, some.copied());
                    let each = views
                        .into_iter()
                        .map(|view| SessionItems::new(&mut decider, view, &at_path));
                    each.collect()
                });
            }
            let mut there: FxHashMap<Principal, Vec<Denied<'_>>> = FxHashMap::default();
            for ((_, tie), opened) in ties.iter().zip(&opened).filter(|(_, open)| is_open(open)) {
                let Some(seen) = seen.get(&tie.to) else { continue };
                let others = there.entry(tie.to).or_insert_with(|| {
                    let each = seen.iter().map(|one| {
                        let own = one.items.iter().filter(|item| !known.contains(&*item.shown));
                        denied(&mut decider, &one.viewpoint, targets.iter().chain(own))
                    });
                    each.collect()
                });
                let items = singled.get(&tie.policy).filter(|_| tie.at == here);
                let each = others.iter().zip(seen).map(|(denied, seen)| {
                    opened_to(self.index(), denied, *tie, |target| {
                        target.sort != TargetSort::Pattern
                            || items.is_some_and(|it| it.contains(&target.shown))
                            || seen.has(target)
                    })
                });
                opened.fetch_add(enough(most_cells, each), Ordering::Relaxed);
            }
        });
        for ((at_least, _), opened) in ties.into_iter().zip(opened) {
            // How much more it is hangs on who was looked at first.
            let known = opened.into_inner().min(most_cells.saturating_add(1));
            *at_least = (*at_least).max(known);
        }
    }

    /// The rows below the scope of what is asked about at which it is looked what is opened; with the
    /// items that policies single out there, by policy.
    fn targets_below(
        &self,
        query: &Query<'_>,
        by_oneself: &Viewpoint,
        ties: &[(&mut usize, Tie)],
    ) -> (Vec<AccessTarget>, FxHashMap<PolicyId, FxHashSet<String>>) {
        let estate = self.estate();
        let here = query.target.scope();
        let session = Decider::new(self.index()).session(query);
        let declared = AccessTargets::new(estate);
        let scopes = estate.scopes.subtree(here).take(MOST_SCOPES).map(ScopeId::new);
        let scopes: Vec<ScopeId> = scopes.collect();
        let mut targets: Vec<AccessTarget> =
            scopes.iter().flat_map(|at| declared.at(*at)).collect();
        let people = ties.iter().map(|(_, tie)| self.number(&Concerned::These(vec![tie.to]))).max();
        let of_few = MOST_ROWS / people.unwrap_or_default().max(1);
        let most = (targets.len() + MOST_ITEMS * scopes.len()).max(of_few);
        let mut known: FxHashSet<String> =
            targets.iter().map(|target| target.shown.clone()).collect();
        let mut singled: FxHashMap<PolicyId, FxHashSet<String>> = FxHashMap::default();
        for (_, tie) in ties {
            // Farther up, its patterns may say something else here.
            if tie.at != here || targets.len() > most || singled.contains_key(&tie.policy) {
                continue;
            }
            let statements = self.said_to_all(tie.policy, here);
            let asker = (by_oneself, &session);
            let items = scopes.iter().flat_map(|at| self.singled_out(&statements, *at, asker));
            let items: Vec<AccessTarget> = items.collect();
            singled.insert(tie.policy, items.iter().map(|target| target.shown.clone()).collect());
            targets.extend(items.into_iter().filter(|target| known.insert(target.shown.clone())));
        }
        (targets, singled)
    }

    /// What a policy allows whoever asks, attached at a scope.
    fn said_to_all(&self, policy: PolicyId, at: ScopeId) -> Vec<StatementInPlay> {
        let estate = self.estate();
        let is_for_all = |id: &&StatementId| {
            let on = &estate.statement(**id).on;
            on.plain.iter().chain(&on.excluded).all(|pattern| pattern.braces().next().is_none())
        };
        let anchor = estate.scope(at).depth as usize;
        let allows = estate.policy(policy).allows.iter().filter(is_for_all);
        allows.map(|id| StatementInPlay { id: *id, anchor, sees: Effect::Allow }).collect()
    }

    /// The items of a scope that patterns of these statements single out.
    fn singled_out(
        &self,
        statements: &[StatementInPlay],
        at: ScopeId,
        (viewpoint, session): (&Viewpoint, &Session<'_>),
    ) -> Vec<AccessTarget> {
        let estate = self.estate();
        let scope = estate.scope(at);
        if !scope.holds_items() {
            return Vec::new();
        }
        let path = scope.path.to_string();
        let (shown, asked) = (path.clone(), path.clone());
        let below =
            AccessTarget { shown, asked, sort: TargetSort::Items, place: TargetPlace::Item(at) };
        let query = viewpoint.query(&below, ActionId::new(0));
        let context = |_: usize| EvalContext {
            index: self.index(),
            query: &query,
            closure: &session.closure,
            roles: Some(session.roles_of(Effect::Allow)),
        };
        let segments: Vec<&str> = path.split('/').collect();
        let (rests, _) = items::rests(&segments, statements, &context, estate.longest_pattern + 1);
        let free = rests.into_iter().filter(|(_, asked)| is_item(estate, at, asked));
        let target = |shown: &str, asked: &str| {
            let [shown, asked] = [shown, asked].map(|below| format!("{path}/{below}"));
            AccessTarget { shown, asked, sort: TargetSort::Pattern, place: TargetPlace::Item(at) }
        };
        free.map(|(rest, asked)| target(&rest.text, &asked)).collect()
    }
}
