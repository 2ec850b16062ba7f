//! What is asked (spec section 5): first by names, then resolved against an estate.

use std::borrow::Cow;

use crate::attribute::{Value, is_reserved};
use crate::catalogue::TargetClass;
use crate::condition::ast::Root;
use crate::estate::Estate;
use crate::id::{ActionId, AttributeId, GroupId, PolicyId, RoleId, ScopeId};
use crate::limits::PATH_BYTES;
use crate::name::nearest;
use crate::principal::Principal;
use crate::reach::Viewpoint;
use crate::time::Time;
use crate::vocabulary::{Declared, Misfit};

/// A request by names, as somebody wrote it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request<'a> {
    /// `user:…`, `resource:…`, `group:…` or `role:…`.
    pub who: Cow<'a, str>,
    /// An action.
    pub does: Cow<'a, str>,
    /// A path.
    pub on: Cow<'a, str>,
    /// `role:…`: a role to take up.
    pub take_up: Option<Cow<'a, str>>,
    /// `group:…`: groups that the principal is supposed to be in as well.
    pub also: Vec<Cow<'a, str>>,
    /// Policies that bound this session alone.
    pub under: Vec<Cow<'a, str>>,
    /// Circumstances by full dotted name, without `time`; `None` says that one is absent.
    pub given: Vec<(Cow<'a, str>, Option<Value>)>,
    /// Attributes of the item itself, if given at all.
    pub item: Option<Vec<(Cow<'a, str>, Value)>>,
    /// Tables without anything in them among the circumstances, by full dotted name.
    pub empty_tables: Vec<Cow<'a, str>>,
    /// The same among the item's attributes.
    pub empty_item_tables: Vec<Cow<'a, str>>,
    /// The moment of the request, `given.time`.
    pub time: Time,
}

/// Why a request is an error and no decision.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum RequestFault {
    /// `who` is no declared principal.
    #[error("principal `{0}` is not declared")]
    Principal(String),
    /// `does` is no catalogued action.
    #[error("action `{0}` is not in the catalogue")]
    Action(String),
    /// `as` is no declared role.
    #[error("role `{0}` is not declared: a role to take up is written `role:NAME`")]
    Role(String),
    /// An element of `also` is no declared group.
    #[error("group `{0}` is not declared: a supposed group is written `group:NAME`")]
    Group(String),
    /// An element of `under` is no declared policy.
    #[error("policy `{0}` is not declared")]
    Policy(String),
    /// An element of `under` has no statement.
    #[error("policy `{0}` has no statement, so it cannot bound a session")]
    EmptyPolicy(String),
    /// No path at all.
    #[error("`{path}` is no path: {why}")]
    Path {
        /// As written.
        path: String,
        /// What is wrong with it.
        why: &'static str,
    },
    /// A path at which nothing is or can be.
    #[error("there is nothing at `{path}`: {why}")]
    Nowhere {
        /// As written.
        path: String,
        /// Why.
        why: &'static str,
    },
    /// An action on a target of another kind.
    #[error("action `{action}` does not apply to `{path}`, which is {what}")]
    NotApplicable {
        /// The action.
        action: String,
        /// The target.
        path: String,
        /// What the target is, in words.
        what: String,
    },
    /// `item` with a target that is declared.
    #[error("`item` describes a thing that the estate does not declare, but `{0}` is declared")]
    ItemOfDeclared(String),
    /// A value that is none of a declared attribute's (spec-work section 7.1).
    #[error("`{name}` is declared as {rule}: `{value}` is not")]
    DoesNotFit {
        /// With its root.
        name: String,
        /// What is declared.
        rule: String,
        /// The value, as a condition would write it.
        value: String,
    },
    /// A value at the head of declared attributes.
    #[error("`{0}` is the head of declared attributes: only a table or `null` can stand there")]
    NoTable(String),
    /// A table where an attribute is declared.
    #[error("`{0}` is declared as one attribute: a table cannot stand there")]
    NoHead(String),
    /// A built-in's name in `item`.
    #[error("no attribute of an item can be called `{0}`: that name is built in")]
    ReservedItemName(String),
}

impl RequestFault {
    /// What was probably meant; searches the estate's names.
    #[must_use]
    pub fn hint(&self, estate: &Estate) -> Option<String> {
        let names: Vec<String>;
        let (wanted, known): (&str, Vec<&str>) = match self {
            Self::Principal(name) => {
                names = estate.principals().map(|p| estate.principal_id(p)).collect();
                (name, names.iter().map(String::as_str).collect())
            }
            Self::Action(name) => {
                (name, estate.catalogue.actions.iter().map(|action| &*action.name).collect())
            }
            Self::Role(name) => {
                names = estate.roles.iter().map(|r| format!("role:{}", r.identity.name)).collect();
                (name, names.iter().map(String::as_str).collect())
            }
            Self::Group(name) => {
                names =
                    estate.groups.iter().map(|g| format!("group:{}", g.identity.name)).collect();
                (name, names.iter().map(String::as_str).collect())
            }
            Self::Policy(name) => (name, estate.policies.iter().map(|p| &*p.name).collect()),
            Self::Nowhere { path, .. } => {
                (path, estate.scopes.iter().map(|(_, scope)| &*scope.path).collect())
            }
            Self::DoesNotFit { rule, value, .. } => {
                let is_bare = value.parse::<i64>().is_ok() || value == "true" || value == "false";
                let is_meant = is_bare && rule.starts_with("a string");
                return is_meant.then(|| format!("in double quotes it is a string: `\"{value}\"`"));
            }
            Self::NotApplicable { path, .. } => {
                let target = resolve_target(estate, path).ok()?;
                let actions = estate.catalogue.applicable(target.class(estate));
                let names: Vec<String> = actions
                    .ones()
                    .map(|i| format!("`{}`", estate.catalogue.actions[i].name))
                    .take(8)
                    .collect();
                let more = if actions.len() > names.len() { ", …" } else { "" };
                return Some(match names.len() {
                    0 => "no action applies there".to_owned(),
                    _ => format!("what applies there: {}{more}", names.join(", ")),
                });
            }
            _ => return None,
        };
        let bare = wanted.rsplit(':').next().unwrap_or(wanted);
        let near = nearest(wanted, known.iter().copied())
            .or_else(|| known.iter().copied().find(|name| name.rsplit(':').next() == Some(bare)));
        near.map(|near| format!("did you mean `{near}`?"))
    }
}

/// What a path leads to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum TargetPlace {
    /// A declared scope.
    Scope(ScopeId),
    /// Something undeclared below a resource or namespace, the nearest declared scope.
    Item(ScopeId),
    /// A user, group or role at its place.
    Identity(Principal, ScopeId),
    /// A policy at its place (spec-work section 7.2).
    Policy(PolicyId, ScopeId),
}

impl TargetPlace {
    /// The nearest declared scope at or above it.
    #[must_use]
    pub fn scope(self) -> ScopeId {
        match self {
            Self::Scope(id) | Self::Item(id) | Self::Identity(_, id) | Self::Policy(_, id) => id,
        }
    }

    /// The user, group or role that it is, if it is one.
    #[must_use]
    pub fn identity(self) -> Option<Principal> {
        match self {
            Self::Identity(who, _) => Some(who),
            _ => None,
        }
    }

    /// What the catalogue sees in it.
    #[must_use]
    pub fn class(self, estate: &Estate) -> TargetClass {
        TargetClass::of_place(self, |id| {
            let scope = estate.scope(id);
            (scope.scope_type, scope.kind)
        })
    }
}

/// A target, resolved.
#[derive(Clone, Debug)]
pub struct Target<'a> {
    /// The whole path.
    pub path: &'a str,
    /// Its segments.
    pub segments: Vec<&'a str>,
    /// What it leads to.
    pub place: TargetPlace,
    /// Whether it stands for any item of its scope: then its own path and name are unknown.
    pub is_sample: bool,
}

impl Target<'_> {
    /// The nearest declared scope at or above it.
    #[must_use]
    pub fn scope(&self) -> ScopeId {
        self.place.scope()
    }

    /// What the catalogue sees in it.
    #[must_use]
    pub fn class(&self, estate: &Estate) -> TargetClass {
        self.place.class(estate)
    }
}

/// A request, every name resolved: what the engine takes.
#[derive(Clone, Debug)]
pub struct Query<'a> {
    /// Who asks.
    pub who: Principal,
    /// What for.
    pub action: ActionId,
    /// On what.
    pub target: Target<'a>,
    /// The role to take up.
    pub take_up: Option<RoleId>,
    /// Groups supposed, sorted.
    pub also: Vec<GroupId>,
    /// Policies that bound this session, each once.
    pub under: Vec<PolicyId>,
    /// Circumstances that some condition or pattern of the estate asks about.
    pub given: Vec<(AttributeId, Given)>,
    /// The item's attributes that some condition asks about.
    pub item: Vec<(AttributeId, Given)>,
    /// Whether the item may have attributes beyond those: then what `item` does not name is
    /// unknown, where in a request it is absent. Analyses ask so.
    pub item_is_open: bool,
    /// The moment.
    pub time: Time,
}

/// The role taken up, what is supposed, and what bounds a session.
struct Session {
    take_up: Option<RoleId>,
    also: Vec<GroupId>,
    under: Vec<PolicyId>,
}

/// What a request says of a circumstance.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Given {
    /// It is this.
    Value(Value),
    /// It is absent, with all below it.
    Absent,
    /// It is a table: something below it is given.
    Head,
}

impl<'a> Request<'a> {
    /// A request for the bare minimum.
    pub fn new(
        who: impl Into<Cow<'a, str>>,
        does: impl Into<Cow<'a, str>>,
        on: impl Into<Cow<'a, str>>,
        time: Time,
    ) -> Self {
        Self {
            who: who.into(),
            does: does.into(),
            on: on.into(),
            take_up: None,
            also: Vec::new(),
            under: Vec::new(),
            given: Vec::new(),
            item: None,
            empty_tables: Vec::new(),
            empty_item_tables: Vec::new(),
            time,
        }
    }

    /// Resolves every name.
    ///
    /// # Errors
    /// The first reason why this is an error and no decision.
    pub fn resolve(&self, estate: &Estate) -> Result<Query<'_>, RequestFault> {
        let who = estate
            .find_principal(&self.who)
            .ok_or_else(|| RequestFault::Principal(self.who.to_string()))?;
        let action = estate
            .catalogue
            .find_action(&self.does)
            .ok_or_else(|| RequestFault::Action(self.does.to_string()))?;
        let target = resolve_target(estate, &self.on)?;
        let class = target.class(estate);
        if !estate.catalogue.applicable(class).contains(action.index()) {
            return Err(RequestFault::NotApplicable {
                action: self.does.to_string(),
                path: self.on.to_string(),
                what: describe(class, estate),
            });
        }
        let session = self.resolve_session(estate)?;
        Ok(Query {
            who,
            action,
            take_up: session.take_up,
            also: session.also,
            under: session.under,
            given: self.resolve_given(estate)?,
            item: self.resolve_item(estate, &target)?,
            target,
            item_is_open: false,
            time: self.time,
        })
    }

    fn resolve_session(&self, estate: &Estate) -> Result<Session, RequestFault> {
        let take_up = self.take_up.as_ref().map(|name| {
            let found = name.strip_prefix("role:").and_then(|bare| estate.find_role(bare));
            found.ok_or_else(|| RequestFault::Role(name.to_string()))
        });
        let mut also = Vec::with_capacity(self.also.len());
        for name in &self.also {
            let found = name.strip_prefix("group:").and_then(|bare| estate.find_group(bare));
            also.push(found.ok_or_else(|| RequestFault::Group(name.to_string()))?);
        }
        also.sort_unstable();
        also.dedup();
        let mut under = Vec::with_capacity(self.under.len());
        for name in &self.under {
            let found = estate.find_policy(name);
            let id = found.ok_or_else(|| RequestFault::Policy(name.to_string()))?;
            if estate.policy(id).is_empty() {
                return Err(RequestFault::EmptyPolicy(name.to_string()));
            }
            if !under.contains(&id) {
                under.push(id);
            }
        }
        Ok(Session { take_up: take_up.transpose()?, also, under })
    }

    /// Resolves who asks and the circumstances; what is asked, and about what, is not looked at.
    ///
    /// # Errors
    /// The first name that is not declared.
    pub fn viewpoint(&self, estate: &Estate) -> Result<Viewpoint, RequestFault> {
        let who = estate
            .find_principal(&self.who)
            .ok_or_else(|| RequestFault::Principal(self.who.to_string()))?;
        let Session { take_up, also, under } = self.resolve_session(estate)?;
        let given = self.resolve_given(estate)?;
        Ok(Viewpoint { who, take_up, also, under, given, time: self.time })
    }

    fn resolve_given(&self, estate: &Estate) -> Result<Vec<(AttributeId, Given)>, RequestFault> {
        let names = &estate.attribute_names;
        let declared = &estate.vocabulary.given;
        refuse_tables(declared, Root::Given, &self.empty_tables)?;
        let mut given = Vec::with_capacity(self.given.len());
        for (name, value) in &self.given {
            let id = names.get(name);
            if let Some(value) = value {
                refuse_misfit(declared, Root::Given, name, value)?;
            } else if let Some((head, _)) = name.rsplit_once('.') {
                refuse_tables(declared, Root::Given, &[head.into()])?;
            }
            match (id, value) {
                (Some(id), Some(value)) => {
                    let read = declared.rule(name).and_then(|rule| rule.read(value));
                    given.push((id, Given::Value(read.unwrap_or_else(|| value.clone()))));
                }
                (Some(id), None) => given.push((id, Given::Absent)),
                _ => {}
            }
            if value.is_some() {
                for head in heads(name).filter_map(|head| names.get(head)) {
                    given.push((head, Given::Head));
                }
            }
        }
        Ok(given)
    }

    fn resolve_item(
        &self,
        estate: &Estate,
        target: &Target<'_>,
    ) -> Result<Vec<(AttributeId, Given)>, RequestFault> {
        let Some(written) = &self.item else { return Ok(Vec::new()) };
        if !matches!(target.place, TargetPlace::Item(_)) {
            return Err(RequestFault::ItemOfDeclared(target.path.to_owned()));
        }
        let declared = &estate.vocabulary.target;
        refuse_tables(declared, Root::Target, &self.empty_item_tables)?;
        let mut item = Vec::with_capacity(written.len());
        for (name, value) in written {
            let first = name.split('.').next().unwrap_or_default();
            if is_reserved(first) {
                return Err(RequestFault::ReservedItemName(first.to_owned()));
            }
            refuse_misfit(declared, Root::Target, name, value)?;
            let names = &estate.attribute_names;
            let read = declared.rule(name).and_then(|rule| rule.read(value));
            let read = read.unwrap_or_else(|| value.clone());
            item.extend(names.get(name).map(|id| (id, Given::Value(read))));
            let known = heads(name).filter_map(|head| names.get(head));
            item.extend(known.map(|id| (id, Given::Head)));
        }
        Ok(item)
    }
}

/// Refuses a value that does not fit what is declared under a root.
fn refuse_misfit(
    declared: &Declared,
    root: Root,
    name: &str,
    value: &Value,
) -> Result<(), RequestFault> {
    match declared.misfit(name, value) {
        None => Ok(()),
        Some(Misfit::Value(rule)) => {
            let (name, value) = (format!("{root}.{name}"), value.to_string());
            Err(RequestFault::DoesNotFit { name, rule, value })
        }
        Some(Misfit::NoTable) => Err(RequestFault::NoTable(format!("{root}.{name}"))),
        Some(Misfit::Table(at)) => Err(RequestFault::NoHead(format!("{root}.{at}"))),
    }
}

/// Refuses tables without anything in them that stand where one attribute is declared.
fn refuse_tables(
    declared: &Declared,
    root: Root,
    tables: &[Cow<'_, str>],
) -> Result<(), RequestFault> {
    let refused = tables.iter().find_map(|table| declared.misfit_table(table));
    match refused {
        Some(Misfit::Table(at)) => Err(RequestFault::NoHead(format!("{root}.{at}"))),
        _ => Ok(()),
    }
}

/// `device`, then `device.os`, for `device.os.name`.
fn heads(name: &str) -> impl Iterator<Item = &str> {
    name.match_indices('.').map(|(dot, _)| &name[..dot])
}

/// What a path leads to.
///
/// # Errors
/// [`RequestFault::Path`] and [`RequestFault::Nowhere`].
pub fn resolve_target<'a>(estate: &Estate, path: &'a str) -> Result<Target<'a>, RequestFault> {
    let target = |place| Target {
        path,
        segments: path.split('/').collect::<Vec<_>>(),
        place,
        is_sample: false,
    };
    if path.len() > PATH_BYTES {
        // Even of what is declared: a path of a request is bounded.
        let why = "it is longer than 4096 bytes";
        return Err(RequestFault::Path { path: path.to_owned(), why });
    }
    if let Some(id) = estate.scopes.find(path) {
        return Ok(target(TargetPlace::Scope(id)));
    }
    if let Some(place) = estate.identity_at(path) {
        return Ok(target(place));
    }
    if let Some(why) = path_fault(path) {
        return Err(RequestFault::Path { path: path.to_owned(), why });
    }
    let nowhere = |why| RequestFault::Nowhere { path: path.to_owned(), why };
    let Some(scope) = estate.scopes.nearest(path) else {
        return Err(nowhere("no scope above it is declared"));
    };
    let nearest = estate.scope(scope);
    let below = nearest.path.len() + 1;
    let first = path[below..].find('/').map_or(path.len(), |slash| below + slash);
    if first < path.len() && estate.identity_at(&path[..first]).is_some() {
        return Err(nowhere("nothing lies below a user, group, role or policy"));
    }
    if !nearest.holds_items() {
        return Err(nowhere("only a resource or a namespace has undeclared things below it"));
    }
    Ok(target(TargetPlace::Item(scope)))
}

/// Why this is no path, if it is none (spec section 5).
fn path_fault(path: &str) -> Option<&'static str> {
    if path.split('/').any(str::is_empty) {
        return Some("it has an empty segment");
    }
    if path.split('/').any(|segment| segment == "." || segment == "..") {
        return Some("`.` and `..` are no segments");
    }
    if path.contains(['*', '{', '}']) {
        return Some("`*`, `{` and `}` stand only in patterns");
    }
    path.contains(char::is_control).then_some("it has a control character in it")
}

/// A target's class in words: `a store`.
#[must_use]
pub fn describe(class: TargetClass, estate: &Estate) -> String {
    let kind = |id: Option<crate::id::KindId>| {
        id.map_or("namespace", |id| &estate.catalogue.kind(id).name).to_owned()
    };
    let article = |word: &str| {
        let vowel = word.starts_with(['a', 'e', 'i', 'o', 'u']);
        format!("{} {word}", if vowel { "an" } else { "a" })
    };
    match class {
        TargetClass::Account => "an account".to_owned(),
        TargetClass::Subscription => "a subscription".to_owned(),
        TargetClass::Declared(id) => article(&kind(id)),
        TargetClass::Item(id) => format!("an item in {}", article(&kind(id))),
        TargetClass::User => "a user".to_owned(),
        TargetClass::Group => "a group".to_owned(),
        TargetClass::Role => "a role".to_owned(),
        TargetClass::Policy => "a policy".to_owned(),
    }
}
