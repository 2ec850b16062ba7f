//! Interning: everything that can make a decision differ between sessions gets a number, and equal things
//! get the same number, so that comparing two sessions at a place is comparing two numbers.
//!
//! A *bearing* is one policy that counts for a session (attached or as a ceiling), with where, when and what
//! it says. What is *seen* of a session at a place is the list of all its bearings there.

use rustc_hash::FxHashMap;

use super::voices::{Sense, WithTarget, once};
use crate::condition::Reference;
use crate::condition::check::TargetAttribute;
use crate::id::{AttributeId, StatementId};
use crate::impact::changes::Numbered;
use crate::impact::place_classes::Class;
use crate::policy::Effect;
use crate::time::Time;

/// In which estate, what sees roles as statements of which effect do, whose condition, and which part.
pub(in crate::impact) type AskedPart = (usize, Effect, StatementId, usize);

/// Which properties of a target the policies that count for a session ask about.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(super) struct AskedOfTarget {
    /// The attributes asked about, by the ids of the estate with this number; sorted.
    pub(super) attributes: Vec<(usize, AttributeId)>,
    /// Comparisons with what it bears that come to the same whatever is given.
    pub(super) parts: Vec<AskedPart>,
    /// The attributes in them, and what is known of who asks, as numbers.
    pub(super) in_parts: Vec<(usize, AttributeId)>,
    pub(super) of_who: Vec<(usize, Effect, u32)>,
    /// Whether a condition reads the target's path or name itself, or may: then no two places are alike.
    pub(super) names: bool,
    /// Whether a pattern has a brace that compares a name with an attribute of who asks.
    pub(super) names_of_who: bool,
    /// Whether such a brace may match any name: its attribute is unknown, or its value cannot stand in a
    /// path.
    pub(super) is_any_name: bool,
}

impl AskedOfTarget {
    pub(super) fn add(&mut self, other: &Self) {
        add_all(&mut self.attributes, &other.attributes);
        add_all(&mut self.parts, &other.parts);
        add_all(&mut self.in_parts, &other.in_parts);
        add_all(&mut self.of_who, &other.of_who);
        self.names |= other.names;
        self.names_of_who |= other.names_of_who;
        self.is_any_name |= other.is_any_name;
    }

    /// Adds comparisons with what a target bears: what they come to matters, where nothing else can
    /// come of them, or else what they compare.
    pub(super) fn add_parts(
        &mut self,
        estate: usize,
        sees: Effect,
        asked: &WithTarget,
        is_steady: bool,
    ) {
        let in_parts: Vec<_> = asked.of_target.iter().map(|id| (estate, *id)).collect();
        if !is_steady {
            add_all(&mut self.attributes, &in_parts);
            return;
        }
        let parts = asked.parts.iter().map(|(id, part)| (estate, sees, *id, *part));
        add_all(&mut self.parts, &parts.collect::<Vec<_>>());
        add_all(&mut self.in_parts, &in_parts);
    }

    pub(super) fn ask(&mut self, estate: usize, reference: Reference) {
        match reference {
            Reference::Target(TargetAttribute::Own(id)) => self.attributes.push((estate, id)),
            Reference::Target(TargetAttribute::Path | TargetAttribute::Name) => self.names = true,
            Reference::Target(_) | Reference::Who(_) | Reference::Given(_) | Reference::Time => {}
        }
    }
}

/// Merges others into a sorted list without duplicates.
pub(super) fn add_all<T: Copy + Ord>(list: &mut Vec<T>, others: &[T]) {
    list.extend(others);
    list.sort_unstable();
    list.dedup();
}

/// Which properties of a place matter to sessions with the same number.
pub(in crate::impact) struct Matters {
    /// Whether its names do: then no two places are alike.
    pub(in crate::impact) names: bool,
    /// A number for the attributes.
    pub(in crate::impact) asked: u32,
    /// The attributes, as the estate of this number numbers them.
    pub(in crate::impact) attributes: Vec<(usize, AttributeId)>,
    /// Comparisons of which it matters what they come to, and the attributes in them.
    pub(in crate::impact) parts: Vec<AskedPart>,
    pub(in crate::impact) in_parts: Vec<(usize, AttributeId)>,
}

/// A statement whose patterns tell items apart.
type Telling = Box<[u32]>;

/// The interning tables.
#[derive(Default)]
pub(in crate::impact) struct Numbers {
    /// What comes to bear at a place, or what was known of a session before all places.
    brought: Numbered<Box<[u32]>>,
    /// What is seen at a place, by what is seen above and what comes to bear.
    numbers_of_seen: FxHashMap<(u32, u32), u32>,
    seen: Vec<SeenBelow>,
    /// By what counts above and what comes to bear at a place: a number for all policies that count there
    /// and name one of the actions, and ceilings.
    pub(super) acting: FxHashMap<(u32, u32), u32>,
    /// What tells items apart, and sets of that.
    pub(super) telling: Numbered<Telling>,
    tellings: Numbered<Box<[u32]>>,
    tellings_together: FxHashMap<(u32, u32), u32>,
    pub(super) asked: Numbered<AskedOfTarget>,
    asked_together: FxHashMap<(u32, u32), u32>,
    /// What attributes of who asks come to, and what is known of who asks together.
    pub(super) told: Numbered<String>,
    pub(super) facts: Numbered<Box<[u32]>>,
    /// The texts of patterns.
    pub(super) patterns: Numbered<Vec<Box<str>>>,
    times: Numbered<Time>,
}

/// What is seen of a session at a place; it holds for the places below, too, until another policy is
/// attached further down.
#[derive(Clone, Copy)]
pub(super) struct SeenBelow {
    /// Whether any allow counts in the estate before.
    pub(super) grants_before: bool,
    /// Which properties of targets are asked about, as a number.
    pub(super) asked: u32,
    /// The policies that name one of the compared actions, and ceilings: those that count at the place
    /// itself, and those that count below it.
    pub(super) acting: [u32; 2],
    /// The policies whose patterns tell items apart: at the place itself, and below it.
    pub(super) telling: [u32; 2],
    /// How deep the place is.
    pub(super) depth: u32,
}

/// What is seen at a place, as far as it makes a difference there.
pub(in crate::impact) type SeenThere = [u32; 3];

impl Numbers {
    pub(super) fn seen(&mut self, above: u32, brought: &Brought) -> u32 {
        if let Some(known) = self.numbers_of_seen.get(&(above, brought.number)) {
            return *known;
        }
        let number = self.seen.len() as u32;
        let seen = match self.seen.get(above as usize).copied() {
            None => SeenBelow {
                grants_before: brought.grants_before,
                asked: brought.asked,
                // What is known of the session itself is among it.
                acting: brought.acting.map(|acting| self.acting(above, acting)),
                telling: brought.telling,
                depth: 0,
            },
            Some(above) => SeenBelow {
                grants_before: above.grants_before || brought.grants_before,
                asked: self.asked_together(above.asked, brought.asked),
                acting: brought.acting.map(|acting| self.acting(above.acting[1], acting)),
                telling: brought.telling.map(|one| self.told_together(above.telling[1], one)),
                depth: brought.depth,
            },
        };
        self.seen.push(seen);
        self.numbers_of_seen.insert((above, brought.number), number);
        number
    }

    fn acting(&mut self, above: u32, brought: Option<u32>) -> u32 {
        let Some(brought) = brought else { return above };
        let next = self.acting.len() as u32;
        *self.acting.entry((above, brought)).or_insert(next)
    }

    fn told_together(&mut self, one: u32, other: u32) -> u32 {
        if let Some(known) = self.tellings_together.get(&(one, other)) {
            return *known;
        }
        let mut both =
            [&*self.tellings.all[one as usize], &*self.tellings.all[other as usize]].concat();
        both.sort_unstable();
        both.dedup();
        let number = self.tellings.number(both.into());
        self.tellings_together.insert((one, other), number);
        number
    }

    fn tellings(&mut self, of: &[Telling]) -> u32 {
        let mut all: Vec<u32> = of.iter().map(|one| self.telling.number(one.clone())).collect();
        all.sort_unstable();
        all.dedup();
        self.tellings.number(all.into())
    }

    /// What is seen at a place so deep, as far as it makes a difference there: all of it, or, where no
    /// pattern could tell the names of its path from others, only what counts below such names.
    pub(in crate::impact) fn seen_there(&self, seen: u32, class: Class, depth: u32) -> SeenThere {
        match class.has_plain_names {
            false => [class.number, seen, u32::MAX],
            true => {
                let seen = &self.seen[seen as usize];
                let is_below = usize::from(depth > seen.depth);
                [class.number, seen.acting[is_below], seen.telling[is_below]]
            }
        }
    }

    /// What comes to bear at a place so deep.
    pub(super) fn brought(
        &mut self,
        found: &[FoundBearing],
        times: &[Time],
        depth: u32,
        asked: AskedOfTarget,
    ) -> Brought {
        // Patterns start there, and seals below it count.
        let mut number_of = |counts: &dyn Fn(&FoundBearing) -> Option<Bearing>| {
            let told = by_moment(found, times, &mut self.times, counts);
            (!told.is_empty()).then(|| self.brought.number([&[depth], &told[..]].concat().into()))
        };
        let acts = |one: &FoundBearing| match one.below {
            Below::Acts(bearings) => Some(bearings),
            Below::Nothing | Below::Anywhere(_) | Below::ByDepth => None,
        };
        let is_acting = |one: &FoundBearing| acts(one).is_some();
        let number = number_of(&|one| Some(one.bearing));
        let acting = [0, 1].map(|below| number_of(&|one| Some(acts(one)?[below])));
        let number = number.unwrap_or_else(|| self.brought.number(Box::default()));
        let tells = |one: &&FoundBearing| !is_acting(one);
        let is_always = times.len() == 1;
        let (at, below): (Vec<Telling>, Vec<Telling>) = match is_always {
            // At other moments other things may tell items apart.
            false => {
                let tells = |one: &FoundBearing| (!is_acting(one)).then_some(one.bearing);
                let told = by_moment(found, times, &mut self.times, &tells);
                let all: Vec<Telling> = (!told.is_empty())
                    .then(|| [&[depth], &told[..]].concat().into())
                    .into_iter()
                    .collect();
                (all.clone(), all)
            }
            true => {
                let here =
                    |bearing: &Bearing| -> Telling { [&[depth], &bearing[..]].concat().into() };
                let at = found.iter().filter(tells).map(|one| here(&one.bearing));
                let below = found.iter().filter(tells).filter_map(|one| match &one.below {
                    Below::Acts(_) | Below::Nothing => None,
                    Below::Anywhere(bearing) => Some((*bearing).into()),
                    Below::ByDepth => Some(here(&one.bearing)),
                });
                (at.collect(), below.collect())
            }
        };
        let telling = [at, below].map(|all| self.tellings(&all));
        let allows = sort_of(0, Sense::Allows);
        let grants = |one: &FoundBearing| is_acting(one) && one.bearing[0] == allows;
        let grants_before = found.iter().any(grants);
        Brought { number, asked: self.asked.number(asked), acting, telling, grants_before, depth }
    }

    fn asked_together(&mut self, one: u32, other: u32) -> u32 {
        if let Some(known) = self.asked_together.get(&(one, other)) {
            return *known;
        }
        let mut both = self.asked.all[one as usize].clone();
        both.add(&self.asked.all[other as usize]);
        let number = self.asked.number(both);
        self.asked_together.insert((one, other), number);
        number
    }

    /// What of a place matters where this is seen.
    pub(in crate::impact) fn matters(&self, seen: u32) -> Matters {
        let asked = self.seen[seen as usize].asked;
        let all = &self.asked.all[asked as usize];
        let names = all.names || all.names_of_who && all.is_any_name;
        let (attributes, parts) = (all.attributes.clone(), all.parts.clone());
        Matters { names, asked, attributes, parts, in_parts: all.in_parts.clone() }
    }

    /// Whether something seen may allow something in the estate before.
    pub(in crate::impact) fn may_be_granted_before(&self, seen: u32) -> bool {
        self.seen[seen as usize].grants_before
    }
}

/// Above all places: this, and the number of the concern.
pub(super) const NOTHING_ABOVE: u32 = 1 << 31;

/// One thing that comes to bear: in what sense and where, what it says, when, and what it asks about
/// who asks.
pub(super) type Bearing = [u32; BEARING];

pub(super) const BEARING: usize = 4;

/// The first number of a bearing: the sense and the estate, whether only patterns count.
pub(super) fn sort_of(estate: usize, sense: Sense) -> u32 {
    (sense as u32) << 1 | estate as u32
}

/// What tells about the session itself stands in the same lists, and what tells items apart wherever it
/// starts, whether it stands in an allow or in a deny.
pub(super) const OF_SESSION: u32 = 64;

pub(super) const TELLING: u32 = 128;

/// A bearing, with where it starts to count and at which of the moments.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct FoundBearing {
    /// 0 for everywhere; else one more than the place.
    pub(super) from: u32,
    /// At which of the moments.
    pub(super) moment: usize,
    pub(super) bearing: Bearing,
    pub(super) below: Below,
}

/// Which part of a bearing counts at places below names that no pattern could tell from another
/// ([`VoiceBelow`]).
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Below {
    /// At the place itself, and below.
    Acts([Bearing; 2]),
    Nothing,
    Anywhere(Bearing),
    ByDepth,
}

/// The bearings moment by moment: the moment, as a number, how many there are, and these; what is the
/// same as at the moment before is not said again.
pub(super) fn by_moment(
    found: &[FoundBearing],
    times: &[Time],
    numbers_of_times: &mut Numbered<Time>,
    counts: &dyn Fn(&FoundBearing) -> Option<Bearing>,
) -> Vec<u32> {
    let mut told: Vec<u32> = Vec::new();
    let mut latest: Vec<Bearing> = Vec::new();
    for (i, time) in times.iter().enumerate() {
        let of_moment = found.iter().filter(|one| one.moment == i);
        let then = once(of_moment.filter_map(counts).collect());
        if then == latest {
            continue;
        }
        let moment = if i == 0 { 0 } else { 1 + numbers_of_times.number(*time) };
        told.extend([moment, then.len() as u32]);
        told.extend(then.iter().flatten());
        latest = then;
    }
    told
}

/// What comes to bear at a place.
#[derive(Clone, Copy)]
pub(super) struct Brought {
    pub(super) number: u32,
    /// What these policies ask about targets.
    pub(super) asked: u32,
    /// The policies among them that name one of the actions, and ceilings: at the place itself, and below
    /// it; `None` where there are none.
    pub(super) acting: [Option<u32>; 2],
    /// The policies among them whose patterns tell items apart: at the place itself, and below it.
    pub(super) telling: [u32; 2],
    pub(super) grants_before: bool,
    pub(super) depth: u32,
}
