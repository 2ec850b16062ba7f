//! What a change does, for people: the answer first, then who gains and who loses what and where.

use std::collections::{BTreeMap, BTreeSet};

use bexum_core::Estate;
use bexum_core::catalogue::Level;
use bexum_core::impact::{
    Block as Alike, Cell, Change, Changes, Difference, Extent, OnRow, OpenedCell, Outcome, Renamed,
    RolesChanged, SessionName,
};
use bexum_core::time::Time;
use bexum_files::Sources;

use super::impact_besides::{InLog, InOther, Later, Turned};
use super::report::wrap_under;
use super::style::{self, paint, safe};
use crate::command_line::quoted;

/// Most names, and most places, that are told of one block.
const TOLD: usize = 6;
/// Most changes that are told.
const CHANGES: usize = 10;
/// Most blocks that are told of what is gained, and of what is lost.
const BLOCKS: usize = 12;
/// Most places of a block of which it is found out which changes have a say there.
const PLACES_ASKED: usize = 40;

/// What is not looked at, said at the end.
pub(super) const NOT_LATER: &str = "What a later moment brings about by something that was not changed itself is not looked at: `--at-time` names another.";

const GAINED: &str = "gained";
const LOST: &str = "lost";
const HELD: &str = "gained, but could be done in another session before";

/// What is told.
pub(crate) struct Told<'t> {
    /// The things that differ, and the files of each estate, in which they stand.
    pub(crate) differing: &'t [Difference],
    pub(crate) sources: [&'t Sources; 2],
    pub(crate) cells: &'t Changes,
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
    /// Of what is gained, and of what is lost, where no cell tells any.
    pub(crate) unlisted: [Unlisted<'t>; 2],
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

/// A thing that is new, gone or otherwise. It is put into words when it is told: there may be very many.
#[derive(Clone, Copy)]
pub(crate) struct Changed<'t> {
    pub(crate) difference: &'t Difference,
    pub(crate) sources: [&'t Sources; 2],
}

impl Changed<'_> {
    pub(crate) fn thing(&self) -> String {
        self.difference.thing.to_string()
    }

    /// New, gone, or the keys that differ.
    pub(super) fn what(&self) -> String {
        match self.difference {
            Difference { before: None, .. } => "new".to_owned(),
            Difference { after: None, .. } => "gone".to_owned(),
            both => both.keys.join(", "),
        }
    }

    /// Where it stands in each estate that has it: `people/users.toml:14`.
    pub(crate) fn at(&self) -> [Option<String>; 2] {
        let Difference { before, after, .. } = self.difference;
        [before.map(|at| self.sources[0].shown(at)), after.map(|at| self.sources[1].shown(at))]
    }

    /// Where it stands: before and after, if these are not the same.
    pub(super) fn places(&self) -> String {
        let mut places: Vec<String> = self.at().into_iter().flatten().collect();
        places.dedup();
        places.join(" → ")
    }
}

/// Actions of one level on some places that come from one outcome to another.
pub(super) type Line<'t> = (std::cmp::Reverse<Level>, Outcome, Outcome, Vec<&'t str>);
/// Sessions with the same change.
pub(super) struct Block<'c> {
    /// Who they are.
    pub(super) names: Vec<String>,
    /// At which places what changes for them.
    pub(super) lines: BTreeMap<Line<'c>, Vec<String>>,
    sessions: Vec<SessionName<'c>>,
    cells: Vec<OnRow<'c>>,
}

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
            self.parts_of(&mut out, &other.changes, width);
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
    fn parts_of(&self, out: &mut String, cells: &Changes, width: usize) {
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
    pub(super) fn parts(&self) -> [(&'static str, Changes); 4] {
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

    /// What differs in the files.
    pub(super) fn changes(&self) -> impl Iterator<Item = Changed<'t>> {
        let sources = self.sources;
        self.differing.iter().map(move |difference| Changed { difference, sources })
    }

    /// What differs in the files, a line each.
    fn change(&self, out: &mut String, width: usize) {
        let count = self.differing.len();
        if count == 0 {
            return;
        }
        out.push_str(&format!("\n{}\n", paint(style::HEADING, "what was changed")));
        let told = if self.full || count <= CHANGES + 1 { count } else { CHANGES };
        for one in self.changes().take(told) {
            let line = format!("{}: {} ({})", safe(&one.thing()), one.what(), safe(&one.places()));
            wrap_under(out, "  ", "    ", &line, width);
        }
        if let left @ 1.. = count - told {
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
            said.extend((!later.changes.is_empty()).then(|| answer_of(&later.changes)));
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
        let not_told = self.unlisted.iter().find_map(|turn| turn.not_told);
        if !self.cells.is_empty() {
            let [gained, lost] = self.unlisted.each_ref();
            let answer =
                answer_with(self.cells, [Some(gained.answer(&GAINS)), Some(lost.answer(&LOSES))]);
            return match not_told {
                None => answer,
                Some(where_not) => format!("{answer}; not all is decided: {where_not}"),
            };
        }
        if self.renamed.1 > 0 {
            return "access is the same in what is listed, under other names".to_owned();
        }
        let what = if self.is_narrowed { "nothing that was asked about" } else { "no access" };
        match (self.unlisted.iter().find_map(|turn| turn.first), not_told) {
            (None, None) => format!("{what} changes, in whatever circumstances"),
            (None, Some(where_not)) => {
                format!("{what} is known to change, but not all is decided: {where_not}")
            }
            (Some((cell, is_later)), _) => {
                let sure = if cell.is_decided { "does" } else { "may" };
                format!(
                    "{what} changes {}{sure} at least {} on {} for {}",
                    when(is_later),
                    cell.action,
                    cell.place,
                    asker(cell)
                )
            }
        }
    }

    /// Sessions with the same change together; where these are many, and not all are to be told, those
    /// with the most cells, and how many are left. The cells of one take room, so each is worked out when it
    /// is its turn.
    pub(super) fn blocks_of<'c>(
        &self,
        cells: &'c Changes,
    ) -> (impl Iterator<Item = Block<'c>>, Vec<Alike<'c>>) {
        let mut all: Vec<(usize, Alike<'c>)> = cells.blocks().into_iter().enumerate().collect();
        let mut left = Vec::new();
        if !self.full && all.len() > BLOCKS + 1 {
            let cells =
                |(_, one): &(usize, Alike<'_>)| one.count().saturating_mul(one.sessions.len());
            all.sort_by_cached_key(|one| (std::cmp::Reverse(cells(one)), one.0));
            left.extend(all.split_off(BLOCKS).into_iter().map(|(_, one)| one));
            all.sort_by_key(|(i, _)| *i);
        }
        let told = all.into_iter().map(|(_, one)| {
            let cells = one.cells();
            Block {
                names: names_of(&one.sessions),
                lines: self.lines(&cells),
                sessions: one.sessions,
                cells,
            }
        });
        (told, left)
    }

    /// The changes that have a say about the cells of a block, unless these are all changes.
    fn because_of(&self, block: &Block<'_>) -> Vec<Changed<'t>> {
        if self.differing.len() < 2 {
            return Vec::new();
        }
        let mut known: BTreeSet<&str> = BTreeSet::new();
        let one_of_each_place = block.cells.iter().filter(|(place, _)| known.insert(place));
        let one_of_each_place: Vec<_> = one_of_each_place.take(PLACES_ASKED).collect();
        let mut found: BTreeSet<usize> = BTreeSet::new();
        for session in block.sessions.iter().take(TOLD) {
            for (place, change) in &one_of_each_place {
                found.extend((self.because)(&change.cell(*session, place)));
            }
        }
        let of = |at: usize| Changed { difference: &self.differing[at], sources: self.sources };
        match found.len() == self.differing.len() {
            true => Vec::new(),
            false => found.into_iter().take(TOLD).map(of).collect(),
        }
    }

    fn blocks(&self, out: &mut String, cells: &Changes, colour: anstyle::Style, width: usize) {
        let (told, left) = self.blocks_of(cells);
        for block in told {
            let names = paint(style::NAME, &safe(&self.some(&block.names, ", ")));
            wrap_under(out, "  ", "    ", &names, width);
            for one in self.because_of(&block) {
                let line = format!("by {}: {} ({})", one.thing(), one.what(), one.places());
                wrap_under(out, "    ", "       ", &paint(style::QUIET, &safe(&line)), width);
            }
            for (line, places) in block.lines {
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
        if let Some(more) = left_out(&left) {
            let more = format!("{more}: `--full` names them");
            wrap_under(out, "  ", "    ", &paint(style::QUIET, &more), width);
        }
    }

    /// The cells of a session: of each level, `govern` first, the actions with the same change at
    /// the same places together.
    fn lines<'c>(&self, cells: &[OnRow<'c>]) -> BTreeMap<Line<'c>, Vec<String>> {
        let mut at: BTreeMap<(&str, std::cmp::Reverse<Level>, Outcome, Outcome), Vec<&'c str>> =
            BTreeMap::new();
        for (place, change) in cells {
            let level = std::cmp::Reverse(self.level(&change.action));
            let key = (&**place, level, change.before, change.after);
            at.entry(key).or_default().push(&change.action);
        }
        let mut lines: BTreeMap<Line<'c>, Vec<String>> = BTreeMap::new();
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
fn parts(all: &Changes) -> [(&'static str, Changes); 4] {
    [
        (GAINED, all.only(|change| change.is_decided && change.is_new_gain())),
        (LOST, all.only(|change| change.is_decided && change.is_lost)),
        (HELD, all.only(|change| change.is_decided && change.held_as.is_some())),
        ("not decided, so counted as both", all.only(|change| !change.is_decided)),
    ]
}

/// How many others there are, and of whom.
pub(super) fn left_out(left: &[Alike<'_>]) -> Option<String> {
    let who: BTreeSet<&str> =
        left.iter().flat_map(|one| one.sessions.iter().map(|(who, _)| *who)).collect();
    (!left.is_empty()).then(|| {
        let changes = counted(left.len(), ("change", "changes"));
        format!("and {changes} more, of {}", counted(who.len(), ("principal", "principals")))
    })
}

/// What is gained, or lost, though no cell tells it.
#[derive(Clone, Copy)]
pub(crate) struct Unlisted<'t> {
    /// The first that is, and whether it is no sooner than later; else no row stands for it.
    pub(crate) first: Option<(&'t OpenedCell, bool)>,
    /// Below what not all items were told apart when that was looked for.
    pub(crate) not_told: Option<&'t str>,
    /// Whether that was looked for: it is not where cells tell it, which may all be told as a new name.
    pub(crate) is_searched: bool,
}

impl Unlisted<'_> {
    /// What is said where no cell is told.
    fn answer(&self, verb: &Verb) -> String {
        if !self.is_searched {
            return format!("nobody {} anything in what is listed", verb.one);
        }
        if let Some((cell, is_later)) = self.first {
            let sure =
                if cell.is_decided { verb.one.to_owned() } else { format!("may {}", verb.many) };
            return format!(
                "nobody {} anything {}{} {sure} at least {} on {}",
                verb.one,
                when(is_later),
                asker(cell),
                cell.action,
                cell.place
            );
        }
        match self.not_told {
            Some(_) => verb.of_nobody_known(),
            None => format!("nobody {} anything", verb.one),
        }
    }
}

/// When something turns that no cell tells.
fn when(is_later: bool) -> &'static str {
    match is_later {
        true => "at this moment; later ",
        false => "in what is listed; now or later ",
    }
}

fn asker(cell: &OpenedCell) -> String {
    match cell.role.is_empty() {
        true => cell.who.clone(),
        false => format!("{} as role:{}", cell.who, cell.role),
    }
}

/// A word, of one and of many.
struct Verb {
    one: &'static str,
    many: &'static str,
}

const GAINS: Verb = Verb { one: "gains", many: "gain" };
const LOSES: Verb = Verb { one: "loses", many: "lose" };

impl Verb {
    fn of_nobody_known(&self) -> String {
        format!("nobody is known to {} anything", self.many)
    }
}

/// Who gains and who loses how much, as far as it is listed: of nobody else anything is said.
pub(super) fn answer_of(cells: &Changes) -> String {
    answer_with(cells, [None, None])
}

/// The answer, with what is to be said where nobody gains, and where nobody loses anything.
fn answer_with(cells: &Changes, of_nobody: [Option<String>; 2]) -> String {
    let side = |gain: bool, verb: &Verb, of_nobody: Option<String>| -> Option<String> {
        let is_such = |change: &Change| if gain { change.is_new_gain() } else { change.is_lost };
        let others = cells.count(|change| is_such(change) && !change.is_decided);
        let Extent { who, actions, rows } =
            cells.extent(|change| is_such(change) && change.is_decided);
        // A role by itself stands for nobody in particular: it is told when nobody has it.
        let people: Vec<&&str> = who.iter().filter(|who| !who.starts_with("role:")).collect();
        let (count, noun) = match people.len() {
            0 => (who.len(), ("role", "roles")),
            n if people.iter().all(|who| who.starts_with("user:")) => (n, ("person", "people")),
            n => (n, ("principal", "principals")),
        };
        match (count, others) {
            (0, 0) => return of_nobody,
            (0, _) => return Some(verb.of_nobody_known()),
            _ => {}
        }
        Some(format!(
            "{} {} {} in {}",
            counted(count, noun),
            if count == 1 { verb.one } else { verb.many },
            counted(actions, ("action", "actions")),
            counted(rows, ("place", "places")),
        ))
    };
    let more = match cells.count(|change| !change.is_decided) {
        0 => String::new(),
        n => format!("; of {} it is not decided", counted(n, ("cell", "cells"))),
    };
    let held = cells.extent(|change| change.is_decided && change.held_as.is_some());
    let held = match held.who.len() {
        0 => String::new(),
        n => format!("; {n} can do in another session what they could do before"),
    };
    let [nobody_gains, nobody_loses] = of_nobody;
    let sides = [side(true, &GAINS, nobody_gains), side(false, &LOSES, nobody_loses)];
    let sides = sides.into_iter().flatten().collect::<Vec<_>>().join(", ");
    format!("{sides}{held}{more}")
}

/// Everybody once: by themselves, or else with the roles that they have to take up.
fn names_of(sessions: &[SessionName<'_>]) -> Vec<String> {
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
