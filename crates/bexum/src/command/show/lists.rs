//! The lists of `show`.

use bexum_core::attribute::Attributes;
use std::collections::BTreeSet;

use bexum_core::catalogue::{ActionSet, Addresses, Level};
use bexum_core::engine::Closure;
use bexum_core::expectation::Duty;
use bexum_core::id::{GroupId, ScopeId};
use bexum_core::policy::Policy;
use bexum_core::principal::{Membership, Principal, Subject};
use bexum_core::time::{Phase, Window};
use bexum_wire::show as shape;
use serde_json::{Value as Json, json};

use super::View;
use crate::render::phrases;
use crate::render::report::{Cell, Report};

type List = for<'v, 'e, 'r> fn(&'v View<'e>, &'r mut Report);

/// Every list by its name.
pub(super) const LISTS: [(&str, List); 13] = [
    ("scopes", scopes),
    ("catalogue", catalogue),
    ("users", users),
    ("groups", groups),
    ("roles", roles),
    ("policies", policies),
    ("attachments", attachments),
    ("ceilings", ceilings),
    ("windows", super::overview::windows),
    ("expectations", expectations),
    ("attributes", super::declared::attributes),
    ("applications", super::applications::applications),
    ("edit-rights", super::declared::edit_rights),
];

fn scopes(view: &View<'_>, report: &mut Report) {
    let mut attached = vec![0; view.estate.scopes.len()];
    for attachment in &view.estate.attachments {
        for scope in &attachment.at {
            attached[scope.value.index()] += attachment.policies.len() * attachment.to.len();
        }
    }
    let rows = view.estate.scopes.iter().map(|(id, scope)| {
        let kind = scope.kind.map(|kind| view.estate.catalogue.kind(kind).name.to_string());
        let what = match kind {
            Some(kind) if kind != scope.scope_type.word() => {
                format!("{}: {kind}", scope.scope_type)
            }
            _ => scope.scope_type.to_string(),
        };
        let here = attached[id.index()];
        vec![
            Cell::Node {
                depth: scope.depth as usize - 1,
                name: scope.name().to_owned(),
                path: scope.path.to_string(),
            },
            Cell::Told(what, shape::class(view.estate, scope.class())),
            sealed(scope.sealed),
            attributes(view, &scope.attributes),
            Cell::Told(if here == 0 { String::new() } else { here.to_string() }, here.into()),
        ]
    });
    let columns = &["scope", "what", "seal", "attributes", "attached"];
    report.rows("scopes", "scopes", columns, rows.collect());
}

/// `sealed`, or nothing.
fn sealed(is_sealed: bool) -> Cell {
    Cell::Told(if is_sealed { "sealed".to_owned() } else { String::new() }, is_sealed.into())
}

/// `team = 'imaging'`, one each.
pub(super) fn attributes(view: &View<'_>, attributes: &Attributes) -> Cell {
    let names = &view.estate.attribute_names;
    let told = attributes.iter().map(|(id, value)| format!("{} = {value}", names.name(id)));
    Cell::ListTold(told.collect(), shape::attributes(view.estate, attributes))
}

/// A principal among its like, by its bare name; machines are told its whole one.
fn bare(view: &View<'_>, principal: Principal) -> Cell {
    Cell::Told(view.estate.principal_name(principal).to_owned(), view.id(principal).into())
}

fn catalogue(view: &View<'_>, report: &mut Report) {
    let catalogue = &view.estate.catalogue;
    let rows = catalogue.kinds.iter().map(|kind| {
        let mut row = vec![
            Cell::maybe(kind.service.map(|id| &*catalogue.services[id.index()].name)),
            Cell::text(&*kind.name),
        ];
        for level in Level::ALL {
            let verbs = catalogue.actions[kind.actions.clone()].iter();
            let verbs = verbs.filter(|action| action.level == level);
            let (told, values): (Vec<String>, Vec<Json>) = verbs
                .map(|action| {
                    let mark = match action.addresses {
                        Addresses::Itself => "",
                        Addresses::Account => " (account-wide)",
                        Addresses::Parent => " (on parent)",
                    };
                    let asked_of = shape::asked_of(action.addresses);
                    let value = json!({ "verb": action.verb(), "asked-of": asked_of });
                    (format!("{}{mark}", action.verb()), value)
                })
                .unzip();
            row.push(Cell::ListTold(told, values.into()));
        }
        let items = kind.items.iter().map(|id| catalogue.kind(*id).name.to_string());
        row.push(Cell::List(items.collect()));
        row
    });
    let columns = &["service", "kind", "observe", "operate", "alter", "govern", "items"];
    let mut rows: Vec<Vec<Cell>> = rows.collect();
    rows.sort_by_key(|row| match &row[0] {
        Cell::Text(service) => (0, service.clone()),
        _ => (1, String::new()),
    });
    report.rows("catalogue", "catalogue", columns, rows);
}

fn users(view: &View<'_>, report: &mut Report) {
    let estate = view.estate;
    let rows = estate.users.iter().enumerate().map(|(i, user)| {
        let principal = estate.find_principal(&format!("user:{}", user.identity.name));
        debug_assert!(principal.is_some(), "user {i} has its own name");
        let closure = principal.map(|p| Closure::new(&view.engine, p, &[], view.at));
        let names = closure.iter().flat_map(|c| &c.group_names).map(|name| (*name).to_owned());
        let ids = closure.iter().flat_map(|c| &c.groups).map(|id| view.id(Principal::Group(*id)));
        vec![
            principal.map_or(Cell::None, |user| bare(view, user)),
            Cell::maybe(user.full_name.as_deref()),
            match user.enabled {
                true => Cell::Told(String::new(), "enabled".into()),
                false => Cell::Told("not enabled".to_owned(), "not-enabled".into()),
            },
            user.manager.map_or(Cell::None, |id| bare(view, Principal::User(id))),
            Cell::ListTold(names.collect(), ids.collect()),
        ]
    });
    let columns = &["user", "full name", "state", "manager", "in groups"];
    report.rows("users", "users", columns, rows.collect());
}

fn groups(view: &View<'_>, report: &mut Report) {
    let estate = view.estate;
    let rows = estate.groups.iter().map(|group| {
        let most = if view.complete { usize::MAX } else { MEMBERS_SOUGHT };
        let members = transitive_members(view, estate.find_group(&group.identity.name), most);
        let (direct, through): (Vec<_>, Vec<_>) = members.into_iter().partition(|m| m.1);
        let names = |list: Vec<(Principal, bool)>, cut: bool| {
            let names = list.into_iter().map(|(who, _)| view.id(who));
            Cell::List(names.chain(cut.then(|| "…".to_owned())).collect())
        };
        let is_cut = direct.len() + through.len() == most;
        let owners = || group.owners.iter().flatten();
        let names_of_owners = owners().map(|id| estate.user(*id).identity.name.to_string());
        let ids_of_owners = owners().map(|id| view.id(Principal::User(*id)));
        let name = group.identity.name.to_string();
        vec![
            Cell::Told(name.clone(), format!("group:{name}").into()),
            names(direct, false),
            names(through, is_cut),
            Cell::maybe(group.members_when.as_ref().map(|when| &*when.text)),
            Cell::ListTold(names_of_owners.collect(), ids_of_owners.collect()),
            Cell::text(group.join.word()),
        ]
    });
    let columns = &["group", "members", "through these", "members when", "owners", "join"];
    report.rows("groups", "groups", columns, rows.collect());
}

/// Members of one group that a list for people looks for: groups of groups may be deep.
const MEMBERS_SOUGHT: usize = 200;

/// Everybody in a group, and whether directly; at most so many, direct ones first.
pub(super) fn transitive_members(
    view: &View<'_>,
    group: Option<GroupId>,
    most: usize,
) -> Vec<(Principal, bool)> {
    let Some(group) = group else { return Vec::new() };
    let whole = view.estate.transitive_members(group, view.at, most);
    whole.into_iter().map(|(who, holder)| (who, holder == group)).collect()
}

fn roles(view: &View<'_>, report: &mut Report) {
    let rows = view.estate.roles.iter().map(|role| {
        let name = role.identity.name.to_string();
        vec![
            Cell::Told(name.clone(), format!("role:{name}").into()),
            windowed(view, &role.held_by),
            windowed(view, &role.taken_by),
            Cell::maybe(role.identity.about.as_deref()),
        ]
    });
    report.rows("roles", "roles", &["role", "held by", "taken up by", "about"], rows.collect());
}

/// Principals, each with its window if it has one.
pub(super) fn windowed(view: &View<'_>, members: &[Membership]) -> Cell {
    let names = members.iter().map(|m| match m.window {
        Window::ALWAYS => view.id(m.who),
        window => format!("{} ({})", view.id(m.who), phrases::window(window)),
    });
    let shapes = members
        .iter()
        .map(|m| json!({ "who": view.id(m.who), "window": shape::window(m.window, view.at) }));
    Cell::ListTold(names.collect(), shapes.collect())
}

fn policies(view: &View<'_>, report: &mut Report) {
    let mut uses: Vec<PolicyUse> =
        view.estate.policies.iter().map(|_| PolicyUse::default()).collect();
    for attachment in &view.estate.attachments {
        if attachment.window.phase(view.at) != Phase::Past {
            for policy in &attachment.policies {
                let used = &mut uses[policy.value.index()];
                used.at.extend(attachment.at.iter().map(|at| at.value));
                used.to.extend(attachment.to.iter().map(|to| to.value));
            }
        }
    }
    for ceiling in &view.estate.ceilings {
        if ceiling.window.phase(view.at) != Phase::Past {
            for policy in &ceiling.policies {
                let over = &mut uses[policy.value.index()].over;
                match &ceiling.over {
                    None => _ = over.insert(None),
                    Some(scopes) => over.extend(scopes.iter().map(|scope| Some(scope.value))),
                }
            }
        }
    }
    let path = |scope: &ScopeId| view.estate.scope(*scope).path.to_string();
    let rows = view.estate.policies.iter().zip(&uses).map(|(policy, used)| {
        let over = used.over.iter().map(|scope| match scope {
            None => "ceiling over everything".to_owned(),
            Some(scope) => format!("ceiling over {}", path(scope)),
        });
        let to = used.to.iter().map(|to| view.subject(*to));
        let at: Vec<String> = used.at.iter().map(path).collect();
        let ceilings: Vec<Option<String>> =
            used.over.iter().map(|scope| scope.as_ref().map(path)).collect();
        let place = json!({ "attached": at.clone(), "ceiling-over": ceilings });
        vec![
            Cell::text(&*policy.name),
            Cell::maybe(gravest(view, &policy.allowed_actions)),
            Cell::List(denied(view, policy)),
            Cell::ListTold(headcount(&used.to), to.collect()),
            Cell::ListTold(at.into_iter().chain(over).collect(), place),
        ]
    });
    let columns = &["policy", "allows up to", "denies", "for", "where"];
    report.rows("policies", "policies", columns, rows.collect());
}

/// Where a policy is used, and for whom.
#[derive(Default)]
struct PolicyUse {
    at: BTreeSet<ScopeId>,
    to: BTreeSet<Subject>,
    /// Of ceilings; `None` is everything.
    over: BTreeSet<Option<ScopeId>>,
}

/// The gravest level among some actions.
pub(super) fn gravest(view: &View<'_>, actions: &ActionSet) -> Option<&'static str> {
    let levels = actions.ones().map(|i| view.estate.catalogue.actions[i].level);
    levels.max().map(Level::word)
}

/// What a policy's deny statements name, as written.
fn denied(view: &View<'_>, policy: &Policy) -> Vec<String> {
    let statements = policy.denies.iter().map(|id| view.estate.statement(*id));
    let named: BTreeSet<&str> =
        statements.flat_map(|statement| statement.do_written.iter().map(|text| &**text)).collect();
    named.into_iter().map(str::to_owned).collect()
}

/// `2 groups, 1 role`; everyone outweighs them all.
fn headcount(to: &BTreeSet<Subject>) -> Vec<String> {
    if to.contains(&Subject::Everyone) {
        return vec!["everyone".to_owned()];
    }
    let mut counts = [0; 4];
    for subject in to {
        match subject {
            Subject::One(Principal::User(_)) => counts[0] += 1,
            Subject::One(Principal::Group(_)) => counts[1] += 1,
            Subject::One(Principal::Role(_)) => counts[2] += 1,
            Subject::One(Principal::Workload(_)) => counts[3] += 1,
            Subject::Everyone => {}
        }
    }
    let names =
        [("user", "users"), ("group", "groups"), ("role", "roles"), ("workload", "workloads")];
    let told = counts.into_iter().zip(names).filter(|(count, _)| *count > 0);
    told.map(|(count, (one, many))| phrases::count(count, one, many)).collect()
}

/// How much of each kind a policy covers: a row for each kind that it names.
pub(super) fn coverage(view: &View<'_>, policy: &Policy) -> Vec<Vec<Cell>> {
    let catalogue = &view.estate.catalogue;
    let mut rows = Vec::new();
    for kind in &catalogue.kinds {
        let cells: Vec<Cell> = Level::ALL
            .into_iter()
            .map(|level| {
                let of_level =
                    || kind.actions.clone().filter(|i| catalogue.actions[*i].level == level);
                let verbs = |actions: &ActionSet| -> Vec<&str> {
                    let named = of_level().filter(|i| actions.contains(*i));
                    named.map(|i| catalogue.actions[i].verb()).collect()
                };
                let whole = of_level().count();
                let tell = |named: &[&str]| {
                    (!named.is_empty()).then(|| match named.len() {
                        count if count == whole => format!("all {whole}"),
                        count => format!("{} ({count} of {whole})", named.join(", ")),
                    })
                };
                let allowed = verbs(&policy.allowed_actions);
                let denied = verbs(&policy.denied_actions);
                let told = tell(&denied).map(|verbs| format!("deny {verbs}"));
                let told = tell(&allowed).into_iter().chain(told).collect();
                Cell::ListTold(told, json!({ "allow": allowed, "deny": denied, "of": whole }))
            })
            .collect();
        if cells.iter().any(|cell| !cell.shown().is_empty()) {
            rows.push([vec![Cell::text(&*kind.name)], cells].concat());
        }
    }
    rows
}

fn attachments(view: &View<'_>, report: &mut Report) {
    let estate = view.estate;
    let rows = estate.attachments.iter().map(|attachment| {
        let policies = attachment.policies.iter().map(|p| estate.policy(p.value).name.to_string());
        let to = attachment.to.iter().map(|to| view.subject(to.value));
        let at = attachment.at.iter().map(|at| estate.scope(at.value).path.to_string());
        vec![
            Cell::List(policies.collect()),
            Cell::List(to.collect()),
            Cell::List(at.collect()),
            state(view, attachment.window),
            Cell::text(view.sources.shown(attachment.origin)),
        ]
    });
    let columns = &["policy", "to", "at", "window", "written"];
    report.rows("attachments", "attachments", columns, rows.collect());
}

/// A window, and whether it holds.
pub(super) fn state(view: &View<'_>, window: Window) -> Cell {
    if window == Window::ALWAYS {
        return Cell::None;
    }
    let now = match window.phase(view.at) {
        Phase::Open => "open now",
        Phase::Future => "not yet",
        Phase::Past => "over",
    };
    let text = format!("{} ({now})", phrases::window(window));
    Cell::Told(text, shape::window(window, view.at))
}

fn ceilings(view: &View<'_>, report: &mut Report) {
    let estate = view.estate;
    let rows = estate.ceilings.iter().map(|ceiling| {
        let policies = ceiling.policies.iter().map(|p| estate.policy(p.value).name.to_string());
        let over = match &ceiling.over {
            None => vec!["everywhere".to_owned()],
            Some(scopes) => scopes.iter().map(|s| estate.scope(s.value).path.to_string()).collect(),
        };
        vec![
            Cell::List(policies.collect()),
            Cell::List(over),
            Cell::List(ceiling.bound.iter().map(|subject| view.subject(*subject)).collect()),
            state(view, ceiling.window),
            Cell::text(view.sources.shown(ceiling.origin)),
        ]
    });
    let columns = &["policy", "over", "for", "window", "written"];
    report.rows("ceilings", "ceilings", columns, rows.collect());
}

fn expectations(view: &View<'_>, report: &mut Report) {
    let estate = view.estate;
    let row = |table: &str, name: &str, says: String, value: Json, origin| {
        let written = Cell::text(view.sources.shown(origin));
        vec![Cell::text(table), Cell::text(name), Cell::Told(says, value), written]
    };
    let checks = estate.checks.iter().map(|check| {
        let asked = check.who.len() * check.does.len() * check.on.len();
        let says = format!("{}: {}", phrases::count(asked, "request", "requests"), check.expect);
        let value = json!({ "requests": asked, "expect": check.expect.word() });
        row("check", &check.name, says, value, check.origin)
    });
    let laws = estate.laws.iter().map(|law| {
        let who: Vec<String> = law.who.iter().map(|who| view.subject(*who)).collect();
        let on: Vec<&str> = law.on.texts().collect();
        let says =
            format!("{}: {} on {}", who.join(", "), law.does_written.join(" "), on.join(" "));
        let does: Vec<String> = law.does_written.iter().map(ToString::to_string).collect();
        let value = json!({ "who": who, "does": does, "on": on });
        row(law.claim.word(), &law.name, says, value, law.origin)
    });
    let separations = estate.separations.iter().map(|separation| {
        let names: Vec<String> = separation
            .any_two_of
            .iter()
            .map(|duty| match *duty {
                Duty::Role(id) => view.id(Principal::Role(id)),
                Duty::Group(id) => view.id(Principal::Group(id)),
                Duty::Policy(id) => format!("policy:{}", estate.policy(id).name),
            })
            .collect();
        let value = json!({ "any-two-of": names });
        row("apart", &separation.name, names.join(", "), value, separation.origin)
    });
    let columns = &["table", "name", "says", "written"];
    let rows = checks.chain(laws).chain(separations).collect();
    report.rows("expectations", "expectations", columns, rows);
}
