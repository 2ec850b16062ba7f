//! What a path pattern still asks for below a scope: everything, nothing, or only some items.

use std::convert::Infallible;

use super::matching::{Braces, matches_segment};
use super::path::{Brace, PathPattern, Segment, SegmentPart};
use crate::truth::Truth;

/// What a pattern says of the items below a scope.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Below {
    /// None of them.
    Nothing,
    /// All of them, at any depth.
    All,
    /// Some: what the rest of the pattern asks for, one for each way to get there and each way to
    /// fill its braces; and whether these are all.
    Some(Vec<Rest>, bool),
}

/// The rest of a pattern below a scope, without braces: it starts right below the scope.
pub type Rest = PathPattern<Infallible>;

/// A letter that cannot stand in a path (spec section 5): in a path that is made up it stands for
/// any name or part of a name that nobody writes.
pub const FRESH: &str = "*";

/// Ways to fill the braces of one pattern beyond which no more are tried.
const MOST_FILLED: usize = 4_096;

/// The braces of a pattern that has none.
pub(crate) struct NoBraces;

impl Braces<Infallible> for NoBraces {
    fn alternatives(&self, brace: &Brace<Infallible>, _: &mut dyn FnMut(Option<&str>)) {
        match brace.attribute {}
    }
}

impl Rest {
    fn new(segments: Vec<Segment<Infallible>>) -> Self {
        let text: Vec<String> = segments.iter().map(|segment| example(segment, "**")).collect();
        Self {
            text: text.join("/").into(),
            excludes: false,
            absolute: true,
            segments: segments.into(),
        }
    }

    /// A path that it matches, with a [`FRESH`] name or part of a name for each `*`, and
    /// `many` fresh names for each `**`.
    pub(crate) fn example(&self, many: usize) -> String {
        let names = vec![FRESH; many].join("/");
        let all: Vec<String> = self.segments.iter().map(|one| example(one, &names)).collect();
        all.join("/")
    }

    /// Whether it matches a path; stars match what is fresh, letters do not.
    pub(crate) fn takes(&self, path: &str) -> bool {
        let segments: Vec<&str> = path.split('/').collect();
        self.matches(&segments, 0, &NoBraces) == Truth::True
    }
}

fn example(segment: &Segment<Infallible>, rest: &str) -> String {
    match segment {
        Segment::Literal(text) => text.to_string(),
        Segment::Any => FRESH.to_owned(),
        Segment::Rest => rest.to_owned(),
        Segment::Mixed(parts) => parts
            .iter()
            .map(|part| match part {
                SegmentPart::Text(text) => &**text,
                _ => FRESH,
            })
            .collect(),
    }
}

impl<A> PathPattern<A> {
    /// What this pattern, exclusion or not, says of the items below the scope `segments`, when it
    /// starts `anchor` segments down. What is unknown in a brace counts as a `*`.
    pub fn below(&self, segments: &[&str], anchor: usize, braces: &impl Braces<A>) -> Below {
        let start = if self.absolute { 0 } else { anchor };
        let Some(path) = segments.get(start..) else { return Below::Nothing };
        if let [Segment::Rest] = &*self.segments {
            return Below::All;
        }
        let mut reached = vec![false; self.segments.len() + 1];
        reached[0] = true;
        for name in path {
            self.spread(&mut reached);
            let mut next = vec![false; reached.len()];
            for (i, wanted) in self.segments.iter().enumerate().filter(|(i, _)| reached[*i]) {
                match wanted {
                    Segment::Rest => next[i] = true,
                    _ => next[i + 1] |= matches_segment(wanted, name, braces) != Truth::False,
                }
            }
            reached = next;
        }
        self.spread(&mut reached);
        let (mut rests, mut whole) = (Vec::new(), true);
        for i in (0..self.segments.len()).filter(|i| reached[*i]) {
            // What begins with `**` is counted once, where the `**` stands.
            let doubled = i > 0 && matches!(self.segments[i - 1], Segment::Rest) && reached[i - 1];
            if doubled {
                continue;
            }
            let (filled, all) = fill(&self.segments[i..], braces);
            whole &= all;
            for segments in filled {
                let loose = segments.iter().filter(|one| is_any(one)).count();
                let open = segments.iter().filter(|one| matches!(one, Segment::Rest)).count();
                if open > 0 && loose <= 1 && loose + open == segments.len() {
                    return Below::All;
                }
                rests.push(Rest::new(segments));
            }
        }
        if rests.is_empty() && whole { Below::Nothing } else { Below::Some(rests, whole) }
    }

    /// From before a `**` one is after it as well.
    fn spread(&self, reached: &mut [bool]) {
        for (i, segment) in self.segments.iter().enumerate() {
            if reached[i] && matches!(segment, Segment::Rest) {
                reached[i + 1] = true;
            }
        }
    }
}

/// Every way to fill the braces, each by itself, and whether that is every way: none where one of
/// them is absent, or holds what cannot stand in a path.
fn fill<A>(rest: &[Segment<A>], braces: &impl Braces<A>) -> (Vec<Vec<Segment<Infallible>>>, bool) {
    let mut ways: Vec<Vec<Segment<Infallible>>> = vec![Vec::new()];
    for segment in rest {
        let (here, whole) = match segment {
            Segment::Literal(text) if text.contains(char::is_control) => (Vec::new(), true),
            Segment::Literal(text) => (vec![Segment::Literal(text.clone())], true),
            Segment::Any => (vec![Segment::Any], true),
            Segment::Rest => (vec![Segment::Rest], true),
            Segment::Mixed(parts) => fill_parts(parts, braces),
        };
        if !whole || ways.len() * here.len() > MOST_FILLED {
            return (Vec::new(), false);
        }
        let longer = |way: &Vec<_>| {
            let way = way.clone();
            here.iter().map(move |one| way.iter().cloned().chain([one.clone()]).collect())
        };
        ways = ways.iter().flat_map(longer).collect();
    }
    (ways, true)
}

fn fill_parts<A>(
    parts: &[SegmentPart<A>],
    braces: &impl Braces<A>,
) -> (Vec<Segment<Infallible>>, bool) {
    // Stars are `FRESH` here, which no text that stands in a path has in it.
    let mut ways: Vec<String> = vec![String::new()];
    for part in parts {
        let mut here: Vec<String> = Vec::new();
        match part {
            SegmentPart::Text(text) => here.push(text.to_string()),
            SegmentPart::Star => here.push(FRESH.to_owned()),
            SegmentPart::Brace(brace) => braces.alternatives(brace, &mut |text| match text {
                Some(text) if text.contains(['*', '{', '}']) => {}
                text => here.push(text.unwrap_or(FRESH).to_owned()),
            }),
        }
        here.sort_unstable();
        here.dedup();
        if ways.len() * here.len() > MOST_FILLED {
            return (Vec::new(), false);
        }
        ways =
            ways.iter().flat_map(|way| here.iter().map(move |one| format!("{way}{one}"))).collect();
    }
    ways.retain(|way| !matches!(way.as_str(), "" | "." | "..") && !way.contains(char::is_control));
    (ways.iter().map(|way| with_stars(way)).collect(), true)
}

/// Stars beside each other stay apart, as the spec writes what is unknown beside a star.
fn with_stars(text: &str) -> Segment<Infallible> {
    if text == FRESH {
        return Segment::Any;
    }
    if !text.contains(FRESH) {
        return Segment::Literal(text.into());
    }
    let mut parts: Vec<SegmentPart<Infallible>> = Vec::new();
    for (i, piece) in text.split(FRESH).enumerate() {
        if i > 0 {
            parts.push(SegmentPart::Star);
        }
        if !piece.is_empty() {
            parts.push(SegmentPart::Text(piece.into()));
        }
    }
    Segment::Mixed(parts.into())
}

/// Whether a segment is matched by every name.
fn is_any(segment: &Segment<Infallible>) -> bool {
    match segment {
        Segment::Any => true,
        Segment::Mixed(parts) => parts.iter().all(|part| matches!(part, SegmentPart::Star)),
        Segment::Literal(_) | Segment::Rest => false,
    }
}

#[cfg(test)]
mod tests {
    use super::super::path::{Brace, PathPattern};
    use super::{Below, Braces};

    struct Team;

    impl Braces<String> for Team {
        fn alternatives(&self, brace: &Brace<String>, each: &mut dyn FnMut(Option<&str>)) {
            match brace.attribute.as_str() {
                "team" => each(Some("red")),
                "teams" => [Some("red"), Some("a*"), None].into_iter().for_each(each),
                "unknown" => each(None),
                _ => {}
            }
        }
    }

    fn below(pattern: &str, scope: &str, anchor: usize) -> String {
        let segments: Vec<&str> = scope.split('/').collect();
        match PathPattern::parse(pattern).expect("a pattern").below(&segments, anchor, &Team) {
            Below::Nothing => "nothing".to_owned(),
            Below::All => "all".to_owned(),
            Below::Some(rests, _) => {
                rests.iter().map(|rest| &*rest.text).collect::<Vec<_>>().join(" ")
            }
        }
    }

    #[test]
    fn what_is_left_of_a_pattern() {
        for (pattern, scope, anchor, left) in [
            ("**", "a/b", 1, "all"),
            (".", "a/b", 1, "nothing"),
            ("b/**", "a/b", 1, "all"),
            ("b/*/**", "a/b", 1, "all"),
            ("b/*", "a/b", 1, "*"),
            ("b/*/*/**", "a/b", 1, "*/*/**"),
            ("c/**", "a/b", 1, "nothing"),
            ("b/c/**", "a/b", 1, "c/**"),
            ("/a/**", "a/b", 2, "all"),
            ("b/{who.team}/**", "a/b", 1, "red/**"),
            ("b/{who.none}", "a/b", 1, "nothing"),
            ("b/{who.teams}-{who.teams}", "a/b", 1, "*-* *-red red-* red-red"),
            ("b/{who.unknown}{who.unknown}", "a/b", 1, "**"),
            ("b/{who.unknown}/**", "a/b", 1, "all"),
            ("b/x-{who.unknown}*", "a/b", 1, "x-**"),
            ("**/run", "a/b", 1, "**/run"),
            ("**/b/**", "a/b", 1, "all"),
            ("b", "a/b", 1, "nothing"),
            ("{who.team}/**", "a/red", 1, "all"),
        ] {
            assert_eq!(below(pattern, scope, anchor), left, "{pattern} below {scope}");
        }
    }
}
