//! The change itself: which things differ between two estates, in what, and where they stand.

use std::collections::BTreeMap;
use std::fmt::Debug;

use super::touches::{attributes, subject_id};
use crate::estate::Estate;
use crate::id::{KindId, PolicyId, ScopeId, StatementId};
use crate::origin::Origin;
use crate::principal::{Identity, Imported, Membership, Principal, Subject};
use crate::time::Window;

/// A thing that is new, gone or otherwise.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// `user:ines`, `policy:keep-raw`, a scope's path; of attachments and ceilings, what they tie.
    pub thing: String,
    /// The keys that differ; none of a thing that is new or gone.
    pub keys: Vec<&'static str>,
    /// Where it stands in the first estate; `None` where it is new.
    pub before: Option<Origin>,
    /// Where it stands in the second estate; `None` where it is gone.
    pub after: Option<Origin>,
}

/// A thing: where it stands, and what its keys say, as text that can be compared.
type Thing = (Origin, Vec<(&'static str, String)>);

/// What differs between two estates: of the catalogue, scopes, people, groups, roles, policies,
/// attachments and ceilings. Order, spelling and file are no difference (spec-work section 7.4).
/// Declared attributes, expectations and edit rights are not told.
#[must_use]
pub fn differences(before: &Estate, after: &Estate) -> Vec<Difference> {
    let (mut old, mut new) = (things(before), things(after));
    let mut found = Vec::new();
    for (thing, (origin, keys)) in std::mem::take(&mut old) {
        let (after, keys) = match new.remove(&thing) {
            None => (None, Vec::new()),
            Some((_, same)) if same == keys => continue,
            Some((origin, others)) => {
                let differing = keys.iter().zip(&others).filter(|(one, other)| one != other);
                (Some(origin), differing.map(|((key, _), _)| *key).collect())
            }
        };
        found.push(Difference { thing, keys, before: Some(origin), after });
    }
    found.extend(new.into_iter().map(|(thing, (origin, _))| Difference {
        thing,
        keys: Vec::new(),
        before: None,
        after: Some(origin),
    }));
    found.sort_by(|a, b| a.thing.cmp(&b.thing));
    found
}

fn things(estate: &Estate) -> BTreeMap<String, Thing> {
    let mut all: BTreeMap<String, Thing> = BTreeMap::new();
    let catalogue = &estate.catalogue;
    for kind in &catalogue.kinds {
        let names = |kinds: &[KindId]| {
            let mut names: Vec<_> = kinds.iter().map(|id| &catalogue.kind(*id).name).collect();
            names.sort_unstable();
            text(&names)
        };
        let actions = catalogue.actions[kind.actions.clone()].iter();
        let mut actions: Vec<String> =
            actions.map(|one| text(&(&one.name, one.level, one.addresses))).collect();
        actions.sort_unstable();
        let keys = vec![
            ("actions", text(&actions)),
            ("items", names(&kind.items)),
            ("holds", names(&kind.holds)),
        ];
        all.insert(format!("kind:{}", kind.name), (kind.origin, keys));
    }
    for (_, scope) in estate.scopes.iter() {
        let kind = scope.kind.map(|kind| &estate.catalogue.kind(kind).name);
        let keys = vec![
            ("kind", text(&(scope.scope_type, kind))),
            ("sealed", text(&scope.sealed)),
            ("attributes", text(&attributes(estate, &scope.attributes))),
        ];
        all.insert(scope.path.to_string(), (scope.origin, keys));
    }
    for user in &estate.users {
        let manager = user.manager.map(|id| estate.principal_id(Principal::User(id)));
        let mut keys = of_identity(estate, &user.identity);
        keys.extend([
            ("enabled", text(&user.enabled)),
            ("manager", text(&manager)),
            ("full-name", text(&user.full_name)),
            ("source", source(&user.imported)),
        ]);
        all.insert(format!("user:{}", user.identity.name), (user.identity.origin, keys));
    }
    for group in &estate.groups {
        let owners = group.owners.as_ref().map(|owners| {
            let name = |id: &_| estate.principal_id(Principal::User(*id));
            let mut names: Vec<String> = owners.iter().map(name).collect();
            names.sort_unstable();
            names
        });
        let mut asks: Vec<String> = group.asks.iter().map(text).collect();
        asks.sort_unstable();
        let mut keys = of_identity(estate, &group.identity);
        keys.extend([
            ("members", text(&group.members.as_ref().map(|list| members(estate, list)))),
            ("members-when", text(&group.members_when.as_ref().map(|when| &when.text))),
            ("owners", text(&owners)),
            ("join", text(&group.join)),
            ("asks", text(&asks)),
            ("source", source(&group.imported)),
        ]);
        all.insert(format!("group:{}", group.identity.name), (group.identity.origin, keys));
    }
    for role in &estate.roles {
        let mut keys = of_identity(estate, &role.identity);
        keys.extend([
            ("held-by", text(&members(estate, &role.held_by))),
            ("taken-by", text(&members(estate, &role.taken_by))),
        ]);
        all.insert(format!("role:{}", role.identity.name), (role.identity.origin, keys));
    }
    for (i, policy) in estate.policies.iter().enumerate() {
        let include = policy.include.iter().map(|id| &estate.policy(*id).name);
        let mut include: Vec<_> = include.collect();
        include.sort_unstable();
        let attachable = policy.attachable.as_ref().map(|scopes| {
            let paths = scopes.iter().map(|at| &estate.scope(at.value).path);
            let mut paths: Vec<_> = paths.collect();
            paths.sort_unstable();
            paths
        });
        let own = |ids: &[StatementId]| statements(estate, PolicyId::new(i), ids);
        let keys = vec![
            ("include", text(&include)),
            ("allow", text(&own(&policy.allows))),
            ("deny", text(&own(&policy.denies))),
            ("place", text(&policy.place.map(|place| &estate.scope(place).path))),
            ("locked", text(&policy.locked)),
            ("attachable", text(&attachable)),
        ];
        all.insert(format!("policy:{}", policy.name), (policy.origin, keys));
    }
    ties(estate, &mut all);
    all
}

/// Attachments and ceilings, multiplied out; several that differ in their window alone are one.
fn ties(estate: &Estate, all: &mut BTreeMap<String, Thing>) {
    let mut windows: BTreeMap<String, (Origin, Vec<Window>)> = BTreeMap::new();
    let mut add = |thing: String, origin: Origin, window: Window| {
        windows.entry(thing).or_insert((origin, Vec::new())).1.push(window);
    };
    let path = |at: ScopeId| &estate.scope(at).path;
    let name = |policy: PolicyId| &estate.policy(policy).name;
    let who = |subject: Subject| subject_id(estate, subject);
    for one in &estate.attachments {
        for policy in &one.policies {
            for to in &one.to {
                for at in &one.at {
                    let (policy, to) = (name(policy.value), who(to.value));
                    let thing = format!("policy:{policy} attached to {to} at {}", path(at.value));
                    add(thing, one.origin, one.window);
                }
            }
        }
    }
    for one in &estate.ceilings {
        let over: Vec<String> = match &one.over {
            None => vec!["everything".to_owned()],
            Some(over) => over.iter().map(|at| path(at.value).to_string()).collect(),
        };
        for policy in &one.policies {
            for bound in &one.bound {
                for over in &over {
                    let (policy, bound) = (name(policy.value), who(*bound));
                    let thing = format!("policy:{policy} a ceiling over {over} for {bound}");
                    add(thing, one.origin, one.window);
                }
            }
        }
    }
    for (thing, (origin, mut windows)) in windows {
        windows.sort_unstable_by_key(|window| (window.from, window.until));
        all.insert(thing, (origin, vec![("from, until", text(&windows))]));
    }
}

fn text(of: &impl Debug) -> String {
    format!("{of:?}")
}

fn of_identity(estate: &Estate, identity: &Identity) -> Vec<(&'static str, String)> {
    vec![
        ("place", text(&identity.place.map(|place| &estate.scope(place).path))),
        ("attributes", text(&attributes(estate, &identity.attributes))),
    ]
}

fn source(imported: &Imported) -> String {
    text(&(&imported.source, &imported.source_id))
}

fn members(estate: &Estate, list: &[Membership]) -> Vec<String> {
    let one =
        |member: &Membership| format!("{} {:?}", estate.principal_id(member.who), member.window);
    let mut all: Vec<String> = list.iter().map(one).collect();
    all.sort_unstable();
    all
}

/// The statements that a policy has itself: what it includes is told of the other policy.
fn statements(estate: &Estate, policy: PolicyId, ids: &[StatementId]) -> Vec<String> {
    let own = ids.iter().map(|id| estate.statement(*id)).filter(|one| one.policy == policy);
    let mut all: Vec<String> = own
        .map(|one| {
            let named = one.actions.ones().map(|i| &estate.catalogue.actions[i].name);
            let mut actions: Vec<_> = named.collect();
            actions.sort_unstable();
            let mut on: Vec<&str> = one.on.texts().collect();
            on.sort_unstable();
            format!("{actions:?} {on:?} {:?}", one.when.as_ref().map(|when| &when.text))
        })
        .collect();
    all.sort_unstable();
    all
}
