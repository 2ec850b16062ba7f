//! Whether somebody may make a change, for people: each thing that it touches, and what was asked.

use std::borrow::Cow;

use bexum_core::edit_rights::{Beyond, Needs, Ruling, Touch, Verdict};
use bexum_core::impact::OpenedCell;
use bexum_core::{Engine, Request, Trace};
use bexum_files::Sources;
use bexum_wire::impact as wire;

use super::answer::{Answer, Asked};
use super::impact_markdown::{code, folded};
use super::report::wrap_under;
use super::style::{self, paint, safe};
use crate::command_line::Of;

/// Most touches of one verdict that are told.
const MOST: usize = 10;

/// What somebody may and may not of a change.
pub(crate) struct By<'s> {
    pub(crate) ruling: Ruling,
    /// Who asks, and in which circumstances.
    pub(crate) request: Request<'static>,
    /// The estate before.
    pub(crate) engine: &'s Engine,
    pub(crate) sources: [&'s Sources; 2],
    pub(crate) before: &'s str,
}

impl By<'_> {
    pub(super) fn question(&self) -> String {
        let role = self.request.take_up.as_ref().map(|role| format!(" as {role}"));
        format!("may {}{} make this change?", self.request.who, role.unwrap_or_default())
    }

    pub(super) fn answer(&self) -> &'static str {
        if self.ruling.is_allowed() { "yes" } else { "no" }
    }

    pub(crate) fn text(&self, width: usize, full: bool) -> String {
        let mut out = format!("\n{} ", paint(style::HEADING, &safe(&self.question())));
        let style = if self.ruling.is_allowed() { style::ALLOW } else { style::DENY };
        out.push_str(&format!("{}\n", paint(style.bold(), self.answer())));
        for wanted in [false, true] {
            let all = self.ruling.touches.iter().filter(|(_, v)| v.is_allowed() == wanted);
            let all: Vec<&(Touch, Verdict)> = all.collect();
            let shown = if full { all.len() } else { all.len().min(MOST) };
            for (touch, verdict) in &all[..shown] {
                self.touch(&mut out, touch, verdict, width);
            }
            if let left @ 1.. = all.len() - shown {
                let word = if wanted { "allowed" } else { "refused" };
                let more = format!("  and {left} more that are {word}: `--full` names them\n");
                out.push_str(&paint(style::QUIET, &more));
            }
        }
        for beyond in &self.ruling.beyond {
            let line = format!("{}   {}", paint(style::DENY, "no"), safe(&told_beyond(beyond)));
            wrap_under(&mut out, "  ", "       ", &line, width);
        }
        for (answer, on) in self.answers(width) {
            let asked = format!("the answer on {on}, in the estate before ({})", self.before);
            out.push('\n');
            wrap_under(&mut out, "  ", "    ", &paint(style::QUIET, &safe(&asked)), width);
            for line in answer.lines() {
                out.push_str(format!("    {line}").trim_end());
                out.push('\n');
            }
        }
        out
    }

    fn touch(&self, out: &mut String, touch: &Touch, verdict: &Verdict, width: usize) {
        let (word, style) = match verdict.is_allowed() {
            true => ("yes", style::ALLOW),
            false => ("no ", style::DENY),
        };
        let what = format!("{}  {}", paint(style, word), safe(&self.what(touch)));
        wrap_under(out, "  ", "       ", &what, width);
        let why = paint(style::QUIET, &safe(&told(touch, verdict)));
        wrap_under(out, "       ", "       ", &why, width);
    }

    /// `group:imaging, members (people/groups.toml:4)`.
    fn what(&self, touch: &Touch) -> String {
        let difference = &touch.difference;
        let keys = match (&difference.before, &difference.after) {
            (None, Some(_)) => "new".to_owned(),
            (Some(_), None) => "gone".to_owned(),
            _ => difference.keys.join(", "),
        };
        let places = [difference.before, difference.after];
        let places = places.into_iter().zip(self.sources);
        let mut places: Vec<String> = places
            .filter_map(|(origin, sources)| origin.map(|origin| sources.shown(origin)))
            .collect();
        places.dedup();
        match places.is_empty() {
            true => format!("{}: {keys}", difference.thing),
            false => format!("{}: {keys} ({})", difference.thing, places.join(" → ")),
        }
    }

    /// The answers of `ask` to what was refused in the estate before, each once, with their paths.
    fn answers(&self, width: usize) -> Vec<(String, String)> {
        let estate = self.engine.estate();
        let mut asked: Vec<(&str, &str)> = Vec::new();
        for (touch, verdict) in &self.ruling.touches {
            if let (Needs::Right { on: Some(on), is_new: false, .. }, Verdict::Denied(action)) =
                (&touch.needs, verdict)
                && !asked.contains(&(action, on))
            {
                asked.push((action, on));
            }
        }
        let answers = asked.into_iter().take(MOST).filter_map(|(does, on)| {
            let request = Request {
                does: Cow::Owned(does.to_owned()),
                on: Cow::Owned(on.to_owned()),
                ..self.request.clone()
            };
            let query = request.resolve(estate).ok()?;
            let trace = Trace::of(&mut self.engine.decider(), &query);
            let of = Of { folder: None, suppose: &[] };
            let asked = Asked { request: &request, time: None, of };
            let sources = self.sources[0];
            let answer = Answer { estate, sources, query: &query, trace: &trace, asked };
            Some((answer.render(width.saturating_sub(4)), on.to_owned()))
        });
        answers.collect()
    }

    /// Each touch, and what is beyond their own, a line each: the verdict, then what it is about.
    pub(super) fn lines(&self) -> Vec<String> {
        let line = |(touch, verdict): &(Touch, Verdict)| {
            let word = if verdict.is_allowed() { "yes" } else { "no" };
            format!("{word}: {} – {}", self.what(touch), told(touch, verdict))
        };
        let beyond = self.ruling.beyond.iter().map(|one| format!("no: {}", told_beyond(one)));
        self.ruling.touches.iter().map(line).chain(beyond).collect()
    }

    /// For a comment on a proposed change.
    pub(crate) fn markdown(&self) -> String {
        let lines: String = self.lines().iter().map(|line| format!("- {}\n", code(line))).collect();
        let title = format!("What it touches ({})", self.ruling.touches.len());
        format!("\n{} **{}**\n{}", code(&self.question()), self.answer(), folded(&title, &lines))
    }

    /// For machines.
    pub(crate) fn shape(&self) -> wire::By {
        let touches = self.ruling.touches.iter().map(|(touch, verdict)| {
            let (key, on) = match &touch.needs {
                Needs::Right { key, on, .. } => (Some((*key).to_owned()), on.clone()),
                Needs::FilesOwner(_) => (None, None),
            };
            let action = match verdict {
                Verdict::Granted(action) | Verdict::Denied(action) => Some(action.clone()),
                _ => None,
            };
            wire::Touch {
                thing: touch.difference.thing.to_string(),
                keys: touch.difference.keys.iter().map(|key| (*key).to_owned()).collect(),
                key,
                on,
                action,
                is_allowed: verdict.is_allowed(),
                why: told(touch, verdict),
            }
        });
        wire::By {
            who: self.request.who.to_string(),
            take_up: self.request.take_up.as_ref().map(ToString::to_string),
            is_allowed: self.ruling.is_allowed(),
            touches: touches.collect(),
            beyond: self.ruling.beyond.iter().map(told_beyond).collect(),
        }
    }
}

/// What was asked, of whom, and what came of it.
fn told(touch: &Touch, verdict: &Verdict) -> String {
    let (key, on) = match &touch.needs {
        Needs::Right { key, on, .. } => (*key, on.as_deref().unwrap_or_default()),
        Needs::FilesOwner(_) => ("", ""),
    };
    let is_new = matches!(&touch.needs, Needs::Right { is_new: true, .. });
    let where_new = if is_new { ", which is new," } else { "" };
    match verdict {
        Verdict::Granted(action) => format!("{key}: {action} on {on}{where_new} is allowed"),
        Verdict::OwnRight(what) => format!("everybody's own right: {what}"),
        Verdict::FilesOwner(why) => format!("only the files' owner changes this: {why}"),
        Verdict::NoAction(key) => {
            format!("{key}: the edit rights name no action for it that applies on {on}")
        }
        Verdict::Denied(action) => format!("{key}: {action} on {on}{where_new} is denied"),
        Verdict::LeavingOpens(cell) => {
            format!("leaving would open something: {}", told_cell(cell, "can"))
        }
        Verdict::NotAsked(why) => format!("{key}: could not be asked: {why}"),
        _ => String::new(),
    }
}

fn told_beyond(beyond: &Beyond) -> String {
    match beyond {
        Beyond::Opens(cell) => {
            format!(
                "no more than one's own: {}, and whoever makes it cannot",
                told_cell(cell, "could")
            )
        }
        Beyond::Loses(cell) => {
            format!("nobody may lose by being added to a list: {}", told_cell(cell, "would lose"))
        }
        Beyond::NotWorkedOut(why) => format!("no more than one's own: not worked out: {why}"),
        _ => String::new(),
    }
}

fn told_cell(cell: &OpenedCell, can: &str) -> String {
    let role = if cell.role.is_empty() { String::new() } else { format!(" as role:{}", cell.role) };
    let sure = if cell.is_decided { "" } else { " (not decided, so it counts)" };
    format!("{}{role} {can} {} on {}{sure}", cell.who, cell.action, cell.place)
}
