//! All actions at once: what a principal can do on one target, as sets.
//!
//! The rules are those of [`evaluate`](super::evaluate), taken statement by statement instead of
//! action by action: a statement is asked once per target, and its whole set of actions is granted
//! or refused together.

use std::ops::Range;
use std::rc::Rc;

use super::closure::Closure;
use super::evaluate::Decider;
use super::facts::Scene;
use super::index::Index;
use super::sought::Whom;
use crate::catalogue::ActionSet;
use crate::id::{ActionId, GroupId, PolicyId, RoleId, ScopeId, StatementId};
use crate::policy::{Effect, Policy};
use crate::principal::Principal;
use crate::request::{Place, Query};
use crate::time::Time;
use crate::truth::Truth;

/// What somebody can do on one target; what is in neither set is denied.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Cells {
    /// Allowed for certain.
    pub allow: ActionSet,
    /// Denied as things are known, but allowed if all that is undecided came out in favour.
    pub depends: ActionSet,
}

impl Cells {
    /// Nothing at all, among `actions` many.
    #[must_use]
    pub fn nothing(actions: usize) -> Self {
        let none = ActionSet::with_capacity(actions);
        Self { allow: none.clone(), depends: none }
    }
}

/// The same actions under both readings (see [`Reading`](crate::Reading)).
struct Both {
    strict: ActionSet,
    hopeful: ActionSet,
}

impl<'e> Decider<'e> {
    /// Who asks, and every policy that is attached to it at the query's scope or above, or bounds
    /// it there, each with the scope that its patterns start at.
    pub(crate) fn policies_in_play(
        &mut self,
        query: &Query<'_>,
    ) -> (Rc<Closure<'e>>, Vec<(PolicyId, Option<ScopeId>)>) {
        let closure = self.closure_of(query);
        let scope = query.target.scope();
        let taken = query.take_up.map(|role| self.role_closure(role, query.time));
        let whom = Whom(&closure.sought, taken.as_ref().map(|taken| &taken.sought));
        let policies = self.index.policies_above(whom, scope);
        let mut policies: Vec<(PolicyId, Option<ScopeId>)> =
            policies.into_iter().map(|(policy, at, _)| (policy, at)).collect();
        policies.extend(query.under.iter().map(|policy| (*policy, None)));
        policies.sort_unstable();
        policies.dedup();
        (closure, policies)
    }

    /// The parts of the tree, as ranges of scope indexes in order and apart, in which some
    /// attachment allows this principal any of `wanted`: nowhere else can it do them.
    pub(crate) fn where_allowed(
        &mut self,
        (who, also): (Principal, &[GroupId]),
        take_up: Option<RoleId>,
        at: Time,
        wanted: &ActionSet,
    ) -> Vec<Range<usize>> {
        let estate = self.index.estate;
        let closure = Closure::new(self.index, who, also, at);
        let taken = take_up.map(|role| self.role_closure(role, at));
        let taken = taken.as_ref().map(|taken| &taken.sought);
        let all = [Some(&closure.sought), taken].into_iter().flatten();
        let attached = all
            .flat_map(|sought| self.index.attached_to(sought))
            .filter(|attached| !estate.policy(attached.policy).allowed_actions.is_disjoint(wanted));
        let mut ranges: Vec<Range<usize>> =
            attached.map(|attached| estate.scopes.subtree(attached.scope)).collect();
        ranges.sort_by_key(|range| range.start);
        // Subtrees lie within each other or apart.
        ranges.dedup_by(|inner, outer| inner.start < outer.end);
        ranges
    }

    /// What the query's principal can do on its target, of the actions in `mask` (which must
    /// apply there); the query's own action is not looked at.
    pub fn reach(&mut self, query: &Query<'_>, mask: &ActionSet) -> Cells {
        let all = self.index.estate.catalogue.actions.len();
        let closure = self.closure_of(query);
        let refused = query.take_up.is_some_and(|role| !closure.can_take_up(role));
        let mut cells = Cells::nothing(all);
        if closure.is_disabled || refused {
            return cells;
        }
        let taken = query.take_up.map(|role| self.role_closure(role, query.time));
        let mut all_roles = closure.role_names.clone();
        if let Some(taken) = &taken {
            all_roles.extend(&taken.role_names);
            all_roles.sort_unstable();
            all_roles.dedup();
        }
        let allow_roles = taken.as_ref().map_or(&closure.role_names, |taken| &taken.role_names);
        let whom = Whom(&closure.sought, taken.as_ref().map(|taken| &taken.sought));
        let grants = taken.as_ref().map_or(whom, |taken| Whom(&taken.sought, None));
        for (action, part) in parts(self.index, query, mask) {
            let query = Query { action, ..query.clone() };
            let scene = Scene {
                index: self.index,
                query: &query,
                closure: &closure,
                roles: Some(&all_roles),
            };
            let walk = Sets { scene, mask: &part };
            let allow_scene = Scene { roles: Some(allow_roles), ..scene };
            let mut granted =
                Sets { scene: allow_scene, mask: &part }.attached(Effect::Allow, grants);
            if granted.hopeful.is_clear() {
                continue;
            }
            // A deny counts when it is not false; hopefully, only when it is true.
            let denied = walk.attached(Effect::Deny, whom);
            granted.strict.difference_with(&denied.hopeful);
            granted.hopeful.difference_with(&denied.strict);
            walk.bound(whom, &mut granted);
            granted.hopeful.difference_with(&granted.strict);
            cells.allow.union_with(&granted.strict);
            cells.depends.union_with(&granted.hopeful);
        }
        cells
    }
}

/// The mask, cut so that `target.kind` is the same for all actions of a part: for an item it is
/// the kind in the action asked.
fn parts(index: &Index<'_>, query: &Query<'_>, mask: &ActionSet) -> Vec<(ActionId, ActionSet)> {
    let catalogue = &index.estate.catalogue;
    let mut parts: Vec<(ActionId, ActionSet)> = Vec::new();
    for i in mask.ones() {
        let kind = catalogue.actions[i].kind;
        let whole = !matches!(query.target.place, Place::Item(_));
        let same =
            parts.iter_mut().find(|(first, _)| whole || catalogue.action(*first).kind == kind);
        match same {
            Some((_, set)) => set.insert(i),
            None => {
                let mut set = ActionSet::with_capacity(catalogue.actions.len());
                set.insert(i);
                parts.push((ActionId::new(i), set));
            }
        }
    }
    parts
}

struct Sets<'s> {
    scene: Scene<'s>,
    mask: &'s ActionSet,
}

impl Sets<'_> {
    fn none(&self) -> Both {
        let none = ActionSet::with_capacity(self.scene.index.estate.catalogue.actions.len());
        Both { strict: none.clone(), hopeful: none }
    }

    /// The actions of statements in play: `strict` of those that are true, `hopeful` of those that
    /// are not false.
    fn attached(&self, effect: Effect, whom: Whom<'_>) -> Both {
        let (estate, places) = (self.scene.index.estate, &self.scene.index.places);
        let mut both = self.none();
        for (scope, anchor, sealed) in places.chain(self.scene.query.target.scope()) {
            places.attached_at(scope).each_sought(whom, |entry| {
                let window = || estate.attachments[entry.origin as usize].window;
                if !entry.windowed || window().holds(self.scene.query.time) {
                    self.add(effect, entry.policy, anchor, &mut both);
                }
                false
            });
            if effect == Effect::Allow && sealed {
                break;
            }
        }
        both
    }

    fn add(&self, effect: Effect, policy: PolicyId, anchor: usize, both: &mut Both) {
        let policy: &Policy = self.scene.index.estate.policy(policy);
        let (actions, statements) = match effect {
            Effect::Allow => (&policy.allowed_actions, &policy.allows),
            Effect::Deny => (&policy.denied_actions, &policy.denies),
        };
        if actions.is_disjoint(self.mask) {
            return;
        }
        for &id in statements {
            self.add_statement(id, anchor, both);
        }
    }

    fn add_statement(&self, id: StatementId, anchor: usize, both: &mut Both) {
        let actions = &self.scene.index.estate.statement(id).actions;
        // What is certain already need not be asked again.
        if actions.intersection(self.mask).all(|action| both.strict.contains(action)) {
            return;
        }
        let truth = self.scene.truth(id, anchor);
        let mut here = actions.clone();
        here.intersect_with(self.mask);
        if truth == Truth::True {
            both.strict.union_with(&here);
        }
        if truth != Truth::False {
            both.hopeful.union_with(&here);
        }
    }

    /// Takes away what ceilings in play do not let through (spec section 6).
    fn bound(&self, whom: Whom<'_>, granted: &mut Both) {
        let query = self.scene.query;
        let (estate, places) = (self.scene.index.estate, &self.scene.index.places);
        for &policy in &query.under {
            self.pass(policy, 0, granted);
        }
        let chain = places.chain(query.target.scope()).map(|(at, anchor, _)| (Some(at), anchor));
        for (over, anchor) in std::iter::once((None, 0)).chain(chain) {
            // One that binds several of the subjects passes the same again.
            places.each_ceiling(over, whom, |entry| {
                let window = || estate.ceilings[entry.origin as usize].window;
                if !entry.windowed || window().holds(query.time) {
                    self.pass(entry.policy, anchor, granted);
                }
                false
            });
        }
    }

    fn pass(&self, policy: PolicyId, anchor: usize, granted: &mut Both) {
        let mut denied = self.none();
        self.add(Effect::Deny, policy, anchor, &mut denied);
        granted.strict.difference_with(&denied.hopeful);
        granted.hopeful.difference_with(&denied.strict);
        if !self.scene.index.estate.policy(policy).allows.is_empty() {
            let mut allowed = self.none();
            self.add(Effect::Allow, policy, anchor, &mut allowed);
            granted.strict.intersect_with(&allowed.strict);
            granted.hopeful.intersect_with(&allowed.hopeful);
        }
    }
}
