//! Section 5: which requests are errors, and what lies at a path.

use super::{Naive, prefixes, scope_kind};
use crate::declaration::{Kind, Named, Scope};
use crate::origin::Spanned;
use crate::request::Request;
use crate::scope::ScopeType;

impl Naive<'_> {
    pub(super) fn check(&self, request: &Request<'_>) -> Option<()> {
        let d = self.declared;
        let (word, name) = request.who.split_once(':')?;
        let known = match word {
            "user" => d.users.iter().any(|u| u.name.value == name),
            "group" => d.groups.iter().any(|g| g.name.value == name),
            "role" => d.roles.iter().any(|r| r.name.value == name),
            "resource" => {
                let scope = self.scope(name)?;
                scope.body.scope_type == ScopeType::Resource
            }
            _ => false,
        };
        let role = |name: &str| d.roles.iter().any(|r| format!("role:{}", r.name.value) == name);
        let group = |name: &str| d.groups.iter().any(|g| format!("group:{}", g.name.value) == name);
        let sound = known
            && request.take_up.as_deref().is_none_or(role)
            && request.also.iter().all(|name| group(name))
            && request
                .under
                .iter()
                .all(|name| self.statements.get(name.as_ref()).is_some_and(|all| !all.is_empty()))
            && self.applies(&request.does, &request.on)?;
        let item = request.item.iter().flatten().all(|(name, _)| {
            !crate::attribute::is_reserved(name.split('.').next().unwrap_or_default())
        });
        let is_item = self.scope(&request.on).is_none() && self.identity(&request.on).is_none();
        (sound && item && (request.item.is_none() || is_item)).then_some(())
    }

    pub(super) fn applies(&self, action: &str, path: &str) -> Option<bool> {
        let (kind_name, verb) = action.split_once('.')?;
        let kind = self.kind(kind_name)?;
        if !kind.body.verbs.iter().any(|(_, v)| v.value == verb) {
            return None;
        }
        let among = |list: &[Spanned<String>], name: &str| list.iter().any(|n| n.value == name);
        let wide = among(&kind.body.account_wide, verb);
        let parent = among(&kind.body.on_parent, verb);
        let plain = !wide && !parent;
        if path.len() > 4096 {
            return None;
        }
        if let Some((word, _)) = self.identity(path) {
            return Some(plain && kind_name == word);
        }
        if let Some(scope) = self.scope(path) {
            return Some(match scope.body.scope_type {
                ScopeType::Account => (plain && kind_name == "account") || wide || parent,
                ScopeType::Subscription => (plain && kind_name == "subscription") || parent,
                ScopeType::Resource | ScopeType::Namespace => {
                    let own = scope_kind(scope);
                    let held = self.kind(own).is_some_and(|own| {
                        among(&own.body.holds, kind_name) || among(&own.body.items, kind_name)
                    });
                    (plain && kind_name == own) || (parent && held)
                }
            });
        }
        let bad = path.chars().any(char::is_control)
            || path.contains(['*', '{', '}'])
            || path.split('/').any(|s| s.is_empty() || s == "." || s == "..");
        if bad {
            return None;
        }
        let above: Vec<&str> = prefixes(path).collect();
        if above.iter().any(|path| self.identity(path).is_some()) {
            return None;
        }
        let nearest = above.iter().rev().find_map(|path| self.scope(path))?;
        if !matches!(nearest.body.scope_type, ScopeType::Resource | ScopeType::Namespace) {
            return None;
        }
        let own = self.kind(scope_kind(nearest));
        Some(plain && own.is_some_and(|own| among(&own.body.items, kind_name)))
    }

    pub(super) fn kind(&self, name: &str) -> Option<&Named<Kind>> {
        self.declared.kinds.iter().find(|kind| kind.name.value == name)
    }

    pub(super) fn scope(&self, path: &str) -> Option<&Named<Scope>> {
        self.declared.scopes.iter().find(|scope| scope.name.value == path)
    }

    /// The word and name of the identity that is the target at `path`.
    pub(super) fn identity(&self, path: &str) -> Option<(&'static str, &str)> {
        let (place, name) = path.rsplit_once('/')?;
        let d = self.declared;
        let at =
            |written: &Option<Spanned<String>>| written.as_ref().is_some_and(|h| h.value == place);
        if let Some(user) = d.users.iter().find(|u| u.name.value == name && at(&u.body.place)) {
            return Some(("user", &user.name.value));
        }
        if let Some(group) = d.groups.iter().find(|g| g.name.value == name && at(&g.body.place)) {
            return Some(("group", &group.name.value));
        }
        if let Some(role) = d.roles.iter().find(|r| r.name.value == name && at(&r.body.place)) {
            return Some(("role", &role.name.value));
        }
        let policy = d.policies.iter().find(|p| p.name.value == name && at(&p.body.place))?;
        Some(("policy", &policy.name.value))
    }
}
