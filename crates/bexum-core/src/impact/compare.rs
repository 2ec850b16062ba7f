//! One row of a session in both estates: which actions come to something else.

use std::cmp::Ordering;
use std::rc::Rc;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::said::{MayTurn, SaidOfAction, SaidOfRow, row_said};
use super::sessions::{ActionsIn, Compared, InBoth, Row, Side};
use super::{Cell, Outcome};
use crate::engine::Cells;
use crate::id::ActionId;
use crate::prove::{Opened, opened};
use crate::reach::{self, Viewpoint};

/// What an action on a row came to and comes to.
pub(super) struct Turn {
    pub(super) action: Box<str>,
    pub(super) before: Outcome,
    pub(super) after: Outcome,
    pub(super) is_gained: bool,
    pub(super) is_lost: bool,
    pub(super) is_decided: bool,
}

impl<'e> Compared<'_, 'e> {
    /// What comes to something else on a row, or depends on both sides and may: of these actions.
    pub(super) fn compare(
        &mut self,
        session: &InBoth,
        row: &Row,
        actions: ActionsIn<'_>,
    ) -> Vec<Turn> {
        let mut found = Vec::new();
        let mut cells = self
            .sides
            .each_ref()
            .map(|side| Cells::nothing(side.decider.index.estate().catalogue.actions.len()));
        for i in 0..2 {
            if let (Some(view), Some(target)) = (&session[i], &row[i]) {
                cells[i] = reach::cells_at(&mut self.sides[i].decider, view, target, actions[i]);
            }
        }
        let outcome = |i: usize, action: Option<ActionId>| match action {
            Some(action) if cells[i].allow.contains(action.index()) => Outcome::Allow,
            Some(action) if cells[i].depends.contains(action.index()) => Outcome::Depends,
            _ => Outcome::Deny,
        };
        let (before, after) = (self.comparison.before.estate(), self.comparison.after.estate());
        if cells.iter().all(Cells::is_nothing) {
            return found;
        }
        let mut changed: Vec<(Box<str>, Outcome, Outcome)> = Vec::new();
        for (old, new) in self.actions_in(&cells) {
            let (was, is) = (outcome(0, old), outcome(1, new));
            let is_turned = (was == Outcome::Allow) != (is == Outcome::Allow);
            let counts = match self.outcomes_alone {
                Some(_) => is_turned,
                None => was != is || was == Outcome::Depends,
            };
            if !counts {
                continue;
            }
            let name = match (old, new) {
                (Some(old), _) => &before.catalogue.action(old).name,
                (None, Some(new)) => &after.catalogue.action(new).name,
                (None, None) => continue,
            };
            changed.push((name.clone(), was, is));
        }
        let mut once = SaidOnce::default();
        for (action, before, after) in changed {
            let turned = match before.cmp(&after) {
                Ordering::Less => (Opened::Yes, Opened::No),
                Ordering::Greater => (Opened::No, Opened::Yes),
                Ordering::Equal => self.turned_once(session, row, &mut once, &action),
            };
            found.extend(Turn::of(&action, [before, after], turned));
        }
        found
    }

    /// Whether a cell that depends in both estates is opened, and whether it is closed.
    pub(super) fn turned_once(
        &mut self,
        session: &InBoth,
        row: &Row,
        once: &mut SaidOnce<'e>,
        action: &str,
    ) -> (Opened, Opened) {
        let said = once.said.get_or_insert_with(|| self.said_of(session, row));
        let Some(said) = self.said_of_action(said, action).map(Rc::new) else {
            return self.opened_and_closed(session, row, MayTurn::BOTH, action);
        };
        if let Some(known) = once.known.get(&said) {
            return *known;
        }
        let found = self.turned(session, row, &said, action);
        once.known.insert(said, found);
        found
    }

    /// The actions of which these cells, of the two estates, may come to something else: each with its
    /// number in both.
    fn actions_in(&self, cells: &[Cells; 2]) -> Vec<(Option<ActionId>, Option<ActionId>)> {
        let [one, other] = self.sides.each_ref().map(|side| side.decider.index.estate());
        if Arc::ptr_eq(&one.catalogue, &other.catalogue) {
            let mut counts = cells[0].allow.clone();
            counts.symmetric_difference_with(&cells[1].allow);
            if self.outcomes_alone.is_none() {
                cells.iter().for_each(|cells| counts.union_with(&cells.depends));
            }
            return counts.ones().map(ActionId::new).map(|id| (Some(id), Some(id))).collect();
        }
        let olds = self.same_actions.iter().enumerate();
        let olds = olds.map(|(i, new)| (Some(ActionId::new(i)), *new));
        olds.chain(self.new_actions.iter().map(|new| (None, Some(*new)))).collect()
    }

    /// Whether a cell that depends in both estates, and of which this is said, is opened, and whether it is
    /// closed; found out once for all rows of which the same is said and nothing else matters.
    fn turned(
        &mut self,
        session: &InBoth,
        row: &Row,
        said: &Rc<SaidOfAction>,
        action: &str,
    ) -> (Opened, Opened) {
        if said.known.is_none() {
            return self.opened_and_closed(session, row, said.may_turn(), action);
        }
        if let Some(found) = self.turned.get(said) {
            return *found;
        }
        let found = self.opened_and_closed(session, row, said.may_turn(), action);
        // With all steps spent, it was not tried.
        if !self.comparison.is_spent() {
            self.turned.insert(Rc::clone(said), found);
        }
        found
    }

    /// Whether a cell that depends in both estates is opened, and whether it is closed.
    fn opened_and_closed(
        &mut self,
        session: &InBoth,
        row: &Row,
        turn: MayTurn,
        action: &str,
    ) -> (Opened, Opened) {
        let turn = turn.and(self.comparison.may_turn);
        let unless = |may: bool| if may { Opened::NotDecided } else { Opened::No };
        let not_decided = (unless(turn.open), unless(turn.close));
        if turn == MayTurn::NEITHER || self.comparison.is_spent() {
            return not_decided;
        }
        let ([Some(before), Some(after)], [Some(old), Some(new)]) = (session, row) else {
            return not_decided;
        };
        let [one, other] = &mut self.sides;
        let find = |side: &Side<'_>| side.decider.index.estate().catalogue.find_action(action);
        let (Some(was), Some(is), true) = (find(one), find(other), self.comparison.can_complete)
        else {
            return not_decided;
        };
        let (before, after) = (before.query(old, was), after.query(new, is));
        let (one, other) = (&mut one.decider, &mut other.decider);
        let opens = match turn.open {
            true => opened(&mut [(one, &before)], (other, &after), &mut self.known),
            false => Opened::No,
        };
        let closes = match turn.close {
            true => opened(&mut [(other, &after)], (one, &before), &mut self.closed),
            false => Opened::No,
        };
        let steps = self.known.take_steps() + self.closed.take_steps();
        self.comparison.spend(steps);
        (opens, closes)
    }

    /// All that has a say about an action on a row, from this moment on; `None` where that cannot be
    /// held against each other.
    pub(super) fn said_of_action(
        &mut self,
        said: &SaidOfRow<'e>,
        action: &str,
    ) -> Option<SaidOfAction> {
        let [one, other] = &mut self.sides;
        let (before, after) = (one.decider.index.estate(), other.decider.index.estate());
        let was = before.catalogue.find_action(action)?;
        let is = after.catalogue.find_action(action)?;
        let kinds = [before.catalogue.action(was).kind, after.catalogue.action(is).kind];
        let mut moments = Vec::with_capacity(said.len());
        let mut known = Some(Vec::with_capacity(said.len()));
        for moment in said {
            let [Some(old), Some(new)] = moment else { return None };
            let voices =
                [old.voices(before, was, &mut one.texts), new.voices(after, is, &mut other.texts)];
            let voices = match voices[0] == voices[1] {
                true => {
                    known = None;
                    voices
                }
                false => {
                    let [before, after] = [&one.decider, &other.decider].map(|it| it.index);
                    let here = [old.voices_here(before, was), new.voices_here(after, is)];
                    let [(was, facts_before), (is, facts_after)] =
                        here.map(|here| (here.voices, here.facts));
                    let there = facts_before.zip(facts_after).and_then(|(one, other)| {
                        let before = old.known_there(before.estate(), one)?;
                        Some([before, new.known_there(after.estate(), other)?])
                    });
                    known = known.zip(there).map(|(mut known, there)| {
                        known.push(there);
                        known
                    });
                    [was, is]
                }
            };
            let is_same = old.is_same_beside(new, [was, is], [&one.texts, &other.texts]);
            moments.push((is_same, voices));
        }
        Some(SaidOfAction { kinds, moments, known })
    }

    /// All that has a say about a row, whatever the action.
    pub(super) fn said_of(&mut self, session: &InBoth, row: &Row) -> SaidOfRow<'e> {
        let times = self.times(session);
        let each = times.into_iter();
        each.map(|time| {
            [0, 1].map(|side| {
                let (view, target) = (session[side].as_ref()?, row[side].as_ref()?);
                let view = Viewpoint { time, ..view.clone() };
                Some(row_said(&mut self.sides[side].decider, &view, target))
            })
        })
        .collect()
    }
}

/// What has a say about a row, once that was asked, and what became of its actions.
#[derive(Default)]
pub(super) struct SaidOnce<'e> {
    said: Option<SaidOfRow<'e>>,
    /// Of actions of which the same is said the same becomes.
    known: FxHashMap<Rc<SaidOfAction>, (Opened, Opened)>,
}

impl Turn {
    /// What an action came to and comes to, and whether it is opened and whether it is closed; `None` if
    /// neither.
    pub(super) fn of(
        action: &str,
        [before, after]: [Outcome; 2],
        (opened, closed): (Opened, Opened),
    ) -> Option<Self> {
        if opened == Opened::No && closed == Opened::No {
            return None;
        }
        Some(Self {
            action: action.into(),
            before,
            after,
            is_gained: opened != Opened::No,
            is_lost: closed != Opened::No,
            is_decided: opened != Opened::NotDecided && closed != Opened::NotDecided,
        })
    }

    pub(super) fn cell(self, who: &str, role: &str, place: &str) -> Cell {
        Cell {
            who: who.to_owned(),
            role: role.to_owned(),
            place: place.to_owned(),
            action: self.action.into(),
            before: self.before,
            after: self.after,
            is_gained: self.is_gained,
            is_lost: self.is_lost,
            is_decided: self.is_decided,
            held_as: None,
        }
    }
}
