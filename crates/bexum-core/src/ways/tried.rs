//! Steps tried, as far as it takes to know whether they are among the best.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use super::pairs::First;
use super::{Candidate, Effect, Extent, Places, Step, Way, WaySearch};
use crate::catalogue::ActionSet;
use crate::declaration::Declarations;
use crate::engine::{Decider, Engine};
use crate::id::ScopeId;
use crate::impact::Cell;
use crate::part::EstatePart;

/// What came of a candidate that works.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Tried {
    /// A way.
    Way(Way),
    /// One that does more than was asked about; how much more was not counted.
    Larger(Way),
}

/// How many principals are looked at before all whom a step concerns.
pub(super) const SAMPLE: usize = 24;

/// Rows that are looked at around the request's path before all where a step has effects.
pub(super) const NEAR: usize = 64;

/// Rows that are looked at farther around it, for the one who asks.
pub(super) const AROUND: usize = 1024;

/// Rows that are looked at for them where something is allowed to them.
const HERE_AND_THERE: usize = 4096;

/// An estate that was made, and which part of it.
type Made = (Extent, (Declarations, Engine));

impl WaySearch<'_> {
    /// Tries a candidate: the first of its steps that works, with what it does.
    #[must_use]
    pub fn tried(&self, candidate: &Candidate) -> Option<Way> {
        match self.tried_within(candidate, &|_| usize::MAX) {
            Some(Tried::Way(way)) => Some(way),
            _ => None,
        }
    }

    /// As [`Self::tried`]; what turns more cells than `most` says by then of a step with that text is not
    /// counted further. Cells add up over people, so a few of them are looked at first.
    #[must_use]
    pub fn tried_within(
        &self,
        candidate: &Candidate,
        most: &dyn Fn(&str) -> usize,
    ) -> Option<Tried> {
        let way = |step: &Step, extent: &Extent, effect: Effect| {
            let extent = match &candidate.first {
                Some(first) => first.extent.and(extent),
                None => extent.clone(),
            };
            Way { step: step.clone(), effect, extent }
        };
        let larger = |(step, extent): &(Step, Extent)| {
            let much = candidate.first.as_ref().map(|first| first.much(self, extent));
            Some(Tried::Larger(way(step, extent, much.unwrap_or_else(Effect::partial))))
        };
        if candidate.is_sure {
            let first = candidate.alternatives.first()?;
            if candidate.at_least > most(&first.0.text()) {
                return larger(first);
            }
        }
        candidate.alternatives.iter().find_map(|alternative| {
            let (step, extent) = alternative;
            let way = |effect| way(step, extent, effect);
            if step.edits.is_empty() {
                let works = self.works_in(self.index(), &step.asked(self.request));
                return works.then(|| Tried::Way(way(Effect::default())));
            }
            let text = step.text();
            let most = &|| most(&text);
            let works = |after: &Engine| self.works_in(after, &step.asked(self.request));
            let mut known = None;
            if !candidate.is_sure {
                known = match &candidate.first {
                    None => self.soonest(step, extent),
                    Some(first) => self.soonest_of_pair(step, (&first.extent, extent)),
                };
                if !known.as_ref().is_some_and(|(_, (_, after))| works(after)) {
                    return None;
                }
                if candidate.at_least > most() {
                    return larger(alternative);
                }
            }
            let is_gauged = candidate.at_least > 0;
            let (effect, after) = match &candidate.first {
                None => self.weighed((step, extent), known, is_gauged, most)?,
                Some(first) => {
                    let beside = first.beside(self, extent);
                    if beside.values().map(Vec::len).sum::<usize>() > most() {
                        return larger(alternative);
                    }
                    self.weighed_with((first, beside), (step, extent), known, most)?
                }
            };
            match effect.is_partial {
                true => Some(Tried::Larger(way(effect))),
                false => works(&after).then(|| Tried::Way(way(effect))),
            }
        })
    }

    /// The smallest part in which a step can be made, and what comes of it: what somebody is decided
    /// does not hang on others, nor on what lies elsewhere; but a step may be about what lies there.
    fn soonest(&self, step: &Step, extent: &Extent) -> Option<Made> {
        let alone = self.alone(extent)?;
        let here = Extent { places: Places::Below(Vec::new()), ..alone.clone() };
        [here, alone].into_iter().find_map(|extent| {
            let after = self.after(&self.part(&extent), step)?;
            Some((extent, after))
        })
    }

    /// As [`Self::soonest`], of two steps: the second is about those of the first, too.
    fn soonest_of_pair(&self, step: &Step, (first, second): (&Extent, &Extent)) -> Option<Made> {
        self.soonest(step, second).or_else(|| self.soonest(step, &first.and(second)))
    }

    /// Whether two steps work, as far as the one who asks is concerned.
    pub(super) fn works_soon(&self, step: &Step, extents: (&Extent, &Extent)) -> bool {
        let made = self.soonest_of_pair(step, extents);
        made.is_some_and(|(_, (_, after))| self.works_in(&after, &step.asked(self.request)))
    }

    /// As much of a step as concerns the one who asks.
    fn alone(&self, extent: &Extent) -> Option<Extent> {
        let who = self.estate().find_principal(&self.request.who)?;
        Some(extent.only(vec![who]))
    }

    /// What a step does, and the last estate in which that was looked at: it is that of all that
    /// the step concerns, unless it is found to do more than `most` before.
    fn weighed(
        &self,
        (step, extent): (&Step, &Extent),
        mut known: Option<Made>,
        is_gauged: bool,
        most: &dyn Fn() -> usize,
    ) -> Option<(Effect, Engine)> {
        let mut found = None;
        for stage in &self.stages(extent, is_gauged, most())? {
            let part = self.part(stage);
            let made = known.take_if(|(of, _)| of == stage).map(|(_, after)| after);
            // A smaller part may lack what the step is about.
            found = made.or_else(|| self.after(&part, step)).map(|(declared, after)| {
                let mut effect = self.effect(&part, (&declared, &after), stage, most);
                effect.is_partial = effect.size() > most();
                (effect, after)
            });
            if found.as_ref().is_some_and(|(effect, _)| effect.is_partial) {
                break;
            }
        }
        found
    }

    /// The same of two steps, of which the second concerns no more than this, and leaves these cells
    /// as the first makes them.
    fn weighed_with(
        &self,
        (first, mut cells): (&First, BTreeMap<String, Vec<Cell>>),
        (step, second): (&Step, &Extent),
        known: Option<Made>,
        most: &dyn Fn() -> usize,
    ) -> Option<(Effect, Engine)> {
        let both = first.extent.and(second);
        let part = self.part(second);
        let made = known.filter(|(of, _)| of == second).map(|(_, after)| after);
        let made = made.or_else(|| self.after(&part, step)).filter(|_| first.is_whole);
        let Some((declared, after)) = made else {
            return self.weighed((step, &both), None, false, most);
        };
        let mut count: usize = cells.values().map(Vec::len).sum();
        let after_both = (&declared, &after);
        let mut is_limited = first.is_limited;
        is_limited |= self.compare(&part, after_both, second, most(), |who, turned| {
            let known = cells.entry(who.to_owned()).or_default();
            let before = known.len();
            known.extend_from_slice(turned);
            known.sort_unstable();
            known.dedup();
            count += known.len() - before;
            count <= most()
        });
        let mut effect = Effect { is_limited, is_partial: count > most(), ..Effect::default() };
        for (who, cells) in &cells {
            effect.add_cells(who, after.estate(), cells);
        }
        effect.sort_levels();
        Some((effect, after))
    }

    /// What is gone through: all that a step concerns; where it may be found to turn more than `most`
    /// cells, some of that before, as what it does to some it does in any case. Of a step that was
    /// gauged it is known what it does close by to the one who asks alone. `None` where nobody asks.
    pub(super) fn stages(
        &self,
        extent: &Extent,
        is_gauged: bool,
        most: usize,
    ) -> Option<Vec<Extent>> {
        if most == usize::MAX {
            return Some(vec![extent.clone()]);
        }
        let alone = &self.alone(extent)?;
        let is_wide = self.number(&extent.concerned) > 2 * SAMPLE;
        let some = is_wide.then(|| {
            let people = self.people(&extent.concerned).into_iter();
            extent.only(people.take(SAMPLE).collect())
        });
        let near = |rows: usize, of: Option<&Extent>| {
            let places = Places::Below(vec![self.near(&extent.places, rows)?]);
            Some(Extent { places, ..of?.clone() })
        };
        let mut stages = Vec::new();
        stages.extend(near(NEAR, (!is_gauged).then_some(alone)));
        stages.extend(near(NEAR, some.as_ref()));
        stages.extend(near(AROUND, Some(alone)));
        let here_and_there = self.granted_within(&extent.places, HERE_AND_THERE);
        stages.extend(here_and_there.map(|places| Extent { places, ..alone.clone() }));
        if self.number(&extent.concerned) > 1 {
            stages.push(alone.clone());
        }
        stages.extend(some);
        stages.push(extent.clone());
        Some(stages)
    }

    /// The largest scope around the request's path that has no more than so many rows, where all these
    /// places have many more.
    fn near(&self, places: &Places, most: usize) -> Option<ScopeId> {
        let estate = self.estate();
        let rows = |at: ScopeId| estate.scopes.subtree(at).len();
        let holds = |at: ScopeId| match places {
            Places::Everywhere => true,
            Places::Below(all) => all.iter().any(|one| estate.scopes.holds(*one, at)),
        };
        let around = estate.scopes.nearest(&self.request.on)?;
        let near = estate.scopes.chain(around).filter(|at| rows(*at) <= most).last()?;
        (places.rows(estate) > 2 * most && holds(near)).then_some(near)
    }

    /// Some scopes of these places in which something is allowed to the one who asks, of so many rows
    /// together, where these places have many more: what a step turns that is not about the path, it
    /// turns there.
    fn granted_within(&self, places: &Places, most: usize) -> Option<Places> {
        let estate = self.estate();
        if places.rows(estate) <= 4 * most {
            return None;
        }
        let who = estate.find_principal(&self.request.who)?;
        let mut decider = Decider::new(self.index());
        let session = decider.session_of(who, &[], None, self.request.time);
        let actions = ActionSet::all(estate.catalogue.actions.len());
        let granted = decider.where_allowed(&session, Some(self.request.time), &actions);
        let mut waiting: Vec<ScopeId> =
            granted.into_iter().map(|range| ScopeId::new(range.start)).collect();
        // The smallest are taken from the end first: more is tied to them.
        waiting.sort_by_key(|at| Reverse(estate.scopes.subtree(*at).len()));
        let (mut found, mut left) = (Vec::new(), most);
        while let Some(at) = waiting.pop().filter(|_| left > 0) {
            let rows = estate.scopes.subtree(at);
            let is_there = match places {
                Places::Everywhere => true,
                Places::Below(all) => all.iter().any(|one| estate.scopes.holds(*one, at)),
            };
            if rows.len() <= left && is_there {
                left -= rows.len();
                found.push(at);
                continue;
            }
            let mut next = rows.start + 1;
            while next < rows.end {
                waiting.push(ScopeId::new(next));
                next = estate.scopes.subtree(ScopeId::new(next)).end;
            }
        }
        (!found.is_empty()).then_some(Places::Below(found))
    }

    /// What else comes of a step.
    fn effect(
        &self,
        part: &EstatePart,
        after: (&Declarations, &Engine),
        extent: &Extent,
        most: &dyn Fn() -> usize,
    ) -> Effect {
        let mut effect = Effect::default();
        let estate = after.1.estate();
        effect.is_limited = self.compare(part, after, extent, most(), |who, cells| {
            effect.add_cells(who, estate, cells);
            effect.size() <= most()
        });
        effect.sort_levels();
        effect
    }
}
