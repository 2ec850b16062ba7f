//! The moves that somebody has: sort by sort, each with the right by which it may be made.

use std::collections::{BTreeMap, BTreeSet};

use super::{Climber, May, Move, text};
use crate::attribute::Value;
use crate::condition::ast::{Operand, Root};
use crate::edit::{Edit, ListOf, Target};
use crate::engine::Engine;
use crate::estate::Estate;
use crate::id::{PolicyId, ScopeId};
use crate::part::above;
use crate::pattern::path::Segment;
use crate::policy::Effect;
use crate::principal::{Join, Principal, Subject};
use crate::time::Window;
use crate::vet::conditions::{Atom, Borne, atoms, is_built_in};

/// Values of one attribute that are tried.
const VALUES: usize = 8;
/// Scopes at which one policy is tried.
const PLACES: usize = 64;

impl Climber<'_> {
    fn add(&self, list: ListOf, of: &str) -> Edit {
        Edit::Add { who: vec![self.name.clone()], list, of: of.to_owned(), window: Window::ALWAYS }
    }

    /// Groups that somebody may enter by an own right.
    pub(super) fn open_groups(&self, engine: &Engine) -> Vec<Move> {
        let estate = engine.estate();
        if !matches!(self.who, Principal::User(_)) {
            return Vec::new();
        }
        let open = estate.groups.iter().filter(|group| group.join == Join::Open);
        let open =
            open.filter(|group| !self.is_listed(group.members.as_deref().unwrap_or_default()));
        open.map(|group| Move {
            edits: vec![self.add(ListOf::Members, &group.identity.name)],
            by: "entering an open group".to_owned(),
            is_retag: false,
            is_own_right: true,
        })
        .collect()
    }

    fn is_listed(&self, list: &[crate::principal::Membership]) -> bool {
        let now = self.vet.now;
        list.iter()
            .any(|one| one.who == self.who && one.window.holds(now) && one.window.until.is_none())
    }

    /// Places for themselves in groups and roles.
    pub(super) fn lists(&self, may: &mut May<'_, '_>) -> Vec<Move> {
        let estate = may.engine.estate();
        let mut found = Vec::new();
        for group in &estate.groups {
            let Some(place) = group.identity.place else { continue };
            if self.is_listed(group.members.as_deref().unwrap_or_default()) {
                continue;
            }
            let name = &group.identity.name;
            let path = format!("{}/{name}", estate.scope(place).path);
            if let Some(by) = may.touch("group.members", &path) {
                let edits = vec![self.add(ListOf::Members, name)];
                found.push(Move { edits, by, is_retag: false, is_own_right: false });
            }
        }
        for role in &estate.roles {
            let Some(place) = role.identity.place else { continue };
            let name = &role.identity.name;
            let path = format!("{}/{name}", estate.scope(place).path);
            let lists = [(ListOf::HeldBy, &role.held_by), (ListOf::TakenBy, &role.taken_by)];
            for (list, members) in lists {
                if self.is_listed(members) {
                    continue;
                }
                if let Some(by) = may.touch("role.holders", &path) {
                    found.push(Move {
                        edits: vec![self.add(list, name)],
                        by,
                        is_retag: false,
                        is_own_right: false,
                    });
                }
            }
        }
        found
    }

    /// Attachments of what there is, and of a policy of their own, to themselves.
    pub(super) fn attachments(&self, may: &mut May<'_, '_>) -> Vec<Move> {
        let estate = may.engine.estate();
        let places: Vec<(ScopeId, String)> = estate
            .scopes
            .iter()
            .filter_map(|(id, scope)| Some((id, may.touch("scope.attach", &scope.path)?)))
            .collect();
        let mut found = Vec::new();
        let attach = |policy: &str, at: &str| Edit::Attach {
            policies: vec![policy.to_owned()],
            to: vec![self.name.clone()],
            at: vec![at.to_owned()],
            window: Window::ALWAYS,
        };
        if places.is_empty() {
            return found;
        }
        // Below a place where it may be attached, a policy gives no more, unless its paths start there
        // or a seal lies between.
        let topmost = |id: ScopeId| {
            estate.scope(id).sealed
                || !places.iter().any(|(other, _)| *other != id && estate.scopes.holds(*other, id))
        };
        for (i, policy) in estate.policies.iter().enumerate() {
            if !policy.denies.is_empty() || policy.allows.is_empty() {
                continue;
            }
            let is_plain = policy.allows.iter().all(|id| {
                let on = &estate.statement(*id).on;
                on.excluded.is_empty()
                    && on
                        .plain
                        .iter()
                        .all(|one| one.absolute || matches!(&*one.segments, [Segment::Rest]))
            });
            let mut tried = 0;
            for (at, by) in &places {
                if is_plain && !topmost(*at) || self.is_attached(estate, PolicyId::new(i), *at) {
                    continue;
                }
                tried += 1;
                if tried > PLACES {
                    self.is_cut.set(true);
                    break;
                }
                let edits = vec![attach(&policy.name, &estate.scope(*at).path)];
                found.push(Move { edits, by: by.clone(), is_retag: false, is_own_right: false });
            }
        }
        let own_place = estate.scopes.iter().find_map(|(_, scope)| {
            Some((scope.path.to_string(), may.touch("policy.new", &scope.path)?))
        });
        if let Some((place, by_new)) = own_place {
            let name = (1..).map(|n| format!("own-{n}"));
            let mut free = name.filter(|name| estate.find_policy(name).is_none());
            let name = free.next().unwrap_or_default();
            let keys = vec![("place".to_owned(), Value::Text(place.into()))];
            for (at, by) in places.iter().filter(|(at, _)| topmost(*at)).take(PLACES) {
                let edits = vec![
                    Edit::New {
                        target: Target::Policy(name.clone()),
                        preset: None,
                        keys: keys.clone(),
                    },
                    allow_everything(&name),
                    attach(&name, &estate.scope(*at).path),
                ];
                found.push(Move {
                    edits,
                    by: format!("{by_new}, and {by}"),
                    is_retag: false,
                    is_own_right: false,
                });
            }
        }
        found
    }

    fn is_attached(&self, estate: &Estate, policy: PolicyId, at: ScopeId) -> bool {
        estate.attachments.iter().any(|one| {
            one.window.until.is_none()
                && one.window.from.is_none()
                && one.to.iter().any(|to| to.value == Subject::One(self.who))
                && one.at.iter().any(|one| one.value == at)
                && one.policies.iter().any(|one| one.value == policy)
        })
    }

    /// Statements put into policies, and denies taken out.
    pub(super) fn statements(&self, may: &mut May<'_, '_>) -> Vec<Move> {
        let estate = may.engine.estate();
        let mut found = Vec::new();
        for (i, policy) in estate.policies.iter().enumerate() {
            let Some(place) = policy.place.filter(|_| !estate.is_locked(PolicyId::new(i))) else {
                continue;
            };
            let path = format!("{}/{}", estate.scope(place).path, policy.name);
            let Some(by) = may.touch("policy.statements", &path) else { continue };
            let every = estate.catalogue.actions.len();
            let has_all = policy.allows.iter().any(|id| {
                let one = estate.statement(*id);
                one.actions.len() == every && one.when.is_none() && one.on.excluded.is_empty()
            });
            if !has_all {
                let edits = vec![allow_everything(&policy.name)];
                found.push(Move { edits, by: by.clone(), is_retag: false, is_own_right: false });
            }
            for id in &policy.denies {
                let statement = estate.statement(*id);
                if statement.policy != PolicyId::new(i) {
                    continue;
                }
                let called = match &statement.name {
                    Some(name) => name.to_string(),
                    None => format!("deny {}", statement.place),
                };
                let edits =
                    vec![Edit::Strike { policy: policy.name.to_string(), statement: called }];
                found.push(Move { edits, by: by.clone(), is_retag: false, is_own_right: false });
            }
        }
        found
    }

    /// Denies and ceilings that they are under taken away, seals broken.
    pub(super) fn refusals(&self, may: &mut May<'_, '_>) -> Vec<Move> {
        let estate = may.engine.estate();
        let above = above(may.engine, &[self.who]);
        let is_theirs = |subject: Subject| match subject {
            Subject::Everyone => true,
            Subject::One(who) => above.contains(&who),
        };
        let name = |subject: Subject| match subject {
            Subject::Everyone => "everyone".to_owned(),
            Subject::One(who) => estate.principal_id(who),
        };
        let mut found: BTreeMap<String, Move> = BTreeMap::new();
        let mut push = |one: Move| {
            found.entry(text(&one)).or_insert(one);
        };
        for one in &estate.attachments {
            for policy in one.policies.iter().filter(|one| {
                !estate.policy(one.value).denies.is_empty() && !estate.is_locked(one.value)
            }) {
                for at in &one.at {
                    let path = &estate.scope(at.value).path;
                    for to in one.to.iter().filter(|to| is_theirs(to.value)) {
                        let Some(by) = may.touch("scope.limit", path) else { continue };
                        let edits = vec![Edit::Detach {
                            policies: vec![estate.policy(policy.value).name.to_string()],
                            from: vec![name(to.value)],
                            at: vec![path.to_string()],
                        }];
                        push(Move { edits, by, is_retag: false, is_own_right: false });
                    }
                }
            }
        }
        for one in &estate.ceilings {
            let over: Vec<Option<ScopeId>> = match &one.over {
                None => vec![None],
                Some(over) => over.iter().map(|at| Some(at.value)).collect(),
            };
            for policy in one.policies.iter().filter(|one| !estate.is_locked(one.value)) {
                for at in &over {
                    let asked: Vec<String> = match at {
                        Some(at) => vec![estate.scope(*at).path.to_string()],
                        None => estate
                            .scopes
                            .iter()
                            .filter(|(_, scope)| scope.parent.is_none())
                            .map(|(_, scope)| scope.path.to_string())
                            .collect(),
                    };
                    let rights: Option<Vec<String>> =
                        asked.iter().map(|path| may.touch("scope.limit", path)).collect();
                    let Some(by) = rights.and_then(|all| all.into_iter().next()) else { continue };
                    for bound in one.bound.iter().filter(|subject| is_theirs(**subject)) {
                        let bound = match bound {
                            Subject::Everyone => Vec::new(),
                            Subject::One(_) => vec![name(*bound)],
                        };
                        let edits = vec![Edit::Unlimit {
                            policy: estate.policy(policy.value).name.to_string(),
                            over: at.iter().map(|at| estate.scope(*at).path.to_string()).collect(),
                            bound,
                        }];
                        push(Move { edits, by: by.clone(), is_retag: false, is_own_right: false });
                    }
                }
            }
        }
        for (_, scope) in estate.scopes.iter().filter(|(_, scope)| scope.sealed) {
            let Some(by) = may.touch("scope.seal", &scope.path) else { continue };
            let target = Target::Scope(None, scope.path.to_string());
            let keys = vec![("sealed".to_owned(), Value::Boolean(false))];
            push(Move {
                edits: vec![Edit::Set { target, keys }],
                by,
                is_retag: false,
                is_own_right: false,
            });
        }
        found.into_values().collect()
    }

    /// Attributes that conditions and braces read, of themselves and of scopes.
    pub(super) fn attributes(&self, may: &mut May<'_, '_>) -> Vec<Move> {
        let estate = may.engine.estate();
        let mut found = Vec::new();
        let read = self.read_attributes(estate);
        if let Some(user) = self.name.strip_prefix("user:")
            && let Principal::User(id) = self.who
            && let Some(place) = estate.user(id).identity.place
        {
            let path = format!("{}/{user}", estate.scope(place).path);
            if let Some(by) = may.touch("user.attributes", &path) {
                let target = Target::User(user.to_owned());
                let own = &estate.user(id).identity.attributes;
                for ((_, name), values) in read.iter().filter(|((root, _), _)| *root == Root::Who) {
                    self.mark_values(values);
                    let known = estate.attribute_names.get(name).and_then(|id| own.value(id));
                    found.extend(retags(&target, name, values, known, &by));
                }
            }
        }
        for (_, scope) in estate.scopes.iter() {
            let Some(by) = may.touch("scope.attributes", &scope.path) else { continue };
            let target = Target::Scope(None, scope.path.to_string());
            for ((_, name), values) in read.iter().filter(|((root, _), _)| *root == Root::Target) {
                self.mark_values(values);
                let known = estate.attribute_names.get(name);
                let known = known.and_then(|id| scope.attributes.value(id));
                found.extend(retags(&target, name, values, known, &by));
            }
        }
        found
    }

    /// Says that not all values are tried, where there are more than that.
    fn mark_values(&self, values: &BTreeSet<Written>) {
        if values.len() > VALUES {
            self.is_cut.set(true);
        }
    }

    /// The attributes that anything asks about, with values that they are compared with, or that
    /// something has.
    fn read_attributes(&self, estate: &Estate) -> BTreeMap<(Root, String), BTreeSet<Written>> {
        let mut found: BTreeMap<(Root, String), BTreeSet<Written>> = BTreeMap::new();
        for condition in self.vet.conditions() {
            atoms(&condition.expression, false, &mut |atom: Atom<'_>, _| {
                let mut literals: BTreeSet<Written> = BTreeSet::new();
                if let Atom::Compare(left, _, right) = atom {
                    for operand in [left, right] {
                        if let Operand::Literal(value, _) = operand {
                            literals.extend(scalars(value));
                        }
                    }
                }
                if matches!(atom, Atom::Bare(_)) {
                    literals.extend([Written::Boolean(true), Written::Boolean(false)]);
                }
                for path in atom.paths().into_iter().filter(|path| !is_built_in(path)) {
                    let values = found.entry((path.root, path.name.clone())).or_default();
                    values.extend(literals.iter().cloned());
                }
            });
        }
        let patterns =
            estate.statements.iter().flat_map(|one| one.on.plain.iter().chain(&one.on.excluded));
        for brace in patterns.flat_map(|pattern| pattern.braces()) {
            if let crate::condition::Reference::Who(crate::condition::check::WhoAttribute::Own(
                id,
            )) = brace.attribute
            {
                let name = estate.attribute_names.name(id).to_owned();
                found.entry((Root::Who, name)).or_default();
            }
        }
        let borne = [Root::Who, Root::Target].map(|root| Borne::new(estate, root));
        for ((root, name), values) in &mut found {
            let of_root = borne.get(*root as usize).and_then(|borne| borne.values.get(name));
            let others = borne.iter().filter_map(|borne| borne.values.get(name));
            let texts = of_root.into_iter().chain(others).flatten();
            values.extend(texts.map(|text| Written::Text(text.clone())));
        }
        found
    }
}

/// A scalar that can be compared.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Written {
    Boolean(bool),
    Integer(i64),
    Text(String),
}

impl Written {
    fn value(&self) -> Value {
        match self {
            Self::Boolean(truth) => Value::Boolean(*truth),
            Self::Integer(number) => Value::Integer(*number),
            Self::Text(text) => Value::Text(text.as_str().into()),
        }
    }
}

/// A literal's scalars; of a number its neighbours, too, that are on the other side of it.
fn scalars(value: &Value) -> Vec<Written> {
    match value {
        Value::Boolean(truth) => vec![Written::Boolean(*truth)],
        Value::Integer(number) => {
            let around = [number.checked_sub(1), Some(*number), number.checked_add(1)];
            around.into_iter().flatten().map(Written::Integer).collect()
        }
        Value::Text(text) => vec![Written::Text(text.to_string())],
        Value::Time(_) => Vec::new(),
        Value::List(values) => values.iter().flat_map(scalars).collect(),
    }
}

/// Changes of one attribute of something: each value that it has not, and none at all.
fn retags(
    target: &Target,
    name: &str,
    values: &BTreeSet<Written>,
    known: Option<&Value>,
    by: &str,
) -> Vec<Move> {
    let key = format!("attributes.{name}");
    let one =
        |edit| Move { edits: vec![edit], by: by.to_owned(), is_retag: true, is_own_right: false };
    let others = values.iter().map(Written::value).filter(|value| Some(value) != known);
    let set = others
        .take(VALUES)
        .map(|value| Edit::Set { target: target.clone(), keys: vec![(key.clone(), value)] });
    let unset = known.map(|_| Edit::Unset { target: target.clone(), keys: vec![key.clone()] });
    set.chain(unset).map(one).collect()
}

fn allow_everything(policy: &str) -> Edit {
    Edit::State {
        policy: policy.to_owned(),
        effect: Effect::Allow,
        actions: vec!["*".to_owned()],
        on: Vec::new(),
        when: None,
        name: None,
    }
}
