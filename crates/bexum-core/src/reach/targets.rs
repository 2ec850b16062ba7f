//! ScopeIndex to do something: declared ones, and the items of a scope.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::catalogue::{ActionSet, TargetClass};
use crate::estate::Estate;
use crate::id::ScopeId;
use crate::pattern::residual::FRESH;
use crate::request::{Target, TargetPlace};

/// Somewhere to do something: a declared scope, an identity, or items of a scope.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct AccessTarget {
    /// For people: the path, or the pattern of paths, that it stands for.
    pub shown: String,
    /// A path that stands for it when it is asked; a [`FRESH`] in it for what nobody writes.
    pub asked: String,
    /// What it is.
    pub sort: TargetSort,
    /// What lies there.
    pub place: TargetPlace,
}

/// What a target is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum TargetSort {
    /// A declared scope.
    Scope,
    /// A user, group, role or policy with a place.
    Identity,
    /// The items of a scope, those that no [`TargetSort::Pattern`] singles out.
    Items,
    /// The items of a scope that a pattern singles out.
    Pattern,
}

impl AccessTarget {
    /// The nearest declared scope.
    #[must_use]
    pub fn scope(&self) -> ScopeId {
        self.place.scope()
    }

    /// The actions that apply there.
    #[must_use]
    pub fn applicable<'e>(&self, estate: &'e Estate) -> &'e ActionSet {
        estate.catalogue.applicable(self.place.class(estate))
    }

    /// How deep it stands in the tree; an account stands at 0.
    #[must_use]
    pub fn depth(&self, estate: &Estate) -> usize {
        let scope = estate.scope(self.scope()).depth as usize;
        scope - usize::from(self.sort == TargetSort::Scope)
    }

    /// A target that a path led to.
    #[must_use]
    pub fn at(target: &Target<'_>) -> Self {
        let sort = match target.place {
            TargetPlace::Scope(_) => TargetSort::Scope,
            TargetPlace::Identity(..) | TargetPlace::Policy(..) => TargetSort::Identity,
            TargetPlace::Item(_) => TargetSort::Pattern,
        };
        let path = target.path.to_owned();
        Self { shown: path.clone(), asked: path, sort, place: target.place }
    }
}

/// The declared targets of an estate, in the order of the tree.
#[derive(Clone, Debug)]
pub struct AccessTargets<'e> {
    estate: &'e Estate,
    /// Identities by their places, in the order of their paths.
    placed: Arc<FxHashMap<ScopeId, Vec<(&'e str, TargetPlace)>>>,
}

impl<'e> AccessTargets<'e> {
    /// All targets of an estate.
    #[must_use]
    pub fn new(estate: &'e Estate) -> Self {
        let mut placed: FxHashMap<ScopeId, Vec<(&str, TargetPlace)>> = FxHashMap::default();
        for (path, place) in &estate.identities_at {
            placed.entry(place.scope()).or_default().push((path, *place));
        }
        placed.values_mut().for_each(|list| list.sort_unstable_by_key(|(path, _)| *path));
        Self { estate, placed: Arc::new(placed) }
    }

    /// A scope, its items as one target, and the identities with their place there.
    pub fn at(&self, id: ScopeId) -> impl Iterator<Item = AccessTarget> {
        let path = self.estate.scope(id).path.to_string();
        let place = TargetPlace::Scope(id);
        let scope =
            AccessTarget { shown: path.clone(), asked: path, sort: TargetSort::Scope, place };
        let placed = self.placed.get(&id).into_iter().flatten();
        let identities = placed.map(|(path, place)| AccessTarget {
            shown: (*path).to_owned(),
            asked: (*path).to_owned(),
            sort: TargetSort::Identity,
            place: *place,
        });
        std::iter::once(scope).chain(items_of(self.estate, id)).chain(identities)
    }

    /// Whether identities have their place at a scope.
    pub(crate) fn has_identities(&self, id: ScopeId) -> bool {
        self.placed.contains_key(&id)
    }

    /// The targets of a subtree, or of the whole estate: each scope comes before what is in it.
    pub fn below(&self, scope: Option<ScopeId>) -> impl Iterator<Item = AccessTarget> {
        let ids = scope.map_or(0..self.estate.scopes.len(), |at| self.estate.scopes.subtree(at));
        ids.flat_map(|id| self.at(ScopeId::new(id)))
    }
}

/// Names that a made-up path has for a `**`: more than any pattern has.
pub(super) fn many(estate: &Estate) -> usize {
    estate.longest_pattern + 1
}

/// The items of a scope as one target, if it has any.
fn items_of(estate: &Estate, id: ScopeId) -> Option<AccessTarget> {
    let scope = estate.scope(id);
    let actions = estate.catalogue.applicable(TargetClass::Item(scope.kind));
    if !scope.holds_items() || actions.is_empty() {
        return None;
    }
    let asked = format!("{}{}", scope.path, format!("/{FRESH}").repeat(many(estate)));
    let shown = format!("{}/**", scope.path);
    Some(AccessTarget { shown, asked, sort: TargetSort::Items, place: TargetPlace::Item(id) })
}
