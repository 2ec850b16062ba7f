//! What a change does to everybody, with what is the same said once: many people gain or lose the
//! same, and at many places.

use std::borrow::Borrow;
use std::collections::BTreeSet;
use std::hash::Hash;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Cell, Outcome};

/// The cells that come to something else, of all sessions: sessions with the same cells stand
/// together, and so do places at which the same comes to something else.
#[derive(Clone, Debug, Default)]
pub struct Changes {
    /// By who, then by the role taken up.
    sessions: Vec<ChangedSession>,
    /// What comes to something else for a session, as numbers of runs, in order.
    lists: Vec<Arc<[u32]>>,
    /// Places that lie within one [`RUN`], with what comes to something else there, in order: much of what
    /// comes to something else for a session does so for others.
    runs: Vec<Arc<[At]>>,
    /// What comes to something else at a place.
    there: Vec<Arc<[Change]>>,
    /// What the places are called.
    paths: Arc<[Box<str>]>,
}

/// How many places lie within a run: places whose numbers divided by this are the same. So two lists with
/// the same cells have the same runs.
pub(super) const RUN: u32 = 64;

/// A place, and the number of what comes to something else there.
pub(super) type At = (u32, u32);

/// A session, and the number of its list.
#[derive(Clone, Debug)]
struct ChangedSession {
    who: Box<str>,
    role: Box<str>,
    list: u32,
}

/// Somebody, and the bare name of the role taken up; empty where none is.
pub type SessionName<'c> = (&'c str, &'c str);

/// A cell that comes to something else, whosever it is, as seen from the scope that it is at.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Change {
    /// What its row is called below the scope: nothing, or `/**`.
    pub rest: Box<str>,
    /// The action.
    pub action: Box<str>,
    /// What it came to before.
    pub before: Outcome,
    /// What it comes to after.
    pub after: Outcome,
    /// As [`Cell::is_gained`].
    pub is_gained: bool,
    /// As [`Cell::is_lost`].
    pub is_lost: bool,
    /// As [`Cell::is_decided`].
    pub is_decided: bool,
    /// As [`Cell::held_as`].
    pub held_as: Option<Box<str>>,
}

impl Change {
    /// As [`Cell::is_new_gain`].
    #[must_use]
    pub fn is_new_gain(&self) -> bool {
        self.is_gained && self.held_as.is_none()
    }

    /// As [`Cell::is_opened`].
    #[must_use]
    pub fn is_opened(&self) -> bool {
        self.before.opens_into(self.after)
    }

    /// As [`Cell::is_shut`].
    #[must_use]
    pub fn is_shut(&self) -> bool {
        self.after.opens_into(self.before)
    }

    /// The cell of a session, on a row that is called so.
    #[must_use]
    pub fn cell(&self, (who, role): SessionName<'_>, place: &str) -> Cell {
        Cell {
            who: who.to_owned(),
            role: role.to_owned(),
            place: place.to_owned(),
            action: self.action.to_string(),
            before: self.before,
            after: self.after,
            is_gained: self.is_gained,
            is_lost: self.is_lost,
            is_decided: self.is_decided,
            held_as: self.held_as.as_deref().map(str::to_owned),
        }
    }

    /// Whether both are of the same row and action.
    fn is_of_cell(&self, other: &Self) -> bool {
        (&self.rest, &self.action) == (&other.rest, &other.action)
    }
}

/// A row, and what comes to something else on it.
pub type OnRow<'c> = (Arc<str>, &'c Change);

/// A place, and what comes to something else there.
type AtPlace = (u32, Vec<Change>);

/// How far some cells reach.
#[derive(Debug)]
pub struct Extent<'c> {
    /// Whose they are, each once, by name.
    pub who: Vec<&'c str>,
    /// How many actions they are of.
    pub actions: usize,
    /// How many rows they are on.
    pub rows: usize,
}

/// Sessions with the same cells.
#[derive(Debug)]
pub struct Block<'c> {
    changes: &'c Changes,
    /// The sessions, by name.
    pub sessions: Vec<SessionName<'c>>,
    list: u32,
}

impl<'c> Block<'c> {
    /// The cells of each of them: a row, and what comes to something else on it; by the row, then by
    /// the action.
    #[must_use]
    pub fn cells(&self) -> Vec<OnRow<'c>> {
        self.changes.cells_of(self.list)
    }

    /// How many cells each of them has.
    #[must_use]
    pub fn count(&self) -> usize {
        self.changes.count_in(self.list)
    }
}

/// Numbers for what is the same.
pub(super) struct Numbered<T> {
    numbers: FxHashMap<T, u32>,
    pub(super) all: Vec<T>,
}

impl<T> Default for Numbered<T> {
    fn default() -> Self {
        Self { numbers: FxHashMap::default(), all: Vec::new() }
    }
}

impl<T: Clone + Eq + Hash> Numbered<T> {
    /// The number that something has already.
    pub(super) fn known<Q: ?Sized + Eq + Hash>(&self, one: &Q) -> Option<u32>
    where
        T: Borrow<Q>,
    {
        self.numbers.get(one).copied()
    }

    pub(super) fn number(&mut self, one: T) -> u32 {
        if let Some(known) = self.numbers.get(&one) {
            return *known;
        }
        let number = self.all.len() as u32;
        self.numbers.insert(one.clone(), number);
        self.all.push(one);
        number
    }
}

impl<T: Clone + Eq + Hash> Numbered<Arc<[T]>> {
    /// The number of a list, which is kept only if it is new.
    pub(super) fn number_of(&mut self, list: &[T]) -> u32 {
        match self.numbers.get(list) {
            Some(known) => *known,
            None => self.number(list.into()),
        }
    }
}

/// Sessions as they come, each with its list.
#[derive(Default)]
pub(super) struct Lists {
    sessions: Vec<ChangedSession>,
    lists: Numbered<Arc<[u32]>>,
    pub(super) runs: Numbered<Arc<[At]>>,
}

impl Lists {
    /// Adds a session with the places at which something comes to something else for it, unless there are
    /// none; in any order.
    fn add(&mut self, who: &str, role: &str, mut list: Vec<At>) {
        list.sort_unstable();
        let runs = list.chunk_by(|(one, _), (other, _)| one / RUN == other / RUN);
        let runs: Vec<u32> = runs.map(|run| self.runs.number_of(run)).collect();
        self.add_runs(who, role, &runs);
    }

    /// Adds a session with its runs, by their numbers.
    pub(super) fn add_runs(&mut self, who: &str, role: &str, runs: &[u32]) {
        if runs.is_empty() {
            return;
        }
        let list = self.lists.number_of(runs);
        self.sessions.push(ChangedSession { who: who.into(), role: role.into(), list });
    }

    /// All of them.
    pub(super) fn changes(self, there: Vec<Arc<[Change]>>, paths: Arc<[Box<str>]>) -> Changes {
        let Self { mut sessions, lists, runs } = self;
        sessions.sort_by(|a, b| (&a.who, &a.role).cmp(&(&b.who, &b.role)));
        Changes { sessions, lists: lists.all, runs: runs.all, there, paths }
    }
}

impl Changes {
    /// Puts cells together, each of which is there once.
    #[must_use]
    pub fn of(cells: &[Cell]) -> Self {
        let mut places: Numbered<Box<str>> = Numbered::default();
        let mut there: Numbered<Arc<[Change]>> = Numbered::default();
        let mut sessions: Vec<(String, String, Vec<AtPlace>)> = Vec::new();
        let mut sorted: Vec<&Cell> = cells.iter().collect();
        sorted.sort_unstable();
        for cell in sorted {
            let place = places.number(cell.place.as_str().into());
            if sessions.last().is_none_or(|(who, role, _)| (who, role) != (&cell.who, &cell.role)) {
                sessions.push((cell.who.clone(), cell.role.clone(), Vec::new()));
            }
            let Some((.., list)) = sessions.last_mut() else { continue };
            if list.last().is_none_or(|(last, _)| *last != place) {
                list.push((place, Vec::new()));
            }
            let Some((_, changes)) = list.last_mut() else { continue };
            changes.push(Change {
                rest: "".into(),
                action: cell.action.as_str().into(),
                before: cell.before,
                after: cell.after,
                is_gained: cell.is_gained,
                is_lost: cell.is_lost,
                is_decided: cell.is_decided,
                held_as: cell.held_as.as_deref().map(Into::into),
            });
        }
        let mut lists = Lists::default();
        for (who, role, list) in sessions {
            let at = |(place, changes): AtPlace| (place, there.number(changes.into()));
            let list: Vec<At> = list.into_iter().map(at).collect();
            lists.add(&who, &role, list);
        }
        lists.changes(there.all, places.all.into())
    }

    /// Whether nothing comes to something else.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.sessions.is_empty()
    }

    /// Whether there is such a cell.
    #[must_use]
    pub fn any(&self, is: impl Fn(&Change) -> bool) -> bool {
        let used = self.used();
        used.into_iter().any(|there| self.there[there as usize].iter().any(&is))
    }

    /// How many such cells there are.
    #[must_use]
    pub fn count(&self, is: impl Fn(&Change) -> bool) -> usize {
        let each: Vec<usize> =
            self.there.iter().map(|there| there.iter().filter(|one| is(one)).count()).collect();
        let of_run = |run: &[At]| run.iter().map(|(_, there)| each[*there as usize]).sum();
        let of_runs: Vec<usize> = self.runs.iter().map(|run| of_run(run)).collect();
        let of_list = |list: &[u32]| list.iter().map(|run| of_runs[*run as usize]).sum();
        let of_lists: Vec<usize> = self.lists.iter().map(|list| of_list(list)).collect();
        self.sessions.iter().map(|one| of_lists[one.list as usize]).sum()
    }

    fn count_in(&self, list: u32) -> usize {
        self.places_of(list).map(|(_, at)| self.there[at as usize].len()).sum()
    }

    /// The places of a list, with what comes to something else there.
    fn places_of(&self, list: u32) -> impl Iterator<Item = At> + '_ {
        let runs = self.lists[list as usize].iter();
        runs.flat_map(|run| self.runs[*run as usize].iter().copied())
    }

    fn used(&self) -> FxHashSet<u32> {
        self.runs.iter().flat_map(|run| run.iter().map(|(_, there)| *there)).collect()
    }

    /// Those cells alone; sessions of which these are the same stand together. What they were held
    /// as, and whether they are opened or closed, is not told apart.
    #[must_use]
    pub fn only(&self, is: impl Fn(&Change) -> bool) -> Self {
        let mut there: Numbered<Arc<[Change]>> = Numbered::default();
        let told = |change: &Change| Change {
            is_gained: false,
            is_lost: false,
            held_as: None,
            ..change.clone()
        };
        let kept = self.there.iter().map(|changes| {
            let kept: Vec<Change> = changes.iter().filter(|one| is(one)).map(told).collect();
            (!kept.is_empty()).then(|| there.number(kept.into()))
        });
        let kept: Vec<Option<u32>> = kept.collect();
        self.kept(there, |place, at| Some((place, kept[at as usize]?)))
    }

    /// The cells on some rows, of some actions.
    #[must_use]
    pub fn within(&self, takes: impl Fn(&str, &str) -> bool) -> Self {
        let mut there: Numbered<Arc<[Change]>> = Numbered::default();
        let mut known: FxHashMap<At, Option<u32>> = FxHashMap::default();
        for &(place, at) in self.runs.iter().flat_map(|run| run.iter()) {
            known.entry((place, at)).or_insert_with(|| {
                let path = &self.paths[place as usize];
                let takes = |one: &&Change| takes(&format!("{path}{}", one.rest), &one.action);
                let kept: Vec<Change> =
                    self.there[at as usize].iter().filter(takes).cloned().collect();
                (!kept.is_empty()).then(|| there.number(kept.into()))
            });
        }
        self.kept(there, |place, at| Some((place, (*known.get(&(place, at))?)?)))
    }

    /// These sessions, with the part of their lists that `keep` keeps.
    fn kept(&self, there: Numbered<Arc<[Change]>>, keep: impl Fn(u32, u32) -> Option<At>) -> Self {
        let mut runs: Numbered<Arc<[At]>> = Numbered::default();
        let kept_of = |run: &Arc<[At]>| {
            let kept: Vec<At> = run.iter().filter_map(|(place, at)| keep(*place, *at)).collect();
            (!kept.is_empty()).then(|| runs.number_of(&kept))
        };
        let kept: Vec<Option<u32>> = self.runs.iter().map(kept_of).collect();
        let mut lists: Numbered<Arc<[u32]>> = Numbered::default();
        let of_list = |list: &Arc<[u32]>| {
            let kept: Vec<u32> = list.iter().filter_map(|run| kept[*run as usize]).collect();
            (!kept.is_empty()).then(|| lists.number_of(&kept))
        };
        let kept: Vec<Option<u32>> = self.lists.iter().map(of_list).collect();
        let sessions = self
            .sessions
            .iter()
            .filter_map(|one| {
                Some(ChangedSession { list: kept[one.list as usize]?, ..one.clone() })
            })
            .collect();
        let (lists, runs, paths) = (lists.all, runs.all, Arc::clone(&self.paths));
        Self { sessions, lists, runs, there: there.all, paths }
    }

    /// What of this was not, or not so, in what was found of the same two estates earlier; and how
    /// many cells of that come to the same in both again.
    #[must_use]
    pub fn since(&self, earlier: &Self) -> (Self, usize) {
        let key = |one: &ChangedSession| (one.who.clone(), one.role.clone());
        let lists: FxHashMap<_, u32> =
            earlier.sessions.iter().map(|one| (key(one), one.list)).collect();
        let mut there: Numbered<Arc<[Change]>> = Numbered::default();
        let mut known: FxHashMap<(u32, Option<u32>), (Vec<At>, usize)> = FxHashMap::default();
        let (mut sessions, mut over, mut met) = (Lists::default(), 0, 0);
        for one in &self.sessions {
            let then = lists.get(&key(one)).copied();
            met += then.map_or(0, |list| earlier.count_in(list));
            let (list, gone) = known.entry((one.list, then)).or_insert_with(|| {
                let mut list: Vec<At> = Vec::new();
                let mut gone = 0;
                let mut left: FxHashMap<u32, u32> =
                    then.into_iter().flat_map(|list| earlier.places_of(list)).collect();
                for (place, now) in self.places_of(one.list) {
                    let now = &self.there[now as usize];
                    let was = match left.remove(&place) {
                        Some(was) => &*earlier.there[was as usize],
                        None => &[],
                    };
                    let new: Vec<Change> =
                        now.iter().filter(|change| !was.contains(change)).cloned().collect();
                    let is_over = |was: &&Change| !now.iter().any(|now| now.is_of_cell(was));
                    gone += was.iter().filter(is_over).count();
                    if !new.is_empty() {
                        list.push((place, there.number(new.into())));
                    }
                }
                gone += left.values().map(|at| earlier.there[*at as usize].len()).sum::<usize>();
                (list, gone)
            });
            over += *gone;
            sessions.add(&one.who, &one.role, list.clone());
        }
        // Of sessions that nothing comes to something else for any more, all is over.
        over += earlier.count(|_| true) - met;
        (sessions.changes(there.all, Arc::clone(&self.paths)), over)
    }

    /// Sessions with the same cells together, in the order of the first of each.
    #[must_use]
    pub fn blocks(&self) -> Vec<Block<'_>> {
        let mut of_list: Vec<Option<usize>> = vec![None; self.lists.len()];
        let mut blocks: Vec<Block<'_>> = Vec::new();
        for one in &self.sessions {
            let at = *of_list[one.list as usize].get_or_insert(blocks.len());
            if at == blocks.len() {
                blocks.push(Block { changes: self, sessions: Vec::new(), list: one.list });
            }
            blocks[at].sessions.push((&one.who, &one.role));
        }
        blocks
    }

    /// How far such cells reach.
    #[must_use]
    pub fn extent(&self, is: impl Fn(&Change) -> bool) -> Extent<'_> {
        let such: Vec<Vec<&Change>> =
            self.there.iter().map(|there| there.iter().filter(|one| is(one)).collect()).collect();
        let has_such = |(_, there): &At| !such[*there as usize].is_empty();
        let of_runs: Vec<bool> = self.runs.iter().map(|run| run.iter().any(has_such)).collect();
        let of_list = |list: &Arc<[u32]>| list.iter().any(|run| of_runs[*run as usize]);
        let of_lists: Vec<bool> = self.lists.iter().map(of_list).collect();
        let sessions = self.sessions.iter().filter(|one| of_lists[one.list as usize]);
        let mut who: Vec<&str> = sessions.map(|one| &*one.who).collect();
        who.dedup();
        let pairs = self.pairs(has_such);
        let there: FxHashSet<u32> = pairs.iter().map(|(_, there)| *there).collect();
        let changes = there.iter().flat_map(|there| &such[*there as usize]);
        let actions: BTreeSet<&str> = changes.map(|change| &*change.action).collect();
        let rows_at = |at: &[At]| {
            let changes = at.iter().flat_map(|(_, there)| &such[*there as usize]);
            let mut rests: Vec<&str> = Vec::new();
            for change in changes {
                if !rests.contains(&&*change.rest) {
                    rests.push(&change.rest);
                }
            }
            rests.len()
        };
        let rows = pairs.chunk_by(|(one, _), (other, _)| one == other).map(rows_at).sum();
        Extent { who, actions: actions.len(), rows }
    }

    /// The places with what comes to something else there that are such, each once.
    fn pairs(&self, is: impl Fn(&At) -> bool) -> Vec<At> {
        // Those of one place are in runs that begin alike: few are looked at together.
        let mut runs: Vec<(u32, &[At])> = Vec::with_capacity(self.runs.len());
        runs.extend(self.runs.iter().filter_map(|run| Some((run.first()?.0 / RUN, &**run))));
        runs.sort_unstable_by_key(|(number, _)| *number);
        let mut pairs: Vec<At> = Vec::new();
        for runs in runs.chunk_by(|(one, _), (other, _)| one == other) {
            let from = pairs.len();
            let mut seen: FxHashSet<At> = FxHashSet::default();
            for at in runs.iter().flat_map(|(_, run)| run.iter()).filter(|at| is(at)) {
                if seen.insert(*at) {
                    pairs.push(*at);
                }
            }
            pairs[from..].sort_unstable();
        }
        pairs
    }

    fn cells_of(&self, list: u32) -> Vec<OnRow<'_>> {
        let mut cells: Vec<OnRow<'_>> = self
            .places_of(list)
            .flat_map(|(place, there)| {
                let path = &self.paths[place as usize];
                // Most changes of a place are of one row, which is named once.
                let mut latest: Option<(&str, Arc<str>)> = None;
                self.there[there as usize].iter().map(move |change| {
                    let row = match &latest {
                        Some((rest, row)) if *rest == &*change.rest => Arc::clone(row),
                        _ => Arc::from(format!("{path}{}", change.rest)),
                    };
                    latest = Some((&change.rest, Arc::clone(&row)));
                    (row, change)
                })
            })
            .collect();
        cells.sort_unstable_by(|a, b| (&a.0, &a.1.action).cmp(&(&b.0, &b.1.action)));
        cells
    }

    /// Every cell, by the spec's order; worked out session by session.
    pub fn cells(&self) -> impl Iterator<Item = Cell> + '_ {
        let mut latest: Option<(u32, Arc<Vec<OnRow<'_>>>)> = None;
        self.sessions.iter().flat_map(move |one| {
            let cells = match &latest {
                Some((list, cells)) if *list == one.list => Arc::clone(cells),
                _ => Arc::new(self.cells_of(one.list)),
            };
            latest = Some((one.list, Arc::clone(&cells)));
            (0..cells.len()).map(move |i| {
                let (place, change) = &cells[i];
                change.cell((&one.who, &one.role), place)
            })
        })
    }
}
