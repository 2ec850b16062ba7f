//! The change itself: which things differ between two estates, in what, and where they stand.

use std::collections::BTreeMap;
use std::fmt::{self, Debug};
use std::sync::Arc;

use rustc_hash::FxHashSet;

use super::people;
use super::same_files::SameFiles;
use super::touches::{attributes, subject_id};
use crate::estate::Estate;
use crate::expectation::Duty;
use crate::id::{KindId, PolicyId, ScopeId, StatementId};
use crate::origin::Origin;
use crate::policy::Statement;
use crate::principal::{Identity, Membership, Principal, Subject, User};
use crate::time::Window;

/// Something of an estate that can be new, gone or otherwise.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Thing {
    /// A kind of the catalogue.
    Kind(String),
    /// A service of the catalogue.
    Service(String),
    /// A scope, by its path.
    Scope(String),
    /// A user.
    User(String),
    /// A group.
    Group(String),
    /// A role.
    Role(String),
    /// A policy.
    Policy(String),
    /// An attachment, multiplied out: of one policy to one principal at one scope.
    Attachment {
        /// The policy's name.
        policy: String,
        /// `group:imaging`, or `everyone`.
        to: String,
        /// A path.
        at: String,
    },
    /// A ceiling, multiplied out.
    Ceiling {
        /// The policy's name.
        policy: String,
        /// `group:imaging`, or `everyone`.
        bound: String,
        /// A path; `None` where it is over everything.
        over: Option<String>,
    },
    /// Keys that a new group may come with.
    Preset(String),
    /// A declared attribute: `given.ip`.
    Attribute(String),
    /// A check, a law or a separation, by its name.
    Expectation(String),
    /// Who may edit what.
    EditRights,
    /// A review, by name.
    Review(String),
    /// An application, by name.
    Application(String),
    /// A source of people, by name.
    Source(String),
    /// How the rules of `vet` are set.
    Vet,
    /// What is accepted: a rule, and what its finding is about.
    Accepted(String, String),
    /// The estate's own name.
    Name,
}

impl fmt::Display for Thing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Kind(name) => write!(f, "kind:{name}"),
            Self::Service(name) => write!(f, "the service {name}"),
            Self::Preset(name) => write!(f, "the preset {name}"),
            Self::Scope(path) => write!(f, "{path}"),
            Self::User(name) => write!(f, "user:{name}"),
            Self::Group(name) => write!(f, "group:{name}"),
            Self::Role(name) => write!(f, "role:{name}"),
            Self::Policy(name) => write!(f, "policy:{name}"),
            Self::Attachment { policy, to, at } => {
                write!(f, "policy:{policy} attached to {to} at {at}")
            }
            Self::Ceiling { policy, bound, over } => {
                let over = over.as_deref().unwrap_or("everything");
                write!(f, "policy:{policy} a ceiling over {over} for {bound}")
            }
            Self::Attribute(name) => write!(f, "the declared attribute {name}"),
            Self::Expectation(name) => write!(f, "the expectation '{name}'"),
            Self::EditRights => write!(f, "edit-rights"),
            Self::Vet => write!(f, "the settings of vet"),
            Self::Review(name) => write!(f, "the review {name}"),
            Self::Application(name) => write!(f, "the application {name}"),
            Self::Source(name) => write!(f, "the source {name}"),
            Self::Accepted(rule, about) => write!(f, "what {rule} finds of {about}, accepted"),
            Self::Name => write!(f, "the estate's name"),
        }
    }
}

/// A thing that is new, gone or otherwise.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// What.
    pub thing: Thing,
    /// The keys that differ; none of a thing that is new or gone.
    pub keys: Vec<&'static str>,
    /// Where it stands in the first estate; `None` where it is new.
    pub before: Option<Origin>,
    /// Where it stands in the second estate; `None` where it is gone.
    pub after: Option<Origin>,
    /// Of what is new or gone, all that its keys say, where something is new and something gone: one
    /// may be the other by another name.
    pub(crate) says: String,
}

/// Where a thing stands, and what its keys say, as text that can be compared.
type Keys = (Origin, Vec<(&'static str, String)>);

/// Keys that no decision looks at.
const DECIDE_NOTHING: [&str; 6] = ["about", "full-name", "source", "asks", "locked", "attachable"];

impl Difference {
    /// Whether it is in both estates, and nothing but these keys differs.
    pub(super) fn is_only(&self, keys: &[&str]) -> bool {
        !self.keys.is_empty() && self.keys.iter().all(|key| keys.contains(key))
    }

    /// Whether only keys differ that no decision looks at.
    #[must_use]
    pub fn decides_nothing(&self) -> bool {
        self.is_only(&DECIDE_NOTHING)
    }
}

/// Whether what stands at a place is looked at.
pub(super) type IsLookedAt<'l> = &'l dyn Fn(Origin) -> bool;

/// What differs between two estates. Order, file and what is written out though it is the default
/// are no difference (spec-work section 7.4). What stands in files that are the same is not looked
/// at, unless the catalogue differs, in whose light all is read.
#[must_use]
pub fn differences(before: &Estate, after: &Estate, same: &SameFiles) -> Vec<Difference> {
    let may_differ: [IsLookedAt<'_>; 2] =
        [&|origin| same.may_differ(&same.before, origin), &|origin| {
            same.may_differ(&same.after, origin)
        }];
    let is_one_catalogue = Arc::ptr_eq(&before.catalogue, &after.catalogue);
    let is_read_alike = is_one_catalogue || {
        let [old, new] =
            [(before, may_differ[0]), (after, may_differ[1])].map(|(estate, looked)| {
                let mut all = BTreeMap::new();
                catalogue(estate, looked, &mut all);
                all.into_iter().map(|(thing, (_, keys))| (thing, keys)).collect::<Vec<_>>()
            });
        old == new
    };
    let all: IsLookedAt<'_> = &|_| true;
    let is_looked_at = if is_read_alike { may_differ } else { [all, all] };
    let (mut old, mut new) = (things(before, is_looked_at[0]), things(after, is_looked_at[1]));
    if !is_one_catalogue {
        catalogue(before, is_looked_at[0], &mut old);
        catalogue(after, is_looked_at[1], &mut new);
    }
    let mut ties = [tied(before, is_looked_at[0], None), tied(after, is_looked_at[1], None)];
    if ties.iter().any(|ties| !ties.is_empty()) {
        // What is tied where something differs may be tied in the same way elsewhere, too.
        let wanted: FxHashSet<Thing> = ties.iter().flat_map(BTreeMap::keys).cloned().collect();
        let elsewhere = tied(before, &|at| !is_looked_at[0](at), Some(&wanted));
        for (thing, (origin, windows)) in elsewhere {
            for ties in &mut ties {
                let (_, all) = ties.entry(thing.clone()).or_insert((origin, Vec::new()));
                all.extend(
                    windows.iter().filter(|one| !all.contains(one)).cloned().collect::<Vec<_>>(),
                );
            }
        }
    }
    let [old_ties, new_ties] = ties;
    old.extend(old_ties.into_iter().map(with_keys));
    new.extend(new_ties.into_iter().map(with_keys));
    let users = people::differing([before, after], is_looked_at);
    let is_gone = old.keys().any(|thing| !new.contains_key(thing))
        || users.iter().any(|([_, after], _)| after.is_none());
    let is_new = new.keys().any(|thing| !old.contains_key(thing))
        || users.iter().any(|([before, _], _)| before.is_none());
    let may_be_other = is_gone && is_new;
    let mut found: Vec<Difference> = Vec::new();
    for (thing, one) in std::mem::take(&mut old) {
        let other = new.remove(&thing);
        found.extend(difference(thing, [Some(one), other], may_be_other));
    }
    let new = new.into_iter();
    found.extend(new.filter_map(|(thing, one)| difference(thing, [None, Some(one)], may_be_other)));
    found.sort_by_cached_key(|one| one.thing.to_string());
    // Users are in the order of their names already, which nothing else comes between.
    let first_user = found.partition_point(|one| one.thing.to_string().as_str() < "user:");
    let of_users = users.into_iter().filter_map(|(user, keys)| {
        if let Some(keys) = keys {
            return people::plain_difference(user, keys);
        }
        // Of one that is new or gone nothing is told, unless it may be another by a new name.
        let is_read = may_be_other || user.iter().all(Option::is_some);
        let keys = |estate: &Estate, user: &User| match is_read {
            true => people::keys(estate, user),
            false => Vec::new(),
        };
        let of = |estate: &Estate, user: Option<&User>| {
            user.map(|user| (user.identity.origin, keys(estate, user)))
        };
        let sides = [of(before, user[0]), of(after, user[1])];
        let name = user.into_iter().flatten().next()?.identity.name.to_string();
        difference(Thing::User(name), sides, may_be_other)
    });
    found.splice(first_user..first_user, of_users);
    found
}

/// How something differs between two estates, by its keys in each that has it; `None` where it does not.
fn difference(
    thing: Thing,
    [before, after]: [Option<Keys>; 2],
    may_be_other: bool,
) -> Option<Difference> {
    let says = |keys: &[(&str, String)]| match may_be_other {
        true => text(&keys),
        false => String::new(),
    };
    let (keys, says) = match (&before, &after) {
        (Some((_, one)), Some((_, other))) if one == other => return None,
        (Some((_, one)), Some((_, other))) => {
            let differing = one.iter().zip(other).filter(|(one, other)| one != other);
            (differing.map(|((key, _), _)| *key).collect(), String::new())
        }
        (Some((_, keys)), None) | (None, Some((_, keys))) => (Vec::new(), says(keys)),
        (None, None) => return None,
    };
    let [before, after] = [before, after].map(|side| side.map(|(origin, _)| origin));
    Some(Difference { thing, keys, before, after, says })
}

fn things(estate: &Estate, differs: IsLookedAt<'_>) -> BTreeMap<Thing, Keys> {
    let mut all: BTreeMap<Thing, Keys> = BTreeMap::new();
    for (_, scope) in estate.scopes.iter().filter(|(_, scope)| differs(scope.origin)) {
        let kind = scope.kind.map(|kind| &estate.catalogue.kind(kind).name);
        let keys = vec![
            ("kind", text(&(scope.scope_type, kind))),
            ("sealed", text(&scope.sealed)),
            ("attributes", text(&attributes(estate, &scope.attributes))),
            ("about", text(&scope.about)),
        ];
        all.insert(Thing::Scope(scope.path.to_string()), (scope.origin, keys));
    }
    for review in estate.reviews.iter().filter(|review| differs(review.origin)) {
        let keys = vec![("what it says", text(&review.says()))];
        all.insert(Thing::Review(review.name.to_string()), (review.origin, keys));
    }
    for application in estate.applications.iter().filter(|one| differs(one.origin)) {
        let keys = vec![("what it says", application.says(estate))];
        all.insert(Thing::Application(application.name.to_string()), (application.origin, keys));
    }
    for one in estate.sources.iter().filter(|one| differs(one.origin)) {
        let keys = vec![("map", text(&one.map))];
        all.insert(Thing::Source(one.name.to_string()), (one.origin, keys));
    }
    for preset in estate.presets.iter().filter(|preset| differs(preset.origin)) {
        let keys = vec![("keys", preset.says.clone())];
        all.insert(Thing::Preset(preset.name.clone()), (preset.origin, keys));
    }
    for group in estate.groups.iter().filter(|group| differs(group.identity.origin)) {
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
            ("source", people::source(&group.imported)),
        ]);
        all.insert(Thing::Group(group.identity.name.to_string()), (group.identity.origin, keys));
    }
    for role in estate.roles.iter().filter(|role| differs(role.identity.origin)) {
        let mut keys = of_identity(estate, &role.identity);
        keys.extend([
            ("held-by", text(&members(estate, &role.held_by))),
            ("taken-by", text(&members(estate, &role.taken_by))),
        ]);
        all.insert(Thing::Role(role.identity.name.to_string()), (role.identity.origin, keys));
    }
    let policies = estate.policies.iter().enumerate();
    for (i, policy) in policies.filter(|(_, policy)| differs(policy.origin)) {
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
            ("about", text(&policy.about)),
        ];
        all.insert(Thing::Policy(policy.name.to_string()), (policy.origin, keys));
    }
    rules(estate, differs, &mut all);
    all
}

/// When something is tied, and what its author says about it.
type Tied = (Window, Option<Box<str>>);

/// Attachments and ceilings that are looked at, multiplied out, each with all its windows;
/// only those that are wanted, if given.
fn tied(
    estate: &Estate,
    is_looked_at: IsLookedAt<'_>,
    wanted: Option<&FxHashSet<Thing>>,
) -> BTreeMap<Thing, (Origin, Vec<Tied>)> {
    let mut found: BTreeMap<Thing, (Origin, Vec<Tied>)> = BTreeMap::new();
    let mut add = |thing: Thing, origin: Origin, window: Window, about: &Option<Box<str>>| {
        if wanted.is_some_and(|wanted| !wanted.contains(&thing)) {
            return;
        }
        let list = &mut found.entry(thing).or_insert((origin, Vec::new())).1;
        // The same twice is the same once.
        let one = (window, about.clone());
        if !list.contains(&one) {
            list.push(one);
        }
    };
    let policies: Option<FxHashSet<&str>> = wanted.map(|wanted| {
        let named = wanted.iter().filter_map(|thing| match thing {
            Thing::Attachment { policy, .. } | Thing::Ceiling { policy, .. } => {
                Some(policy.as_str())
            }
            _ => None,
        });
        named.collect()
    });
    let path = |at: ScopeId| estate.scope(at).path.to_string();
    // Of most of them the policy alone says that they are not wanted.
    let name = |policy: PolicyId| {
        let name = &estate.policy(policy).name;
        let is_wanted = policies.as_ref().is_none_or(|wanted| wanted.contains(&**name));
        is_wanted.then(|| name.to_string())
    };
    let who = |subject: Subject| subject_id(estate, subject);
    for one in estate.attachments.iter().filter(|one| is_looked_at(one.origin)) {
        for policy in one.policies.iter().filter_map(|policy| name(policy.value)) {
            for to in &one.to {
                for at in &one.at {
                    let (policy, to, at) = (policy.clone(), who(to.value), path(at.value));
                    let thing = Thing::Attachment { policy, to, at };
                    add(thing, one.origin, one.window, &one.about);
                }
            }
        }
    }
    for one in estate.ceilings.iter().filter(|one| is_looked_at(one.origin)) {
        let over: Vec<Option<String>> = match &one.over {
            None => vec![None],
            Some(over) => over.iter().map(|at| Some(path(at.value))).collect(),
        };
        for policy in one.policies.iter().filter_map(|policy| name(policy.value)) {
            for bound in &one.bound {
                for over in &over {
                    let (policy, bound) = (policy.clone(), who(*bound));
                    let thing = Thing::Ceiling { policy, bound, over: over.clone() };
                    add(thing, one.origin, one.window, &one.about);
                }
            }
        }
    }
    found
}

/// The windows of what is tied otherwise in one of two estates.
pub(super) fn windows_of(estates: [&Estate; 2], differences: &[Difference]) -> Vec<Window> {
    let is_tie = |thing: &&Thing| matches!(thing, Thing::Attachment { .. } | Thing::Ceiling { .. });
    let wanted: FxHashSet<Thing> =
        differences.iter().map(|one| &one.thing).filter(is_tie).cloned().collect();
    if wanted.is_empty() {
        return Vec::new();
    }
    let [old, new] = estates.map(|estate| tied(estate, &|_| true, Some(&wanted)));
    let of = |ties: &BTreeMap<Thing, (Origin, Vec<Tied>)>, thing: &Thing| -> Vec<Tied> {
        ties.get(thing).map_or(Vec::new(), |(_, windows)| windows.clone())
    };
    let differing = wanted.iter().flat_map(|thing| {
        let (old, new) = (of(&old, thing), of(&new, thing));
        let alone = |one: &[Tied], other: &[Tied]| {
            one.iter().filter(|one| !other.contains(one)).cloned().collect::<Vec<_>>()
        };
        [alone(&old, &new), alone(&new, &old)].concat()
    });
    differing.map(|(window, _)| window).collect()
}

/// Several that differ in their windows alone are one thing.
fn with_keys((thing, (origin, mut windows)): (Thing, (Origin, Vec<Tied>))) -> (Thing, Keys) {
    windows.sort_unstable_by(|(a, x), (b, y)| (a.from, a.until, x).cmp(&(b.from, b.until, y)));
    let (windows, abouts): (Vec<_>, Vec<_>) = windows.into_iter().unzip();
    (thing, (origin, vec![("from, until", text(&windows)), ("about", text(&abouts))]))
}

/// What is declared of attributes, expected of decisions and said of who may edit.
fn rules(estate: &Estate, differs: IsLookedAt<'_>, all: &mut BTreeMap<Thing, Keys>) {
    let vocabulary = &estate.vocabulary;
    let roots =
        [("who", &vocabulary.who), ("target", &vocabulary.target), ("given", &vocabulary.given)];
    for (root, declared) in roots {
        for (name, attribute) in declared.iter().filter(|(_, one)| differs(one.origin)) {
            let rule = attribute.rule.as_ref();
            let one_of = rule.and_then(|rule| rule.one_of.as_ref()).map(|values| {
                let mut values: Vec<String> = values.iter().map(text).collect();
                values.sort_unstable();
                values
            });
            let keys = vec![
                ("type", text(&rule.map(|rule| (rule.value_type, rule.is_list, rule.form)))),
                ("one-of", text(&one_of)),
                ("about", text(&attribute.about)),
            ];
            all.insert(Thing::Attribute(format!("{root}.{name}")), (attribute.origin, keys));
        }
    }
    // Laws without a name are called by their places, so that one may stand for another: what they
    // say is compared all the same.
    for check in estate.checks.iter().filter(|one| differs(one.origin)) {
        let lists = [&check.who, &check.does, &check.on, &check.also, &check.under];
        let sorted = |list: &[Box<str>]| {
            let mut list = list.to_vec();
            list.sort_unstable();
            list
        };
        let lists = lists.map(|list| sorted(list));
        let mut given: Vec<String> = check.given.iter().map(text).collect();
        given.sort_unstable();
        let item = check.item.as_ref().map(|item| {
            let mut item: Vec<String> = item.iter().map(text).collect();
            item.sort_unstable();
            item
        });
        let asked = (&check.take_up, check.time, check.expect, check.reason);
        let keys = vec![
            ("what it asks", text(&(lists, given, item, asked))),
            ("about", text(&check.about)),
        ];
        all.insert(Thing::Expectation(check.name.to_string()), (check.origin, keys));
    }
    for law in estate.laws.iter().filter(|one| differs(one.origin)) {
        let subjects = |list: &[Subject]| {
            let mut list: Vec<String> = list.iter().map(|one| subject_id(estate, *one)).collect();
            list.sort_unstable();
            list
        };
        let mut does = law.does_written.to_vec();
        does.sort_unstable();
        let mut on: Vec<&str> = law.on.texts().collect();
        on.sort_unstable();
        let when = law.when.as_ref().map(|when| &when.text);
        let said = (law.claim, subjects(&law.who), subjects(&law.except), does, on, when);
        let keys = vec![("what it says", text(&said)), ("about", text(&law.about))];
        all.insert(Thing::Expectation(law.name.to_string()), (law.origin, keys));
    }
    for separation in estate.separations.iter().filter(|one| differs(one.origin)) {
        let name = |duty: &Duty| match duty {
            Duty::Role(id) => format!("role:{}", estate.role(*id).identity.name),
            Duty::Group(id) => format!("group:{}", estate.group(*id).identity.name),
            Duty::Policy(id) => format!("policy:{}", estate.policy(*id).name),
        };
        let mut names: Vec<String> = separation.any_two_of.iter().map(name).collect();
        names.sort_unstable();
        let at = separation.at.as_ref().map(|at| {
            let mut paths: Vec<&str> = at.iter().map(|at| &*estate.scope(*at).path).collect();
            paths.sort_unstable();
            paths
        });
        let keys = vec![("what it says", text(&(names, at))), ("about", text(&separation.about))];
        all.insert(Thing::Expectation(separation.name.to_string()), (separation.origin, keys));
    }
    let rights = &estate.edit_rights;
    if let Some(origin) = rights.origin.filter(|origin| differs(*origin)) {
        let action = |id: &_| &estate.catalogue.action(*id).name;
        let mut actions: Vec<_> = rights
            .actions
            .iter()
            .map(|(key, actions)| (key, actions.iter().map(action).collect::<Vec<_>>()))
            .collect();
        actions.sort_unstable();
        let keys = vec![
            ("what is asked", text(&actions)),
            ("no-more-than-own", text(&rights.no_more_than_own)),
        ];
        all.insert(Thing::EditRights, (origin, keys));
    }
    if let Some(origin) = estate.vet.origin.filter(|origin| differs(*origin)) {
        let mut rules: Vec<String> = estate.vet.rules.iter().map(text).collect();
        rules.sort_unstable();
        all.insert(Thing::Vet, (origin, vec![("rules", text(&rules))]));
    }
    for one in estate.vet.accepted.iter().filter(|one| differs(one.origin)) {
        let thing = Thing::Accepted(one.rule.to_owned(), one.about.to_string());
        let keys = vec![("why", text(&one.why)), ("until", text(&one.until))];
        all.insert(thing, (one.origin, keys));
    }
}

pub(super) fn text(of: &impl Debug) -> String {
    format!("{of:?}")
}

fn catalogue(estate: &Estate, differs: IsLookedAt<'_>, all: &mut BTreeMap<Thing, Keys>) {
    let catalogue = &estate.catalogue;
    for kind in catalogue.kinds.iter().filter(|kind| differs(kind.origin)) {
        let names = |kinds: &[KindId]| {
            let mut names: Vec<_> = kinds.iter().map(|id| &catalogue.kind(*id).name).collect();
            names.sort_unstable();
            text(&names)
        };
        let actions = catalogue.actions[kind.actions.clone()].iter();
        let mut actions: Vec<String> =
            actions.map(|one| text(&(&one.name, one.level, one.addresses))).collect();
        actions.sort_unstable();
        let service = kind.service.map(|id| &catalogue.services[id.index()].name);
        let keys = vec![
            ("actions", text(&actions)),
            ("items", names(&kind.items)),
            ("holds", names(&kind.holds)),
            ("service", text(&service)),
            ("about", text(&kind.about)),
        ];
        all.insert(Thing::Kind(kind.name.to_string()), (kind.origin, keys));
    }
    for service in catalogue.services.iter().filter(|service| differs(service.origin)) {
        let keys = vec![("about", text(&service.about))];
        all.insert(Thing::Service(service.name.to_string()), (service.origin, keys));
    }
}

pub(super) fn of_identity(estate: &Estate, identity: &Identity) -> Vec<(&'static str, String)> {
    vec![
        ("place", text(&identity.place.map(|place| &estate.scope(place).path))),
        ("attributes", text(&attributes(estate, &identity.attributes))),
        ("about", text(&identity.about)),
    ]
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
            let when = one.when.as_ref().map(|when| &when.text);
            let Statement { name, about, .. } = one;
            format!("{actions:?} {on:?} {when:?} {name:?} {about:?}")
        })
        .collect();
    all.sort_unstable();
    all
}
