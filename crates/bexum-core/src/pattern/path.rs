//! Path patterns as written: segments, stars, braces, and where they start.

use super::PatternFault;
use crate::attribute::{TARGET_BUILTINS, WHO_BUILTINS};
use crate::limits::PATTERN_BYTES;
use crate::name::{Grammar, new_word};

/// Whose attribute a brace stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum BraceRoot {
    /// `{who.…}`
    Who,
    /// `{given.…}`
    Given,
}

/// A brace: `{who.team}`.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Brace<A> {
    /// Whose attribute.
    pub root: BraceRoot,
    /// Which; a full dotted name as parsed, an attribute of the estate once resolved.
    pub attribute: A,
}

/// A part of a segment.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum SegmentPart<A> {
    /// These characters.
    Text(Box<str>),
    /// `*`: any run of characters.
    Star,
    /// An attribute's value.
    Brace(Brace<A>),
}

/// A segment of a pattern.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Segment<A> {
    /// Exactly this name.
    Literal(Box<str>),
    /// `*`: any one segment.
    Any,
    /// `**`: any number of segments.
    Rest,
    /// Anything with stars or braces in it.
    Mixed(Box<[SegmentPart<A>]>),
}

/// One pattern of an `on` list.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct PathPattern<A = crate::condition::Reference> {
    /// As written, with its `!`.
    pub text: Box<str>,
    /// Whether it takes away what the others match.
    pub excludes: bool,
    /// Whether it starts at the root of all paths, not at the scope of its attachment.
    pub absolute: bool,
    /// Its segments; none for `.`, the starting scope itself.
    pub segments: Box<[Segment<A>]>,
}

/// An `on` list, plain patterns and exclusions apart.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct PathSet<A = crate::condition::Reference> {
    /// What it matches…
    pub plain: Box<[PathPattern<A>]>,
    /// …unless one of these does too.
    pub excluded: Box<[PathPattern<A>]>,
}

impl<A> PathSet<A> {
    /// Parts the patterns of one list.
    ///
    /// # Errors
    /// [`PatternFault::OnlyExcludes`].
    pub fn new(patterns: Vec<PathPattern<A>>) -> Result<Self, PatternFault> {
        let (excluded, plain): (Vec<_>, Vec<_>) =
            patterns.into_iter().partition(|pattern| pattern.excludes);
        if plain.is_empty() {
            return Err(PatternFault::OnlyExcludes);
        }
        Ok(Self { plain: plain.into(), excluded: excluded.into() })
    }

    /// The patterns as written, plain ones first.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.plain.iter().chain(&self.excluded).map(|pattern| &*pattern.text)
    }
}

impl PathPattern<String> {
    /// Reads one pattern; a fault comes with its byte range in `text`.
    ///
    /// # Errors
    /// Every [`PatternFault`] about paths.
    pub fn parse(text: &str) -> Result<Self, (PatternFault, usize, usize)> {
        let whole = |fault| (fault, 0, text.len());
        if text.len() > PATTERN_BYTES {
            return Err(whole(PatternFault::TooLong));
        }
        let (excludes, body) = match text.strip_prefix('!') {
            Some(body) => (true, body),
            None => (false, text),
        };
        let pattern = |absolute, segments: Vec<_>| Self {
            text: text.into(),
            excludes,
            absolute,
            segments: segments.into(),
        };
        if body == "." {
            return Ok(pattern(false, Vec::new()));
        }
        let (absolute, body) = match body.strip_prefix('/') {
            Some(body) => (true, body),
            None => (false, body),
        };
        let mut at = text.len() - body.len();
        let mut segments = Vec::new();
        for segment in body.split('/') {
            let end = at + segment.len();
            let parsed = parse_segment(segment).map_err(|fault| (fault, at, end))?;
            segments.push(parsed);
            at = end + 1;
        }
        Ok(pattern(absolute, segments))
    }
}

impl<A> PathPattern<A> {
    /// This pattern with its attributes turned into another form.
    pub(crate) fn map<B>(self, resolve: &mut impl FnMut(BraceRoot, A) -> B) -> PathPattern<B> {
        let mut part = |part| match part {
            SegmentPart::Text(text) => SegmentPart::Text(text),
            SegmentPart::Star => SegmentPart::Star,
            SegmentPart::Brace(Brace { root, attribute }) => {
                SegmentPart::Brace(Brace { root, attribute: resolve(root, attribute) })
            }
        };
        let segments = self.segments.into_iter().map(|segment| match segment {
            Segment::Literal(text) => Segment::Literal(text),
            Segment::Any => Segment::Any,
            Segment::Rest => Segment::Rest,
            Segment::Mixed(parts) => Segment::Mixed(parts.into_iter().map(&mut part).collect()),
        });
        PathPattern {
            segments: segments.collect(),
            text: self.text,
            excludes: self.excludes,
            absolute: self.absolute,
        }
    }

    /// The braces in it.
    pub fn braces(&self) -> impl Iterator<Item = &Brace<A>> {
        self.segments.iter().flat_map(|segment| {
            let parts: &[SegmentPart<A>] = match segment {
                Segment::Mixed(parts) => parts,
                _ => &[],
            };
            parts.iter().filter_map(|part| match part {
                SegmentPart::Brace(brace) => Some(brace),
                _ => None,
            })
        })
    }
}

fn parse_segment(text: &str) -> Result<Segment<String>, PatternFault> {
    match text {
        "" => return Err(PatternFault::EmptySegment),
        "." => return Err(PatternFault::DotNotAlone),
        ".." => return Err(PatternFault::DotDot),
        "*" => return Ok(Segment::Any),
        "**" => return Ok(Segment::Rest),
        _ => {}
    }
    if !text.contains(['*', '{', '}']) {
        return Ok(Segment::Literal(text.into()));
    }
    if text.contains("**") {
        return Err(PatternFault::StarsInSegment);
    }
    let mut parts = Vec::new();
    let mut left = text;
    while !left.is_empty() {
        if let Some(rest) = left.strip_prefix('*') {
            parts.push(SegmentPart::Star);
            left = rest;
        } else if let Some(rest) = left.strip_prefix('{') {
            let (inside, rest) = rest.split_once('}').ok_or(PatternFault::Brace)?;
            parts.push(SegmentPart::Brace(parse_brace(inside)?));
            left = rest;
        } else {
            let end = left.find(['*', '{', '}']).unwrap_or(left.len());
            if end == 0 {
                return Err(PatternFault::Brace); // a `}` without its `{`
            }
            parts.push(SegmentPart::Text(left[..end].into()));
            left = &left[end..];
        }
    }
    Ok(Segment::Mixed(parts.into()))
}

fn parse_brace(inside: &str) -> Result<Brace<String>, PatternFault> {
    let (root, name) = inside.split_once('.').ok_or(PatternFault::Brace)?;
    let root = match root {
        "who" => BraceRoot::Who,
        "given" => BraceRoot::Given,
        _ => {
            let is_name = name.split('.').all(|part| Grammar::Attribute.accepts(part));
            return Err(match new_word(root) {
                Some(new) if is_name && new != "target" => {
                    PatternFault::OldBrace { meant: format!("{{{new}.{name}}}") }
                }
                _ => PatternFault::Brace,
            });
        }
    };
    if !name.split('.').all(|part| Grammar::Attribute.accepts(part)) {
        return Err(PatternFault::Brace);
    }
    if root == BraceRoot::Given && name == "time" {
        return Err(PatternFault::BraceTime);
    }
    if root == BraceRoot::Who && TARGET_BUILTINS.contains(&name) && !WHO_BUILTINS.contains(&name) {
        return Err(PatternFault::BraceRoot(name.to_owned()));
    }
    Ok(Brace { root, attribute: name.to_owned() })
}

#[cfg(test)]
mod tests {
    use super::{PathPattern, PatternFault};

    #[test]
    fn what_is_refused() {
        use PatternFault as F;
        for (text, fault) in [
            ("", F::EmptySegment),
            ("!", F::EmptySegment),
            ("/", F::EmptySegment),
            ("a//b", F::EmptySegment),
            ("a/", F::EmptySegment),
            ("..", F::DotDot),
            ("a/../b", F::DotDot),
            ("./a", F::DotNotAlone),
            ("/.", F::DotNotAlone),
            ("a**", F::StarsInSegment),
            ("***", F::StarsInSegment),
            ("**{who.a}", F::StarsInSegment),
            ("{who.a", F::Brace),
            ("a}", F::Brace),
            ("{target.a}", F::Brace),
            ("{resource.a}", F::Brace),
            ("{principal.a}", F::OldBrace { meant: "{who.a}".into() }),
            ("{context.a}", F::OldBrace { meant: "{given.a}".into() }),
            ("{who.}", F::Brace),
            ("{who}", F::Brace),
            ("{{who.a}}", F::Brace),
            ("{given.time}", F::BraceTime),
            ("{who.path}", F::BraceRoot("path".into())),
        ] {
            assert_eq!(PathPattern::parse(text).map_err(|e| e.0), Err(fault), "{text}");
        }
    }

    #[test]
    fn a_fault_points_at_its_segment() {
        let (_, start, end) = PathPattern::parse("!/spectra/a**b/x").expect_err("two stars");
        assert_eq!(&"!/spectra/a**b/x"[start..end], "a**b");
    }

    #[test]
    fn what_is_read() {
        for good in [".", "!.", "**", "/**", "!!x", "*x*", "~/$HOME", "{who.a.b}-{given.c}*"] {
            assert!(PathPattern::parse(good).is_ok(), "{good}");
        }
    }
}
