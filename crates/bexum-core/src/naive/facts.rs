//! Section 4: conditions and attributes, by looking through everything.

use super::{Case, Met, Naive, open, prefixes, scope_kind};
use crate::attribute::Value;
use crate::condition::ast::{Expression, Operand, Operator, Path, Root};
use crate::condition::fact::Fact;
use crate::origin::Spanned;
use crate::principal::Join;
use crate::request::Request;
use crate::scope::ScopeType;
use crate::truth::Truth;

impl Naive<'_> {
    pub(super) fn eval(&self, expression: &Expression, case: &Case<'_>) -> Truth {
        let look_up = |path: &Path| self.look_up(path.root, &path.name, case);
        match expression {
            Expression::And(parts) => {
                parts.iter().map(|part| self.eval(part, case)).min().unwrap_or(Truth::True)
            }
            Expression::Or(parts) => {
                parts.iter().map(|part| self.eval(part, case)).max().unwrap_or(Truth::False)
            }
            Expression::Not(inner) => self.eval(inner, case).negate(),
            Expression::Constant(constant) => Truth::from(*constant),
            Expression::Bare(path) => match look_up(path) {
                Met::Absent => Truth::False,
                Met::There(Value::Boolean(b)) => Truth::from(b),
                _ => Truth::Undecided,
            },
            Expression::IsSet(path) => match look_up(path) {
                Met::There(_) => Truth::True,
                _ if self.has_below(path, case) => Truth::True,
                Met::Unknown => Truth::Undecided,
                Met::Absent => Truth::False,
            },
            Expression::Compare(left, operator, right) => {
                let operand = |operand: &Operand| match operand {
                    Operand::Path(path) => look_up(path),
                    Operand::Literal(value, _) => Met::There(value.clone()),
                };
                match (operand(left), operand(right)) {
                    (Met::Absent, _) | (_, Met::Absent) if *operator == Operator::NotEqual => {
                        Truth::Undecided
                    }
                    (Met::Absent, _) | (_, Met::Absent) => Truth::False,
                    (Met::There(a), Met::There(b)) => {
                        crate::condition::compare_values(&Fact::of(&a), *operator, &Fact::of(&b))
                    }
                    _ => Truth::Undecided,
                }
            }
        }
    }

    pub(super) fn look_up(&self, root: Root, name: &str, case: &Case<'_>) -> Met {
        let request = case.request;
        match root {
            Root::Given if name == "time" => Met::There(Value::Time(request.time)),
            Root::Given => {
                for (given, value) in &request.given {
                    match value {
                        Some(value) if given == name => return Met::There(value.clone()),
                        None if reaches_name(given, name) => return Met::Absent,
                        _ => {}
                    }
                }
                Met::Unknown
            }
            Root::Who => self.principal_attribute(name, case),
            Root::Target => self.resource_attribute(name, request),
        }
    }

    pub(super) fn has_below(&self, path: &Path, case: &Case<'_>) -> bool {
        let head = format!("{}.", path.name);
        let below = |list: &[(Spanned<String>, Value)]| {
            list.iter().any(|(name, _)| name.value.starts_with(&head))
        };
        let up = |at: &str| {
            let mut chain: Vec<&str> = prefixes(at).collect();
            chain.push(at);
            chain.iter().any(|p| self.scope(p).is_some_and(|s| below(&s.body.attributes)))
        };
        let request = case.request;
        match path.root {
            Root::Given => {
                request.given.iter().any(|(name, value)| value.is_some() && name.starts_with(&head))
            }
            Root::Who => match request.who.split_once(':') {
                Some(("user", name)) => self
                    .declared
                    .users
                    .iter()
                    .any(|u| u.name.value == name && below(&u.body.attributes)),
                Some(("resource", at)) => up(at),
                _ => false,
            },
            Root::Target => {
                let identity = self.identity_attributes(&request.on).is_some_and(below);
                let item = request.item.iter().flatten().any(|(name, _)| name.starts_with(&head));
                identity || up(&request.on) || item
            }
        }
    }

    pub(super) fn principal_attribute(&self, name: &str, case: &Case<'_>) -> Met {
        let Some((word, bare)) = case.request.who.split_once(':') else { return Met::Absent };
        match (name, word) {
            ("id", _) => Met::text(case.request.who.as_ref()),
            ("type", _) => Met::text(word),
            ("name", _) => Met::text(bare),
            ("groups", _) => Met::names(case.groups.iter().cloned()),
            ("roles", _) => Met::names(case.roles.iter().cloned()),
            (_, "group" | "role") => Met::Unknown,
            ("manager", "resource") => Met::Absent,
            (_, "resource") => Met::or_absent(self.inherited(bare, name)),
            _ => {
                let user = self.declared.users.iter().find(|user| user.name.value == bare);
                let Some(user) = user else { return Met::Absent };
                if name == "manager" {
                    return user
                        .body
                        .manager
                        .as_ref()
                        .map_or(Met::Absent, |m| Met::text(&*m.value));
                }
                Met::or_absent(own(&user.body.attributes, name))
            }
        }
    }

    pub(super) fn resource_attribute(&self, name: &str, request: &Request<'_>) -> Met {
        let on = request.on.as_ref();
        let d = self.declared;
        let identity = self.identity(on);
        let group = identity
            .filter(|(word, _)| *word == "group")
            .and_then(|(_, bare)| d.groups.iter().find(|group| group.name.value == bare));
        let user = identity
            .filter(|(word, _)| *word == "user")
            .and_then(|(_, bare)| d.users.iter().find(|user| user.name.value == bare));
        match name {
            "path" => Met::text(on),
            "name" => Met::text(on.rsplit('/').next().unwrap_or(on)),
            "account" => Met::text(on.split('/').next().unwrap_or(on)),
            "kind" => match (identity, self.scope(on)) {
                (Some((word, _)), _) => Met::text(word),
                (None, Some(scope)) => match scope.body.scope_type {
                    ScopeType::Account | ScopeType::Subscription => {
                        Met::text(scope.body.scope_type.word())
                    }
                    _ => Met::text(scope_kind(scope)),
                },
                (None, None) => Met::text(request.does.split('.').next().unwrap_or_default()),
            },
            "owners" => match group.and_then(|group| group.body.owners.as_ref()) {
                Some(owners) => Met::names(owners.iter().map(|owner| owner.value.clone())),
                None => Met::Absent,
            },
            "members" => match group.and_then(|group| group.body.members.as_ref()) {
                Some(members) => {
                    let inside = members.iter().filter(|e| open(&e.window, request.time));
                    Met::names(inside.map(|e| e.who.value.clone()))
                }
                None => Met::Absent,
            },
            "join" => match group {
                Some(group) => Met::text(match group.body.join {
                    Some(Join::Open) => "open",
                    Some(Join::Approval) => "approval",
                    Some(Join::Closed) | None => "closed",
                }),
                None => Met::Absent,
            },
            "manager" => match user.and_then(|user| user.body.manager.as_ref()) {
                Some(manager) => Met::text(&*manager.value),
                None => Met::Absent,
            },
            _ => {
                let identity = self.identity_attributes(on).and_then(|list| own(list, name));
                let item = request.item.iter().flatten();
                let of_item =
                    || item.clone().find(|(n, _)| n == name).map(|(_, value)| value.clone());
                Met::or_absent(identity.or_else(|| self.inherited(on, name)).or_else(of_item))
            }
        }
    }

    pub(super) fn identity_attributes(&self, path: &str) -> Option<&[(Spanned<String>, Value)]> {
        let d = self.declared;
        Some(match self.identity(path)? {
            ("user", name) => &d.users.iter().find(|u| u.name.value == name)?.body.attributes,
            ("group", name) => &d.groups.iter().find(|g| g.name.value == name)?.body.attributes,
            ("policy", _) => &[],
            (_, name) => &d.roles.iter().find(|r| r.name.value == name)?.body.attributes,
        })
    }

    /// The nearest value at `path` or a scope above it.
    pub(super) fn inherited(&self, path: &str, name: &str) -> Option<Value> {
        let mut chain: Vec<&str> = prefixes(path).collect();
        chain.push(path);
        chain.iter().rev().find_map(|at| own(&self.scope(at)?.body.attributes, name))
    }
}

/// Whether `given` is `name` or a table that holds it.
fn reaches_name(given: &str, name: &str) -> bool {
    name.strip_prefix(given).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}

fn own(list: &[(Spanned<String>, Value)], name: &str) -> Option<Value> {
    list.iter().find(|(known, _)| known.value == name).map(|(_, value)| value.clone())
}
