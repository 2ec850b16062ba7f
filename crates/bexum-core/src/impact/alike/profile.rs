//! What comes to bear on a session, and where.

use std::ops::Range;
use std::rc::Rc;

use rustc_hash::FxHashMap;

use super::numbers::{
    AskedOfTarget, AskedPart, Below, Brought, FoundBearing, NOTHING_ABOVE, OF_SESSION, TELLING,
    add_all, sort_of,
};
use super::voices::{Asks, Concern, Sense, VoiceBelow};
use super::{Say, SaysOfSubjects, Shared};
use crate::condition::Reference;
use crate::condition::check::WhoAttribute;
use crate::condition::eval::Facts as _;
use crate::condition::fact::Fact;
use crate::engine::{self, EvalContext, Index, Session, SubjectId};
use crate::id::{PolicyId, StatementId};
use crate::impact::sessions::{Compared, InBoth};
use crate::policy::Effect;
use crate::principal::Principal;
use crate::reach::{Viewpoint, nowhere};
use crate::request::{Query, TargetPlace};
use crate::time::Time;
use crate::truth::Truth;

/// What comes to bear on a session, and where.
pub(in crate::impact) struct Profile {
    /// What is seen of it above all places.
    pub(super) root: u32,
    /// By place: what comes to bear there.
    pub(super) sites: Vec<(u32, Brought)>,
}

/// What a policy asks about who asks.
#[derive(Clone, Copy, Default)]
pub(in crate::impact) struct AskedOfWho<'s> {
    /// All of it.
    pub(in crate::impact) all: u32,
    /// All but what is compared with nothing but what the target bears.
    pub(in crate::impact) alone: u32,
    /// These comparisons: whose conditions, and which part of each.
    pub(in crate::impact) parts: &'s [(StatementId, usize)],
}

/// What was found out about who asks, in one estate at one moment.
pub(in crate::impact) struct Asker<'a, 'e> {
    index: &'e Index,
    session: &'a Session<'e>,
    view: &'a Viewpoint,
    /// What is known of an attribute, as a number, and whether it may be taken for any name.
    known: Vec<((WhoAttribute, Effect), (u32, bool))>,
}

impl<'a, 'e> Asker<'a, 'e> {
    pub(in crate::impact) fn new(
        index: &'e Index,
        session: &'a Session<'e>,
        view: &'a Viewpoint,
    ) -> Self {
        Self { index, session, view, known: Vec::new() }
    }

    /// What a policy's statements about the actions ask about who asks comes to, as numbers.
    pub(in crate::impact) fn asked<'s>(
        &mut self,
        shared: &'s Shared<'_, '_>,
        concern: &'s Concern,
        (estate, policy): (usize, PolicyId),
        sense: engine::Sense,
    ) -> AskedOfWho<'s> {
        let sees = sense.sees();
        let sense = match sense {
            engine::Sense::Allows => Sense::Allows,
            engine::Sense::Denies => Sense::Denies,
            engine::Sense::Bounds | engine::Sense::BoundsByDenies => Sense::Bounds,
        };
        let Some(voice) = &shared.says(concern, estate, policy).0[sense as usize] else {
            return AskedOfWho::default();
        };
        let with_target = &voice.with_target;
        let alone = self.facts(shared, &voice.asks, &[], sees);
        let all = match with_target.of_who.is_empty() {
            true => alone,
            false => self.facts(shared, &voice.asks, &with_target.of_who, sees),
        };
        AskedOfWho { all, alone, parts: &with_target.parts }
    }

    /// What is asked comes to this, as a number.
    fn facts(
        &mut self,
        shared: &Shared<'_, '_>,
        asks: &Asks,
        more: &[WhoAttribute],
        sees: Effect,
    ) -> u32 {
        if asks.parts.is_empty() && asks.attributes.is_empty() && more.is_empty() {
            return 0;
        }
        let attributes = asks.attributes.iter().chain(more);
        let mut all: Vec<u32> =
            attributes.map(|attribute| 8 + self.fact(shared, *attribute, sees).0).collect();
        let query = nowhere(self.view);
        let context = self.context(&query, sees);
        all.extend(asks.parts.iter().map(|(id, part)| {
            let when = &self.index.estate().statement(*id).when;
            when.as_ref().map_or(0, |when| when.eval_leaf(*part, &context) as u32)
        }));
        1 + shared.numbers().facts.number(all.into())
    }

    fn context<'s>(&'s self, query: &'s Query<'s>, sees: Effect) -> EvalContext<'s> {
        EvalContext {
            index: self.index,
            query,
            closure: &self.session.closure,
            roles: Some(self.session.roles_of(sees)),
        }
    }

    /// What is known of an attribute of who asks, as a number, and whether it may be taken for any name.
    pub(in crate::impact) fn fact(
        &mut self,
        shared: &Shared<'_, '_>,
        attribute: WhoAttribute,
        sees: Effect,
    ) -> (u32, bool) {
        let key = (attribute, sees);
        if let Some((_, known)) = self.known.iter().find(|(known, _)| *known == key) {
            return *known;
        }
        let query = nowhere(self.view);
        let context = self.context(&query, sees);
        let reference = Reference::Who(attribute);
        let fact = context.fact(reference);
        // What cannot stand in a path matches no name for sure and each perhaps.
        let is_any_name = match fact {
            Fact::Absent => false,
            Fact::Unknown => true,
            Fact::Scalar(scalar) => scalar.as_segment().is_none(),
            Fact::List(list) => list.iter().any(|scalar| scalar.as_segment().is_none()),
        };
        // Attributes may have other numbers in the other estate: their names tell them apart.
        let told = format!(
            "{} {:?} {:?}",
            reference.written(&self.index.estate().attribute_names),
            fact,
            context.is_set(reference)
        );
        let found = (shared.numbers().told.number(told), is_any_name);
        self.known.push((key, found));
        found
    }
}

/// Places beyond which it is worth while to find out once what has a say anywhere.
pub(super) const MANY_PLACES: usize = 512;

/// What is tied to a subject of an estate and has a say at some places; perhaps elsewhere, too.
pub(super) fn says_of(
    known: &mut SaysOfSubjects,
    shared: &Shared<'_, '_>,
    concern: &Concern,
    (estate, subject): (usize, SubjectId),
    within: &[Range<u32>],
) -> Rc<[Say]> {
    if within.iter().map(ExactSizeIterator::len).sum::<usize>() < MANY_PLACES {
        return shared.says_of(concern, (estate, subject), within);
    }
    let says = known.entry((concern.number, estate, subject));
    let all = || shared.says_of(concern, (estate, subject), &[shared.places.all()]);
    Rc::clone(says.or_insert_with(all))
}

impl<'e> Compared<'_, 'e> {
    /// Where one of the estates may allow a session something that counts.
    pub(in crate::impact) fn allowed(
        &mut self,
        shared: &Shared<'_, 'e>,
        session: &InBoth,
        concern: &Concern,
        within: &Range<u32>,
    ) -> Vec<Range<u32>> {
        let within = std::slice::from_ref(within);
        let mut ranges: Vec<Range<u32>> = Vec::new();
        for (i, (side, view)) in self.sides.iter_mut().zip(session).enumerate() {
            let Some(view) = view else { continue };
            let asking = side.decider.session_of(view.who, &view.also, view.take_up, view.time);
            for subject in asking.subjects_of(Effect::Allow).subject_ids() {
                let says = says_of(&mut self.says, shared, concern, (i, subject), within);
                shared.add_allowed(concern, i, (&says, view.time), &mut ranges);
            }
        }
        ranges.sort_unstable_by_key(|range| (range.start, std::cmp::Reverse(range.end)));
        // Subtrees lie within each other or apart.
        ranges.dedup_by(|inner, outer| inner.start < outer.end);
        ranges
    }

    /// What comparisons of who asks with what a place bears come to there, and at its items; `None`
    /// where some could come to either.
    pub(in crate::impact) fn told_at(
        &mut self,
        shared: &Shared<'_, 'e>,
        session: &InBoth,
        parts: &[AskedPart],
        place: u32,
    ) -> Option<String> {
        let mut told = String::new();
        for (i, effect, id, part) in parts {
            let (Some(scope), Some(view)) =
                (shared.places.scopes[place as usize][*i], &session[*i])
            else {
                continue;
            };
            let decider = &mut self.sides[*i].decider;
            let asking = decider.session_of(view.who, &view.also, view.take_up, view.time);
            let estate = decider.index.estate();
            let Some(when) = &estate.statement(*id).when else { continue };
            let items = estate.scope(scope).holds_items().then_some(TargetPlace::Item(scope));
            for place in [Some(TargetPlace::Scope(scope)), items].into_iter().flatten() {
                let mut query = nowhere(view);
                query.target.place = place;
                let context = EvalContext {
                    index: decider.index,
                    query: &query,
                    closure: &asking.closure,
                    roles: Some(asking.roles_of(*effect)),
                };
                match when.eval_leaf(*part, &context) {
                    Truth::Undecided => return None,
                    truth => told.push_str(&format!(" {i} {id:?} {part} {truth:?}")),
                }
            }
        }
        Some(told)
    }

    /// What comes to bear on a session, as far as it tells what becomes of some actions at some places.
    pub(in crate::impact) fn profile(
        &mut self,
        shared: &Shared<'_, 'e>,
        session: &InBoth,
        (concern, within): (&Concern, &[Range<u32>]),
    ) -> Profile {
        let times = self.times(session);
        let mut asked: FxHashMap<u32, AskedOfTarget> = FxHashMap::default();
        let mut found: Vec<FoundBearing> = Vec::new();
        for (i, time) in times.iter().enumerate() {
            let moment = (i, *time, times.len() == 1);
            let counts = (concern, within);
            self.add_bearings(shared, session, counts, moment, &mut found, &mut asked);
        }
        found.sort_unstable();
        found.dedup();
        let mut numbers = shared.numbers();
        let sites = found.chunk_by(|one, other| one.from == other.from).map(|found| {
            let from = found[0].from;
            let depth = from.checked_sub(1).map_or(0, |place| shared.places.depth(place));
            let asked = asked.remove(&from).unwrap_or_default();
            (from, numbers.brought(found, &times, depth, asked))
        });
        let mut sites: Vec<(u32, Brought)> = sites.collect();
        let of_session = match sites.first() {
            Some((0, brought)) => *brought,
            _ => numbers.brought(&[], &times, 0, AskedOfTarget::default()),
        };
        let root = numbers.seen(NOTHING_ABOVE + concern.number, &of_session);
        sites.retain(|(from, _)| *from > 0);
        sites.iter_mut().for_each(|(from, _)| *from -= 1);
        Profile { root, sites }
    }

    /// Adds all that comes to bear at one of the moments.
    fn add_bearings(
        &mut self,
        shared: &Shared<'_, 'e>,
        session: &InBoth,
        (concern, within): (&Concern, &[Range<u32>]),
        (moment, time, is_steady): (usize, Time, bool),
        found: &mut Vec<FoundBearing>,
        asked: &mut FxHashMap<u32, AskedOfTarget>,
    ) {
        for (i, (side, view)) in self.sides.iter_mut().zip(session).enumerate() {
            let Some(view) = view else { continue };
            let asking = side.decider.session_of(view.who, &view.also, view.take_up, time);
            let is_refused = asking.is_refused(view.take_up);
            let speaks_for_nobody = matches!(view.who, Principal::Role(_) | Principal::Group(_));
            // What nobody knows of who asks may come to anything, and later to something else.
            let is_steady = is_steady && !speaks_for_nobody;
            let of_session = u32::from(is_refused) << 1 | u32::from(speaks_for_nobody);
            let bearing = [OF_SESSION + i as u32, of_session, 0, 0];
            let below = Below::Acts([bearing; 2]);
            found.push(FoundBearing { from: 0, moment, bearing, below });
            asked.entry(0).or_default().is_any_name |= speaks_for_nobody;
            let index = side.decider.index;
            let mut asker = Asker::new(index, &asking, view);
            for (sense, effect) in [
                (Sense::Allows, Effect::Allow),
                (Sense::Denies, Effect::Deny),
                (Sense::Bounds, Effect::Deny),
            ] {
                let subjects = asking.subjects_of(effect).subject_ids();
                let of_subject =
                    |subject| says_of(&mut self.says, shared, concern, (i, subject), within);
                let mut all: Vec<Rc<[Say]>> = subjects.map(of_subject).collect();
                // What bounds the session itself is a ceiling over everything.
                all.push(view.under.iter().map(|policy| shared.bound(*policy)).collect());
                for says in all {
                    let says = says.iter().filter(|say| say.sense == sense);
                    for Say { tie, .. } in says.filter(|say| shared.counts_within(&say.tie, within))
                    {
                        let says = shared.says(concern, i, tie.policy);
                        let Some(voice) = &says.0[sense as usize] else { continue };
                        let sort = sort_of(i, sense);
                        let with_target = &voice.with_target;
                        if voice.of_target != AskedOfTarget::default() {
                            let mut in_braces = voice.in_braces.iter();
                            let is_any_name =
                                in_braces.any(|one| asker.fact(shared, *one, effect).1);
                            let asked = asked.entry(tie.from).or_default();
                            asked.add(&voice.of_target);
                            asked.is_any_name |= is_any_name;
                        }
                        if !with_target.parts.is_empty() {
                            let of_who = with_target.of_who.iter();
                            let of_who =
                                of_who.map(|one| (i, effect, asker.fact(shared, *one, effect).0));
                            let of_who: Vec<_> = of_who.collect();
                            let asked = asked.entry(tie.from).or_default();
                            asked.add_parts(i, effect, with_target, is_steady);
                            add_all(&mut asked.of_who, if is_steady { &of_who } else { &[] });
                        }
                        let mut bearing = |asks: &Asks, more: &[WhoAttribute]| {
                            let facts = asker.facts(shared, asks, more, effect);
                            [sort, voice.number, tie.window, facts]
                        };
                        let compared = if is_steady { &[][..] } else { &with_target.of_who };
                        let at = bearing(&voice.asks, compared);
                        let below = match &voice.below {
                            // Patterns may well tell accounts from each other.
                            VoiceBelow::All if tie.from == 0 => Below::Acts([at; 2]),
                            VoiceBelow::All => {
                                Below::Acts([at, bearing(&voice.asks_below, compared)])
                            }
                            VoiceBelow::Nothing => Below::Nothing,
                            VoiceBelow::ByDepth => Below::ByDepth,
                            VoiceBelow::Anywhere { number, asks } => {
                                let [.., window, facts] = bearing(asks, &[]);
                                Below::Anywhere([TELLING + i as u32, *number, window, facts])
                            }
                        };
                        let bearing = bearing(&voice.asks, &with_target.of_who);
                        found.push(FoundBearing { from: tie.from, moment, bearing, below });
                    }
                }
            }
        }
    }
}
