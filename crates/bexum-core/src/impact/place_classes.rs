//! Places at which a session of which the same is seen comes to the same, found out without comparing
//! it there: most places of a large estate are like many others.
//!
//! What a comparison looks at is the same for two places of one class, as far as it looks at the
//! place (spec section 6):
//! - both are of the same type and kind in each estate, equally deep in one account, with seals equally
//!   deep above them, and nothing but items and scopes lies in either;
//! - each attribute of the target that is asked about has the same value at both, and is there at both
//!   or at neither;
//! - no name on the way down to either, nor that of a scope in either, is one that a pattern of either
//!   estate could tell from another: no literal, none that stars or the value of an attribute of anybody
//!   could match. Where names matter in other ways ([`Matters`]) there are no classes.

use std::borrow::Cow;
use std::cell::OnceCell;
use std::fmt::Write as _;

use rustc_hash::{FxHashMap, FxHashSet};

use super::alike::{AskedPart, Matters};
use super::changes::Numbered;
use super::places::Places;
use crate::attribute::Value;
use crate::estate::Estate;
use crate::id::{AttributeId, ScopeId};
use crate::pattern::path::{Segment, SegmentPart};
use crate::principal::PrincipalType;
use crate::reach::AccessTargets;

/// The classes of the places of two estates.
pub(super) struct PlaceClasses<'c> {
    estates: [&'c Estate; 2],
    targets: [&'c AccessTargets<'c>; 2],
    places: &'c Places,
    /// What a name could be told by, once one is asked about.
    names: OnceCell<Names<'c>>,
    /// Whether a name is none that a pattern could tell from another.
    plain: FxHashMap<Box<str>, bool>,
    /// What a place is apart from attributes; `None` where it is like no other.
    apart: FxHashMap<u32, Option<(u32, bool)>>,
    classes: FxHashMap<(u32, u32), Class>,
    descriptions: Numbered<String>,
}

/// What tells names from others in two estates.
struct Names<'c> {
    estates: [&'c Estate; 2],
    /// Names that some pattern spells out, or that an attribute of somebody has as its value.
    spelled: FxHashSet<Cow<'c, str>>,
    /// Segments of patterns with stars.
    starred: Vec<Vec<Piece>>,
}

/// The class of a place.
#[derive(Clone, Copy, Debug)]
pub(super) struct Class {
    /// A number that all places of the class share; a place that is like no other has its own.
    pub(super) number: u32,
    /// Whether no pattern could tell the names of its path, save the account's, from others.
    pub(super) has_plain_names: bool,
}

/// Part of a segment, with what an attribute's value could be taken for anything.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Piece {
    Text(Box<str>),
    Anything,
}

/// Classes are numbered from here on, so that no number is that of a place.
const FIRST_CLASS: u32 = 1 << 31;

impl<'c> Names<'c> {
    fn new(estates: [&'c Estate; 2]) -> Self {
        let mut spelled: FxHashSet<Cow<'c, str>> = FxHashSet::default();
        let mut starred: FxHashSet<Vec<Piece>> = FxHashSet::default();
        // So are those of somebody's type.
        spelled.extend(PrincipalType::ALL.map(|of_type| of_type.word().into()));
        let mut numbers: FxHashSet<i64> = FxHashSet::default();
        for estate in estates {
            add_values(estate, &mut spelled, &mut numbers);
            for statement in &estate.statements {
                let patterns = statement.on.plain.iter().chain(&statement.on.excluded);
                for segment in patterns.flat_map(|pattern| &pattern.segments) {
                    match segment {
                        Segment::Literal(text) => drop(spelled.insert((&**text).into())),
                        // Alone, an attribute's value is one that is known to be one.
                        Segment::Mixed(parts) if !matches!(parts[..], [SegmentPart::Brace(_)]) => {
                            starred.insert(parts.iter().map(piece).collect());
                        }
                        Segment::Mixed(_) | Segment::Any | Segment::Rest => {}
                    }
                }
            }
        }
        spelled.extend(numbers.into_iter().map(|number| Cow::from(number.to_string())));
        Self { estates, spelled, starred: starred.into_iter().collect() }
    }

    /// Whether no pattern could tell a name from others of which that is so.
    fn is_plain(&self, name: &str) -> bool {
        // An id has a colon, which no name in a path has, and a workload's name is a path itself.
        let is_borne = |estate: &Estate| {
            estate.find_user(name).is_some()
                || estate.find_group(name).is_some()
                || estate.find_role(name).is_some()
        };
        !self.spelled.contains(name)
            && !self.estates.into_iter().any(is_borne)
            && !self.starred.iter().any(|pieces| may_match(pieces, name))
    }
}

impl<'c> PlaceClasses<'c> {
    pub(super) fn new(
        estates: [&'c Estate; 2],
        targets: [&'c AccessTargets<'c>; 2],
        places: &'c Places,
    ) -> Self {
        Self {
            estates,
            targets,
            places,
            names: OnceCell::new(),
            plain: FxHashMap::default(),
            apart: FxHashMap::default(),
            classes: FxHashMap::default(),
            descriptions: Numbered::default(),
        }
    }

    /// The class of a place, where this matters; `told` says what comparisons come to there.
    pub(super) fn of(
        &mut self,
        matters: &Matters,
        place: u32,
        told: impl FnOnce(&[AskedPart]) -> Option<String>,
    ) -> Class {
        let alone = Class { number: place, has_plain_names: false };
        if matters.names {
            return alone;
        }
        if let Some(known) = self.classes.get(&(matters.asked, place)) {
            return *known;
        }
        let class = match self.apart(place) {
            None => alone,
            Some((apart, has_plain_names)) => {
                let mut description = format!("{apart}");
                let mut compared = &[][..];
                match told(&matters.parts) {
                    Some(told) => description.push_str(&told),
                    // Then what is compared matters: what is known of who asks, and what the place bears.
                    None => {
                        let _ = write!(description, " {}", matters.asked);
                        compared = &matters.in_parts;
                    }
                }
                for (estate, attribute) in matters.attributes.iter().chain(compared) {
                    let told = self.attribute(*estate, *attribute, place);
                    description.push_str(&told);
                }
                let number = FIRST_CLASS + self.descriptions.number(description);
                Class { number, has_plain_names }
            }
        };
        self.classes.insert((matters.asked, place), class);
        class
    }

    /// What an attribute is at a place, and whether it is there.
    fn attribute(&self, estate: usize, attribute: AttributeId, place: u32) -> String {
        let Some(scope) = self.places.scopes[place as usize][estate] else { return String::new() };
        let estate = self.estates[estate];
        let chain = || estate.scopes.chain(scope).map(|at| &estate.scope(at).attributes);
        let value = chain().find_map(|attributes| attributes.value(attribute));
        let is_there = chain().any(|attributes| attributes.has(attribute));
        format!(" {} {value:?} {is_there}", estate.attribute_names.name(attribute))
    }

    fn apart(&mut self, place: u32) -> Option<(u32, bool)> {
        if let Some(known) = self.apart.get(&place) {
            return *known;
        }
        let described = self.described(place);
        let number = described.map(|(text, plain)| (self.descriptions.number(text), plain));
        self.apart.insert(place, number);
        number
    }

    /// What a place is apart from attributes, and whether all its names but the account's are plain.
    fn described(&mut self, place: u32) -> Option<(String, bool)> {
        let places = self.places;
        let scopes = places.scopes[place as usize];
        let mut text = String::from("a place");
        let mut holds_items = false;
        for (i, id) in scopes.into_iter().enumerate() {
            let Some(id) = id else {
                text.push_str(" none");
                continue;
            };
            if self.targets[i].has_identities(id) {
                return None;
            }
            let estate = self.estates[i];
            let scope = estate.scope(id);
            holds_items |= scope.holds_items();
            let kind = scope.kind.map(|kind| &estate.catalogue.kind(kind).name);
            let sealed = |id: &ScopeId| estate.scope(*id).sealed;
            let seals: Vec<u32> =
                estate.scopes.chain(id).filter(sealed).map(|id| estate.scope(id).depth).collect();
            // A string takes whatever is written to it.
            let _ = write!(text, " {:?} {kind:?} {} {seals:?}", scope.scope_type, scope.depth);
        }
        if holds_items {
            let below = places.below(place);
            let mut next = below.start + 1;
            while next < below.end {
                let path = &places.paths[next as usize];
                if !self.is_plain(path.rsplit('/').next().unwrap_or_default()) {
                    return None;
                }
                next = places.below(next).end;
            }
        }
        let mut names = places.paths[place as usize].split('/');
        text.extend(names.next().map(|account| format!(" {account}")));
        let mut has_plain_names = true;
        for name in names {
            text.push('/');
            if !self.is_plain(name) {
                text.push_str(name);
                has_plain_names = false;
            }
        }
        Some((text, has_plain_names))
    }

    /// Whether no pattern could tell a name from others of which that is so.
    fn is_plain(&mut self, name: &str) -> bool {
        if let Some(known) = self.plain.get(name) {
            return *known;
        }
        let names = self.names.get_or_init(|| Names::new(self.estates));
        let is_plain = names.is_plain(name);
        self.plain.insert(name.into(), is_plain);
        is_plain
    }
}

fn piece<A>(part: &SegmentPart<A>) -> Piece {
    match part {
        SegmentPart::Text(text) => Piece::Text(text.clone()),
        SegmentPart::Star | SegmentPart::Brace(_) => Piece::Anything,
    }
}

/// Whether a name is one that begins with the first text, if a text is first, ends with the last, if one
/// is last, and has the others in between, in order.
fn may_match(pieces: &[Piece], name: &str) -> bool {
    let (mut left, mut is_anywhere) = (name, false);
    for (i, piece) in pieces.iter().enumerate() {
        let Piece::Text(text) = piece else {
            is_anywhere = true;
            continue;
        };
        let after = match is_anywhere {
            true if i + 1 == pieces.len() => return left.ends_with(&**text),
            true => left.find(&**text).map(|at| &left[at + text.len()..]),
            false => left.strip_prefix(&**text),
        };
        let Some(after) = after else { return false };
        (left, is_anywhere) = (after, false);
    }
    is_anywhere || left.is_empty()
}

/// Whatever an attribute of somebody who asks may have as its value, as far as it could be a name in a path:
/// texts, and whole numbers.
fn add_values<'c>(
    estate: &'c Estate,
    texts: &mut FxHashSet<Cow<'c, str>>,
    numbers: &mut FxHashSet<i64>,
) {
    fn add<'c>(
        value: &'c Value,
        texts: &mut FxHashSet<Cow<'c, str>>,
        numbers: &mut FxHashSet<i64>,
    ) {
        match value {
            Value::Text(text) => drop(texts.insert((&**text).into())),
            Value::Integer(number) => drop(numbers.insert(*number)),
            Value::Boolean(is) => drop(texts.insert(if *is { "true" } else { "false" }.into())),
            Value::List(values) => values.iter().for_each(|value| add(value, texts, numbers)),
            // A moment is no name.
            Value::Time(_) => {}
        }
    }
    // A workload's are its scope's.
    let people = estate.principals().filter_map(|who| estate.identity(who));
    let of_people = people.flat_map(|who| who.attributes.iter());
    let of_scopes = estate.scopes.iter().flat_map(|(_, scope)| scope.attributes.iter());
    of_people.chain(of_scopes).for_each(|(_, value)| add(value, texts, numbers));
}
