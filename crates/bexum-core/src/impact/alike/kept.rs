//! What was worked out of one session, for every other one of which the same is known.
//!
//! What comes to bear on a session, and where, follows from its moments, from its subjects at each of them as
//! far as anything is tied to these, and from the attributes of who asks that something tied to these subjects
//! asks about (what bounds a session is the same for all of a comparison): [`Compared::profile`] and
//! [`Compared::allowed`] look at nothing else. Many have these in common.

use std::ops::Range;
use std::sync::{Arc, MutexGuard, PoisonError};

use rustc_hash::{FxHashMap, FxHashSet};

use super::profile::{Asker, says_of};
use super::voices::{Concern, Sense, once};
use super::{Piece, Profile, Shared};
use crate::condition::check::WhoAttribute;
use crate::engine::SubjectId;
use crate::id::PolicyId;
use crate::impact::changes::Numbered;
use crate::impact::everybody::Stretch;
use crate::impact::sessions::{Compared, InBoth};
use crate::impact::touches::TouchedPart;
use crate::policy::Effect;
use crate::principal::Principal;
use crate::time::Time;

/// What is known of a session, but for the attributes of who asks.
#[derive(PartialEq, Eq, Hash)]
struct Standing {
    times: Vec<Time>,
    /// In each estate that has it.
    sides: [Option<StandingIn>; 2],
}

#[derive(PartialEq, Eq, Hash)]
struct StandingIn {
    speaks_for_nobody: bool,
    /// At each of the moments.
    at: Vec<StandingAt>,
}

#[derive(PartialEq, Eq, Hash)]
struct StandingAt {
    is_refused: bool,
    /// Those to whom anything is tied, as allows and as denies see them.
    subjects: [Vec<SubjectId>; 2],
}

/// Where a session is concerned, by neighbouring places with the same actions that count.
pub(in crate::impact) struct ConcernedIn {
    number: u32,
    pub(in crate::impact) stretches: Vec<(Arc<Concern>, Range<u32>)>,
}

/// What the sessions of somebody are concerned in: each is asked about what concerns another, too.
pub(in crate::impact) struct Concerns {
    number: u32,
    /// Each with its ranges of places.
    pub(in crate::impact) all: Vec<(Arc<Concern>, Vec<Range<u32>>)>,
}

impl Concerns {
    fn new(number: u32, sessions: &[Arc<ConcernedIn>]) -> Self {
        let mut all: Vec<(Arc<Concern>, Vec<Range<u32>>)> = Vec::new();
        let mut places: FxHashMap<u32, usize> = FxHashMap::default();
        let mut known: FxHashSet<(u32, Range<u32>)> = FxHashSet::default();
        for (concern, range) in sessions.iter().flat_map(|session| &session.stretches) {
            let place = *places.entry(concern.number).or_insert_with(|| {
                all.push((Arc::clone(concern), Vec::new()));
                all.len() - 1
            });
            if known.insert((concern.number, range.clone())) {
                all[place].1.push(range.clone());
            }
        }
        Self { number, all }
    }
}

/// An attribute of who asks, and what sees roles as statements of which effect do.
type AskedAttribute = (WhoAttribute, Effect);

/// By which a profile is found again: what is known of the session, which of what concerns, and what is known
/// of the attributes asked about.
type ProfileKey = (u32, (u32, usize), Vec<u32>);

/// What was worked out so far.
#[derive(Default)]
pub(super) struct Kept {
    standings: Numbered<Arc<Standing>>,
    concerned: FxHashMap<(u32, Vec<TouchedPart>), Arc<ConcernedIn>>,
    /// By the numbers of what each session is concerned in.
    concerns: FxHashMap<Vec<u32>, Arc<Concerns>>,
    /// By what is known of a session, and the concern.
    asked: FxHashMap<(u32, u32), Arc<[Vec<AskedAttribute>; 2]>>,
    profiles: FxHashMap<ProfileKey, KnownProfile>,
    /// By the number of a profile.
    pieces: FxHashMap<(u32, Range<u32>), Arc<[Piece]>>,
    /// By what the session is concerned in, and the numbers of its profiles.
    stretches: FxHashMap<(u32, Vec<u32>), Arc<[Stretch]>>,
}

/// A profile and its number.
#[derive(Clone)]
pub(in crate::impact) struct KnownProfile {
    number: u32,
    pub(in crate::impact) profile: Arc<Profile>,
}

impl Shared<'_, '_> {
    fn kept(&self) -> MutexGuard<'_, Kept> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Forgets what only finds profiles again, once everybody has theirs.
    pub(in crate::impact) fn has_everybody(&self) {
        let mut kept = self.kept();
        *kept = Kept { pieces: std::mem::take(&mut kept.pieces), ..Kept::default() };
    }

    /// The runs of places in a range at which the same is seen of a session.
    pub(in crate::impact) fn known_pieces(
        &self,
        KnownProfile { number, profile }: &KnownProfile,
        range: &Range<u32>,
    ) -> Arc<[Piece]> {
        let key = (*number, range.clone());
        if let Some(known) = self.kept().pieces.get(&key) {
            return Arc::clone(known);
        }
        let pieces = self.pieces(profile, range.clone());
        Arc::clone(self.kept().pieces.entry(key).or_insert(pieces.into()))
    }

    /// What the sessions of somebody are concerned in together.
    pub(in crate::impact) fn concerns(&self, sessions: &[Arc<ConcernedIn>]) -> Arc<Concerns> {
        let mut kept = self.kept();
        let number = kept.concerns.len() as u32;
        let key = sessions.iter().map(|session| session.number).collect();
        let concerns = kept.concerns.entry(key);
        Arc::clone(concerns.or_insert_with(|| Arc::new(Concerns::new(number, sessions))))
    }

    /// The stretches that a session is concerned in, with what is seen of it there; its profiles are in the
    /// order of the concerns.
    pub(in crate::impact) fn stretches(
        &self,
        concerned: &ConcernedIn,
        concerns: &Concerns,
        profiles: &[KnownProfile],
    ) -> Arc<[Stretch]> {
        let numbers = profiles.iter().map(|profile| profile.number).collect();
        let key = (concerned.number, numbers);
        if let Some(known) = self.kept().stretches.get(&key) {
            return Arc::clone(known);
        }
        let known = concerns.all.iter().zip(profiles);
        let profiles: FxHashMap<u32, &KnownProfile> =
            known.map(|((concern, _), profile)| (concern.number, profile)).collect();
        let stretches = concerned.stretches.iter().map(|(concern, range)| {
            let all = self.known_pieces(profiles[&concern.number], range);
            // Where no place counts, nothing is seen.
            let counts = |(range, _): &&Piece| !concern.places_in(range.clone()).is_empty();
            let pieces = all.iter().filter(counts).cloned().collect();
            Stretch { concern: Arc::clone(concern), range: range.clone(), pieces }
        });
        let stretches = stretches.collect();
        Arc::clone(self.kept().stretches.entry(key).or_insert(stretches))
    }
}

impl<'e> Compared<'_, 'e> {
    /// What is known of a session but for attributes, as a number.
    pub(in crate::impact) fn standing(&mut self, shared: &Shared<'_, 'e>, session: &InBoth) -> u32 {
        let times = self.times(session);
        let mut sides = [None, None];
        let all = self.sides.iter_mut().zip(session).zip(&shared.ties).zip(&mut sides);
        for (((side, view), ties), known) in all {
            let Some(view) = view else { continue };
            let at = times.iter().map(|time| {
                let asking = side.decider.session_of(view.who, &view.also, view.take_up, *time);
                let subjects = [Effect::Allow, Effect::Deny].map(|effect| {
                    let all = asking.subjects_of(effect).subject_ids();
                    all.filter(|subject| ties.contains_key(subject)).collect()
                });
                StandingAt { is_refused: asking.is_refused(view.take_up), subjects }
            });
            *known = Some(StandingIn {
                at: at.collect(),
                speaks_for_nobody: matches!(view.who, Principal::Role(_) | Principal::Group(_)),
            });
        }
        shared.kept().standings.number(Arc::new(Standing { times, sides }))
    }

    /// Where a session is concerned, if that is known already, or as `find` finds it out.
    pub(in crate::impact) fn known_concerned(
        &mut self,
        shared: &Shared<'_, 'e>,
        (standing, parts): (u32, &[TouchedPart]),
        find: impl FnOnce(&mut Self) -> Vec<(Arc<Concern>, Range<u32>)>,
    ) -> Arc<ConcernedIn> {
        let key = (standing, parts.to_vec());
        if let Some(known) = shared.kept().concerned.get(&key) {
            return Arc::clone(known);
        }
        let stretches = find(self);
        let mut kept = shared.kept();
        let number = kept.concerned.len() as u32;
        let concerned = kept.concerned.entry(key);
        Arc::clone(concerned.or_insert_with(|| Arc::new(ConcernedIn { number, stretches })))
    }

    /// What comes to bear on a session ([`Self::profile`]).
    pub(in crate::impact) fn known_profile(
        &mut self,
        shared: &Shared<'_, 'e>,
        (session, standing): (&InBoth, u32),
        (concerns, at): (&Concerns, usize),
    ) -> KnownProfile {
        let (concern, within) = &concerns.all[at];
        let facts = self.facts(shared, (session, standing), concern);
        let key = (standing, (concerns.number, at), facts);
        if let Some(known) = shared.kept().profiles.get(&key) {
            return known.clone();
        }
        let profile = Arc::new(self.profile(shared, session, (concern, within)));
        let mut kept = shared.kept();
        let number = kept.profiles.len() as u32;
        kept.profiles.entry(key).or_insert(KnownProfile { number, profile }).clone()
    }

    /// What is known of the attributes that something tied to a session asks about, as numbers.
    fn facts(
        &mut self,
        shared: &Shared<'_, 'e>,
        (session, standing): (&InBoth, u32),
        concern: &Concern,
    ) -> Vec<u32> {
        let known = Arc::clone(&shared.kept().standings.all[standing as usize]);
        let asked = self.asked(shared, (session, standing), &known.times, concern);
        let mut facts = Vec::new();
        for ((side, view), asked) in self.sides.iter_mut().zip(session).zip(asked.iter()) {
            let Some(view) = view.as_ref().filter(|_| !asked.is_empty()) else { continue };
            for time in &known.times {
                let asking = side.decider.session_of(view.who, &view.also, view.take_up, *time);
                let mut asker = Asker::new(side.decider.index, &asking, view);
                let fact = |(attribute, effect): &AskedAttribute| {
                    asker.fact(shared, *attribute, *effect).0
                };
                facts.extend(asked.iter().map(fact));
            }
        }
        facts
    }

    /// The attributes that something tied to a session asks about, in each estate.
    fn asked(
        &mut self,
        shared: &Shared<'_, 'e>,
        (session, standing): (&InBoth, u32),
        times: &[Time],
        concern: &Concern,
    ) -> Arc<[Vec<AskedAttribute>; 2]> {
        let key = (standing, concern.number);
        if let Some(known) = shared.kept().asked.get(&key) {
            return Arc::clone(known);
        }
        let everywhere = [shared.places.all()];
        let mut asked: [Vec<AskedAttribute>; 2] = Default::default();
        let sides = self.sides.iter_mut().zip(session).zip(&mut asked);
        for (i, ((side, view), asked)) in sides.enumerate() {
            let Some(view) = view else { continue };
            for time in times {
                let asking = side.decider.session_of(view.who, &view.also, view.take_up, *time);
                for (sense, effect) in [
                    (Sense::Allows, Effect::Allow),
                    (Sense::Denies, Effect::Deny),
                    (Sense::Bounds, Effect::Deny),
                ] {
                    let mut add = |policy: PolicyId| {
                        let says = &shared.says(concern, i, policy).0[sense as usize];
                        let of_who = says.iter().flat_map(|voice| &voice.of_who);
                        asked.extend(of_who.map(|attribute| (*attribute, effect)));
                    };
                    for subject in asking.subjects_of(effect).subject_ids() {
                        let says =
                            says_of(&mut self.says, shared, concern, (i, subject), &everywhere);
                        let says = says.iter().filter(|say| say.sense == sense);
                        says.for_each(|say| add(say.tie.policy));
                    }
                    if sense == Sense::Bounds {
                        view.under.iter().for_each(|policy| add(*policy));
                    }
                }
            }
            *asked = once(std::mem::take(asked));
        }
        Arc::clone(shared.kept().asked.entry(key).or_insert(Arc::new(asked)))
    }
}
