//! The rows of two estates beside each other (spec-work section 8).

use std::collections::{BTreeMap, BTreeSet};
use std::convert::Infallible;

use super::sessions::{ActionsIn, Compared, InBoth, Row, Side};
use crate::condition::Reference;
use crate::condition::check::TargetAttribute;
use crate::engine::{EvalContext, StatementInPlay};
use crate::estate::Estate;
use crate::id::{ActionId, ScopeId};
use crate::items;
use crate::pattern::path::Segment;
use crate::pattern::residual::{FRESH, Rest};
use crate::policy::Statement;
use crate::reach::{AccessTarget, TargetSort, Viewpoint};
use crate::request::TargetPlace;

impl Compared<'_, '_> {
    /// The rows of a scope that one of the estates declares, by what they are called.
    pub(super) fn rows(
        &mut self,
        session: &InBoth,
        path: &str,
        actions: ActionsIn<'_>,
    ) -> BTreeMap<String, Row> {
        let mut found: BTreeMap<String, Row> = BTreeMap::new();
        let mut has_items = false;
        for (i, side) in self.sides.iter().enumerate() {
            let Some(id) = side.decider.index.estate().scopes.find(path) else { continue };
            for target in self.comparison.targets[i].at(id) {
                if !self.applies(i, &target, actions[i]) {
                    continue;
                }
                match target.sort {
                    TargetSort::Items => has_items = true,
                    _ => {
                        let row = found.entry(target.shown.clone()).or_default();
                        row[i] = Some(target);
                    }
                }
            }
        }
        if has_items {
            let open = vec![FRESH; self.many].join("/");
            let mut items = vec![("**".to_owned(), open)];
            items.extend(self.singled_out(session, path));
            for (shown, asked) in items {
                let (shown, asked) = (format!("{path}/{shown}"), format!("{path}/{asked}"));
                let row = self.sides.each_ref().map(|side| {
                    let place = item_at(side.decider.index.estate(), &asked)?;
                    let (shown, asked) = (shown.clone(), asked.clone());
                    Some(AccessTarget { shown, asked, sort: TargetSort::Pattern, place })
                });
                // What is declared in either has a row of its own, and so have the items below it.
                let is_of_another = |side: &Side<'_>| {
                    let estate = side.decider.index.estate();
                    let nearest = estate.scopes.nearest(&asked).map(|id| estate.scope(id));
                    nearest.is_some_and(|scope| scope.path.len() > path.len())
                        || estate.identity_at(&asked).is_some()
                };
                if !self.sides.iter().any(is_of_another) {
                    found.entry(shown).or_insert(row);
                }
            }
        }
        found
    }

    /// The row of a single path: of what is declared there, or of the item.
    pub(super) fn row_of(&self, path: &str) -> Row {
        std::array::from_fn(|i| {
            let estate = self.sides[i].decider.index.estate();
            let nearest = estate.scopes.nearest(path)?;
            let is_it = |target: &AccessTarget| target.shown == path;
            let declared = self.comparison.targets[i].at(nearest).find(is_it);
            declared.or_else(|| {
                let (shown, asked) = (path.to_owned(), path.to_owned());
                let place = item_at(estate, path)?;
                Some(AccessTarget { shown, asked, sort: TargetSort::Pattern, place })
            })
        })
    }

    /// The items that patterns single out below a scope in either estate, each as it is shown and as
    /// it is asked; and those that two of them single out together, of which one does so in one of
    /// the estates alone, or any where later moments count: nothing is shown then, and what is said
    /// is said of all items. If these are not all, the scope is one of those that are limited.
    fn singled_out(&mut self, session: &InBoth, path: &str) -> BTreeMap<String, String> {
        let mut rests: BTreeMap<String, (Rest, String)> = BTreeMap::new();
        let mut known: [BTreeSet<String>; 2] = Default::default();
        let times = if self.with_later { self.times(session) } else { Vec::new() };
        let mut asks_for_names = false;
        let mut views: Vec<(usize, Viewpoint)> = Vec::new();
        for (i, view) in session.iter().enumerate() {
            let Some(view) = view else { continue };
            views.push((i, view.clone()));
            let later = times.iter().filter(|time| **time != view.time);
            views.extend(later.map(|time| (i, Viewpoint { time: *time, ..view.clone() })));
        }
        for (i, view) in views {
            let side = &mut self.sides[i];
            let index = side.decider.index;
            let estate = index.estate();
            let Some(nearest) = estate.scopes.nearest(path) else { continue };
            let target = items_at(path, nearest);
            let query = view.query(&target, ActionId::new(0));
            let asking = side.decider.session(&query);
            let segments: Vec<&str> = path.split('/').collect();
            let rests_of = |statements: &[StatementInPlay]| {
                let context = |i: usize| EvalContext {
                    index,
                    query: &query,
                    closure: &asking.closure,
                    roles: Some(asking.roles_of(statements[i].sees)),
                };
                items::rests(&segments, statements, &context, self.many)
            };
            // A pattern whose time is over, or not come, is there all the same.
            let at_any_time = side.decider.statements_at_any_time(&asking, &query);
            let (ever, whole_ever) = rests_of(&at_any_time);
            asks_for_names |= self.with_later
                && at_any_time.iter().any(|said| asks_for_a_name(estate.statement(said.id)));
            known[i].extend(ever.iter().map(|(rest, _)| rest.text.to_string()));
            let in_play = match self.with_later {
                true => None,
                false => Some(side.decider.statements_in_play(&asking, &query)),
            };
            // Those in play are some of these, mostly all.
            let in_play = in_play.filter(|in_play| in_play.len() < at_any_time.len());
            let (found, whole) = match in_play {
                None => (ever, whole_ever),
                Some(in_play) => rests_of(&in_play),
            };
            side.limited.extend((!whole).then_some(nearest));
            for (rest, asked) in found {
                rests.entry(rest.text.to_string()).or_insert((rest, asked));
            }
        }
        let sides = &self.sides;
        let is_free = |below: &str| {
            sides.iter().all(|side| {
                let estate = side.decider.index.estate();
                estate.scopes.find(path).is_none_or(|id| items::is_item(estate, id, below))
            })
        };
        let all: Vec<_> = rests.into_values().collect();
        let differs = |rest: &Rest| known.iter().any(|known| !known.contains(&*rest.text));
        let mut found = BTreeMap::new();
        let mut meetings = Vec::new();
        for (i, (one, asked)) in all.iter().enumerate() {
            found.insert(one.text.to_string(), asked.clone());
            for (at, (other, asked_of_other)) in all[..i].iter().enumerate() {
                // Where it is said that nothing is opened, all items count.
                let counts = self.with_later || differs(one) || differs(other);
                if !counts || other.takes(asked) || one.takes(asked_of_other) {
                    continue;
                }
                if let Some(both) = items::meeting(one, other, &is_free) {
                    meetings.push((at, i, both));
                }
            }
        }
        let are_told = !self.with_later
            || are_all_told(&all, &meetings, self.many) && (meetings.is_empty() || !asks_for_names);
        for (.., both) in meetings {
            found.entry(both.clone()).or_insert(both);
        }
        if !are_told {
            for side in &mut self.sides {
                side.limited.extend(side.decider.index.estate().scopes.nearest(path));
            }
        }
        found
    }
}

/// All items below a place.
pub(super) fn items_at(path: &str, scope: ScopeId) -> AccessTarget {
    AccessTarget {
        shown: path.to_owned(),
        asked: path.to_owned(),
        sort: TargetSort::Items,
        place: TargetPlace::Item(scope),
    }
}

/// Whether the condition of a statement asks what an item is called.
fn asks_for_a_name(statement: &Statement) -> bool {
    let is_name = |reference| {
        matches!(reference, Reference::Target(TargetAttribute::Path | TargetAttribute::Name))
    };
    let mut whens = statement.when.iter();
    whens.any(|when| when.references().iter().any(|(reference, _)| is_name(*reference)))
}

/// Whether every item is matched by the same of these patterns as one that stands for a pattern or for
/// a meeting of two, each by their numbers. `many`: more names than any pattern has.
fn are_all_told(all: &[(Rest, String)], meetings: &[(usize, usize, String)], many: usize) -> bool {
    let meet =
        |a: usize, b: usize| meetings.iter().any(|(i, j, _)| (*i, *j) == (a.min(b), a.max(b)));
    // Three that meet, each two of them, may all match one item.
    let no_three = meetings
        .iter()
        .all(|(i, j, _)| (0..all.len()).all(|third| !(meet(third, *i) && meet(third, *j))));
    // The shortest path of a meeting may be matched by a third pattern that not all the others are.
    let no_others = meetings.iter().all(|(i, j, both)| {
        let comes_along = |rest: &Rest| rest.takes(&all[*i].1) || rest.takes(&all[*j].1);
        all.iter().all(|(rest, _)| !rest.takes(both) || comes_along(rest))
    });
    // A `**` may stand for few names, where the item that stands for it has many.
    let is_rest = |segment: &Segment<Infallible>| matches!(segment, Segment::Rest);
    let no_shorter = all.iter().enumerate().all(|(i, (rest, example))| {
        let has_rest = rest.segments.iter().any(is_rest);
        let fewer = if has_rest { 0..many } else { 0..0 };
        fewer.into_iter().all(|few| {
            let shorter = rest.example(few);
            let names: Vec<&str> = shorter.split('/').filter(|name| !name.is_empty()).collect();
            let shorter = names.join("/");
            shorter.is_empty()
                || all.iter().enumerate().all(|(j, (other, _))| {
                    other.takes(&shorter) == other.takes(example) || meet(i, j)
                })
        })
    });
    no_three && no_others && no_shorter
}

/// The place of an item by a path of fresh names; `None` where the estate has none there.
pub(super) fn item_at(estate: &Estate, path: &str) -> Option<TargetPlace> {
    let nearest = estate.scopes.nearest(path)?;
    let scope = estate.scope(nearest);
    let below = path.get(scope.path.len() + 1..)?;
    let first = below.split('/').next().unwrap_or_default();
    // Nothing lies below a user, group, role or policy.
    let is_free = estate.identity_at(&format!("{}/{first}", scope.path)).is_none();
    (is_free && scope.holds_items()).then_some(TargetPlace::Item(nearest))
}
