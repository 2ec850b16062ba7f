//! Ways, best first: what to do, and what else it does.

use bexum_core::edit::{Edit, ListOf};
use bexum_core::engine::Engine;
use bexum_core::impact::Cell;
use bexum_core::policy::Effect;
use bexum_core::request::Query;
use bexum_core::ways::{Choice, Step, Way};
use bexum_core::{Reason, Request, Time, Verdict};

use super::page::Page;
use super::phrases;
use super::style::{self, paint, safe};
use crate::command_line::{self, Of, quoted};

/// What was looked at of a way besides what it does at the moment.
#[derive(Default)]
pub(crate) struct Besides {
    /// Cells that it opens and closes in other circumstances or later.
    pub(crate) elsewhere: Option<[usize; 2]>,
    pub(crate) breaks: Vec<String>,
    pub(crate) mends: Vec<String>,
    /// What `vet` finds then and not now, and now and not then, in words.
    pub(crate) findings: Option<[Vec<VetFinding>; 2]>,
    pub(crate) is_permitted: Option<bool>,
}

/// How many findings of one rule are named.
const FEW_FINDINGS: usize = 5;

/// A finding of `vet`: the rule, and what it is about.
pub(crate) type VetFinding = (&'static str, String);

/// Everything that is told.
pub(crate) struct Shown<'s> {
    pub(crate) engine: &'s Engine,
    pub(crate) query: &'s Query<'s>,
    pub(crate) request: &'s Request<'s>,
    pub(crate) time: Option<Time>,
    pub(crate) of: Of<'s>,
    pub(crate) reason: Reason,
    pub(crate) wanted: Verdict,
    pub(crate) ways: &'s [Way],
    pub(crate) besides: &'s [Besides],
    /// How many there are.
    pub(crate) count: usize,
    pub(crate) is_complete: bool,
    pub(crate) by: Option<&'s str>,
    /// The command that was typed, for the next one.
    pub(crate) at_words: String,
}

impl Shown<'_> {
    pub(crate) fn text(&self, width: usize) -> String {
        let mut page = Page::new(width);
        self.answer(&mut page);
        if self.ways.is_empty() {
            return page.finish();
        }
        let groups = self.groups();
        for numbers in &groups {
            self.group(&mut page, numbers);
        }
        page.blank();
        let changes = |one: usize| !self.ways[one].step.edits.is_empty();
        if (0..self.ways.len()).any(|one| changes(one) && self.besides[one].findings.is_none()) {
            page.line(
                0,
                &paint(
                    style::QUIET,
                    "whether findings of vet come or go was not looked at: it takes long here",
                ),
            );
        }
        if self.count > self.ways.len() {
            let left = self.count - self.ways.len();
            let more = phrases::count(left, "way more does", "ways more do");
            page.line(0, &paint(style::QUIET, &format!("{more} it, too: `--all` lists them")));
        }
        let first = self.ways.iter().position(|way| !way.step.edits.is_empty());
        if let Some(first) = first {
            page.line(0, &paint(style::HEADING, "see what a way changes, then make it:"));
            page.command(2, &format!("{} --apply {}", self.at_words, first + 1));
            page.command(2, &format!("{} --apply {} --write", self.at_words, first + 1));
        }
        page.finish()
    }

    fn answer(&self, page: &mut Page) {
        let estate = self.engine.estate();
        let action = &estate.catalogue.action(self.query.action).name;
        let who = match &self.request.take_up {
            Some(role) => format!("{} as {role}", self.request.who),
            None => self.request.who.to_string(),
        };
        let (style, may) = match self.reason.verdict() {
            Verdict::Allow => (style::ALLOW, "may do"),
            Verdict::Deny => (style::DENY, "may not do"),
        };
        let path = safe(self.query.target.path);
        let said = format!(
            "{} {may} {} on {} ({})",
            safe(&who),
            paint(style::HEADING, action),
            paint(style::NAME, &path),
            paint(style, self.reason.word()),
        );
        let to = match self.wanted {
            Verdict::Allow => "allow",
            Verdict::Deny => "deny",
        };
        page.line(0, &said);
        let is_so = self.reason.verdict() == self.wanted;
        let end = match (is_so, self.count) {
            (true, _) => match self.wanted {
                Verdict::Allow => {
                    "nothing has to be done; `--to deny` finds what would close it".to_owned()
                }
                Verdict::Deny => "nothing has to be done".to_owned(),
            },
            (false, 0) if self.is_complete => {
                format!("no step, and no pair of two, would {to} it")
            }
            (false, 0) => format!(
                "no step would {to} it, and none of the pairs that were tried: there are too many to \
                 try all"
            ),
            (false, count) => {
                let is_pair = self.ways.first().is_some_and(|way| is_pair(&way.step));
                let ways = phrases::count(count, "way", "ways");
                let sort = match (is_pair, self.is_complete) {
                    (false, _) => String::new(),
                    (true, true) => ", of two steps each: no single one would do".to_owned(),
                    (true, false) => {
                        ", of two steps each: no single one would do; not all pairs were tried"
                            .to_owned()
                    }
                };
                format!("{ways} to {to} it{sort}; what changes least comes first")
            }
        };
        page.line(0, &end);
    }

    /// The ways by their places, those together that differ in one name alone and do as much.
    fn groups(&self) -> Vec<Vec<usize>> {
        let mut groups: Vec<(Option<String>, Vec<usize>)> = Vec::new();
        for (i, way) in self.ways.iter().enumerate() {
            let kind = kind(&way.step);
            let is_like = |at: &usize| {
                let (one, other) = (&self.ways[*at], &self.besides[*at]);
                one.effect.size() == way.effect.size()
                    && one.effect.people == way.effect.people
                    && one.effect.workloads == way.effect.workloads
                    && one.effect.levels == way.effect.levels
                    && one.effect.is_partial == way.effect.is_partial
                    && other.breaks == self.besides[i].breaks
                    && other.elsewhere == self.besides[i].elsewhere
                    && other.findings == self.besides[i].findings
                    && other.is_permitted == self.besides[i].is_permitted
            };
            let known = groups
                .iter_mut()
                .find(|(known, all)| kind.is_some() && *known == kind && all.iter().all(is_like));
            match known {
                Some((_, all)) => all.push(i),
                None => groups.push((kind, vec![i])),
            }
        }
        groups.into_iter().map(|(_, all)| all).collect()
    }

    fn group(&self, page: &mut Page, numbers: &[usize]) {
        let way = &self.ways[numbers[0]];
        let besides = &self.besides[numbers[0]];
        page.blank();
        let told: Vec<String> = numbers.iter().map(|at| (at + 1).to_string()).collect();
        let said = match numbers {
            [_] => what(&way.step),
            many => together(&way.step, many.len()),
        };
        page.marked(&format!("{}.", told.join(", ")), &safe(&said));
        for at in numbers {
            let step = &self.ways[*at].step;
            match &step.edits[..] {
                [] => {}
                [edit] => page.command(3, &format!("{} {}", self.edit_words(), shell(edit))),
                many => {
                    let quiet = |edit: &Edit| paint(style::QUIET, &safe(&edit.to_string()));
                    many.iter().for_each(|edit| page.line(3, &quiet(edit)));
                }
            }
            if !step.options.is_empty() {
                page.command(3, &command_line::ask(self.of, &step.asked(self.request), self.time));
            }
        }
        if way.step.edits.is_empty() {
            page.line(3, "changes nothing");
            return;
        }
        page.line(3, &self.does(way));
        match besides.elsewhere {
            Some([0, 0]) => {}
            Some([opens, closes]) => {
                let parts = [("opens", opens), ("closes", closes)];
                let parts = parts.iter().filter(|(_, count)| *count > 0);
                let parts: Vec<String> =
                    parts.map(|(verb, count)| format!("{verb} {count}")).collect();
                let text = format!("in other circumstances or later: {} more", parts.join(", "));
                page.line(3, &text);
            }
            None => page
                .line(3, "what it does in other circumstances was not looked at: that takes long"),
        }
        for one in &besides.breaks {
            page.line(3, &paint(style::DENY, &format!("breaks {}", safe(one))));
        }
        for one in &besides.mends {
            page.line(3, &format!("mends {}", safe(one)));
        }
        if let Some([come, go]) = &besides.findings {
            for line in by_rule(come) {
                page.line(3, &format!("vet then finds {line}"));
            }
            for line in by_rule(go) {
                page.line(3, &format!("vet no longer finds {line}"));
            }
        }
        if let (Some(false), Some(by)) = (besides.is_permitted, self.by) {
            page.line(3, &paint(style::DENY, &format!("{} may not make it", safe(by))));
        }
    }

    fn edit_words(&self) -> String {
        match self.of.folder {
            Some(folder) => format!("bexum -C {} edit", quoted(&folder.display().to_string())),
            None => "bexum edit".to_owned(),
        }
    }

    /// What it opens and closes.
    fn does(&self, way: &Way) -> String {
        let effect = &way.effect;
        let mut parts = Vec::new();
        let counts = [("opens", effect.opens), ("closes", effect.closes)];
        for (side, (verb, count)) in counts.into_iter().enumerate() {
            if count == 0 {
                continue;
            }
            let gravest = effect.gravest[side].as_ref();
            if count == 1 && gravest.is_some_and(|cell| self.is_asked(cell)) {
                parts.push(format!("{verb} this alone"));
                continue;
            }
            let heads = [
                (effect.people[side], "person", "people"),
                (effect.workloads[side], "workload", "workloads"),
            ];
            let heads = heads.into_iter().filter(|(count, ..)| *count > 0);
            let heads: Vec<String> =
                heads.map(|(count, one, many)| phrases::count(count, one, many)).collect();
            let heads = match heads.is_empty() {
                true => "roles by themselves".to_owned(),
                false => heads.join(" and "),
            };
            let mut part = format!("{verb} {} for {heads}", phrases::count(count, "cell", "cells"));
            if let (Some(level), Some(cell)) = (effect.levels[side].last(), &effect.gravest[side]) {
                let up_to = if effect.levels[side].len() > 1 { "up to " } else { "" };
                part.push_str(&format!(", {up_to}{level}: {}", self.shown(cell)));
            }
            parts.push(part);
        }
        if parts.is_empty() {
            parts.push("opens no row in these circumstances but what was asked for".to_owned());
        }
        if effect.is_partial {
            return format!("does much: {}, and more that was not counted", parts.join("; "));
        }
        if effect.is_limited {
            parts.push("rows were left out of this count".to_owned());
        }
        parts.join("; ")
    }

    /// Whether a cell is the one that was asked about.
    fn is_asked(&self, cell: &Cell) -> bool {
        let role = self.request.take_up.as_deref().unwrap_or_default();
        cell.who == self.request.who
            && cell.action == self.request.does
            && cell.place == self.request.on
            && cell.role == role.trim_start_matches("role:")
    }

    /// A cell in a few words: of the one who asks, what and where alone.
    fn shown(&self, cell: &Cell) -> String {
        let mut text = String::new();
        if cell.who != self.request.who {
            text.push_str(&format!("{} ", cell.who));
        }
        if !cell.role.is_empty() {
            text.push_str(&format!("as role:{} ", cell.role));
        }
        format!("{text}{} at {}", cell.action, safe(&cell.place))
    }
}

/// Findings in words, those of a rule together.
fn by_rule(findings: &[VetFinding]) -> Vec<String> {
    let together = findings.chunk_by(|(one, _), (other, _)| one == other);
    let line = |all: &[VetFinding]| {
        let first: Vec<String> =
            all.iter().take(FEW_FINDINGS).map(|(_, about)| safe(about)).collect();
        let more = match all.len() - first.len() {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        format!("{} of {}{more}", all[0].0, first.join(", "))
    };
    together.map(line).collect()
}

/// An edit's words, quoted for a shell.
fn shell(edit: &Edit) -> String {
    edit.words().iter().map(|word| quoted(word)).collect::<Vec<_>>().join(" ")
}

fn is_pair(step: &Step) -> bool {
    parts(step).len() > 1
}

/// A step in words.
pub(crate) fn what(step: &Step) -> String {
    parts(step).join(", and ")
}

/// What a step is made of, in words.
fn parts(step: &Step) -> Vec<String> {
    let mut found = Vec::new();
    let mut left = &step.edits[..];
    while let Some((edit, rest)) = left.split_first() {
        if let (
            Edit::New { .. },
            [Edit::State { effect, .. }, Edit::Attach { to, at, .. }, after @ ..],
        ) = (edit, rest)
        {
            let verb = if *effect == Effect::Allow { "allows" } else { "denies" };
            found.push(format!(
                "a new policy that {verb} this alone, attached to {} at {}",
                to.join(", "),
                at.join(", ")
            ));
            left = after;
            continue;
        }
        found.push(one(edit));
        left = rest;
    }
    let mut given = Vec::new();
    for option in &step.options {
        match option {
            Choice::Given(..) => given.extend(option.words().into_iter().skip(1)),
            Choice::Role(Some(role)) => found.push(format!("take up role:{role}")),
            Choice::Role(None) => found.push("ask without a role".to_owned()),
        }
    }
    if !given.is_empty() {
        found.push(format!("ask with {}", given.join(" and ")));
    }
    found
}

/// An edit in words.
fn one(edit: &Edit) -> String {
    match edit {
        Edit::Add { who, list, of, .. } => {
            let who = who.join(", ");
            match list {
                ListOf::Members => format!("put {who} into group:{of}"),
                ListOf::Owners => format!("make {who} an owner of group:{of}"),
                ListOf::HeldBy => format!("have {who} hold role:{of}"),
                ListOf::TakenBy => format!("let {who} take up role:{of}"),
            }
        }
        Edit::Remove { who, list, of } => {
            let who = who.join(", ");
            match list {
                ListOf::Members => format!("take {who} out of group:{of}"),
                ListOf::Owners => format!("take {who} out of the owners of group:{of}"),
                ListOf::HeldBy => format!("have {who} hold role:{of} no more"),
                ListOf::TakenBy => format!("let {who} take up role:{of} no more"),
            }
        }
        Edit::Attach { policies, to, at, .. } => {
            format!(
                "attach policy:{} to {} at {}",
                policies.join(", "),
                to.join(", "),
                at.join(", ")
            )
        }
        Edit::Detach { policies, from, at } => format!(
            "take the attachment of policy:{} from {} at {}",
            policies.join(", "),
            from.join(", "),
            at.join(", ")
        ),
        Edit::Spare { policy, statement, .. } => {
            format!("spare this path in '{statement}' of policy:{policy}")
        }
        Edit::State { policy, .. } => {
            format!("add this action on this path to what the ceiling policy:{policy} allows")
        }
        Edit::Unlimit { policy, over, bound } => {
            let over = match &over[..] {
                [] => String::new(),
                over => format!(" over {}", over.join(", ")),
            };
            match &bound[..] {
                [] => format!("lift the ceiling policy:{policy}{over}"),
                bound => {
                    format!("take {} out of the ceiling policy:{policy}{over}", bound.join(", "))
                }
            }
        }
        Edit::Set { target, keys } => match &keys[..] {
            [(key, value)] if key == "enabled" => {
                let is_on = *value == bexum_core::attribute::Value::Boolean(true);
                format!("{} {target}", if is_on { "enable" } else { "disable" })
            }
            _ => edit.to_string(),
        },
        other => other.to_string(),
    }
}

/// What steps have in common that are told together; nothing of steps that stand by themselves.
fn kind(step: &Step) -> Option<String> {
    match (&step.edits[..], &step.options[..]) {
        ([Edit::Add { list: ListOf::Members, who, .. }], []) => Some(format!("join {who:?}")),
        ([Edit::Add { list: ListOf::HeldBy, who, .. }], []) => Some(format!("hold {who:?}")),
        ([Edit::Attach { to, at, .. }], []) => Some(format!("attach {to:?} {at:?}")),
        ([], [Choice::Role(Some(_))]) => Some("role".to_owned()),
        _ => None,
    }
}

/// Steps of one kind in words.
fn together(step: &Step, count: usize) -> String {
    match (&step.edits[..], &step.options[..]) {
        ([Edit::Add { list: ListOf::Members, who, .. }], _) => {
            format!("put {} into any of {count} groups", who.join(", "))
        }
        ([Edit::Add { who, .. }], _) => {
            format!("have {} hold any of {count} roles", who.join(", "))
        }
        ([Edit::Attach { to, at, .. }], _) => {
            format!("attach any of {count} policies to {} at {}", to.join(", "), at.join(", "))
        }
        _ => format!("take up any of {count} roles"),
    }
}
