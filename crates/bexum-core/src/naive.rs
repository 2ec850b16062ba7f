//! The spec read aloud: an evaluator without any index, over declarations as they stand.
//!
//! It is slow on purpose. Tests hold the [engine](crate::engine) against it, benches measure by
//! it. It shares with the engine the parsers and the table of operators, and nothing else: names
//! stay strings, every rule of sections 3 to 6 is written a second time. It takes only
//! declarations that [build](crate::Estate::build) without a fault.

use std::collections::{BTreeMap, BTreeSet};

use crate::attribute::Value;
use crate::condition::ast::{Expression, Operand, Operator, Path, Root};
use crate::condition::eval::Fact;
use crate::condition::parser;
use crate::decision::Reason;
use crate::declaration::{Declarations, Element, Named, WindowWritten};
use crate::origin::Written;
use crate::pattern::action::ActionPattern;
use crate::pattern::path::{BraceRoot, Part, PathPattern, Segment};
use crate::policy::Effect;
use crate::principal::Join;
use crate::request::Request;
use crate::scope::ScopeType;
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
enum Seen {
    Absent,
    Unknown,
    There(Value),
}

impl Seen {
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
        let active = self.active_roles(request, &groups);
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

    // Section 5: which requests are errors.

    fn check(&self, request: &Request<'_>) -> Option<()> {
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

    fn applies(&self, action: &str, path: &str) -> Option<bool> {
        let (kind_name, verb) = action.split_once('.')?;
        let kind = self.kind(kind_name)?;
        if !kind.body.verbs.iter().any(|(_, v)| v.value == verb) {
            return None;
        }
        let among = |list: &[Written<String>], name: &str| list.iter().any(|n| n.value == name);
        let wide = among(&kind.body.account_wide, verb);
        let parent = among(&kind.body.on_parent, verb);
        let plain = !wide && !parent;
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
        let bad = path.len() > 4096
            || path.chars().any(char::is_control)
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

    fn kind(&self, name: &str) -> Option<&Named<crate::declaration::Kind>> {
        self.declared.kinds.iter().find(|kind| kind.name.value == name)
    }

    fn scope(&self, path: &str) -> Option<&Named<crate::declaration::Scope>> {
        self.declared.scopes.iter().find(|scope| scope.name.value == path)
    }

    /// The word and name of the identity that is the target at `path`.
    fn identity(&self, path: &str) -> Option<(&'static str, &str)> {
        let (home, name) = path.rsplit_once('/')?;
        let d = self.declared;
        let at =
            |written: &Option<Written<String>>| written.as_ref().is_some_and(|h| h.value == home);
        if let Some(user) = d.users.iter().find(|u| u.name.value == name && at(&u.body.home)) {
            return Some(("user", &user.name.value));
        }
        if let Some(group) = d.groups.iter().find(|g| g.name.value == name && at(&g.body.home)) {
            return Some(("group", &group.name.value));
        }
        let role = d.roles.iter().find(|r| r.name.value == name && at(&r.body.home))?;
        Some(("role", &role.name.value))
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

    fn active_roles(&self, request: &Request<'_>, groups: &BTreeSet<String>) -> BTreeSet<String> {
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

    // Section 3: paths.

    fn path_matches(&self, pattern: &PathPattern<String>, anchor: &str, case: &Case<'_>) -> Truth {
        let mut path = case.request.on.as_ref();
        if !pattern.absolute && !anchor.is_empty() {
            path = path.strip_prefix(anchor).unwrap_or(path).trim_start_matches('/');
        }
        let names: Vec<&str> = if path.is_empty() { Vec::new() } else { path.split('/').collect() };
        self.segments_match(&pattern.segments, &names, case)
    }

    fn segments_match(&self, wanted: &[Segment<String>], names: &[&str], case: &Case<'_>) -> Truth {
        let Some((first, rest)) = wanted.split_first() else {
            return Truth::from(names.is_empty());
        };
        if matches!(first, Segment::Rest) {
            let skips = 0..=names.len();
            let best = skips.map(|skip| self.segments_match(rest, &names[skip..], case)).max();
            return best.unwrap_or(Truth::False);
        }
        let Some((name, others)) = names.split_first() else { return Truth::False };
        let here = match first {
            Segment::Literal(text) => Truth::from(**text == **name),
            Segment::Any | Segment::Rest => Truth::True,
            Segment::Mixed(parts) => self.parts_match(parts, name, case),
        };
        if here == Truth::False {
            return here;
        }
        here.min(self.segments_match(rest, others, case))
    }

    fn parts_match(&self, parts: &[Part<String>], name: &str, case: &Case<'_>) -> Truth {
        let Some((first, rest)) = parts.split_first() else { return Truth::from(name.is_empty()) };
        let after = |text: &str| {
            name.strip_prefix(text).map_or(Truth::False, |left| self.parts_match(rest, left, case))
        };
        let anything = || {
            let starts = (0..=name.len()).filter(|at| name.is_char_boundary(*at));
            let best = starts.map(|at| self.parts_match(rest, &name[at..], case)).max();
            best.unwrap_or(Truth::False)
        };
        match first {
            Part::Text(text) => after(text),
            Part::Star => anything(),
            Part::Brace(brace) => {
                let root = match brace.root {
                    BraceRoot::Principal => Root::Principal,
                    BraceRoot::Context => Root::Context,
                };
                let alternatives = match self.look_up(root, &brace.attribute, case) {
                    Seen::Absent => Vec::new(),
                    Seen::Unknown => vec![None],
                    Seen::There(Value::List(items)) => items.iter().map(spell).collect(),
                    Seen::There(value) => vec![spell(&value)],
                };
                let truths = alternatives.into_iter().map(|alternative| match alternative {
                    Some(text) => after(&text),
                    None => anything().min(Truth::Undecided),
                });
                truths.max().unwrap_or(Truth::False)
            }
        }
    }

    // Section 4: conditions.

    fn eval(&self, expression: &Expression, case: &Case<'_>) -> Truth {
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
            Expression::Has(path) => match look_up(path) {
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

    fn look_up(&self, root: Root, name: &str, case: &Case<'_>) -> Seen {
        let request = case.request;
        match root {
            Root::Context if name == "time" => Seen::There(Value::Time(request.time)),
            Root::Context => {
                for (given, value) in &request.context {
                    match value {
                        Some(value) if given == name => return Seen::There(value.clone()),
                        None if reaches_name(given, name) => return Seen::Absent,
                        _ => {}
                    }
                }
                Seen::Unknown
            }
            Root::Principal => self.principal_attribute(name, case),
            Root::Resource => self.resource_attribute(name, request),
        }
    }

    fn has_below(&self, path: &Path, case: &Case<'_>) -> bool {
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
            Root::Context => request
                .context
                .iter()
                .any(|(name, value)| value.is_some() && name.starts_with(&head)),
            Root::Principal => match request.who.split_once(':') {
                Some(("user", name)) => self
                    .declared
                    .users
                    .iter()
                    .any(|u| u.name.value == name && below(&u.body.attributes)),
                Some(("resource", at)) => up(at),
                _ => false,
            },
            Root::Resource => {
                let identity = self.identity_attributes(&request.on).is_some_and(below);
                let item = request.item.iter().flatten().any(|(name, _)| name.starts_with(&head));
                identity || up(&request.on) || item
            }
        }
    }

    fn principal_attribute(&self, name: &str, case: &Case<'_>) -> Seen {
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

    fn resource_attribute(&self, name: &str, request: &Request<'_>) -> Seen {
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

    fn identity_attributes(&self, path: &str) -> Option<&[(Written<String>, Value)]> {
        let d = self.declared;
        Some(match self.identity(path)? {
            ("user", name) => &d.users.iter().find(|u| u.name.value == name)?.body.attributes,
            ("group", name) => &d.groups.iter().find(|g| g.name.value == name)?.body.attributes,
            (_, name) => &d.roles.iter().find(|r| r.name.value == name)?.body.attributes,
        })
    }

    /// The nearest value at `path` or a scope above it.
    fn inherited(&self, path: &str, name: &str) -> Option<Value> {
        let mut chain: Vec<&str> = prefixes(path).collect();
        chain.push(path);
        chain.iter().rev().find_map(|at| own(&self.scope(at)?.body.attributes, name))
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

/// Whether `given` is `name` or a table that holds it.
fn reaches_name(given: &str, name: &str) -> bool {
    name.strip_prefix(given).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}

fn scope_kind(scope: &Named<crate::declaration::Scope>) -> &str {
    scope.body.kind.as_ref().map_or("namespace", |kind| &kind.value)
}

fn own(list: &[(Written<String>, Value)], name: &str) -> Option<Value> {
    list.iter().find(|(known, _)| known.value == name).map(|(_, value)| value.clone())
}

fn open(window: &WindowWritten, at: Time) -> bool {
    window.from.as_ref().is_none_or(|from| from.value <= at)
        && window.until.as_ref().is_none_or(|until| at < until.value)
}

/// How a value stands in a segment, if it can.
fn spell(value: &Value) -> Option<String> {
    match value {
        Value::Text(text) => (!text.is_empty() && !text.contains('/')).then(|| text.to_string()),
        Value::Integer(n) => Some(n.to_string()),
        Value::Boolean(b) => Some(b.to_string()),
        Value::Time(_) | Value::List(_) => None,
    }
}
