//! One path pattern, or an `on` list, against one path, in three-valued logic (spec section 3).
//!
//! No backtracking: a pattern costs at most its segments times the path's, a segment at most its
//! parts times the letters of the name.

use std::convert::Infallible;

use super::path::{Brace, PathPattern, PathSet, Segment, SegmentPart};
use super::residual::NoBraces;
use crate::truth::Truth;

/// What a brace may stand for: `Some` letters, or `None` for something that cannot be known or
/// cannot stand in a segment. No call at all means that it is absent and matches nothing.
pub trait Braces<A> {
    /// Calls `each` with every alternative of `brace`.
    fn alternatives(&self, brace: &Brace<A>, each: &mut dyn FnMut(Option<&str>));
}

impl<A> PathSet<A> {
    /// Whether the path `segments` is meant, by patterns that start `anchor` segments down.
    pub fn matches(&self, segments: &[&str], anchor: usize, braces: &impl Braces<A>) -> Truth {
        let any = |patterns: &[PathPattern<A>]| {
            let mut best = Truth::False;
            for pattern in patterns {
                best = best.or(pattern.matches(segments, anchor, braces));
                if best == Truth::True {
                    break;
                }
            }
            best
        };
        let meant = any(&self.plain);
        if meant == Truth::False || self.excluded.is_empty() {
            return meant;
        }
        meant.and(any(&self.excluded).negate())
    }
}

impl<A> PathPattern<A> {
    /// Whether this pattern, exclusion or not, matches the path.
    pub fn matches(&self, segments: &[&str], anchor: usize, braces: &impl Braces<A>) -> Truth {
        let start = if self.absolute { 0 } else { anchor };
        let Some(path) = segments.get(start..) else { return Truth::False };
        // Up to the first `**` the segments pair off one to one.
        let mut truth = Truth::True;
        for (i, wanted) in self.segments.iter().enumerate() {
            if matches!(wanted, Segment::Rest) {
                let tail = &self.segments[i + 1..];
                return truth.and(matches_rest(tail, &path[i..], braces));
            }
            let Some(name) = path.get(i) else { return Truth::False };
            truth = truth.and(matches_segment(wanted, name, braces));
            if truth == Truth::False {
                return Truth::False;
            }
        }
        if path.len() == self.segments.len() { truth } else { Truth::False }
    }
}

/// `**` followed by `tail`, against `path`.
fn matches_rest<A>(tail: &[Segment<A>], path: &[&str], braces: &impl Braces<A>) -> Truth {
    if tail.is_empty() {
        return Truth::True;
    }
    if !tail.iter().any(|segment| matches!(segment, Segment::Rest)) {
        let Some(skipped) = path.len().checked_sub(tail.len()) else { return Truth::False };
        return tail.iter().zip(&path[skipped..]).fold(Truth::True, |truth, (wanted, name)| {
            if truth == Truth::False {
                return truth;
            }
            truth.and(matches_segment(wanted, name, braces))
        });
    }
    // reached[j]: how surely the tail so far can end right before segment j.
    let mut reached = vec![Truth::True; path.len() + 1];
    for wanted in tail {
        let mut next = vec![Truth::False; path.len() + 1];
        if matches!(wanted, Segment::Rest) {
            let mut best = Truth::False;
            for (now, before) in next.iter_mut().zip(&reached) {
                best = best.or(*before);
                *now = best;
            }
        } else {
            for (j, name) in path.iter().enumerate() {
                if reached[j] != Truth::False {
                    next[j + 1] = reached[j].and(matches_segment(wanted, name, braces));
                }
            }
        }
        reached = next;
    }
    reached[path.len()]
}

/// Whether a segment without braces matches a name.
pub(crate) fn matches_segment_of(wanted: &Segment<Infallible>, name: &str) -> bool {
    matches_segment(wanted, name, &NoBraces) == Truth::True
}

pub(crate) fn matches_segment<A>(
    wanted: &Segment<A>,
    name: &str,
    braces: &impl Braces<A>,
) -> Truth {
    match wanted {
        Segment::Literal(text) => Truth::from(**text == *name),
        Segment::Any | Segment::Rest => Truth::True,
        Segment::Mixed(parts) => matches_parts(parts, name, braces),
    }
}

fn matches_parts<A>(parts: &[SegmentPart<A>], name: &str, braces: &impl Braces<A>) -> Truth {
    if let [SegmentPart::Brace(brace)] = parts {
        let mut best = Truth::False;
        braces.alternatives(brace, &mut |text| {
            best = best.or(text.map_or(Truth::Undecided, |text| Truth::from(text == name)));
        });
        return best;
    }
    let length = name.len() + 1;
    if length <= SHORT_NAME {
        let (mut reached, mut next) = ([Truth::False; SHORT_NAME], [Truth::False; SHORT_NAME]);
        matches_parts_in(parts, name, braces, &mut reached[..length], &mut next[..length])
    } else {
        let (mut reached, mut next) = (vec![Truth::False; length], vec![Truth::False; length]);
        matches_parts_in(parts, name, braces, &mut reached, &mut next)
    }
}

/// Names shorter than this, which most are, are matched without memory being asked for.
const SHORT_NAME: usize = 64;

/// Whether the parts match a name; the two lists are room for the positions reached after one part
/// and after the next.
fn matches_parts_in<'r, A>(
    parts: &[SegmentPart<A>],
    name: &str,
    braces: &impl Braces<A>,
    mut reached: &'r mut [Truth],
    mut next: &'r mut [Truth],
) -> Truth {
    let bytes = name.as_bytes();
    // reached[p]: how surely the parts so far can end right before byte p.
    reached[0] = Truth::True;
    for part in parts {
        next.fill(Truth::False);
        let literal = |text: &str, next: &mut [Truth]| {
            let text = text.as_bytes();
            for p in 0..(bytes.len() + 1).saturating_sub(text.len()) {
                if reached[p] > next[p + text.len()] && bytes[p..].starts_with(text) {
                    next[p + text.len()] = reached[p];
                }
            }
        };
        match part {
            SegmentPart::Text(text) => literal(text, next),
            SegmentPart::Star => spread(reached, next, Truth::True),
            SegmentPart::Brace(brace) => braces.alternatives(brace, &mut |text| match text {
                Some(text) => literal(text, next),
                None => spread(reached, next, Truth::Undecided),
            }),
        }
        std::mem::swap(&mut reached, &mut next);
    }
    reached[bytes.len()]
}

/// Any run of characters, believed no further than `most`.
fn spread(reached: &[Truth], next: &mut [Truth], most: Truth) {
    let mut best = Truth::False;
    for (now, before) in next.iter_mut().zip(reached) {
        best = best.or(*before);
        *now = (*now).or(best.and(most));
    }
}

#[cfg(test)]
mod tests {
    use super::super::path::{Brace, PathPattern, PathSet};
    use super::Braces;
    use crate::truth::Truth::{self, False, True, Undecided};

    /// `a` is the list `x`, `y*`; `u` is unknown; `m` is a list with one unknown; others are absent.
    struct Few;

    impl Braces<String> for Few {
        fn alternatives(&self, brace: &Brace<String>, each: &mut dyn FnMut(Option<&str>)) {
            match brace.attribute.as_str() {
                "a" => ["x", "y*"].iter().for_each(|text| each(Some(text))),
                "u" => each(None),
                "m" => [Some("x"), None].into_iter().for_each(each),
                _ => {}
            }
        }
    }

    fn check(patterns: &[&str], path: &str, anchor: usize) -> Truth {
        let parsed = patterns.iter().map(|p| PathPattern::parse(p).expect("a pattern")).collect();
        let segments: Vec<&str> = path.split('/').collect();
        PathSet::new(parsed).expect("a plain pattern").matches(&segments, anchor, &Few)
    }

    #[test]
    fn plain_patterns() {
        for (pattern, path, anchor, truth) in [
            ("**", "a/b", 1, True),
            (".", "a", 1, True),
            (".", "a/b", 1, False),
            ("b/**", "a/b", 1, True),
            ("b/*/**", "a/b", 1, False),
            ("b/*/**", "a/b/c/d", 1, True),
            ("/a/**", "a/b", 2, True),
            ("/b", "a/b", 1, False),
            ("*", "a/b", 1, True),
            ("**/z", "a/b/z", 1, True),
            ("**/z", "a/b/z/y", 1, False),
            ("**/z/**", "a/b/z/y", 1, True),
            ("**/b/**/d", "a/b/c/d", 0, True),
            ("**/b/**/d", "a/d/c/b", 0, False),
            ("n*t-*", "a/night-7", 1, True),
            ("n*t-*", "a/nit", 1, False),
            (".", "a", 0, False),
            ("**/**", "a", 1, True),
        ] {
            assert_eq!(check(&[pattern], path, anchor), truth, "{pattern} on {path}");
        }
    }

    #[test]
    fn braces_in_three_values() {
        for (pattern, name, truth) in [
            ("{who.a}", "x", True),
            ("{who.a}", "y*", True),
            ("{who.a}", "yz", False),
            ("{who.u}", "x", Undecided),
            ("n{who.u}", "x", False),
            ("n{who.u}", "n", Undecided),
            ("{who.m}", "x", True),
            ("{who.m}", "q", Undecided),
            ("{who.none}", "x", False),
            ("{who.a}{who.a}", "xy*", True),
            ("*{who.a}", "aax", True),
            ("{who.u}*", "x", Undecided),
            ("{who.none}*", "x", False),
        ] {
            assert_eq!(check(&[pattern], name, 0), truth, "{pattern} on {name}");
            // A long name is matched as a short one is.
            let long = |text: &str| format!("{}{text}", "k".repeat(80));
            assert_eq!(check(&[&long(pattern)], &long(name), 0), truth, "long {pattern}");
        }
    }

    #[test]
    fn exclusions() {
        assert_eq!(check(&["**", "!b/**"], "a/b/c", 1), False);
        assert_eq!(check(&["**", "!{who.u}"], "a/b", 1), Undecided);
        assert_eq!(check(&["{who.u}", "!b"], "a/b", 1), False);
    }
}
