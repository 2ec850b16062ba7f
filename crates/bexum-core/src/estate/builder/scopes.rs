//! The scope tree.

use fixedbitset::FixedBitSet;

use super::{Builder, boxed};
use crate::declaration::{self, Declarations, Named};
use crate::estate::Estate;
use crate::fault::Fault;
use crate::id::{KindId, ScopeId};
use crate::scope::{Scope, ScopeTree, ScopeType};

/// Which scopes are resources, and so may be principals.
pub(super) fn resources(scopes: &ScopeTree) -> FixedBitSet {
    let mut resources = FixedBitSet::with_capacity(scopes.len());
    let all = scopes.iter().filter(|(_, scope)| scope.scope_type == ScopeType::Resource);
    resources.extend(all.map(|(id, _)| id.index()));
    resources
}

/// Whether the scopes of an estate were declared like this and at the same places, where kinds and
/// attributes are declared as they were: to build them again would make the same of them.
pub(super) fn are_written_as(estate: &Estate, written: &[Named<declaration::Scope>]) -> bool {
    let mut seen = FixedBitSet::with_capacity(estate.scopes.len());
    let is_same = |(at, named): (usize, &Named<declaration::Scope>)| {
        // Mostly they stand in the order in which they stood.
        let path = &named.name.value;
        let there = estate.scopes.declared_as(at).filter(|id| *estate.scope(*id).path == **path);
        let Some(id) = there.or_else(|| estate.scopes.find(path)) else { return false };
        if seen.put(id.index()) {
            return false;
        }
        let (scope, body) = (estate.scope(id), &named.body);
        scope.origin == named.name.origin
            && scope.scope_type == body.scope_type
            && scope.sealed == body.sealed
            && scope.about.as_deref() == named.about.as_deref()
            && is_of_kind(estate, scope, body)
            && scope.attributes.are_written_as(&estate.attribute_names, &body.attributes)
    };
    written.len() == estate.scopes.len() && written.iter().enumerate().all(is_same)
}

fn is_of_kind(estate: &Estate, scope: &Scope, written: &declaration::Scope) -> bool {
    let find = |kind: &str| estate.catalogue.find_kind(kind);
    match (written.scope_type, &written.kind) {
        (ScopeType::Account | ScopeType::Subscription, _) => scope.kind.is_none(),
        (_, None) => scope.kind == find("namespace"),
        // Of nothing else is it asked whether the kind is in the catalogue.
        (ScopeType::Namespace, Some(kind)) if kind.value == "namespace" => {
            scope.kind == find("namespace")
        }
        // A kind by this name was named before, too: it is the default of what names none.
        (_, Some(kind)) => {
            kind.value != "namespace" && scope.kind.is_some() && scope.kind == find(&kind.value)
        }
    }
}

impl Builder<'_> {
    pub(super) fn build_scopes(&mut self, declared: &Declarations) -> ScopeTree {
        let in_order: Vec<&Named<declaration::Scope>> =
            self.scopes.in_order(&declared.scopes).collect();
        let mut scopes = Vec::with_capacity(in_order.len());
        for named in &in_order {
            let path = &named.name.value;
            let body = &named.body;
            let parent = self.check_place(&in_order, named);
            scopes.push(Scope {
                path: path.as_str().into(),
                scope_type: body.scope_type,
                kind: self.build_scope_kind(body),
                parent,
                depth: path.split('/').count() as u32,
                sealed: body.sealed,
                attributes: self.build_attributes(super::Bearer::Scope, &body.attributes),
                about: boxed(named.about.as_ref()),
                origin: named.name.origin,
                end: 0,
            });
        }
        ScopeTree::new(scopes, self.scopes.numbers(), self.scopes.as_declared())
    }

    fn build_scope_kind(&mut self, scope: &declaration::Scope) -> Option<KindId> {
        let what = match scope.scope_type {
            ScopeType::Resource => "a resource",
            ScopeType::Namespace => "a namespace",
            ScopeType::Account | ScopeType::Subscription => return None,
        };
        match &scope.kind {
            // The default kind need not be in the catalogue.
            Some(kind) if what == "a namespace" && kind.value == "namespace" => {
                self.kinds.get("namespace").map(KindId::new)
            }
            Some(kind) => self.find_kind(kind, Some(what)),
            None => self.kinds.get("namespace").map(KindId::new),
        }
    }

    /// The parent of a scope, if it may lie where it does.
    fn check_place(
        &mut self,
        in_order: &[&Named<declaration::Scope>],
        named: &Named<declaration::Scope>,
    ) -> Option<ScopeId> {
        let path = &named.name.value;
        let misplaced = |rule| Fault::Misplaced {
            what: match named.body.scope_type {
                ScopeType::Account => "an account",
                ScopeType::Subscription => "a subscription",
                ScopeType::Resource => "a resource",
                ScopeType::Namespace => "a namespace",
            },
            path: path.clone(),
            rule,
        };
        let above = path.rsplit_once('/').map(|(above, _)| above);
        let Some(above) = above else {
            if named.body.scope_type != ScopeType::Account {
                let rule = "only an account has a path of one segment; all else lies below one";
                self.fault(misplaced(rule), named.name.origin);
            }
            return None;
        };
        if named.body.scope_type == ScopeType::Account {
            self.fault(misplaced("an account's path is one segment"), named.name.origin);
            return None;
        }
        let Some(parent) = self.scopes.get(above) else {
            let nearest = self.scopes.nearest(above, &mut self.near);
            let fault = Fault::Orphan { path: path.clone(), parent: above.to_owned(), nearest };
            self.fault(fault, named.name.origin);
            return None;
        };
        if named.body.scope_type == ScopeType::Subscription
            && in_order[parent].body.scope_type != ScopeType::Account
        {
            let rule = "a subscription lies directly below an account";
            self.fault(misplaced(rule), named.name.origin);
        }
        Some(ScopeId::new(parent))
    }
}
