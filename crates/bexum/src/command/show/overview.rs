//! The overview, and everything that is there for a time only.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use bexum_core::Time;
use bexum_core::catalogue::Level;
use bexum_core::id::PolicyId;
use bexum_core::origin::Origin;
use bexum_core::principal::{Membership, Principal, Subject};
use bexum_core::time::{Phase, Window};
use bexum_wire::show as shape;
use serde_json::json;

use super::View;
use super::lists::gravest;
use crate::render::phrases;
use crate::render::report::{Cell, Report};

/// Rows of each part of the overview.
const FEW: usize = 5;
/// What ends within so many days ends soon.
const SOON_DAYS: i64 = 30;
const DAY: i64 = 24 * 60 * 60 * 1_000_000;

/// Something that holds for a time only.
struct Windowed {
    window: Window,
    who: Vec<String>,
    /// `member of group:imaging`, `ceiling policy:no-erasing`.
    what: Vec<String>,
    at: Vec<String>,
    origin: Origin,
}

/// Every membership, holding, attachment and ceiling with a window: what ends next comes first, then
/// what has not begun, what has no end, and what is over, the latest first.
pub(super) fn windows(view: &View<'_>, report: &mut Report) {
    let rows = all_windows(view).into_iter().map(|one| row(view, &one)).collect();
    report.rows("windows", "windows", &COLUMNS, rows);
}

const COLUMNS: [&str; 6] = ["state", "who", "what", "at", "window", "written"];

/// The columns of the overview.
const SHORT: &[&str] = &["state", "who", "what", "at"];

fn row(view: &View<'_>, one: &Windowed) -> Vec<Cell> {
    vec![
        Cell::Told(state(view, one.window), shape::window(one.window, view.at)["state"].clone()),
        Cell::List(one.who.clone()),
        Cell::List(one.what.clone()),
        Cell::List(one.at.clone()),
        Cell::Told(phrases::window(one.window), shape::window(one.window, view.at)),
        Cell::text(view.sources.shown(one.origin)),
    ]
}

/// `over`, `not begun`, `ends in 3 days`, `open`.
fn state(view: &View<'_>, window: Window) -> String {
    match (window.phase(view.at), window.until) {
        (Phase::Past, _) => "over".to_owned(),
        (Phase::Future, _) => "not begun".to_owned(),
        (Phase::Open, None) => "open".to_owned(),
        (Phase::Open, Some(until)) => match until.0.saturating_sub(view.at.0) / DAY {
            0 => "ends within a day".to_owned(),
            days => format!("ends in {}", phrases::count(days as usize, "day", "days")),
        },
    }
}

fn all_windows(view: &View<'_>) -> Vec<Windowed> {
    let estate = view.estate;
    let mut all: Vec<Windowed> = Vec::new();
    let mut members = |of: Principal, what, list: &[Membership], origin| {
        let windowed = list.iter().filter(|member| member.window != Window::ALWAYS);
        all.extend(windowed.map(|member| Windowed {
            window: member.window,
            who: vec![view.id(member.who)],
            what: vec![format!("{what} {}", view.id(of))],
            at: Vec::new(),
            origin,
        }));
    };
    for principal in estate.principals() {
        match principal {
            Principal::Group(id) => {
                let group = estate.group(id);
                let list = group.members.as_deref().unwrap_or_default();
                members(principal, "member of", list, group.identity.origin);
            }
            Principal::Role(id) => {
                let role = estate.role(id);
                members(principal, "holds", &role.held_by, role.identity.origin);
                members(principal, "may take up", &role.taken_by, role.identity.origin);
            }
            Principal::User(_) | Principal::Workload(_) => {}
        }
    }
    let policy = |id: &PolicyId| format!("policy:{}", estate.policy(*id).name);
    for attachment in estate.attachments.iter().filter(|a| a.window != Window::ALWAYS) {
        all.push(Windowed {
            window: attachment.window,
            who: attachment.to.iter().map(|to| view.subject(to.value)).collect(),
            what: attachment.policies.iter().map(|p| policy(&p.value)).collect(),
            at: attachment.at.iter().map(|at| estate.scope(at.value).path.to_string()).collect(),
            origin: attachment.origin,
        });
    }
    for ceiling in estate.ceilings.iter().filter(|c| c.window != Window::ALWAYS) {
        let over = ceiling.over.iter().flatten();
        all.push(Windowed {
            window: ceiling.window,
            who: ceiling.bound.iter().map(|subject| view.subject(*subject)).collect(),
            what: ceiling
                .policies
                .iter()
                .map(|p| format!("ceiling {}", policy(&p.value)))
                .collect(),
            at: over.map(|scope| estate.scope(scope.value).path.to_string()).collect(),
            origin: ceiling.origin,
        });
    }
    all.sort_by_key(|one| match (one.window.phase(view.at), one.window.from, one.window.until) {
        (Phase::Open, _, Some(until)) => (0, until.0),
        (Phase::Future, from, _) => (1, from.map_or(0, |from| from.0)),
        (Phase::Open, from, None) => (2, from.map_or(0, |from| from.0)),
        (Phase::Past, _, until) => (3, until.map_or(0, |until| until.0.saturating_neg())),
    });
    all
}

/// What a screen has room for: how much there is, what matters most of it, and where to look next.
pub(super) fn overview(view: &View<'_>, report: &mut Report) {
    counts(view, report);
    let estate = view.estate;
    let mut attached: BTreeMap<PolicyId, usize> = BTreeMap::new();
    let mut governs: BTreeMap<Subject, (Vec<PolicyId>, Vec<String>)> = BTreeMap::new();
    for attachment in &estate.attachments {
        if attachment.window.phase(view.at) == Phase::Past {
            continue;
        }
        for policy in &attachment.policies {
            let policy = policy.value;
            *attached.entry(policy).or_default() += attachment.to.len() * attachment.at.len();
            if gravest(view, &estate.policy(policy).allowed_actions) != Some(Level::Govern.word()) {
                continue;
            }
            for to in &attachment.to {
                let (policies, places) = governs.entry(to.value).or_default();
                policies.push(policy);
                places
                    .extend(attachment.at.iter().map(|at| estate.scope(at.value).path.to_string()));
            }
        }
    }
    let name = |id: &PolicyId| estate.policy(*id).name.to_string();
    let mut most: Vec<(PolicyId, usize)> = attached.into_iter().collect();
    most.sort_by_key(|(_, times)| Reverse(*times));
    let rows = most.iter().take(FEW).map(|(id, times)| {
        let level = gravest(view, &estate.policy(*id).allowed_actions);
        vec![Cell::text(name(id)), Cell::Number(*times), Cell::maybe(level)]
    });
    let columns = &["policy", "times", "allows up to"];
    report.rows("attached-most", "attached most", columns, rows.collect());

    let mut governs: Vec<_> = governs.into_iter().collect();
    governs.sort_by_key(|(subject, (_, places))| (Reverse(places.len()), *subject));
    let rows = governs.into_iter().map(|(subject, (mut policies, mut places))| {
        policies.sort_unstable();
        policies.dedup();
        places.sort_unstable();
        places.dedup();
        let policies = policies.iter().map(name).collect();
        vec![Cell::text(view.subject(subject)), Cell::List(policies), Cell::List(places)]
    });
    let rows: Vec<Vec<Cell>> = rows.collect();
    report.rows("governs", "who governs", &["who", "by", "at and below"], rows);
    report.cut(FEW, "bexum reach --level govern");

    let soon = Time(view.at.0.saturating_add(SOON_DAYS * DAY));
    let ends = |one: &Windowed| {
        let is_open = one.window.phase(view.at) == Phase::Open;
        is_open && one.window.until.is_some_and(|until| until <= soon)
    };
    let windows = all_windows(view);
    let rows = windows.iter().filter(|one| ends(one)).map(|one| row(view, one)[..4].to_vec());
    report.rows("ends-soon", "what ends within 30 days", SHORT, rows.collect());
    report.cut(FEW, "bexum show windows");
}

fn counts(view: &View<'_>, report: &mut Report) {
    let estate = view.estate;
    let off = estate.users.iter().filter(|user| !user.enabled).count();
    let people = match off {
        0 => String::new(),
        off => format!(" ({off} not enabled)"),
    };
    let sealed = estate.scopes.iter().filter(|(_, scope)| scope.sealed).count();
    let seals = match sealed {
        0 => String::new(),
        sealed => format!(" ({sealed} sealed)"),
    };
    let count = |n, one, many| phrases::count(n, one, many);
    let laws = estate.laws.len() + estate.separations.len();
    let kinds = estate.catalogue.kinds.len();
    let actions = count(estate.catalogue.actions.len(), "action", "actions");
    let fields = vec![
        (
            "scopes",
            Cell::Told(
                format!("{}{seals}", estate.scopes.len()),
                json!({ "all": estate.scopes.len(), "sealed": sealed }),
            ),
        ),
        (
            "catalogue",
            Cell::Told(
                format!("{}, {actions}", count(kinds, "kind", "kinds")),
                json!({ "kinds": kinds, "actions": estate.catalogue.actions.len() }),
            ),
        ),
        (
            "users",
            Cell::Told(
                format!("{}{people}", estate.users.len()),
                json!({ "all": estate.users.len(), "not-enabled": off }),
            ),
        ),
        ("groups", Cell::Number(estate.groups.len())),
        ("roles", Cell::Number(estate.roles.len())),
        ("policies", Cell::Number(estate.policies.len())),
        ("attachments", Cell::Number(estate.attachments.len())),
        ("ceilings", Cell::Number(estate.ceilings.len())),
        ("windows", Cell::Number(all_windows(view).len())),
        (
            "expectations",
            Cell::Told(
                format!(
                    "{}, {}",
                    count(estate.checks.len(), "check", "checks"),
                    count(laws, "law", "laws")
                ),
                json!({ "checks": estate.checks.len(), "laws": laws }),
            ),
        ),
    ];
    report.fields("counts", fields);
}
