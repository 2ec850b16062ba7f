//! What becomes of a session's cells on a row, put together from what policies come to there.

use std::cmp::Ordering;

use super::{AskingBoth, AskingHere, AtPlace, Key, OneHere, RowHere};
use crate::catalogue::ActionSet;
use crate::engine::{EvalContext, InForce, Index, Sense, Session, parts};
use crate::id::ActionId;
use crate::impact::Outcome;
use crate::impact::compare::{SaidOnce, Turn};
use crate::impact::said::{CERTAIN, MayTurn, left_open};
use crate::impact::sessions::{ActionsIn, Compared, InBoth};
use crate::pattern::residual::FRESH;
use crate::prove::Opened;
use crate::reach::{AccessTarget, Viewpoint};
use crate::request::{Query, TargetPlace};
use crate::time::Window;
use crate::truth::Truth;

/// What a policy comes to on a row.
pub(super) struct Says {
    /// What it allows or denies, or as a ceiling lets through: for certain, and perhaps.
    for_certain: ActionSet,
    perhaps: ActionSet,
    /// What is left open or certain.
    left: Vec<LeftOf>,
}

/// A row as statements are asked about it: for these actions, those of one kind together.
struct AskedOf<'s> {
    query: Query<'s>,
    parts: Vec<(ActionId, ActionSet)>,
    mask: &'s ActionSet,
}

/// What a policy leaves open of some actions.
struct LeftOf {
    actions: ActionSet,
    texts: Vec<u32>,
    /// What its statements ask about besides circumstances; `None` where more than that matters.
    asked: Option<Vec<u32>>,
}

/// What a statement or ceiling leaves open of an action: the sense and window, and the text, as numbers.
type Voice = (Sense, u32, u32);

impl<'e> Compared<'_, 'e> {
    /// As [`compare`](Self::compare), for a session of which much is known.
    pub(in crate::impact) fn compare_here(
        &mut self,
        session: &InBoth,
        asking: &AskingBoth<'e>,
        here: &RowHere,
        actions: ActionsIn<'_>,
    ) -> Vec<Turn> {
        let ([Some(before), Some(after)], [Some(old), Some(new)], true) =
            (session, &here.row, here.is_alike)
        else {
            return self.compare(session, &here.row, actions);
        };
        let each = [(before, old), (after, new)];
        let [(was, said), (is, says)] = [0, 1].map(|i| {
            let (view, target) = each[i];
            self.comes_to(i, (&asking.sides[i], view), (here.number, target), actions[i])
        });
        let estate = self.comparison.before.estate();
        let mut once: SaidOnce<'e> = SaidOnce::default();
        let mut found = Vec::new();
        for action in was.counting(&is).ones() {
            let (before, after) = (was.outcome(action), is.outcome(action));
            if before == after && before != Outcome::Depends {
                continue;
            }
            let id = ActionId::new(action);
            let name = &estate.catalogue.action(id).name;
            let turned = match before.cmp(&after) {
                Ordering::Less => (Opened::Yes, Opened::No),
                Ordering::Greater => (Opened::No, Opened::Yes),
                Ordering::Equal => {
                    let kind = estate.catalogue.action(id).kind.0;
                    let left = [&said, &says].map(|said| self.at_place.left_of(said, action));
                    let turn = may_turn(&left[0].voices, &left[1].voices);
                    let is_sample = old.asked.contains(FRESH);
                    let is_known = !(is_sample && asking.has_given_braces());
                    let key = match left {
                        _ if turn.and(self.comparison.may_turn) == MayTurn::NEITHER => continue,
                        [
                            LeftHere { voices: was, asked: Some(asked_before) },
                            LeftHere { voices: is, asked: Some(asked) },
                        ] if is_known => {
                            Some(key_of(kind, is_sample, [&was, &is], [&asked_before, &asked]))
                        }
                        _ => None,
                    };
                    let known = key.as_ref().and_then(|key| self.at_place.turned.get(key));
                    match known {
                        Some(known) => *known,
                        None => {
                            let turned = self.turned_once(session, &here.row, &mut once, name);
                            if let Some(key) = key.filter(|_| !self.comparison.is_spent()) {
                                self.at_place.turned.insert(key, turned);
                            }
                            turned
                        }
                    }
                }
            };
            found.extend(Turn::of(name, [before, after], turned));
        }
        found
    }

    /// What a session can do on a row, and what has a say about it, by its number.
    fn comes_to(
        &mut self,
        side: usize,
        (asking, view): (&AskingHere<'e>, &Viewpoint),
        (row, target): (u32, &AccessTarget),
        wanted: Option<&ActionSet>,
    ) -> (ComesTo, Vec<(InForce, u32)>) {
        let index = self.sides[side].decider.index;
        let estate = index.estate();
        let none = || ActionSet::with_capacity(estate.catalogue.actions.len());
        let mut mask = target.applicable(estate).clone();
        if let Some(wanted) = wanted {
            mask.intersect_with(wanted);
        }
        let mut said = Vec::with_capacity(asking.in_force.len());
        let (mut allowed, mut denied) = ([none(), none()], [none(), none()]);
        let mut passed = [mask.clone(), mask.clone()];
        let here = &mut self.at_place;
        let is_identity =
            matches!(target.place, TargetPlace::Identity(..) | TargetPlace::Policy(..));
        let mut asked_of: Option<AskedOf<'_>> = None;
        for OneHere { one, asked, asked_here, counts, .. } in &asking.in_force {
            if one.is_stopped || !one.sense.is_about(estate, one.policy, &mask) {
                continue;
            }
            let asked = if is_identity { *asked } else { *asked_here };
            let key = (side, row, one.sense, one.policy, one.anchor, asked);
            let number = match here.says.get(&key) {
                Some(known) => *known,
                None => {
                    let asked_of = asked_of.get_or_insert_with(|| {
                        let any = view.query(target, ActionId::new(0));
                        AskedOf { parts: parts(index, &any, &mask), query: any, mask: &mask }
                    });
                    let says = here.find_out(index, &asking.session, asked_of, one);
                    let number = here.found.len() as u32;
                    here.found.push(says);
                    here.says.insert(key, number);
                    number
                }
            };
            let says = &here.found[number as usize];
            said.push((*one, number));
            if *counts {
                let sets = match one.sense {
                    Sense::Allows => &mut allowed,
                    Sense::Denies => &mut denied,
                    Sense::Bounds | Sense::BoundsByDenies => {
                        passed[0].intersect_with(&says.for_certain);
                        passed[1].intersect_with(&says.perhaps);
                        continue;
                    }
                };
                sets[0].union_with(&says.for_certain);
                sets[1].union_with(&says.perhaps);
            }
        }
        let [mut allow, mut perhaps] = allowed;
        // A deny counts when it is not false; in the hopeful reading, only when it is true.
        allow.difference_with(&denied[1]);
        perhaps.difference_with(&denied[0]);
        allow.intersect_with(&passed[0]);
        perhaps.intersect_with(&passed[1]);
        let comes_to = match asking.is_refused {
            true => ComesTo { allow: none(), perhaps: none() },
            false => ComesTo { allow, perhaps },
        };
        (comes_to, said)
    }
}

/// What somebody can do on a row.
struct ComesTo {
    allow: ActionSet,
    /// What is allowed at least if all that is undecided came out in favour.
    perhaps: ActionSet,
}

impl ComesTo {
    fn outcome(&self, action: usize) -> Outcome {
        match (self.allow.contains(action), self.perhaps.contains(action)) {
            (true, _) => Outcome::Allow,
            (false, true) => Outcome::Depends,
            (false, false) => Outcome::Deny,
        }
    }

    /// The actions that one of both does not deny.
    fn counting(&self, other: &Self) -> ActionSet {
        let mut all = self.perhaps.clone();
        [&self.allow, &other.allow, &other.perhaps].into_iter().for_each(|one| all.union_with(one));
        all
    }
}

/// What is left open of an action.
struct LeftHere {
    voices: Vec<Voice>,
    asked: Option<Vec<u32>>,
}

impl AtPlace {
    /// As [`RowSaid::voices_here`](super::said::RowSaid::voices_here).
    fn left_of(&mut self, said: &[(InForce, u32)], action: usize) -> LeftHere {
        let certain = self.text(CERTAIN);
        let always = self.windows.number(Window::ALWAYS);
        let mut voices: Vec<Voice> = Vec::new();
        let mut asked: Option<Vec<u32>> = Some(Vec::new());
        for (one, number) in said {
            let left = &self.found[*number as usize].left;
            let about = left.iter().find(|left| left.actions.contains(action));
            let Some(left) = about else { continue };
            let window = self.windows.number(one.window);
            voices.extend(left.texts.iter().map(|text| (one.sense, window, *text)));
            match (&mut asked, &left.asked) {
                (Some(all), Some(asked)) => all.extend(asked),
                _ => asked = None,
            }
        }
        for sense in [Sense::Allows, Sense::Denies] {
            // Beside one that is certain at all times others of its sense decide nothing.
            if voices.contains(&(sense, always, certain)) {
                voices.retain(|one| one.0 != sense || *one == (sense, always, certain));
            }
        }
        voices.sort_unstable();
        voices.dedup();
        if let Some(asked) = &mut asked {
            asked.sort_unstable();
            asked.dedup();
        }
        LeftHere { voices, asked }
    }

    /// What a policy comes to on a row, for one who asks.
    fn find_out(
        &mut self,
        index: &Index,
        session: &Session<'_>,
        AskedOf { query, parts, mask }: &mut AskedOf<'_>,
        one: &InForce,
    ) -> Says {
        let estate = index.estate();
        let none = || ActionSet::with_capacity(estate.catalogue.actions.len());
        let mut sets = [[none(), none()], [none(), none()]];
        // What is left open of statements, and of which of the actions that they name.
        let mut left: [Vec<(ActionSet, u32, Option<u32>)>; 2] = Default::default();
        for (action, part) in &*parts {
            query.action = *action;
            let roles = Some(session.roles_of(one.sense.sees()));
            let context = EvalContext { index, query, closure: &session.closure, roles };
            for (k, ids) in one.sense.statements(estate, one.policy).into_iter().enumerate() {
                for id in ids {
                    let statement = estate.statement(*id);
                    if statement.actions.is_disjoint(part) {
                        continue;
                    }
                    let truth = context.truth(*id, one.anchor);
                    if truth == Truth::True {
                        sets[k][0].add_common(&statement.actions, part);
                    }
                    if truth != Truth::False {
                        sets[k][1].add_common(&statement.actions, part);
                    }
                    let Some(open) = left_open(statement, one.anchor, &context) else { continue };
                    let mut actions = none();
                    actions.add_common(&statement.actions, part);
                    let facts = open.facts.as_ref().map(|facts| self.text(facts));
                    left[k].push((actions, self.text(&open.text), facts));
                }
            }
        }
        let [allows, [denied, perhaps_denied]] = sets;
        let [mut for_certain, mut perhaps] = match one.sense {
            Sense::Allows | Sense::Bounds => allows,
            Sense::Denies => [denied.clone(), perhaps_denied.clone()],
            Sense::BoundsByDenies => [mask.clone(), mask.clone()],
        };
        if matches!(one.sense, Sense::Bounds | Sense::BoundsByDenies) {
            for_certain.difference_with(&perhaps_denied);
            perhaps.difference_with(&denied);
        }
        // Actions that the same statements name have the same left open.
        let mut groups: Vec<ActionSet> = vec![mask.clone()];
        for (named, ..) in left.iter().flatten() {
            let parted = groups.iter_mut().filter_map(|group| {
                let mut both = none();
                both.add_common(group, named);
                group.difference_with(&both);
                (!both.is_empty()).then_some(both)
            });
            let parted: Vec<ActionSet> = parted.collect();
            groups.extend(parted);
            groups.retain(|group| !group.is_empty());
        }
        let left = groups.into_iter().filter_map(|group| self.left(one.sense, &left, group));
        Says { for_certain, perhaps, left: left.collect() }
    }

    /// What a policy leaves open of actions that the same of its statements name: each statement by itself,
    /// or all that a ceiling has to say.
    fn left(
        &mut self,
        sense: Sense,
        left: &[Vec<(ActionSet, u32, Option<u32>)>; 2],
        actions: ActionSet,
    ) -> Option<LeftOf> {
        let certain = self.text(CERTAIN);
        let action = actions.minimum()?;
        let mut asked = Some(Vec::new());
        let [mut allows, denies] = left.each_ref().map(|left| {
            let about = left.iter().filter(|(named, ..)| named.contains(action));
            let texts = about.map(|(_, text, facts)| {
                match (&mut asked, facts) {
                    (Some(all), Some(facts)) => all.extend((*facts != certain).then_some(*facts)),
                    _ => asked = None,
                }
                *text
            });
            let mut texts: Vec<u32> = texts.collect();
            texts.sort_unstable();
            texts
        });
        let texts = match sense {
            Sense::Allows | Sense::Denies => {
                allows.extend(denies);
                allows
            }
            // One that lets everything through has nothing to say.
            Sense::Bounds | Sense::BoundsByDenies
                if (sense == Sense::BoundsByDenies || allows.contains(&certain))
                    && denies.is_empty() =>
            {
                Vec::new()
            }
            Sense::Bounds | Sense::BoundsByDenies => {
                let bounds = [&[allows.len() as u32], &allows[..], &denies[..]].concat();
                vec![self.bounds.number(bounds.into())]
            }
        };
        let is_nothing = texts.is_empty() && asked.as_ref().is_some_and(Vec::is_empty);
        (!is_nothing).then_some(LeftOf { actions, texts, asked })
    }
}

/// As [`SaidOfAction::may_turn`](super::said::SaidOfAction::may_turn), where all else is the same.
fn may_turn(old: &[Voice], new: &[Voice]) -> MayTurn {
    let mut turn = MayTurn::NEITHER;
    for (some, others, is_new) in [(old, new, false), (new, old, true)] {
        for voice in some.iter().filter(|voice| others.binary_search(voice).is_err()) {
            let opens = (voice.0 == Sense::Allows) == is_new;
            turn = turn.or(MayTurn { open: opens, close: !opens });
        }
    }
    turn
}

/// All that what becomes of an action hangs on.
fn key_of(kind: u32, is_sample: bool, voices: [&[Voice]; 2], asked: [&[u32]; 2]) -> Key {
    let mut key = vec![kind << 1 | u32::from(is_sample)];
    for voices in voices {
        key.push(voices.len() as u32);
        let each = voices.iter().map(|(sense, window, text)| [*sense as u32, *window, *text]);
        key.extend(each.flatten());
    }
    for asked in asked {
        key.push(asked.len() as u32);
        key.extend(asked);
    }
    key.into()
}
