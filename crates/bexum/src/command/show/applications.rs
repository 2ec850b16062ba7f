//! Applications: who may sign in, through what, and what they are told.

use bexum_core::application::{Application, Audience, Beyond, Entry, Signing, Told};
use bexum_core::principal::Principal;
use bexum_wire::claims::SignIn;
use serde_json::json;

use super::View;
use crate::render::report::{Cell, Report};

/// `show applications`.
pub(super) fn applications(view: &View<'_>, report: &mut Report) {
    let rows = view.estate.applications.iter().map(|application| {
        let signing = Signing::new(&view.engine, application, Vec::new(), view.at);
        let users = view.estate.each_user();
        let may = users.filter(|user| signing.may_sign_in(*user).is_ok()).count();
        vec![
            Cell::text(&*application.name),
            view.audience(&application.open_to),
            Cell::Number(may),
            Cell::text(told_word(application)),
            Cell::Number(application.at_most),
        ]
    });
    let columns = &["application", "open to", "may sign in", "is told", "at most"];
    report.rows("applications", "applications", columns, rows.collect());
}

fn told_word(application: &Application) -> &'static str {
    Told::WORDS[application.told as usize]
}

/// A length as files write it.
fn length(seconds: i64) -> String {
    let units = [(7 * 86_400, 'w'), (86_400, 'd'), (3_600, 'h')];
    let unit = units.into_iter().find(|(unit, _)| seconds % unit == 0);
    let (unit, letter) = unit.unwrap_or((60, 'm'));
    format!("{}{letter}", seconds / unit)
}

impl View<'_> {
    fn audience(&self, audience: &Audience) -> Cell {
        match audience {
            Audience::Everyone => Cell::Told("everyone".to_owned(), json!(["everyone"])),
            Audience::These(people) => Cell::List(people.iter().map(|who| self.id(*who)).collect()),
        }
    }

    /// `show application:NAME`.
    pub(super) fn application(&self, application: &Application) -> Report {
        let mut report = Report::new(format!("application:{}", application.name));
        let mut fields = vec![
            ("about", Cell::maybe(application.about.as_deref())),
            ("open to", self.audience(&application.open_to)),
            ("claim", Cell::text(&*application.claim)),
            ("groups told", Cell::text(told_word(application))),
            ("through groups", Cell::Flag(application.through)),
        ];
        if let Some(names) = &application.names {
            let excluded = names.excluded.iter().map(|name| format!("!{name}"));
            let all = names.plain.iter().map(|name| name.to_string()).chain(excluded);
            fields.push(("names", Cell::List(all.collect())));
        }
        let told_as = if application.as_id { "id" } else { "name" };
        let lasts = length(application.lasts);
        fields.extend([
            ("told as", Cell::text(told_as)),
            ("at most", Cell::Number(application.at_most)),
            ("beyond", Cell::text(Beyond::WORDS[application.beyond as usize])),
            ("lasts", Cell::Told(lasts, json!(application.lasts))),
        ]);
        report.fields("application", fields);
        let roles = application.roles.iter();
        let rows: Vec<Vec<Cell>> =
            roles.map(|(name, who)| vec![Cell::text(&**name), self.audience(who)]).collect();
        if !rows.is_empty() {
            report.rows("roles", "its own roles", &["role", "who has it"], rows);
        }
        let signing = Signing::new(&self.engine, application, Vec::new(), self.at);
        let users = self.estate.each_user();
        let rows = users.filter_map(|user| {
            let entry = signing.may_sign_in(user).ok()?;
            let groups = signing.sights(user);
            let seen = groups.iter().filter(|sight| sight.hidden.is_none());
            let seen: Vec<String> =
                seen.map(|sight| self.id(Principal::Group(sight.group))).collect();
            let shape = serde_json::to_value(SignIn::new(self.estate, &Ok(entry)));
            let through = Cell::Told(self.through(entry), shape.unwrap_or_default());
            let who = self.id(Principal::User(user));
            Some(vec![Cell::text(who), through, Cell::List(seen)])
        });
        let columns = &["user", "through", "groups it sees"];
        report.rows("people", "who may sign in", columns, rows.collect());
        report.next = format!("look next: `bexum claims user:NAME {}`", application.name);
        report
    }

    /// Through what somebody may sign in.
    fn through(&self, entry: Entry) -> String {
        match entry {
            Entry::Everyone => "open to everyone".to_owned(),
            Entry::Named => "named".to_owned(),
            Entry::Group { group, through } => {
                let group = self.id(Principal::Group(group));
                match through {
                    None => group,
                    Some(first) => {
                        format!("{group}, through {}", self.id(Principal::Group(first)))
                    }
                }
            }
        }
    }
}
