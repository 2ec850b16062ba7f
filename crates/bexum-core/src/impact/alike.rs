//! Which sessions a change treats alike at a place: those for which everything is the same that a decision
//! looks at. They gain and lose the same there, so only one of them is compared.
//!
//! A decision about some actions at a place, now or later, looks at nothing of who asks but this
//! (spec section 6):
//! - whether it is a session at all: whether the user is enabled, and the role one that they can
//!   take up;
//! - what is attached to its subjects there or above that names one of the actions, the ceilings that
//!   bound them, and when each counts;
//! - what the conditions of these statements about the actions, and the braces of the patterns, ask
//!   about who asks;
//! - at each moment from now on at which its subjects are others.
//!
//! And what is told apart among the items of the place hangs on the patterns of all that is attached
//! to its subjects, whatever it names (section 8, "row").

mod kept;
mod numbers;
mod profile;
mod voices;

use std::ops::Range;
use std::rc::Rc;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use rustc_hash::FxHashMap;

use super::Comparison;
use super::at_place::AtPlaces;
use super::changes::Numbered;
use super::places::Places;
use crate::catalogue::TargetClass;
use crate::engine::{Index, SubjectId};
use crate::id::PolicyId;
use crate::time::{Time, Window};
use kept::Kept;
use numbers::Numbers;
use voices::{Says, Sense, VoiceBelow, actions_of, voice};

pub(super) use kept::KnownProfile;
pub(super) use numbers::{AskedPart, Matters, SeenThere};
pub(super) use profile::{AskedOfWho, Asker, Profile};
pub(super) use voices::{Concern, of_who};

/// A policy that counts for a subject at a place and below, or everywhere.
#[derive(Clone, Copy, Debug)]
struct Tie {
    /// 0 for everywhere; else one more than the place.
    from: u32,
    policy: PolicyId,
    /// The window, as a number.
    window: u32,
    is_ceiling: bool,
}

/// An attachment or ceiling of a policy that may matter for the compared actions.
#[derive(Clone, Copy, Debug)]
pub(super) struct Say {
    tie: Tie,
    sense: Sense,
}

/// What is tied to subjects and has a say, by the concern and the estate.
pub(super) type SaysOfSubjects = FxHashMap<(u32, usize, SubjectId), Rc<[Say]>>;

/// A run of neighbouring places at which a session has the same number.
pub(super) type Piece = (Range<u32>, u32);

/// The policies whose actions count, by name; `None`: any action.
pub(super) type Policies = Option<Vec<Box<str>>>;

/// What is worked out once for all sessions.
pub(super) struct Shared<'c, 'e> {
    comparison: &'c Comparison<'e>,
    pub(super) places: Places,
    ties: [FxHashMap<SubjectId, Vec<Tie>>; 2],
    windows: Vec<Window>,
    /// The number of the window that is always open.
    always: u32,
    concerns: Mutex<FxHashMap<Policies, Arc<Concern>>>,
    numbers: Mutex<Numbers>,
    kept: Mutex<Kept>,
    pub(super) at_places: AtPlaces,
}

impl<'c, 'e> Shared<'c, 'e> {
    pub(super) fn new(comparison: &'c Comparison<'e>) -> Self {
        let indexes = [comparison.before, comparison.after];
        let places = Places::new(indexes.map(Index::estate));
        let mut windows: Numbered<Window> = Numbered::default();
        let always = windows.number(Window::ALWAYS);
        let ties = [0, 1].map(|i| ties(indexes[i], i, &places, &mut windows));
        Self {
            comparison,
            places,
            ties,
            windows: windows.all,
            always,
            concerns: Mutex::default(),
            numbers: Mutex::default(),
            kept: Mutex::default(),
            at_places: AtPlaces::default(),
        }
    }

    pub(super) fn numbers(&self) -> MutexGuard<'_, Numbers> {
        self.numbers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The concern for these policies' actions, or for any action.
    pub(super) fn concern(&self, policies: &Policies) -> Arc<Concern> {
        let mut concerns = self.concerns.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = concerns.get(policies) {
            return Arc::clone(known);
        }
        let estates = [self.comparison.before, self.comparison.after].map(Index::estate);
        let actions = estates.map(|estate| Some(actions_of(estates, policies.as_ref()?, estate)));
        let may_apply = |i: usize, class: TargetClass| {
            let applicable = estates[i].catalogue.applicable(class);
            let wanted = actions[i].as_ref();
            wanted.map_or(!applicable.is_empty(), |wanted| !applicable.is_disjoint(wanted))
        };
        // Most scopes are of a few sorts.
        let mut known: FxHashMap<(usize, TargetClass), bool> = FxHashMap::default();
        let mut applies = |[before, after]: &[Option<_>; 2]| {
            [before, after].into_iter().enumerate().any(|(i, id)| {
                let Some(id) = *id else { return false };
                let scope = estates[i].scope(id);
                let class = scope.class();
                let may_apply = *known.entry((i, class)).or_insert_with(|| {
                    may_apply(i, class)
                        || scope.holds_items() && may_apply(i, TargetClass::Item(scope.kind))
                });
                may_apply || self.comparison.targets[i].has_identities(id)
            })
        };
        let all = self.places.all().zip(&self.places.scopes);
        let concern = Arc::new(Concern {
            number: concerns.len() as u32,
            places: all.filter(|(_, scopes)| applies(scopes)).map(|(place, _)| place).collect(),
            says: estates.map(|e| (0..e.policies.len()).map(|_| OnceLock::new()).collect()),
            actions,
        });
        concerns.insert(policies.clone(), Arc::clone(&concern));
        concern
    }

    fn says<'s>(&self, concern: &'s Concern, estate: usize, policy: PolicyId) -> &'s Says {
        concern.says[estate][policy.index()].get_or_init(|| {
            let index = [self.comparison.before, self.comparison.after][estate];
            let wanted = concern.actions[estate].as_ref();
            Box::new(Says([Sense::Allows, Sense::Denies, Sense::Bounds].map(|sense| {
                voice((estate, index.estate()), policy, sense, wanted, &mut |texts| {
                    self.numbers().patterns.number(texts)
                })
            })))
        })
    }

    /// What is tied to a subject at, above or below some of these places and has a say where something
    /// counts.
    fn says_of(
        &self,
        concern: &Concern,
        (estate, subject): (usize, SubjectId),
        within: &[Range<u32>],
    ) -> Rc<[Say]> {
        let ties = self.ties[estate].get(&subject).into_iter().flatten();
        let ties = ties.filter(|tie| self.counts_within(tie, within));
        let says = ties.flat_map(|tie| {
            let senses: &[Sense] = match tie.is_ceiling {
                true => &[Sense::Bounds],
                false => &[Sense::Allows, Sense::Denies],
            };
            senses.iter().map(|sense| Say { tie: *tie, sense: *sense })
        });
        says.filter(|say| self.has_a_say(concern, estate, say)).collect()
    }

    /// Whether something is tied at, above or below some of these places.
    fn counts_within(&self, tie: &Tie, within: &[Range<u32>]) -> bool {
        tie.from.checked_sub(1).is_none_or(|place| {
            let below = self.places.below(place);
            within.iter().any(|range| below.start < range.end && range.start < below.end)
        })
    }

    /// What a policy that bounds a session has to say.
    fn bound(&self, policy: PolicyId) -> Say {
        let tie = Tie { from: 0, policy, window: self.always, is_ceiling: true };
        Say { tie, sense: Sense::Bounds }
    }

    fn has_a_say(&self, concern: &Concern, estate: usize, say: &Say) -> bool {
        let place = say.tie.from.checked_sub(1);
        place.is_none_or(|place| !concern.places_in(self.places.below(place)).is_empty())
            && self.says(concern, estate, say.tie.policy).0[say.sense as usize].is_some()
    }

    /// Where something tied to a session may allow it something that counts, at its moment.
    pub(super) fn add_allowed(
        &self,
        concern: &Concern,
        estate: usize,
        (says, time): (&[Say], Time),
        found: &mut Vec<Range<u32>>,
    ) {
        for Say { tie, .. } in says.iter().filter(|say| say.sense == Sense::Allows) {
            let says = &self.says(concern, estate, tie.policy).0[Sense::Allows as usize];
            let acts = says.as_ref().is_some_and(|voice| matches!(voice.below, VoiceBelow::All));
            if acts && self.windows[tie.window as usize].holds(time) {
                found.extend(tie.from.checked_sub(1).map(|place| self.places.below(place)));
            }
        }
    }

    /// The runs of places in a range at which the same is seen of a session.
    pub(super) fn pieces(&self, profile: &Profile, range: Range<u32>) -> Vec<Piece> {
        let mut numbers = self.numbers();
        let mut pieces: Vec<Piece> = Vec::new();
        let sites = &profile.sites;
        let first = sites.partition_point(|(place, _)| *place < range.start);
        let mut seen = profile.root;
        for (place, brought) in &sites[..first] {
            if self.places.below(*place).end > range.start {
                seen = numbers.seen(seen, brought);
            }
        }
        let mut from = range.start;
        let mut open: Vec<(u32, u32)> = vec![(range.end, seen)];
        let mut close = |until: u32, from: &mut u32, seen: u32| {
            if *from < until {
                pieces.push((*from..until, seen));
                *from = until;
            }
        };
        for (place, brought) in sites[first..].iter().take_while(|(place, _)| *place < range.end) {
            while let Some((end, seen)) = open.last().copied().filter(|(end, _)| end <= place) {
                close(end, &mut from, seen);
                open.pop();
            }
            let Some((_, seen)) = open.last().copied() else { break };
            close(*place, &mut from, seen);
            let end = self.places.below(*place).end.min(range.end);
            open.push((end, numbers.seen(seen, brought)));
        }
        while let Some((end, seen)) = open.pop() {
            close(end, &mut from, seen);
        }
        pieces
    }
}

/// What is tied to each subject of an estate, with windows by their numbers.
fn ties(
    index: &Index,
    estate_number: usize,
    places: &Places,
    windows: &mut Numbered<Window>,
) -> FxHashMap<SubjectId, Vec<Tie>> {
    let (estate, numbers) = (index.estate(), index.scope_index.subject_ids);
    let mut ties: FxHashMap<SubjectId, Vec<Tie>> = FxHashMap::default();
    for one in &estate.attachments {
        let window = windows.number(one.window);
        for at in &one.at {
            let from = places.of(estate_number, at.value) + 1;
            for to in &one.to {
                let tied = ties.entry(numbers.of(to.value)).or_default();
                tied.extend(one.policies.iter().map(|policy| Tie {
                    from,
                    policy: policy.value,
                    window,
                    is_ceiling: false,
                }));
            }
        }
    }
    for one in &estate.ceilings {
        let window = windows.number(one.window);
        let over: Vec<u32> = match &one.over {
            None => vec![0],
            Some(over) => over.iter().map(|at| places.of(estate_number, at.value) + 1).collect(),
        };
        for bound in &one.bound {
            let tied = ties.entry(numbers.of(*bound)).or_default();
            for from in &over {
                tied.extend(one.policies.iter().map(|policy| Tie {
                    from: *from,
                    policy: policy.value,
                    window,
                    is_ceiling: true,
                }));
            }
        }
    }
    ties
}
