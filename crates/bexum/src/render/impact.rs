//! What a change does, for people: the answer first, then who gains and who loses what and where.

use std::collections::{BTreeMap, BTreeSet};

use bexum_core::Estate;
use bexum_core::catalogue::Level;
use bexum_core::impact::{Cell, OpenedCell, Outcome, Renamed, RolesChanged};
use bexum_core::time::Time;

use super::impact_besides::{InLog, InOther, Later, Turned};
use super::report::wrap_under;
use super::style::{self, paint, safe};
use crate::command_line::quoted;

/// Most names, and most places, that are told of one block.
const TOLD: usize = 6;
/// Most changes that are told.
const CHANGES: usize = 10;
/// Most places of a block of which it is found out which changes have a say there.
const PLACES_ASKED: usize = 40;

/// What is not looked at, said at the end.
pub(super) const NOT_LATER: &str = "What a later moment brings about by something that was not changed itself is not looked at: `--at-time` names another.";

const GAINED: &str = "gained";
const LOST: &str = "lost";
const HELD: &str = "gained, but could be done in another session before";

/// What is told.
pub(crate) struct Told<'t> {
    pub(crate) changes: &'t [Changed],
    pub(crate) cells: &'t [Cell],
    /// What is called otherwise, and how many cells are the same under the new names: they are not
    /// among the others.
    pub(crate) renamed: (&'t [Renamed], usize),
    /// The places of the changes that have a say about a cell.
    pub(crate) because: &'t dyn Fn(&Cell) -> Vec<usize>,
    /// What comes to something else at later moments.
    pub(crate) later: &'t [Later],
    /// What the change does in other circumstances.
    pub(crate) besides: &'t [InOther],
    /// What is decided otherwise of a log, if one was given.
    pub(crate) in_log: Option<&'t InLog>,
    /// Where nothing changes now: what is opened or closed later, if anything is.
    pub(crate) opened_later: Option<&'t OpenedCell>,
    /// Who can newly take up which role, and who no longer.
    pub(crate) roles: &'t [(String, RolesChanged)],
    /// Expectations that come to something else.
    pub(crate) turned: &'t [Turned],
    /// The command that tries expectations of the estate after by name, if one does.
    pub(crate) prove: Option<&'t str>,
    /// The estates before and after.
    pub(crate) estates: [&'t Estate; 2],
    pub(crate) names: [&'t str; 2],
    pub(crate) moment: Time,
    /// Whether only some people, places or actions were asked about.
    pub(crate) is_narrowed: bool,
    /// Whether all names and places are told.
    pub(crate) full: bool,
}

/// A thing that is new, gone or otherwise.
pub(crate) struct Changed {
    pub(crate) thing: String,
    /// The keys that differ; none of a thing that is new or gone.
    pub(crate) keys: Vec<&'static str>,
    /// Where it stands in each estate that has it: `people/users.toml:14`.
    pub(crate) at: [Option<String>; 2],
}

impl Changed {
    /// New, gone, or the keys that differ.
    pub(super) fn what(&self) -> String {
        match &self.at {
            [None, _] => "new".to_owned(),
            [_, None] => "gone".to_owned(),
            _ => self.keys.join(", "),
        }
    }

    /// Where it stands: before and after, if these are not the same.
    pub(super) fn places(&self) -> String {
        let mut places: Vec<&str> = self.at.iter().flatten().map(String::as_str).collect();
        places.dedup();
        places.join(" → ")
    }
}

/// Actions of one level on some places that come from one outcome to another.
pub(super) type Line<'t> = (std::cmp::Reverse<Level>, Outcome, Outcome, Vec<&'t str>);
/// Who, at which places what changes for them, and their sessions with the cells of the first.
pub(super) type Block<'t> =
    (Vec<String>, BTreeMap<Line<'t>, Vec<String>>, (Vec<Session<'t>>, Vec<&'t Cell>));
/// Who, with the role taken up, if one is.
pub(super) type Session<'t> = (&'t str, &'t str);

impl<'t> Told<'t> {
    pub(crate) fn text(&self, width: usize) -> String {
        let mut out = String::new();
        wrap_under(&mut out, "", "  ", &paint(style::HEADING, &self.answer()), width);
        let [before, after] = self.names.map(safe);
        let about = format!("from {before} to {after}, as of {}", self.second());
        wrap_under(&mut out, "", "  ", &paint(style::QUIET, &about), width);
        self.change(&mut out, width);
        for line in self.renamed_lines() {
            wrap_under(&mut out, "  ", "    ", &safe(&line), width);
        }
        self.parts_of(&mut out, self.cells, width);
        for other in self.besides {
            out.push('\n');
            let answer = paint(style::HEADING, &safe(&other.answer()));
            wrap_under(&mut out, "", "  ", &answer, width);
            self.parts_of(&mut out, &other.cells, width);
        }
        self.roles(&mut out, width);
        self.expectations(&mut out, width);
        self.log(&mut out, width);
        self.moments(&mut out, width);
        if !self.cells.is_empty() {
            out.push('\n');
            wrap_under(&mut out, "", "  ", &paint(style::QUIET, NOT_LATER), width);
        }
        out
    }

    /// What is gained and lost of these cells, each with a heading.
    fn parts_of(&self, out: &mut String, cells: &'t [Cell], width: usize) {
        for (title, cells) in parts(cells) {
            let colour = match title {
                GAINED => style::ALLOW,
                LOST => style::DENY,
                _ => style::QUIET,
            };
            if !cells.is_empty() {
                out.push_str(&format!("\n{}\n", paint(colour.bold(), title)));
                self.blocks(out, &cells, colour, width);
            }
        }
    }

    /// The cells by what becomes of them.
    pub(super) fn parts(&self) -> [(&'static str, Vec<&'t Cell>); 4] {
        parts(self.cells)
    }

    /// What is gone under one name and there under another.
    pub(super) fn renamed_lines(&self) -> Vec<String> {
        let (renamed, same) = self.renamed;
        let one = |one: &Renamed| format!("{} is called {} now", one.from, one.to);
        let mut lines: Vec<String> = renamed.iter().map(one).collect();
        if let (Some(last), 1..) = (lines.last_mut(), same) {
            let cells = counted(same, ("cell is", "cells are"));
            last.push_str(&format!("; {cells} the same under the new name"));
        }
        lines
    }

    /// What differs in the files, a line each.
    fn change(&self, out: &mut String, width: usize) {
        if self.changes.is_empty() {
            return;
        }
        out.push_str(&format!("\n{}\n", paint(style::HEADING, "what was changed")));
        let told = match self.full || self.changes.len() <= CHANGES + 1 {
            true => self.changes,
            false => &self.changes[..CHANGES],
        };
        for one in told {
            let line = format!("{}: {} ({})", safe(&one.thing), one.what(), safe(&one.places()));
            wrap_under(out, "  ", "    ", &line, width);
        }
        if let left @ 1.. = self.changes.len() - told.len() {
            let more = format!("  and {left} more: `--full` names them\n");
            out.push_str(&paint(style::QUIET, &more));
        }
    }

    /// Who can take up which roles, newly or no longer, a line for each role.
    pub(super) fn role_lines(&self) -> Vec<String> {
        let mut lines: BTreeMap<(&str, &str), Vec<String>> = BTreeMap::new();
        for (who, changed) in self.roles {
            for (what, roles) in [("newly", &changed.newly), ("no longer", &changed.no_longer)] {
                for role in roles {
                    lines.entry((role, what)).or_default().push(who.clone());
                }
            }
        }
        let line = |((role, what), who): (_, Vec<String>)| {
            format!("role:{role}, {what}: {}", self.some(&who, ", "))
        };
        lines.into_iter().map(line).collect()
    }

    fn roles(&self, out: &mut String, width: usize) {
        let lines = self.role_lines();
        if lines.is_empty() {
            return;
        }
        out.push_str(&format!("\n{}\n", paint(style::HEADING, "roles that can be taken up")));
        for line in lines {
            wrap_under(out, "  ", "    ", &safe(&line), width);
        }
    }

    /// Requests of a log that are decided otherwise.
    fn log(&self, out: &mut String, width: usize) {
        let Some(log) = self.in_log else { return };
        out.push_str(&format!("\n{}\n", paint(style::HEADING, "in the log")));
        wrap_under(out, "  ", "    ", &log.sum(), width);
        let shown = if self.full { log.groups.len() } else { log.groups.len().min(CHANGES) };
        for group in &log.groups[..shown] {
            wrap_under(out, "  ", "    ", &safe(&group.told()), width);
            // A command stays on one line, to be pasted.
            if let Some(command) = &group.command {
                out.push_str(&paint(style::QUIET, &format!("    $ {}\n", safe(command))));
            }
        }
        if let left @ 1.. = log.groups.len() - shown {
            let more = format!("  and {left} more: `--full` names them\n");
            out.push_str(&paint(style::QUIET, &more));
        }
    }

    /// What comes to something else later.
    fn moments(&self, out: &mut String, width: usize) {
        let lines = self.later_lines();
        if lines.is_empty() {
            return;
        }
        out.push_str(&format!("\n{}\n", paint(style::HEADING, "later")));
        for line in lines {
            wrap_under(out, "  ", "    ", &safe(&line), width);
        }
        let more = "`--at-time` with one of these moments tells it in full";
        wrap_under(out, "  ", "    ", &paint(style::QUIET, more), width);
    }

    /// What comes to something else later, a line for each moment.
    pub(super) fn later_lines(&self) -> Vec<String> {
        let line = |later: &Later| {
            let mut said: Vec<String> = Vec::new();
            said.extend((!later.cells.is_empty()).then(|| answer_of(&later.cells)));
            said.extend((later.over > 0).then(|| {
                let cells = counted(later.over, ("cell", "cells"));
                format!(
                    "{cells} that differed before no longer {}",
                    if later.over == 1 { "does" } else { "do" }
                )
            }));
            said.extend(said.is_empty().then(|| "the same as before".to_owned()));
            format!("from {}: {}", later.time, said.join("; "))
        };
        self.later.iter().map(line).collect()
    }

    /// Expectations that break, and others that come to something else.
    fn expectations(&self, out: &mut String, width: usize) {
        if self.turned.is_empty() {
            return;
        }
        out.push_str(&format!("\n{}\n", paint(style::HEADING, "expectations")));
        for one in self.turned {
            let colour = if one.is_broken { style::DENY } else { style::QUIET };
            let change = paint(colour, &one.change());
            let line = format!("{change}: {} ({})", safe(&one.what), safe(&one.at));
            wrap_under(out, "  ", "    ", &line, width);
        }
        let broken = self.turned.iter().filter(|one| one.is_broken && one.is.is_some());
        let names: Vec<String> = broken.take(TOLD).map(|one| quoted(&one.name)).collect();
        if let (Some(prove), false) = (self.prove, names.is_empty()) {
            let more = format!("how: `{prove} {}`", names.join(" "));
            wrap_under(out, "  ", "    ", &paint(style::QUIET, &safe(&more)), width);
        }
    }

    /// The moment, without what people do not ask for.
    pub(super) fn second(&self) -> Time {
        Time(self.moment.0 - self.moment.0.rem_euclid(1_000_000))
    }

    /// The first line.
    pub(super) fn answer(&self) -> String {
        if !self.cells.is_empty() {
            return answer_of(self.cells);
        }
        if self.renamed.1 > 0 {
            return "access is the same, under other names".to_owned();
        }
        let what = if self.is_narrowed { "nothing that was asked about" } else { "no access" };
        match self.opened_later {
            None => format!("{what} changes, in whatever circumstances"),
            Some(cell) => {
                let role = match cell.role.is_empty() {
                    true => String::new(),
                    false => format!(" as role:{}", cell.role),
                };
                let sure = if cell.is_decided { "does" } else { "may" };
                format!(
                    "{what} changes at this moment; later {sure} at least {} on {} for {}{role}",
                    cell.action, cell.place, cell.who
                )
            }
        }
    }

    /// Sessions with the same change together: who they are, and what changes for them.
    pub(super) fn blocks_of(&self, cells: &[&'t Cell]) -> Vec<Block<'t>> {
        let mut by_session: BTreeMap<Session<'t>, Vec<&'t Cell>> = BTreeMap::new();
        for cell in cells {
            by_session.entry((&cell.who, &cell.role)).or_default().push(cell);
        }
        let mut blocks: Vec<(Vec<Session<'t>>, Vec<&'t Cell>)> = Vec::new();
        let mut known: BTreeMap<Vec<(&str, &str, Outcome, Outcome)>, usize> = BTreeMap::new();
        for (session, cells) in by_session {
            let what = cells.iter().map(|c| (&*c.place, &*c.action, c.before, c.after)).collect();
            let at = *known.entry(what).or_insert(blocks.len());
            match blocks.get_mut(at) {
                Some((sessions, _)) => sessions.push(session),
                None => blocks.push((vec![session], cells)),
            }
        }
        blocks
            .into_iter()
            .map(|(sessions, cells)| (names_of(&sessions), self.lines(&cells), (sessions, cells)))
            .collect()
    }

    /// The changes that have a say about some cells of sessions, unless these are all changes.
    fn because_of(&self, sessions: &[Session<'_>], cells: &[&Cell]) -> Vec<&'t Changed> {
        if self.changes.len() < 2 {
            return Vec::new();
        }
        let mut known: BTreeSet<&str> = BTreeSet::new();
        let one_of_each_place = cells.iter().filter(|cell| known.insert(&cell.place));
        let one_of_each_place: Vec<&&Cell> = one_of_each_place.take(PLACES_ASKED).collect();
        let mut found: BTreeSet<usize> = BTreeSet::new();
        for (who, role) in sessions.iter().take(TOLD) {
            for cell in &one_of_each_place {
                let (who, role) = ((*who).to_owned(), (*role).to_owned());
                found.extend((self.because)(&Cell { who, role, ..(**cell).clone() }));
            }
        }
        match found.len() == self.changes.len() {
            true => Vec::new(),
            false => found.into_iter().take(TOLD).map(|at| &self.changes[at]).collect(),
        }
    }

    fn blocks(&self, out: &mut String, cells: &[&'t Cell], colour: anstyle::Style, width: usize) {
        for (names, lines, (sessions, first)) in self.blocks_of(cells) {
            let names = paint(style::NAME, &safe(&self.some(&names, ", ")));
            wrap_under(out, "  ", "    ", &names, width);
            for one in self.because_of(&sessions, &first) {
                let line = format!("by {}: {} ({})", one.thing, one.what(), one.places());
                wrap_under(out, "    ", "       ", &paint(style::QUIET, &safe(&line)), width);
            }
            for (line, places) in lines {
                let (level, before, after, actions) = line;
                let change = format!("{} → {}", before.word(), after.word());
                let what = format!(
                    "{:<8} {}: {}",
                    level.0.word(),
                    paint(colour, &change),
                    safe(&actions.join(", "))
                );
                wrap_under(out, "    ", "             ", &what, width);
                let places = format!("at {}", safe(&self.some(&places, ", ")));
                wrap_under(out, "             ", "             ", &places, width);
            }
        }
    }

    /// The cells of a session: of each level, `govern` first, the actions with the same change at
    /// the same places together.
    fn lines(&self, cells: &[&'t Cell]) -> BTreeMap<Line<'t>, Vec<String>> {
        let mut at: BTreeMap<(&str, std::cmp::Reverse<Level>, Outcome, Outcome), Vec<&str>> =
            BTreeMap::new();
        for cell in cells {
            let level = std::cmp::Reverse(self.level(&cell.action));
            let key = (&*cell.place, level, cell.before, cell.after);
            at.entry(key).or_default().push(&cell.action);
        }
        let mut lines: BTreeMap<Line<'t>, Vec<String>> = BTreeMap::new();
        for ((place, level, before, after), actions) in at {
            lines.entry((level, before, after, actions)).or_default().push(place.to_owned());
        }
        lines
    }

    fn level(&self, action: &str) -> Level {
        let of = |estate: &Estate| {
            Some(estate.catalogue.action(estate.catalogue.find_action(action)?).level)
        };
        let [before, after] = self.estates;
        of(after).or_else(|| of(before)).unwrap_or(Level::Govern)
    }

    /// All of them, or the first and how many more.
    pub(super) fn some(&self, all: &[String], between: &str) -> String {
        if self.full || all.len() <= TOLD + 1 {
            return all.join(between);
        }
        format!("{} and {} more (`--full` names them)", all[..TOLD].join(between), all.len() - TOLD)
    }
}

/// The cells that are gained, those that are lost, those that somebody gains in one session and
/// had in another, and those of which neither is decided.
fn parts(all: &[Cell]) -> [(&'static str, Vec<&Cell>); 4] {
    let of = |is: fn(&Cell) -> bool| all.iter().filter(|cell| is(cell)).collect();
    [
        (GAINED, of(|cell| cell.is_decided && cell.is_new_gain())),
        (LOST, of(|cell| cell.is_decided && cell.is_lost)),
        (HELD, of(|cell| cell.is_decided && cell.held_as.is_some())),
        ("not decided, so counted as both", of(|cell| !cell.is_decided)),
    ]
}

/// Who gains and who loses how much.
pub(super) fn answer_of(cells: &[Cell]) -> String {
    let side = |gain: bool, one: &str, many: &str| {
        let is_one =
            |cell: &&Cell| cell.is_decided && if gain { cell.is_new_gain() } else { cell.is_lost };
        let cells: Vec<&Cell> = cells.iter().filter(is_one).collect();
        let who: BTreeSet<&str> = cells.iter().map(|cell| &*cell.who).collect();
        // A role by itself stands for nobody in particular: it is told when nobody has it.
        let people: Vec<&&str> = who.iter().filter(|who| !who.starts_with("role:")).collect();
        let (count, noun) = match people.len() {
            0 => (who.len(), ("role", "roles")),
            n if people.iter().all(|who| who.starts_with("user:")) => (n, ("person", "people")),
            n => (n, ("principal", "principals")),
        };
        if count == 0 {
            return format!("nobody {one} anything");
        }
        let actions: BTreeSet<&str> = cells.iter().map(|cell| &*cell.action).collect();
        let places: BTreeSet<&str> = cells.iter().map(|cell| &*cell.place).collect();
        format!(
            "{} {} {} in {}",
            counted(count, noun),
            if count == 1 { one } else { many },
            counted(actions.len(), ("action", "actions")),
            counted(places.len(), ("place", "places")),
        )
    };
    let undecided = cells.iter().filter(|cell| !cell.is_decided).count();
    let more = match undecided {
        0 => String::new(),
        n => format!("; of {} it is not decided", counted(n, ("cell", "cells"))),
    };
    let held = cells.iter().filter(|cell| cell.is_decided && cell.held_as.is_some());
    let held: BTreeSet<&str> = held.map(|cell| &*cell.who).collect();
    let held = match held.len() {
        0 => String::new(),
        n => format!("; {n} can do in another session what they could do before"),
    };
    format!("{}, {}{held}{more}", side(true, "gains", "gain"), side(false, "loses", "lose"))
}

/// Everybody once: by themselves, or else with the roles that they have to take up.
fn names_of(sessions: &[Session<'_>]) -> Vec<String> {
    let mut roles: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for (who, role) in sessions {
        roles.entry(who).or_default().push(role);
    }
    let name = |(who, roles): (&str, Vec<&str>)| match roles.contains(&"") {
        true => who.to_owned(),
        false => format!("{who} as role:{}", roles.join(" or role:")),
    };
    roles.into_iter().map(name).collect()
}

pub(super) fn counted(count: usize, (one, many): (&str, &str)) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}
