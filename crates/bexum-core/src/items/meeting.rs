//! Where two patterns match an item together: the shortest path that both match.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};
use std::convert::Infallible;

use rustc_hash::FxHashSet;

use crate::pattern::matching::matches_segment_of;
use crate::pattern::path::{Segment, SegmentPart};
use crate::pattern::residual::{FRESH, Rest};

/// A path so far, in the order in which paths are tried: how many names it has, how many letters, the
/// path itself, and how many segments of each pattern it uses up.
type Reached = (usize, usize, String, usize, usize);

/// The shortest path that both match and whose first name `is_free`: the fewest names, then the
/// fewest letters. What both leave open in it is [`FRESH`].
pub(crate) fn meeting(a: &Rest, b: &Rest, is_free: &dyn Fn(&str) -> bool) -> Option<String> {
    let (a, b) = (&a.segments, &b.segments);
    let mut heap: BinaryHeap<Reverse<Reached>> = BinaryHeap::new();
    let mut settled: FxHashSet<(usize, usize, bool)> = FxHashSet::default();
    heap.push(Reverse((0, 0, String::new(), 0, 0)));
    while let Some(Reverse((names, letters, path, i, j))) = heap.pop() {
        // Only the first name has to be free, so being here before any name is another case.
        if !settled.insert((i, j, names == 0)) {
            continue;
        }
        if i == a.len() && j == b.len() {
            if names > 0 {
                return Some(path);
            }
            continue;
        }
        let skips = [(a.get(i), i + 1, j), (b.get(j), i, j + 1)];
        for (_, i, j) in skips.iter().filter(|(one, ..)| matches!(one, Some(Segment::Rest))) {
            heap.push(Reverse((names, letters, path.clone(), *i, *j)));
        }
        let (Some(one), Some(other)) = (a.get(i), b.get(j)) else { continue };
        let fits = |name: &str| names > 0 || is_free(name);
        let Some(name) = common(one, other).into_iter().find(|name| fits(name)) else { continue };
        let after = |one: &Segment<Infallible>, at| at + usize::from(!matches!(one, Segment::Rest));
        let slash = if names > 0 { "/" } else { "" };
        let (i, j) = (after(one, i), after(other, j));
        heap.push(Reverse((names + 1, letters + name.len(), format!("{path}{slash}{name}"), i, j)));
    }
    None
}

/// Names that both segments match, to be tried in turn: the shortest, then the shortest with a fresh
/// letter in it. The second is free, as only finitely many names are taken.
fn common(a: &Segment<Infallible>, b: &Segment<Infallible>) -> Vec<String> {
    let is_open = |one: &Segment<Infallible>| matches!(one, Segment::Any | Segment::Rest);
    match (a, b) {
        _ if is_open(a) && is_open(b) => vec![FRESH.to_owned()],
        (Segment::Literal(text), other) | (other, Segment::Literal(text)) => {
            let both = is_open(other) || matches_segment_of(other, text);
            if both { vec![text.to_string()] } else { Vec::new() }
        }
        _ => [false, true].into_iter().filter_map(|fresh| shortest(a, b, fresh)).collect(),
    }
}

/// The letters of a segment; `None` is a star, which stands for any run of them.
type Letters = Vec<Option<char>>;

fn letters(segment: &Segment<Infallible>) -> Letters {
    match segment {
        Segment::Literal(text) => text.chars().map(Some).collect(),
        Segment::Any | Segment::Rest => vec![None],
        Segment::Mixed(parts) => parts
            .iter()
            .flat_map(|part| match part {
                SegmentPart::Text(text) => text.chars().map(Some).collect(),
                _ => vec![None],
            })
            .collect(),
    }
}

/// The shortest name that both match; with a fresh letter in it, written `*`, if `fresh`.
fn shortest(a: &Segment<Infallible>, b: &Segment<Infallible>, fresh: bool) -> Option<String> {
    let (a, b) = (letters(a), letters(b));
    let mut seen: FxHashSet<(usize, usize, bool)> = FxHashSet::default();
    let mut waiting: VecDeque<(usize, usize, String)> = VecDeque::from([(0, 0, String::new())]);
    while let Some((i, j, name)) = waiting.pop_front() {
        let is_fresh = name.contains(FRESH);
        if !seen.insert((i, j, is_fresh || name.is_empty())) {
            continue;
        }
        if i == a.len() && j == b.len() && !name.is_empty() && is_fresh >= fresh {
            return Some(name);
        }
        let (one, other) = (a.get(i), b.get(j));
        // That a star takes no more letters is tried first, as it makes the shorter name.
        if one == Some(&None) {
            waiting.push_front((i + 1, j, name.clone()));
        }
        if other == Some(&None) {
            waiting.push_front((i, j + 1, name.clone()));
        }
        let (letter, i, j) = match (one, other) {
            (Some(Some(x)), Some(Some(y))) if x == y => (*x, i + 1, j + 1),
            (Some(Some(x)), Some(None)) => (*x, i + 1, j),
            (Some(None), Some(Some(y))) => (*y, i, j + 1),
            (Some(None), Some(None)) if fresh && !is_fresh => ('*', i, j),
            _ => continue,
        };
        waiting.push_back((i, j, format!("{name}{letter}")));
    }
    None
}

#[cfg(test)]
mod tests {
    use super::meeting;
    use crate::pattern::path::PathPattern;
    use crate::pattern::residual::{Below, NoBraces, Rest};

    fn rest(text: &str) -> Rest {
        let pattern = PathPattern::parse(&format!("/t/{text}")).expect("a pattern");
        let pattern =
            pattern.map(&mut |_, name: String| -> std::convert::Infallible { panic!("{name}") });
        match pattern.below(&["t"], 0, &NoBraces) {
            Below::Some(rests, true) => rests.into_iter().next().expect("one"),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn the_shortest_path_of_both() {
        for (a, b, both) in [
            ("ab*/**", "*cd/**", Some("abcd")),
            ("a/**", "*/b/**", Some("a/b")),
            ("dag/**", "*/vault/**", Some("dag/vault")),
            ("**/breaker", "timing/**/**", Some("timing/breaker")),
            ("**/breaker", "*/timing/**", Some("*/timing/breaker")),
            ("a*", "*a", Some("a")),
            ("aba*", "*bab", Some("abab")),
            ("a*b*c", "*bb*", Some("abbc")),
            ("a", "b/**", None),
            ("a/**", "b/**", None),
            ("*/a", "*/b", None),
            ("*", "*/*", None),
            // What is declared is none of the items.
            ("t*", "*t", Some("t*t")),
            ("t", "t*", None),
        ] {
            for (a, b) in [(a, b), (b, a)] {
                let found = meeting(&rest(a), &rest(b), &|name| name != "t");
                assert_eq!(found.as_deref(), both, "{a} and {b}");
            }
        }
    }
}
