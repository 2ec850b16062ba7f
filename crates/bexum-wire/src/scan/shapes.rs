//! How lines look: what is the same in many of them, and what differs.

use std::ops::Range;

use bexum_core::condition::fact::Scalar;
use bexum_core::engine::BorrowedRequest;
use bexum_core::{Time, Verdict};

use super::{RawId, verdict};

/// How many pieces of shapes are kept.
const MOST_PIECES: usize = 64;

/// What lines have in common: pieces that are the same to the letter, and values between them.
/// Shapes that begin alike share their beginning.
#[derive(Debug, Default)]
pub(super) struct Shapes {
    pieces: Vec<Piece>,
    /// The pieces that a line may begin with.
    first: Vec<usize>,
}

#[derive(Debug)]
struct Piece {
    before: Fixed,
    value: Value,
    /// The pieces that may follow; those that do most often tend to the front.
    next: Vec<usize>,
}

/// What stands between two values.
#[derive(Debug, PartialEq)]
pub(super) struct Fixed {
    letters: Box<[u8]>,
    /// The circumstances whose names and values both stand in it, by where the name is.
    circumstances: Vec<(Range<usize>, Option<bool>)>,
}

/// What a value that differs from line to line is for.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Value {
    Who,
    Does,
    On,
    As,
    IdText,
    IdNumber,
    Time,
    Verdict,
    Reason,
    /// A circumstance, whose name is there in the line; then there in the piece before.
    Text(Range<usize>),
    Integer(Range<usize>),
    /// None: the line ends.
    End,
}

impl Shapes {
    pub(super) fn read<'a>(
        &mut self,
        line: &'a str,
        brief: &mut BorrowedRequest<'a>,
    ) -> Option<(RawId<'a>, Option<Verdict>)> {
        let bytes = line.as_bytes();
        let (mut at, mut last) = (0, None);
        let (mut id, mut recorded) = (RawId::None, None);
        loop {
            let pieces = &self.pieces;
            let rest = bytes.get(at..)?;
            let choices: &[usize] = last.map_or(&self.first, |last: usize| &pieces[last].next);
            let fits = |piece: &usize| rest.starts_with(&pieces[*piece].before.letters);
            let choice = choices.iter().position(fits)?;
            let piece = choices[choice];
            if choice > 0 {
                let choices = last.map_or(&mut self.first, |last| &mut self.pieces[last].next);
                choices.swap(choice, choice - 1);
            }
            last = Some(piece);
            let Piece { before, value, .. } = &self.pieces[piece];
            let start = at + before.letters.len();
            let name = |place: &Range<usize>| &line[at + place.start..at + place.end];
            for (place, value) in &before.circumstances {
                brief.given.push((name(place), value.map(Scalar::Boolean)));
            }
            at = match value {
                Value::End => return (start == bytes.len()).then_some((id, recorded)),
                Value::IdNumber => {
                    let (number, end) = integer(bytes, start)?;
                    id = RawId::Number(number);
                    end
                }
                Value::Integer(place) => {
                    let (number, end) = integer(bytes, start)?;
                    brief.given.push((name(place), Some(Scalar::Integer(number))));
                    end
                }
                value => {
                    let end = quote(bytes, start)?;
                    let text = &line[start..end];
                    match value {
                        Value::Who => brief.who = text,
                        Value::Does => brief.does = text,
                        Value::On => brief.on = text,
                        Value::As => brief.take_up = Some(text),
                        Value::Verdict => recorded = verdict(text),
                        Value::Reason => {}
                        Value::Time => brief.time = Some(Time::parse(text)?),
                        Value::Text(place) => {
                            brief.given.push((name(place), Some(Scalar::Text(text))));
                        }
                        _ => id = RawId::Text(text),
                    }
                    end
                }
            };
        }
    }

    pub(super) fn learn(&mut self, shape: Vec<(Fixed, Value)>) {
        if self.pieces.len() + shape.len() > MOST_PIECES {
            *self = Self::default();
        }
        let mut last = None;
        for (before, value) in shape {
            let new = self.pieces.len();
            let choices = last.map_or(&self.first, |last: usize| &self.pieces[last].next);
            let same = |piece: &usize| {
                let piece = &self.pieces[*piece];
                piece.before == before && piece.value == value
            };
            let piece = choices.iter().copied().find(same).unwrap_or(new);
            if piece == new {
                self.pieces.push(Piece { before, value, next: Vec::new() });
                last.map_or(&mut self.first, |last| &mut self.pieces[last].next).push(new);
            }
            last = Some(piece);
        }
    }
}

/// Where the next quote is, eight letters at a time.
pub(super) fn quote(bytes: &[u8], from: usize) -> Option<usize> {
    const ONES: u64 = 0x0101_0101_0101_0101;
    let (words, rest) = bytes[from..].as_chunks::<8>();
    let mut at = from;
    for word in words {
        let other = u64::from_le_bytes(*word) ^ (ONES * u64::from(b'"'));
        // The highest bit of the first byte that is a quote; those of later ones may be set too.
        let marks = other.wrapping_sub(ONES) & !other & (ONES << 7);
        if marks != 0 {
            return Some(at + marks.trailing_zeros() as usize / 8);
        }
        at += 8;
    }
    Some(at + rest.iter().position(|byte| *byte == b'"')?)
}

/// An integer of at most eighteen digits, and where it ends. Whether a number ends there too is seen
/// by what comes next: no sign of a line goes on with one.
pub(super) fn integer(bytes: &[u8], from: usize) -> Option<(i64, usize)> {
    let negative = bytes.get(from) == Some(&b'-');
    let start = from + usize::from(negative);
    let mut end = start;
    let mut number = 0;
    while let Some(digit @ b'0'..=b'9') = bytes.get(end) {
        // Past eighteen digits it means nothing, and is thrown away below.
        number = 10_i64.wrapping_mul(number).wrapping_add(i64::from(digit - b'0'));
        end += 1;
    }
    let leading_zero = bytes.get(start) == Some(&b'0') && end - start > 1;
    // `-0` is an integer too, but a rare one.
    if !(1..=18).contains(&(end - start)) || leading_zero || negative && number == 0 {
        return None;
    }
    Some((if negative { -number } else { number }, end))
}

/// A shape on its way, places counted from the line's start.
#[derive(Debug, Default)]
pub(super) struct Draft {
    pub(super) values: Vec<(Range<usize>, Value)>,
    pub(super) circumstances: Vec<(Range<usize>, Option<bool>)>,
}

impl Draft {
    pub(super) fn finish(mut self, line: &str) -> Vec<(Fixed, Value)> {
        let mut circumstances = self.circumstances.into_iter().peekable();
        let mut start = 0;
        self.values.push((line.len()..line.len(), Value::End));
        let piece = |(place, value): (Range<usize>, Value)| {
            let here = |place: Range<usize>| place.start - start..place.end - start;
            let letters = line.as_bytes()[start..place.start].into();
            let is_before = |name: &Range<usize>| name.end <= place.start;
            let circumstances =
                std::iter::from_fn(|| circumstances.next_if(|(name, _)| is_before(name)))
                    .map(|(name, value)| (here(name), value))
                    .collect();
            let value = match value {
                Value::Text(name) => Value::Text(here(name)),
                Value::Integer(name) => Value::Integer(here(name)),
                plain => plain,
            };
            start = place.end;
            (Fixed { letters, circumstances }, value)
        };
        self.values.into_iter().map(piece).collect()
    }
}
