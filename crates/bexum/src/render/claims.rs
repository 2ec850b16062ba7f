//! What applications learn of people, for people and as rows.

use anyhow::Context as _;
use bexum_core::application::{Application, Entry, Hidden, Refusal, Sight};
use bexum_core::id::GroupId;
use bexum_core::{Estate, Principal};
use bexum_wire::claims::{All, Claims, Group, Person, SignIn};

use super::page::Page;
use super::phrases::{self, count};
use super::style::{self, paint, safe};

/// How many people are named where not all are asked for.
const FEW: usize = 40;

/// What was asked about one person.
pub(crate) struct Asked<'a> {
    pub(crate) estate: &'a Estate,
    pub(crate) application: &'a Application,
    pub(crate) entry: &'a Result<Entry, Refusal>,
    pub(crate) sights: &'a [Sight],
}

impl Asked<'_> {
    fn group(&self, group: GroupId) -> String {
        self.estate.principal_id(Principal::Group(group))
    }

    pub(crate) fn text(&self, shape: &Claims, is_about_one: bool) -> anyhow::Result<String> {
        let mut page = Page::new(crate::terminal::width());
        let (who, name) = (safe(&shape.who), safe(&shape.application));
        let colour = if self.entry.is_ok() { style::ALLOW } else { style::DENY };
        let may = if self.entry.is_ok() { "may sign in to" } else { "may not sign in to" };
        page.line(0, &format!("{}: {}", paint(colour, &format!("{who} {may} {name}")), self.why()));
        if let Err(Refusal::NotOpen(near)) = self.entry {
            for (group, hidden) in near {
                let line = format!("{}: {}", self.group(*group), self.hidden(*hidden));
                page.line(2, &safe(&line));
            }
        }
        page.blank();
        let width = self.sights.iter().map(|sight| self.group(sight.group).len()).max();
        let width = width.unwrap_or(0).min(40);
        if self.sights.is_empty() {
            page.line(0, "they are in no group");
        }
        for sight in self.sights {
            let name = safe(&self.group(sight.group));
            let told = match sight.hidden {
                None if self.entry.is_ok() => paint(style::ALLOW, "seen"),
                None => "would be seen if they might sign in".to_owned(),
                Some(hidden) => {
                    let why = safe(&self.hidden(hidden));
                    format!("{}: {why}", paint(style::DENY, "not seen"))
                }
            };
            page.line(2, &format!("{name:width$}  {told}"));
        }
        if is_about_one {
            return Ok(page.finish());
        }
        match &shape.claims {
            Some(claims) => {
                page.blank();
                let note = "not signed: whoever signs people in makes the token";
                page.line(
                    0,
                    &format!("{}  {}", paint(style::HEADING, "claims"), paint(style::QUIET, note)),
                );
                page.block(2, &safe_json(&serde_json::to_string_pretty(claims)?));
            }
            None => {
                page.blank();
                page.line(0, "no token, so no claims");
            }
        }
        Ok(page.finish())
    }

    /// Through what they may sign in, or why not.
    fn why(&self) -> String {
        let text = match self.entry {
            Ok(Entry::Everyone) => "it is open to everyone".to_owned(),
            Ok(Entry::Named) => "`open-to` names them".to_owned(),
            Ok(Entry::Group { group, through: None }) => {
                format!("`open-to` has {}, and they are in it", self.group(*group))
            }
            Ok(Entry::Group { group, through: Some(first) }) => format!(
                "`open-to` has {}, in which they are through {}",
                self.group(*group),
                self.group(*first)
            ),
            Err(Refusal::Disabled) => "the user is disabled".to_owned(),
            Err(Refusal::NotOpen(_)) => "nothing in `open-to` has them".to_owned(),
            Err(Refusal::TooMany(groups)) => format!(
                "they are in {groups} groups that it is told, it takes {}, and `beyond` is `refuse`",
                self.application.at_most
            ),
        };
        safe(&text)
    }

    /// Why a group is not seen.
    fn hidden(&self, hidden: Hidden) -> String {
        let at_most = count(self.application.at_most, "group", "groups");
        match hidden {
            Hidden::NotIn => "they are not in it".to_owned(),
            Hidden::Shut(shut) => format!(
                "the place of {} in {} counts {}",
                self.estate.principal_id(shut.who),
                self.group(shut.of),
                phrases::window(shut.window)
            ),
            Hidden::OnlyThrough(first) => format!(
                "they are in it only through {}, and `through` is not `true`",
                self.group(first)
            ),
            Hidden::NoGroups => "`groups` is `none`".to_owned(),
            Hidden::NotListed => "`groups` is `listed`, and `open-to` does not have it".to_owned(),
            Hidden::Name => "`names` does not take its name".to_owned(),
            Hidden::Cut => format!("over the limit: only the first {at_most} by name are told"),
            Hidden::LeftOut => {
                format!("over the limit of {at_most}: the whole claim is left out")
            }
            Hidden::Refused => format!("over the limit of {at_most}: there is no token"),
        }
    }
}

/// JSON as it stands, with what would steer a terminal written as escapes.
fn safe_json(text: &str) -> String {
    text.lines().map(|line| safe(line) + "\n").collect()
}

/// Everybody, with counts.
pub(crate) fn everybody(all: &All, application: &Application, is_full: bool) -> String {
    let mut page = Page::new(crate::terminal::width());
    let head = format!(
        "{}: {} of {} may sign in",
        all.application,
        all.may,
        count(all.people.len(), "user", "users")
    );
    page.line(0, &paint(style::HEADING, &safe(&head)));
    if all.over > 0 {
        let over = count(all.over, "user is", "users are");
        let then = match application.beyond {
            bexum_core::application::Beyond::Flag => "their claim of groups is left out",
            bexum_core::application::Beyond::Cut => "it is told the first of their groups by name",
            bexum_core::application::Beyond::Refuse => "they get no token",
        };
        let line = format!(
            "{over} in more than {} that it would be told: {then}",
            count(all.at_most, "group", "groups")
        );
        page.line(0, &paint(style::DENY, &line));
    }
    page.blank();
    // Who is over the limit first, then who may sign in.
    let mut people: Vec<&Person> = all.people.iter().collect();
    people.sort_by_key(|one| (!one.over, !one.sign_in.may));
    let shown = if is_full { people.len() } else { people.len().min(FEW) };
    let width = people[..shown].iter().map(|one| one.who.len()).max().unwrap_or(0).min(40);
    for one in &people[..shown] {
        let why = match one.sign_in.may {
            true => {
                format!("{}  {}", paint(style::ALLOW, "may"), count(one.groups, "group", "groups"))
            }
            false => format!("{}  {}", paint(style::DENY, "may not"), why_not(&one.sign_in)),
        };
        let over = if one.over { paint(style::DENY, "  over the limit") } else { String::new() };
        page.line(2, &format!("{:width$}  {why}{over}", safe(&one.who)));
    }
    if shown < people.len() {
        let left = count(people.len() - shown, "more", "more");
        page.line(2, &paint(style::QUIET, &format!("and {left}: `--full` names them")));
    }
    page.finish()
}

fn why_not(sign_in: &SignIn) -> String {
    let near = |group: &Group| match &group.through {
        Some(through) => format!("in {} only through {through}", group.group),
        None => format!("in {} at another time", group.group),
    };
    match sign_in.why {
        "disabled" => "disabled".to_owned(),
        "too-many" => "too many groups".to_owned(),
        _ => match sign_in.nearly.first() {
            Some(group) => safe(&format!("not in `open-to`; {}", near(group))),
            None => "not in `open-to`".to_owned(),
        },
    }
}

/// A row for each group of one person.
pub(crate) fn groups_csv(shape: &Claims) -> anyhow::Result<Vec<u8>> {
    let mut text = csv::Writer::from_writer(Vec::new());
    text.write_record(["who", "application", "group", "seen", "why", "through"])?;
    for group in &shape.groups {
        text.write_record([
            &*shape.who,
            &shape.application,
            &group.group,
            if group.seen && shape.sign_in.may { "true" } else { "false" },
            group.why.unwrap_or_default(),
            group.through.as_deref().unwrap_or_default(),
        ])?;
    }
    text.flush()?;
    text.into_inner().context("cannot write the rows")
}

/// A row for each person.
pub(crate) fn people_csv(all: &All) -> anyhow::Result<Vec<u8>> {
    let mut text = csv::Writer::from_writer(Vec::new());
    text.write_record(["who", "application", "may", "why", "groups", "over"])?;
    for one in &all.people {
        text.write_record([
            &*one.who,
            &all.application,
            if one.sign_in.may { "true" } else { "false" },
            one.sign_in.why,
            &one.groups.to_string(),
            if one.over { "true" } else { "false" },
        ])?;
    }
    text.flush()?;
    text.into_inner().context("cannot write the rows")
}
