//! The spec read aloud: an evaluator without any index, over declarations as they stand.
//!
//! It is slow on purpose. Tests hold the [engine](crate::engine) against it, benches measure by
//! it. It shares with the engine the parsers and the table of operators, and nothing else: names
//! stay strings, every rule of sections 3 to 6 is written a second time. It takes only
//! declarations that [build](crate::Estate::build) without a fault, and does not read declared attributes.

mod facts;
mod paths;
mod requests;

use std::collections::{BTreeMap, BTreeSet};

use crate::attribute::Value;
use crate::condition::ast::Expression;
use crate::condition::parser;
use crate::decision::Reason;
use crate::declaration::{Declarations, Element, Named, WindowWritten};
use crate::pattern::action::ActionPattern;
use crate::pattern::path::PathPattern;
use crate::policy::Effect;
use crate::request::Request;
use crate::time::Time;
use crate::truth::Truth;

/// Declarations with their policies' statements laid out.
#[derive(Debug)]
pub struct Naive<'d> {
    declared: &'d Declarations,
    statements: BTreeMap<&'d str, Vec<Statement<'d>>>,
    members_when: BTreeMap<&'d str, Expression>,
}

#[derive(Clone, Debug)]
struct Statement<'d> {
    effect: Effect,
    actions: Vec<ActionPattern<'d>>,
    on: Vec<PathPattern<String>>,
    when: Option<Expression>,
}

/// A value that may be absent or unknown.
#[derive(Clone, Debug)]
enum Met {
    Absent,
    Unknown,
    There(Value),
}

impl Met {
    fn or_absent(value: Option<Value>) -> Self {
        value.map_or(Self::Absent, Self::There)
    }

    fn names(names: impl IntoIterator<Item = String>) -> Self {
        Self::There(Value::List(names.into_iter().map(|n| Value::Text(n.into())).collect()))
    }

    fn text(text: impl Into<Box<str>>) -> Self {
        Self::There(Value::Text(text.into()))
    }
}

/// What statements are asked about.
struct Case<'c> {
    request: &'c Request<'c>,
    groups: &'c BTreeSet<String>,
    roles: &'c BTreeSet<String>,
}

impl<'d> Naive<'d> {
    /// Lays out declarations that build without a fault.
    #[must_use]
    pub fn new(declared: &'d Declarations) -> Self {
        let mut statements = BTreeMap::new();
        for policy in &declared.policies {
            let name = policy.name.value.as_str();
            let mut names = vec![name];
            let mut at = 0;
            while let Some(next) = names.get(at).copied() {
                let found = declared.policies.iter().find(|p| p.name.value == next);
                for included in found.into_iter().flat_map(|p| &p.body.include) {
                    if !names.contains(&included.value.as_str()) {
                        names.push(&included.value);
                    }
                }
                at += 1;
            }
            let policies = names
                .iter()
                .filter_map(|name| declared.policies.iter().find(|p| p.name.value == *name));
            let all = policies.flat_map(|p| &p.body.statements).map(lay_out).collect();
            statements.insert(name, all);
        }
        let members_when = declared.groups.iter().filter_map(|group| {
            let when = group.body.members_when.as_ref()?;
            Some((group.name.value.as_str(), parser::parse(&when.value).ok()?))
        });
        Self { declared, statements, members_when: members_when.collect() }
    }

    /// The reason of the answer, or `None` when the request is an error.
    #[must_use]
    pub fn decide(&self, request: &Request<'_>) -> Option<Reason> {
        self.check(request)?;
        let at = request.time;
        let who = request.who.as_ref();
        let groups = self.groups(request);
        let active = self.roles_held(request, &groups);
        let taken = request.take_up.as_deref().and_then(|role| role.strip_prefix("role:"));

        if let Some(name) = who.strip_prefix("user:")
            && self.declared.users.iter().any(|u| u.name.value == name && !u.body.enabled)
        {
            return Some(Reason::Disabled);
        }
        let plus = match taken {
            None => None,
            Some(role) => {
                let declared = self.declared.roles.iter().find(|r| r.name.value == role)?;
                let stands = |list: &[Element]| {
                    list.iter().any(|e| {
                        open(&e.window, at) && {
                            let name = e.who.value.as_str();
                            name == who
                                || name.strip_prefix("group:").is_some_and(|g| groups.contains(g))
                                || name.strip_prefix("role:").is_some_and(|r| active.contains(r))
                        }
                    })
                };
                let possible = active.contains(role)
                    || stands(&declared.body.taken_by)
                    || stands(&declared.body.held_by);
                if !possible {
                    return Some(Reason::RoleRefused);
                }
                Some(self.grow_roles(BTreeSet::from([role.to_owned()]), &|_| false, at))
            }
        };

        let mut own: BTreeSet<String> = BTreeSet::from([who.to_owned(), "everyone".to_owned()]);
        own.extend(groups.iter().map(|g| format!("group:{g}")));
        own.extend(active.iter().map(|r| format!("role:{r}")));
        let (allow_subjects, allow_roles) = match &plus {
            None => (own.clone(), active.clone()),
            Some(plus) => {
                let mut subjects: BTreeSet<String> =
                    plus.iter().map(|r| format!("role:{r}")).collect();
                subjects.insert("everyone".to_owned());
                (subjects, plus.clone())
            }
        };
        let mut all_roles = active.clone();
        all_roles.extend(plus.iter().flatten().cloned());
        let mut all_subjects = own;
        all_subjects.extend(plus.iter().flatten().map(|r| format!("role:{r}")));

        let for_allows = Case { request, groups: &groups, roles: &allow_roles };
        let for_denies = Case { request, groups: &groups, roles: &all_roles };
        if self.any_attached(Effect::Deny, &all_subjects, &for_denies) {
            return Some(Reason::Denied);
        }
        if !self.any_attached(Effect::Allow, &allow_subjects, &for_allows) {
            return Some(Reason::NotGranted);
        }
        for ceiling in &self.declared.ceilings {
            let sought = ceiling
                .bound
                .as_ref()
                .is_none_or(|list| list.value.iter().any(|who| all_subjects.contains(&who.value)));
            if !sought || !open(&ceiling.window, at) {
                continue;
            }
            for policy in &ceiling.policy.value {
                let over: Vec<&str> = match &ceiling.over {
                    None => vec![""],
                    Some(list) => list.value.iter().map(|scope| scope.value.as_str()).collect(),
                };
                for over in over {
                    if reaches(over, &request.on) && self.bounds(&policy.value, over, &for_denies) {
                        return Some(Reason::OverCeiling);
                    }
                }
            }
        }
        for policy in &request.under {
            if self.bounds(policy, "", &for_denies) {
                return Some(Reason::OverCeiling);
            }
        }
        Some(Reason::Granted)
    }

    // Section 6: groups and roles.

    fn groups(&self, request: &Request<'_>) -> BTreeSet<String> {
        let mut groups: BTreeSet<String> = request
            .also
            .iter()
            .filter_map(|g| g.strip_prefix("group:"))
            .map(str::to_owned)
            .collect();
        groups.extend(request.who.strip_prefix("group:").map(str::to_owned));
        loop {
            let before = groups.len();
            for group in &self.declared.groups {
                let name = &group.name.value;
                let listed = group.body.members.iter().flatten().any(|e| {
                    open(&e.window, request.time)
                        && (e.who.value == request.who
                            || e.who
                                .value
                                .strip_prefix("group:")
                                .is_some_and(|g| groups.contains(g)))
                });
                let matched = request.who.starts_with("user:")
                    && self.members_when.get(name.as_str()).is_some_and(|when| {
                        let none = BTreeSet::new();
                        let case = Case { request, groups: &none, roles: &none };
                        self.eval(when, &case) == Truth::True
                    });
                if listed || matched {
                    groups.insert(name.clone());
                }
            }
            if groups.len() == before {
                return groups;
            }
        }
    }

    fn roles_held(&self, request: &Request<'_>, groups: &BTreeSet<String>) -> BTreeSet<String> {
        let start = request.who.strip_prefix("role:").map(str::to_owned).into_iter().collect();
        let holds = |name: &str| {
            name == request.who || name.strip_prefix("group:").is_some_and(|g| groups.contains(g))
        };
        self.grow_roles(start, &holds, request.time)
    }

    fn grow_roles(
        &self,
        mut roles: BTreeSet<String>,
        holds: &dyn Fn(&str) -> bool,
        at: Time,
    ) -> BTreeSet<String> {
        loop {
            let before = roles.len();
            for role in &self.declared.roles {
                let held = role.body.held_by.iter().any(|e| {
                    let name = e.who.value.as_str();
                    let by_role = name.strip_prefix("role:").is_some_and(|r| roles.contains(r));
                    open(&e.window, at) && (by_role || holds(name))
                });
                if held {
                    roles.insert(role.name.value.clone());
                }
            }
            if roles.len() == before {
                return roles;
            }
        }
    }

    // Section 6: what is in play, and what matches.

    fn any_attached(&self, effect: Effect, subjects: &BTreeSet<String>, case: &Case<'_>) -> bool {
        let on = case.request.on.as_ref();
        self.declared.attachments.iter().any(|attachment| {
            open(&attachment.window, case.request.time)
                && attachment.to.value.iter().any(|who| subjects.contains(&who.value))
                && attachment.at.value.iter().any(|at| {
                    let at = at.value.as_str();
                    reaches(at, on)
                        && (effect == Effect::Deny || !self.sealed_below(at, on))
                        && attachment
                            .policy
                            .value
                            .iter()
                            .any(|policy| self.counting(&policy.value, effect, at, case))
                })
        })
    }

    /// Whether a scope strictly below `at`, at or above the target, is sealed.
    fn sealed_below(&self, at: &str, on: &str) -> bool {
        let mut between: Vec<&str> = prefixes(on).collect();
        between.push(on);
        between.iter().any(|path| {
            path.len() > at.len() && self.scope(path).is_some_and(|scope| scope.body.sealed)
        })
    }

    /// Whether some statement of the effect counts: a deny that is not false, an allow that is true.
    fn counting(&self, policy: &str, effect: Effect, anchor: &str, case: &Case<'_>) -> bool {
        self.statements.get(policy).into_iter().flatten().any(|statement| {
            let truth = self.matches(statement, anchor, case);
            statement.effect == effect
                && (truth == Truth::True || (effect == Effect::Deny && truth == Truth::Undecided))
        })
    }

    fn bounds(&self, policy: &str, anchor: &str, case: &Case<'_>) -> bool {
        let statements = self.statements.get(policy).map(Vec::as_slice).unwrap_or_default();
        let no_allow = statements.iter().all(|statement| statement.effect == Effect::Deny);
        let allowed = no_allow || self.counting(policy, Effect::Allow, anchor, case);
        !allowed || self.counting(policy, Effect::Deny, anchor, case)
    }

    fn matches(&self, statement: &Statement<'_>, anchor: &str, case: &Case<'_>) -> Truth {
        if !self.names_action(statement, &case.request.does) {
            return Truth::False;
        }
        let any = |excludes: bool| {
            let those = statement.on.iter().filter(|pattern| pattern.excludes == excludes);
            those.map(|p| self.path_matches(p, anchor, case)).max().unwrap_or(Truth::False)
        };
        let on = any(false).min(any(true).negate());
        let when = statement.when.as_ref().map_or(Truth::True, |when| self.eval(when, case));
        on.min(when)
    }

    fn names_action(&self, statement: &Statement<'_>, action: &str) -> bool {
        let Some((kind_name, verb)) = action.split_once('.') else { return false };
        let Some(kind) = self.kind(kind_name) else { return false };
        let Some((level, _)) = kind.body.verbs.iter().find(|(_, v)| v.value == verb) else {
            return false;
        };
        let action = crate::catalogue::Action {
            name: action.into(),
            kind: crate::id::KindId::new(0),
            level: *level,
            addresses: crate::catalogue::Addresses::Itself,
        };
        let named =
            |excludes| statement.actions.iter().any(|p| p.excludes == excludes && p.names(&action));
        named(false) && !named(true)
    }
}

fn lay_out(statement: &crate::declaration::Statement) -> Statement<'_> {
    let actions = statement.actions.value.iter();
    let everything = vec!["**".to_owned()];
    let on: Vec<String> = match &statement.on {
        None => everything,
        Some(list) => list.value.iter().map(|pattern| pattern.value.clone()).collect(),
    };
    Statement {
        effect: statement.effect,
        actions: actions.filter_map(|p| ActionPattern::parse(&p.value).ok()).collect(),
        on: on.iter().filter_map(|pattern| PathPattern::parse(pattern).ok()).collect(),
        when: statement.when.as_ref().and_then(|when| parser::parse(&when.value).ok()),
    }
}

/// Every proper prefix of a path that ends at a slash, from the top.
fn prefixes(path: &str) -> impl Iterator<Item = &str> {
    path.match_indices('/').map(|(slash, _)| &path[..slash])
}

/// Whether `scope` is the target or above it; the empty scope is the root of all paths.
fn reaches(scope: &str, on: &str) -> bool {
    scope.is_empty() || on == scope || prefixes(on).any(|above| above == scope)
}

fn open(window: &WindowWritten, at: Time) -> bool {
    window.from.as_ref().is_none_or(|from| from.value <= at)
        && window.until.as_ref().is_none_or(|until| at < until.value)
}

fn scope_kind(scope: &Named<crate::declaration::Scope>) -> &str {
    scope.body.kind.as_ref().map_or("namespace", |kind| &kind.value)
}
