//! What a path pattern still asks for below a scope: everything, nothing, or only some items.

use super::matching::{Braces, matches_segment};
use super::path::{Brace, Part, PathPattern, Segment};
use crate::truth::Truth;

/// What a pattern says of the items below a scope.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Below {
    /// None of them.
    Nothing,
    /// All of them, at any depth.
    All,
    /// Some: what the rest of the pattern asks for, one for each way to get there.
    Some(Vec<Sample>),
}

/// The rest of a pattern below a scope.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sample {
    /// For people: braces filled in where they are known, `*` and `**` as they are.
    pub shown: String,
    /// A path below the scope that it matches.
    pub example: String,
}

/// A name that nobody writes, in place of a `*` (private use).
pub const ANY_NAME: &str = "\u{e000}";

impl<A> PathPattern<A> {
    /// What this pattern, exclusion or not, says of the items below the scope `segments`, when it
    /// starts `anchor` segments down; `name` says how a brace that cannot be filled in is shown.
    pub fn below(
        &self,
        segments: &[&str],
        anchor: usize,
        braces: &impl Braces<A>,
        name: &dyn Fn(&Brace<A>) -> String,
    ) -> Below {
        let start = if self.absolute { 0 } else { anchor };
        let Some(path) = segments.get(start..) else { return Below::Nothing };
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
        let mut samples = Vec::new();
        for i in (0..self.segments.len()).filter(|i| reached[*i]) {
            let rest = &self.segments[i..];
            let loose = rest.iter().filter(|segment| matches!(segment, Segment::Any)).count();
            let open = rest.iter().filter(|segment| matches!(segment, Segment::Rest)).count();
            if open > 0 && loose <= 1 && loose + open == rest.len() {
                return Below::All;
            }
            // What begins with `**` is counted once, where the `**` stands.
            let doubled = i > 0 && matches!(self.segments[i - 1], Segment::Rest) && reached[i - 1];
            if !doubled {
                samples.extend(sample(rest, braces, name));
            }
        }
        if samples.is_empty() { Below::Nothing } else { Below::Some(samples) }
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

/// `None` when a brace is absent: nothing matches then.
fn sample<A>(
    rest: &[Segment<A>],
    braces: &impl Braces<A>,
    name: &dyn Fn(&Brace<A>) -> String,
) -> Option<Sample> {
    let mut shown: Vec<String> = Vec::new();
    let mut example: Vec<String> = Vec::new();
    for (i, segment) in rest.iter().enumerate() {
        match segment {
            Segment::Literal(text) => {
                shown.push(text.to_string());
                example.push(text.to_string());
            }
            Segment::Any => {
                shown.push("*".to_owned());
                example.push(ANY_NAME.to_owned());
            }
            Segment::Rest => {
                shown.push("**".to_owned());
                if i + 1 == rest.len() {
                    example.push(ANY_NAME.to_owned());
                }
            }
            Segment::Mixed(parts) => {
                let (as_shown, as_example) = fill(parts, braces, name)?;
                shown.push(as_shown);
                example.push(as_example);
            }
        }
    }
    (!example.is_empty()).then(|| Sample { shown: shown.join("/"), example: example.join("/") })
}

fn fill<A>(
    parts: &[Part<A>],
    braces: &impl Braces<A>,
    name: &dyn Fn(&Brace<A>) -> String,
) -> Option<(String, String)> {
    let (mut shown, mut example) = (String::new(), String::new());
    for part in parts {
        match part {
            Part::Text(text) => {
                shown.push_str(text);
                example.push_str(text);
            }
            Part::Star => {
                shown.push('*');
                example.push_str(ANY_NAME);
            }
            Part::Brace(brace) => {
                let mut first: Option<Option<String>> = None;
                braces.alternatives(brace, &mut |text| {
                    first.get_or_insert_with(|| text.map(str::to_owned));
                });
                match first? {
                    Some(text) => {
                        shown.push_str(&text);
                        example.push_str(&text);
                    }
                    None => {
                        shown.push_str(&name(brace));
                        example.push_str(ANY_NAME);
                    }
                }
            }
        }
    }
    Some((shown, example))
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
                "unknown" => each(None),
                _ => {}
            }
        }
    }

    fn below(pattern: &str, scope: &str, anchor: usize) -> String {
        let segments: Vec<&str> = scope.split('/').collect();
        match PathPattern::parse(pattern).expect("a pattern").below(
            &segments,
            anchor,
            &Team,
            &|_| "{…}".to_owned(),
        ) {
            Below::Nothing => "nothing".to_owned(),
            Below::All => "all".to_owned(),
            Below::Some(samples) => {
                samples.into_iter().map(|sample| sample.shown).collect::<Vec<_>>().join(" ")
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
            ("b/x-{who.unknown}*", "a/b", 1, "x-{…}*"),
            ("**/run", "a/b", 1, "**/run"),
            ("**/b/**", "a/b", 1, "all"),
            ("b", "a/b", 1, "nothing"),
            ("{who.team}/**", "a/red", 1, "all"),
        ] {
            assert_eq!(below(pattern, scope, anchor), left, "{pattern} below {scope}");
        }
    }
}
