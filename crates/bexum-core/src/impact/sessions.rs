//! One principal after the other: each of its sessions in both estates, row by row.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::alike::SaysOfSubjects;
use super::at_place::AtPlace;
use super::facts::Facts;
use super::said::{SaidOfAction, Texts};
use super::touches::{TouchedPart, TouchedPlace};
use super::{Cell, Comparison, LimitedIn};
use crate::catalogue::{Action, ActionSet, Catalogue};
use crate::engine::Decider;
use crate::estate::Estate;
use crate::id::{ActionId, ScopeId};
use crate::prove::{KnownAnswers, Opened};
use crate::reach::{self, AccessTarget, Limited, Viewpoint};
use crate::request::{Request, RequestFault};
use crate::time::Time;

/// Whether circumstances can be asked about in an estate.
///
/// # Errors
/// Why not.
pub fn refuse_circumstances(estate: &Estate, request: &Request<'_>) -> Result<(), RequestFault> {
    anybody(estate, request).map(drop)
}

/// The circumstances of a request, asked by somebody; `None` where an estate has nobody.
pub(super) fn anybody(
    estate: &Estate,
    request: &Request<'_>,
) -> Result<Option<Viewpoint>, RequestFault> {
    let Some(somebody) = estate.principals().next() else { return Ok(None) };
    let who = estate.principal_id(somebody).into();
    Request { who, ..request.clone() }.viewpoint(estate).map(Some)
}

/// One of the two estates.
pub(super) struct Side<'e> {
    pub(super) decider: Decider<'e>,
    anybody: Option<Viewpoint>,
    pub(super) limited: Limited,
    /// What its policies say about actions, as far as that was asked.
    pub(super) texts: Texts,
}

/// Roles that somebody can take up in one of the estates alone, by their bare names.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RolesChanged {
    /// In the second.
    pub newly: Vec<String>,
    /// In the first.
    pub no_longer: Vec<String>,
}

impl RolesChanged {
    /// The roles that changed for somebody with these sessions.
    pub(super) fn of(sessions: &BTreeMap<String, InBoth>) -> Self {
        let mut changed = Self::default();
        for (role, session) in sessions.iter().filter(|(role, _)| !role.is_empty()) {
            match session {
                [None, Some(_)] => changed.newly.push(role.clone()),
                [Some(_), None] => changed.no_longer.push(role.clone()),
                _ => {}
            }
        }
        changed
    }
}

/// Where a change may concern a session, and in what.
pub(super) struct Concerned {
    pub(super) parts: Vec<TouchedPart>,
    /// Whether any action counts, and not only those of the policies that differ, or are tied
    /// otherwise.
    any_action: bool,
}

/// The actions that count, in each estate; `None`: any.
pub(super) type ActionsIn<'c> = [Option<&'c ActionSet>; 2];

impl Concerned {
    /// All that a comparison is about.
    fn everything() -> Self {
        Self { parts: vec![TouchedPart::of_any_action(TouchedPlace::Everywhere)], any_action: true }
    }

    pub(super) fn actions<'c>(&self, comparison: &'c Comparison<'_>) -> ActionsIn<'c> {
        match self.any_action {
            true => [None, None],
            false => comparison.actions.each_ref().map(Option::as_ref),
        }
    }
}

/// Compares one principal after the other.
pub struct Compared<'c, 'e> {
    pub(super) comparison: &'c Comparison<'e>,
    pub(super) sides: [Side<'e>; 2],
    /// Whether later moments count, too: what begins or ends then, and roles that can be taken up
    /// then.
    pub(super) with_later: bool,
    /// Whether only what is allowed on one side alone counts, and how many such cells of a
    /// principal are enough.
    pub(super) outcomes_alone: Option<usize>,
    /// Whether the rows of a scope count; `None`: those of all do.
    pub(super) counts: Option<&'c dyn Fn(&str) -> bool>,
    /// More names than any pattern of either estate has.
    pub(super) many: usize,
    /// For each action of the first estate, the same of the second.
    pub(super) same_actions: Vec<Option<ActionId>>,
    /// The actions of the second estate that the first has not.
    pub(super) new_actions: Vec<ActionId>,
    /// What was found out of the one who is looked at.
    pub(super) known: KnownAnswers,
    pub(super) closed: KnownAnswers,
    /// What becomes of cells of which the same is said, where nothing else matters.
    pub(super) turned: FxHashMap<Rc<SaidOfAction>, (Opened, Opened)>,
    /// What has a say for subjects, once it was found out.
    pub(super) says: SaysOfSubjects,
    /// What was found out at the place that is looked at.
    pub(super) at_place: AtPlace,
}

/// A session, in each estate that has it.
pub(super) type InBoth = [Option<Viewpoint>; 2];
/// A row: what it is called, and in each estate the target that it is there, if it is any.
pub(super) type Row = [Option<AccessTarget>; 2];

impl<'c, 'e> Compared<'c, 'e> {
    pub(super) fn new(comparison: &'c Comparison<'e>, with_later: bool) -> Self {
        let side = |index: &'e crate::engine::Index| Side {
            decider: Decider::new(index),
            // It was no error when the comparison was made.
            anybody: anybody(index.estate(), &comparison.request).ok().flatten(),
            limited: Limited::new(),
            texts: Texts::default(),
        };
        let (before, after) = (comparison.before.estate(), comparison.after.estate());
        let find = |one: &Action| after.catalogue.find_action(&one.name);
        let is_new = |one: &Action| before.catalogue.find_action(&one.name).is_none();
        let numbered = |catalogue: &Catalogue| (0..catalogue.actions.len()).map(ActionId::new);
        let (same_actions, new_actions) = match Arc::ptr_eq(&before.catalogue, &after.catalogue) {
            true => (numbered(&before.catalogue).map(Some).collect(), Vec::new()),
            false => (
                before.catalogue.actions.iter().map(find).collect(),
                numbered(&after.catalogue)
                    .filter(|id| is_new(after.catalogue.action(*id)))
                    .collect(),
            ),
        };
        Self {
            new_actions,
            known: KnownAnswers::default(),
            closed: KnownAnswers::default(),
            turned: FxHashMap::default(),
            says: SaysOfSubjects::default(),
            at_place: AtPlace::default(),
            comparison,
            with_later,
            outcomes_alone: None,
            counts: None,
            sides: [side(comparison.before), side(comparison.after)],
            many: before.longest_pattern.max(after.longest_pattern) + 1,
            same_actions,
        }
    }

    /// Where not all items that patterns single out were told apart, in each estate.
    #[must_use]
    pub fn limited(self) -> LimitedIn {
        self.sides.map(|side| side.limited)
    }

    /// Forgets what was found out of the one who was looked at last.
    pub(super) fn forget(&mut self) {
        self.known.clear();
        self.closed.clear();
    }

    /// The cells of somebody that come to something else, and those that depend on both sides of
    /// something that the change touches; by the spec's order.
    pub fn cells_of(&mut self, who: &str) -> Vec<Cell> {
        self.forget();
        let mut found = Vec::new();
        let sessions = self.sessions(who);
        for (role, session) in &sessions {
            let concerned = self.concerned(who, session);
            if concerned.parts.is_empty() {
                continue;
            }
            let actions = concerned.actions(self.comparison);
            for path in self.scopes(session, &concerned) {
                for (place, row) in self.rows(session, &path, actions) {
                    let known = found.len();
                    let turns = self.compare(session, &row, actions);
                    found.extend(turns.into_iter().map(|turn| turn.cell(who, role, &place)));
                    if let Some(most) = self.outcomes_alone {
                        if found.len() > most {
                            return found;
                        }
                        continue;
                    }
                    let others = sessions.iter().filter(|(other, _)| *other != role);
                    self.find_held(others, &row, &mut found[known..]);
                }
            }
        }
        found.sort_unstable();
        found
    }

    /// The cells of somebody in the row of one path that come to something else.
    pub(crate) fn cells_at(&mut self, who: &str, path: &str) -> Vec<Cell> {
        let row = self.row_of(path);
        let mut found = Vec::new();
        for (role, session) in &self.sessions(who) {
            let turns = self.compare(session, &row, [None, None]);
            found.extend(turns.into_iter().map(|turn| turn.cell(who, role, path)));
        }
        found
    }

    /// Finds out which cells of a row that rose were allowed before to another session of the same
    /// person.
    fn find_held<'s>(
        &mut self,
        others: impl Iterator<Item = (&'s String, &'s InBoth)>,
        row: &Row,
        cells: &mut [Cell],
    ) {
        let Some(target) = &row[0] else { return };
        if !cells.iter().any(|cell| cell.before < cell.after) {
            return;
        }
        let decider = &mut self.sides[0].decider;
        let catalogue = &decider.index.estate().catalogue;
        for (role, session) in others {
            let Some(view) = &session[0] else { continue };
            let allowed = reach::cells_at(decider, view, target, None).allow;
            let rose = cells.iter_mut().filter(|cell| cell.before < cell.after);
            for cell in rose.filter(|cell| cell.held_as.is_none()) {
                let action = catalogue.find_action(&cell.action);
                if action.is_some_and(|action| allowed.contains(action.index())) {
                    cell.held_as = Some(role.clone());
                }
            }
        }
    }

    /// The roles that somebody can newly take up, or no longer, by their bare names.
    pub fn roles_of(&mut self, who: &str) -> RolesChanged {
        RolesChanged::of(&self.sessions(who))
    }

    /// Each session of somebody, by the role taken up: what it is in each estate that has it.
    pub(super) fn sessions(&mut self, who: &str) -> BTreeMap<String, InBoth> {
        let mut found: BTreeMap<String, InBoth> = BTreeMap::new();
        for (i, side) in self.sides.iter_mut().enumerate() {
            let estate = side.decider.index.estate();
            let (Some(who), Some(anybody)) = (estate.find_principal(who), &side.anybody) else {
                continue;
            };
            let view = anybody.seen_by(who);
            let sessions = match self.with_later {
                true => sessions_from(&mut side.decider, &view),
                false => reach::sessions(&mut side.decider, &view),
            };
            for session in sessions {
                let role = session.take_up.map(|role| estate.role(role).identity.name.to_string());
                found.entry(role.unwrap_or_default()).or_default()[i] = Some(session);
            }
        }
        found
    }

    /// Where the change may concern a session, and in what.
    pub(super) fn concerned(&mut self, who: &str, session: &InBoth) -> Concerned {
        let [Some(before), Some(after)] = session else { return Concerned::everything() };
        if self.comparison.touches.everything {
            return Concerned::everything();
        }
        let comparison = self.comparison;
        let mut subjects: BTreeSet<&str> = BTreeSet::from(["everyone", who]);
        for time in self.times(session) {
            let [before, after] = &[before, after].map(|view| Viewpoint { time, ..view.clone() });
            if !self.is_same_asker([before, after]) {
                return Concerned::everything();
            }
            let sides = self.sides.iter_mut().zip(&comparison.touched);
            for ((side, touched), view) in sides.zip([before, after]) {
                let asking = side.decider.session_of(view.who, &view.also, view.take_up, time);
                let known = asking.subjects().subject_ids();
                subjects.extend(known.filter_map(|id| touched.get(&id)).map(|id| &**id));
            }
        }
        Concerned { parts: comparison.touches.of(subjects.into_iter()), any_action: false }
    }

    /// Whether some of these actions apply at a target of one of the estates.
    pub(super) fn applies(
        &self,
        i: usize,
        target: &AccessTarget,
        actions: Option<&ActionSet>,
    ) -> bool {
        let applicable = target.applicable(self.sides[i].decider.index.estate());
        actions.is_none_or(|actions| !applicable.is_disjoint(actions))
    }

    /// The moment, and each later one at which the groups or roles of a session change in either
    /// estate.
    pub(super) fn times(&mut self, session: &InBoth) -> Vec<Time> {
        let mut found = Vec::new();
        for (side, view) in self.sides.iter_mut().zip(session) {
            let Some(view) = view else { continue };
            let mut time = view.time;
            loop {
                found.push(time);
                let mut stays = side.decider.closure_for(view.who, &view.also, time).valid_during;
                if let Some(role) = view.take_up {
                    stays = stays.intersect(&side.decider.role_closure(role, time).valid_during);
                }
                match stays.until {
                    Some(next) if next > time && next <= Time::LATEST => time = next,
                    _ => break,
                }
            }
        }
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Whether statements can ask the same about who asks in both estates.
    pub(super) fn is_same_asker(&mut self, views: [&Viewpoint; 2]) -> bool {
        let [one, other] = &mut self.sides;
        let (before, after) =
            (Facts::of(&mut one.decider, views[0]), Facts::of(&mut other.decider, views[1]));
        before.asked_apart(&after).is_some_and(|differing| differing.is_empty())
    }

    /// The scopes of the parts at which one of the estates may allow the session something, by path.
    pub(super) fn scopes(&mut self, session: &InBoth, concerned: &Concerned) -> BTreeSet<String> {
        // Where one estate allows something, the other may have scopes of its own, which are items to
        // the first.
        let mut tops: BTreeSet<String> = BTreeSet::new();
        // Of what is attached later it does not matter when.
        let times = if self.with_later { self.times(session) } else { Vec::new() };
        for (i, (side, view)) in self.sides.iter_mut().zip(session).enumerate() {
            let Some(view) = view else { continue };
            let estate = side.decider.index.estate();
            let everything = ActionSet::all(estate.catalogue.actions.len());
            let actions = concerned.actions(self.comparison)[i].unwrap_or(&everything);
            let mut add = |time: Time, at: Option<Time>| {
                let asking = side.decider.session_of(view.who, &view.also, view.take_up, time);
                let allowed = side.decider.where_allowed(&asking, at, actions);
                let path = |top: usize| estate.scope(ScopeId::new(top)).path.to_string();
                tops.extend(allowed.into_iter().map(|range| path(range.start)));
            };
            match self.with_later {
                true => times.iter().for_each(|time| add(*time, None)),
                false => add(view.time, Some(view.time)),
            }
        }
        let mut found = BTreeSet::new();
        for side in &self.sides {
            let estate = side.decider.index.estate();
            let subtree = |path: &String| Some(estate.scopes.subtree(estate.scopes.find(path)?));
            let allowed: Vec<_> = tops.iter().filter_map(subtree).collect();
            let within = concerned.parts.iter().filter_map(|part| match &part.place {
                TouchedPlace::Everywhere => Some(0..estate.scopes.len()),
                TouchedPlace::Below(path) => subtree(path),
                TouchedPlace::At(path) => {
                    estate.scopes.find(path).map(|id| id.index()..id.index() + 1)
                }
            });
            for part in within {
                for range in &allowed {
                    let both = range.start.max(part.start)..range.end.min(part.end);
                    let paths = both.map(|id| estate.scope(ScopeId::new(id)).path.to_string());
                    found.extend(paths);
                }
            }
        }
        if let Some(counts) = self.counts {
            found.retain(|path| counts(path));
        }
        found
    }
}

/// Somebody by themselves, then with each role that they can take up at this moment or later.
pub(super) fn sessions_from(decider: &mut Decider<'_>, view: &Viewpoint) -> Vec<Viewpoint> {
    let mut found: Vec<Viewpoint> = Vec::new();
    let mut time = view.time;
    loop {
        let at = Viewpoint { time, ..view.clone() };
        for session in reach::sessions(decider, &at) {
            if !found.iter().any(|known| known.take_up == session.take_up) {
                found.push(Viewpoint { time: view.time, ..session });
            }
        }
        match decider.closure_for(view.who, &view.also, time).valid_during.until {
            Some(next) if next > time && next <= Time::LATEST => time = next,
            _ => return found,
        }
    }
}
