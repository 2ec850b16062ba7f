//! One page for a new colleague: what they are in, what they can do and where, until when, whom to
//! ask, and what they may ask to be let into.

use std::collections::BTreeMap;

use anyhow::bail;
use bexum_core::catalogue::Level;
use bexum_core::engine::{Cells, Closure, Decider};
use bexum_core::id::{GroupId, RoleId};
use bexum_core::principal::{Join, Principal, Subject};
use bexum_core::reach::{self, Limited, Viewpoint, actions_of};
use bexum_core::{Request, Time};

use super::View;
use crate::command_line::quoted;
use crate::render::grid_builder::told_apart;
use crate::render::report::{Cell, Report};

/// Most later moments at which groups and roles are looked at again.
const MOMENTS: usize = 200;

/// When somebody is in what no longer, of all that they are in now; nothing where that does not end.
struct Ends {
    groups: BTreeMap<GroupId, Time>,
    roles: BTreeMap<RoleId, Time>,
}

impl View<'_> {
    /// The page for a user.
    pub(super) fn handover(&self, who: &str) -> anyhow::Result<Report> {
        let estate = self.estate;
        let Some(principal) = estate.find_principal(who) else {
            return self.report(Some(who));
        };
        let Principal::User(user) = principal else { bail!("`{who}` is no user: write user:NAME") };
        let closure = Closure::new(&self.engine, principal, &[], self.at);
        let ends = self.ends(principal, &closure);
        let name = estate.user(user).full_name.as_deref().unwrap_or(who);
        let mut report = Report::new(format!("for {name}, as of {}", second(self.at)));
        report.fields("principal", self.principal_fields(principal));
        let until = |at: Option<&Time>| Cell::maybe(at.map(Time::to_string));
        let groups = closure.groups.iter().map(|id| {
            let group = estate.group(*id);
            let about = group.identity.about.as_deref();
            vec![
                Cell::text(self.id(Principal::Group(*id))),
                Cell::maybe(about),
                until(ends.groups.get(id)),
                Cell::List(self.owners(*id)),
            ]
        });
        report.rows(
            "groups",
            "groups",
            &["group", "about", "until", "whom to ask"],
            groups.collect(),
        );
        let active = closure.roles.iter().map(|id| (*id, ("always", "active")));
        let takeable = closure.takeable.iter().map(|id| (*id, ("when taken up", "takeable")));
        let roles = active.chain(takeable).map(|(id, (told, state))| {
            vec![
                Cell::text(self.id(Principal::Role(id))),
                Cell::maybe(estate.role(id).identity.about.as_deref()),
                Cell::Told(told.to_owned(), state.into()),
                until(ends.roles.get(&id)),
            ]
        });
        report.rows("roles", "roles", &["role", "about", "when", "until"], roles.collect());
        let rows = self.can_do(who)?;
        report.rows("access", "what they can do", &["level", "actions", "where", "when"], rows);
        let sought = |subject: &Subject| match subject {
            Subject::Everyone => true,
            Subject::One(Principal::Group(id)) => closure.groups.binary_search(id).is_ok(),
            Subject::One(Principal::Role(id)) => {
                closure.roles.contains(id) || closure.takeable.contains(id)
            }
            Subject::One(one) => *one == principal,
        };
        let ending = estate.attachments.iter().filter(|one| {
            one.window.until.is_some()
                && one.window.holds(self.at)
                && one.to.iter().any(|to| sought(&to.value))
        });
        let rows = ending.map(|one| {
            let names = one.policies.iter().map(|id| estate.policy(id.value).name.to_string());
            let at = one.at.iter().map(|at| estate.scope(at.value).path.to_string());
            let until = one.window.until.as_ref();
            vec![
                Cell::List(names.collect()),
                Cell::List(at.collect()),
                Cell::maybe(until.map(Time::to_string)),
            ]
        });
        let rows: Vec<Vec<Cell>> = rows.collect();
        if !rows.is_empty() {
            report.rows(
                "ends",
                "policies that end by themselves",
                &["policy", "at", "until"],
                rows,
            );
        }
        let all = estate.principals().filter_map(|who| match who {
            Principal::Group(id) => Some((id, estate.group(id))),
            _ => None,
        });
        let open = all.filter(|(id, group)| {
            group.join != Join::Closed && closure.groups.binary_search(id).is_err()
        });
        let rows = open.map(|(id, group)| {
            let name = self.id(Principal::Group(id));
            let (how, edit) = match group.join {
                Join::Open => ("by themselves", format!("add {who} --to {name}")),
                _ => ("when an owner agrees", format!("ask-in {who} --to {name}")),
            };
            let command = format!("bexum edit {edit} --by {}", quoted(who));
            vec![
                Cell::text(name),
                Cell::Told(how.to_owned(), group.join.word().into()),
                Cell::List(self.owners(id)),
                Cell::text(command),
            ]
        });
        let title = "what they may ask to be let into";
        report.rows("open", title, &["group", "how", "whom to ask", "command"], rows.collect());
        Ok(report)
    }

    fn owners(&self, group: GroupId) -> Vec<String> {
        let owners = self.estate.group(group).owners.iter().flatten();
        owners.map(|id| self.id(Principal::User(*id))).collect()
    }

    /// The first moment, if one, at which each group and role is no longer there.
    fn ends(&self, who: Principal, now: &Closure<'_>) -> Ends {
        let mut ends = Ends { groups: BTreeMap::new(), roles: BTreeMap::new() };
        let mut next = now.valid_during.until;
        for _ in 0..MOMENTS {
            let Some(at) = next else { break };
            let then = Closure::new(&self.engine, who, &[], at);
            for group in now.groups.iter().filter(|id| then.groups.binary_search(id).is_err()) {
                ends.groups.entry(*group).or_insert(at);
            }
            let is_left = |id: &&RoleId| !then.roles.contains(id) && !then.takeable.contains(id);
            for role in now.roles.iter().chain(&now.takeable).filter(is_left) {
                ends.roles.entry(*role).or_insert(at);
            }
            next = then.valid_during.until.filter(|next| *next > at);
        }
        ends
    }

    /// What somebody can do: of each level, `govern` first, the actions at the same places together.
    fn can_do(&self, who: &str) -> anyhow::Result<Vec<Vec<Cell>>> {
        let request = Request::new(who.to_owned(), "", "", self.at);
        let view: Viewpoint = request
            .viewpoint(self.estate)
            .map_err(|fault| super::super::with_hint(&fault, self.estate))?;
        let sessions = reach::sessions(&mut Decider::new(&self.engine), &view);
        let mut limited = Limited::new();
        let rows = reach::by_principal(&self.engine, &[sessions], None, &mut limited);
        if let Some(limited) = told_apart(self.estate, &limited) {
            bail!("rows are left out: {limited}");
        }
        type Line = (std::cmp::Reverse<Level>, Option<RoleId>, bool, Vec<String>);
        let mut lines: BTreeMap<Line, Vec<String>> = BTreeMap::new();
        for row in &rows {
            for (role, cells) in row.access.iter().flat_map(reach::Access::sessions) {
                for level in Level::ALL {
                    for (is_certain, names) in self.names(cells, level) {
                        let line = (std::cmp::Reverse(level), role, !is_certain, names);
                        lines.entry(line).or_default().push(row.target.shown.clone());
                    }
                }
            }
        }
        let row = |((level, role, depends, actions), places): (Line, Vec<String>)| {
            let mut when: Vec<String> = Vec::new();
            when.extend(role.map(|role| format!("as {}", self.id(Principal::Role(role)))));
            when.extend(depends.then(|| "depends".to_owned()));
            vec![
                Cell::text(level.0.word()),
                Cell::List(actions),
                Cell::List(places),
                Cell::List(when),
            ]
        };
        Ok(lines.into_iter().map(row).collect())
    }

    /// The actions of a level that are allowed, and those that depend, if there are any.
    fn names(&self, cells: &Cells, level: Level) -> Vec<(bool, Vec<String>)> {
        let of_level = actions_of(self.estate, level);
        let named = |set: &bexum_core::catalogue::ActionSet| -> Vec<String> {
            let actions = &self.estate.catalogue.actions;
            set.intersection(&of_level).map(|i| actions[i].name.to_string()).collect()
        };
        let both = [(true, named(&cells.allow)), (false, named(&cells.depends))];
        both.into_iter().filter(|(_, names)| !names.is_empty()).collect()
    }
}

/// A moment without its fraction of a second.
fn second(at: Time) -> Time {
    Time(at.0 - at.0.rem_euclid(1_000_000))
}
