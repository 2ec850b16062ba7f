//! Somebody after the other, for lists that are written as they come.

use std::collections::BTreeMap;

use super::rows::{TOGETHER, cells_at, rows_at, targets_for};
use super::{AccessTarget, AccessTargets, Limited, Row, Viewpoint, sessions};
use crate::catalogue::ActionSet;
use crate::engine::{Cells, Decider, Index};
use crate::id::ScopeId;

/// Principals one after the other, with all that they can do of some actions.
#[derive(Debug)]
pub struct Actors<'e> {
    decider: Decider<'e>,
    targets: AccessTargets<'e>,
    wanted: ActionSet,
    below: Option<ScopeId>,
    looked_at: usize,
    /// Where not all items that patterns single out were told apart.
    pub limited: Limited,
}

impl<'e> Actors<'e> {
    /// Of these actions, in a subtree or everywhere.
    #[must_use]
    pub fn new(index: &'e Index, wanted: ActionSet, below: Option<ScopeId>) -> Self {
        Self {
            decider: Decider::new(index),
            targets: AccessTargets::new(index.estate()),
            wanted,
            below,
            looked_at: 0,
            limited: Limited::new(),
        }
    }

    /// Somebody's [`sessions`].
    pub fn sessions(&mut self, viewpoint: &Viewpoint) -> Vec<Viewpoint> {
        // What was worked out about others is of no more use.
        self.looked_at += 1;
        if self.looked_at.is_multiple_of(TOGETHER) {
            self.decider = Decider::new(self.decider.index);
        }
        sessions(&mut self.decider, viewpoint)
    }

    /// The scopes in which one of these sessions may be allowed something, in order.
    fn scopes(&mut self, sessions: &[Viewpoint]) -> impl Iterator<Item = ScopeId> + use<'e> {
        let estate = self.decider.index.estate();
        let mut ranges = Vec::new();
        for session in sessions {
            let asking =
                self.decider.session_of(session.who, &session.also, session.take_up, session.time);
            ranges.extend(self.decider.where_allowed(&asking, Some(session.time), &self.wanted));
        }
        ranges.sort_by_key(|range| (range.start, std::cmp::Reverse(range.end)));
        // Subtrees lie within each other or apart.
        ranges.dedup_by(|inner, outer| inner.start < outer.end);
        let within = self.below.map_or(0..estate.scopes.len(), |at| estate.scopes.subtree(at));
        ranges.into_iter().flat_map(move |range| {
            (range.start.max(within.start)..range.end.min(within.end)).map(ScopeId::new)
        })
    }

    /// Hands on every cell of one session that is not denied: its rows (spec section 8), those that
    /// are as others too, by their paths' bytes, each as soon as none can come before it.
    ///
    /// # Errors
    ///
    /// Whatever `each` fails with.
    pub fn each_cell<E>(
        &mut self,
        session: &Viewpoint,
        mut each: impl FnMut(AccessTarget, Cells) -> Result<(), E>,
    ) -> Result<(), E> {
        let estate = self.decider.index.estate();
        let mut scopes: Vec<ScopeId> = self.scopes(std::slice::from_ref(session)).collect();
        // Nearly in order already, as this is that of the tree.
        scopes.sort_by(|a, b| estate.scope(*a).path.cmp(&estate.scope(*b).path));
        let mut waiting: BTreeMap<String, Vec<(AccessTarget, Cells)>> = BTreeMap::new();
        for id in scopes {
            // No path of a scope's rows comes before its own.
            while let Some(first) = waiting.first_entry()
                && first.key().as_str() < &*estate.scope(id).path
            {
                first.remove().into_iter().try_for_each(|(target, cells)| each(target, cells))?;
            }
            let targets: Vec<AccessTarget> = self.targets.at(id).collect();
            for (target, cells) in self.cells_on(session, targets) {
                waiting.entry(target.shown.clone()).or_default().push((target, cells));
            }
        }
        let mut left = waiting.into_values().flatten();
        left.try_for_each(|(target, cells)| each(target, cells))
    }

    /// As [`Self::each_cell`], at these targets alone.
    pub fn cells_on(
        &mut self,
        session: &Viewpoint,
        targets: impl IntoIterator<Item = AccessTarget>,
    ) -> Vec<(AccessTarget, Cells)> {
        let mut found = Vec::new();
        for target in targets {
            self.add_cells(session, target, &mut found);
        }
        found.sort_by(|a, b| a.0.shown.cmp(&b.0.shown));
        found
    }

    fn add_cells(
        &mut self,
        session: &Viewpoint,
        target: AccessTarget,
        found: &mut Vec<(AccessTarget, Cells)>,
    ) {
        if target.applicable(self.decider.index.estate()).is_disjoint(&self.wanted) {
            return;
        }
        for target in targets_for(&mut self.decider, session, target, &mut self.limited) {
            let cells = cells_at(&mut self.decider, session, &target, Some(&self.wanted));
            if !cells.is_nothing() {
                found.push((target, cells));
            }
        }
    }

    /// The rows in which somebody, given their [`sessions`], can do any of it, and the items that are
    /// exceptions to such a row.
    pub fn rows(&mut self, sessions: &[Viewpoint]) -> Vec<Row> {
        let estate = self.decider.index.estate();
        let people = [sessions.to_vec()];
        let mut rows = Vec::new();
        for id in self.scopes(sessions) {
            for target in self.targets.at(id) {
                if target.applicable(estate).is_disjoint(&self.wanted) {
                    continue;
                }
                let (decider, wanted) = (&mut self.decider, Some(&self.wanted));
                let found = rows_at(decider, &people, target, wanted, &mut self.limited);
                // Items that are denied stand beside those that are not.
                let some = found.first().is_some_and(|whole| !whole.access[0].is_nothing());
                rows.extend(found.into_iter().filter(|row| some || !row.access[0].is_nothing()));
            }
        }
        rows
    }
}
