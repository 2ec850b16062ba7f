//! Section 4: conditions and attributes, by looking through everything.

use super::{Case, Naive, Seen, open, prefixes, scope_kind};
use crate::attribute::Value;
use crate::condition::ast::{Expression, Operand, Operator, Path, Root};
use crate::condition::fact::Fact;
use crate::origin::Written;
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
                Seen::Absent => Truth::False,
                Seen::There(Value::Boolean(b)) => Truth::from(b),
                _ => Truth::Undecided,
            },
            Expression::IsSet(path) => match look_up(path) {
                Seen::There(_) => Truth::True,
                _ if self.has_below(path, case) => Truth::True,
                Seen::Unknown => Truth::Undecided,
                Seen::Absent => Truth::False,
            },
            Expression::Compare(left, operator, right) => {
                let operand = |operand: &Operand| match operand {
                    Operand::Path(path) => look_up(path),
                    Operand::Literal(value, _) => Seen::There(value.clone()),
                };
                match (operand(left), operand(right)) {
                    (Seen::Absent, _) | (_, Seen::Absent) if *operator == Operator::NotEqual => {
                        Truth::Undecided
                    }
                    (Seen::Absent, _) | (_, Seen::Absent) => Truth::False,
                    (Seen::There(a), Seen::There(b)) => {
                        crate::condition::compare_values(&Fact::of(&a), *operator, &Fact::of(&b))
                    }
                    _ => Truth::Undecided,
                }
            }
        }
    }

    pub(super) fn look_up(&self, root: Root, name: &str, case: &Case<'_>) -> Seen {
        let request = case.request;
        match root {
            Root::Given if name == "time" => Seen::There(Value::Time(request.time)),
            Root::Given => {
                for (given, value) in &request.given {
                    match value {
                        Some(value) if given == name => return Seen::There(value.clone()),
                        None if reaches_name(given, name) => return Seen::Absent,
                        _ => {}
                    }
                }
                Seen::Unknown
            }
            Root::Who => self.principal_attribute(name, case),
            Root::Target => self.resource_attribute(name, request),
        }
    }

    pub(super) fn has_below(&self, path: &Path, case: &Case<'_>) -> bool {
        let head = format!("{}.", path.name);
        let below = |list: &[(Written<String>, Value)]| {
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

    pub(super) fn principal_attribute(&self, name: &str, case: &Case<'_>) -> Seen {
        let Some((word, bare)) = case.request.who.split_once(':') else { return Seen::Absent };
        match (name, word) {
            ("id", _) => Seen::text(case.request.who.as_ref()),
            ("type", _) => Seen::text(word),
            ("name", _) => Seen::text(bare),
            ("groups", _) => Seen::names(case.groups.iter().cloned()),
            ("roles", _) => Seen::names(case.roles.iter().cloned()),
            (_, "group" | "role") => Seen::Unknown,
            ("manager", "resource") => Seen::Absent,
            (_, "resource") => Seen::or_absent(self.inherited(bare, name)),
            _ => {
                let user = self.declared.users.iter().find(|user| user.name.value == bare);
                let Some(user) = user else { return Seen::Absent };
                if name == "manager" {
                    return user
                        .body
                        .manager
                        .as_ref()
                        .map_or(Seen::Absent, |m| Seen::text(&*m.value));
                }
                Seen::or_absent(own(&user.body.attributes, name))
            }
        }
    }

    pub(super) fn resource_attribute(&self, name: &str, request: &Request<'_>) -> Seen {
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
            "path" => Seen::text(on),
            "name" => Seen::text(on.rsplit('/').next().unwrap_or(on)),
            "account" => Seen::text(on.split('/').next().unwrap_or(on)),
            "kind" => match (identity, self.scope(on)) {
                (Some((word, _)), _) => Seen::text(word),
                (None, Some(scope)) => match scope.body.scope_type {
                    ScopeType::Account | ScopeType::Subscription => {
                        Seen::text(scope.body.scope_type.word())
                    }
                    _ => Seen::text(scope_kind(scope)),
                },
                (None, None) => Seen::text(request.does.split('.').next().unwrap_or_default()),
            },
            "owners" => match group.and_then(|group| group.body.owners.as_ref()) {
                Some(owners) => Seen::names(owners.iter().map(|owner| owner.value.clone())),
                None => Seen::Absent,
            },
            "members" => match group.and_then(|group| group.body.members.as_ref()) {
                Some(members) => {
                    let inside = members.iter().filter(|e| open(&e.window, request.time));
                    Seen::names(inside.map(|e| e.who.value.clone()))
                }
                None => Seen::Absent,
            },
            "join" => match group {
                Some(group) => Seen::text(match group.body.join {
                    Some(Join::Open) => "open",
                    Some(Join::Approval) => "approval",
                    Some(Join::Closed) | None => "closed",
                }),
                None => Seen::Absent,
            },
            "manager" => match user.and_then(|user| user.body.manager.as_ref()) {
                Some(manager) => Seen::text(&*manager.value),
                None => Seen::Absent,
            },
            _ => {
                let identity = self.identity_attributes(on).and_then(|list| own(list, name));
                let item = request.item.iter().flatten();
                let of_item =
                    || item.clone().find(|(n, _)| n == name).map(|(_, value)| value.clone());
                Seen::or_absent(identity.or_else(|| self.inherited(on, name)).or_else(of_item))
            }
        }
    }

    pub(super) fn identity_attributes(&self, path: &str) -> Option<&[(Written<String>, Value)]> {
        let d = self.declared;
        Some(match self.identity(path)? {
            ("user", name) => &d.users.iter().find(|u| u.name.value == name)?.body.attributes,
            ("group", name) => &d.groups.iter().find(|g| g.name.value == name)?.body.attributes,
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

fn own(list: &[(Written<String>, Value)], name: &str) -> Option<Value> {
    list.iter().find(|(known, _)| known.value == name).map(|(_, value)| value.clone())
}
