//! The scope tree.

use fixedbitset::FixedBitSet;

use super::{Builder, boxed};
use crate::declaration::{self, Declarations, Named};
use crate::fault::Fault;
use crate::id::{KindId, ScopeId};
use crate::scope::{Scope, ScopeTree, ScopeType};

impl Builder<'_> {
    /// The tree, and which of its scopes are resources (and so may be principals).
    pub(super) fn build_scopes(&mut self, declared: &Declarations) -> (ScopeTree, FixedBitSet) {
        let in_order: Vec<&Named<declaration::Scope>> =
            self.scopes.in_order(&declared.scopes).collect();
        let mut resources = FixedBitSet::with_capacity(in_order.len());
        let mut scopes = Vec::with_capacity(in_order.len());
        for (i, named) in in_order.iter().enumerate() {
            let path = &named.name.value;
            let body = &named.body;
            if body.scope_type == ScopeType::Resource {
                resources.insert(i);
            }
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
        (ScopeTree::new(scopes), resources)
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
