//! What braces that nobody gave may stand for, in the paths of items.
//!
//! What conditions ask of such a value becomes a pattern over letters, and mostly that is enough: the
//! machine that reads paths finds a path for every combination of answers. It is not enough where the
//! same value stands in two places of a path, or where a pattern leaves open in which place it stands.
//! Then names are sorted first: two names are of one sort if every segment of a pattern and every
//! condition treats them alike, and one name of each sort is tried wherever such a value stands.

use crate::condition::Reference;
use crate::condition::check::TargetAttribute;
use crate::engine::EvalContext;
use crate::pattern::matching::Braces as _;
use crate::pattern::path::{Brace, PathPattern, Segment, SegmentPart};
use crate::prove::{MOST_WORDS_EACH, Unknowns};

use super::nfa::{Pattern, Piece, of_fits, tell_names_apart};

pub(super) const PATH: Reference = Reference::Target(TargetAttribute::Path);
pub(super) const NAME: Reference = Reference::Target(TargetAttribute::Name);

/// Most ways to fill the braces of one pattern together that are gone through.
const MOST_FILLED: usize = 400;
/// Most letters of a `fits` on paths by whose parts names are sorted.
const MOST_OF_A_PATH: usize = 40;

/// A pattern that singles out items of the scope, and where in a path it starts to be matched.
pub(super) struct Asking<'a> {
    pub(super) pattern: &'a PathPattern,
    /// The first segments of the scope's path, which the pattern does not look at, each after a `/`.
    pub(super) start: String,
    /// The other segments of the scope's path, which it does look at.
    pub(super) above: String,
}

/// A brace that nobody gave, where it stands in a pattern.
struct Open {
    /// Which segment of the pattern, and which part of the segment.
    place: (usize, usize),
    /// The number of its [domain](crate::prove::ValueDomain), which attributes that are compared with
    /// each other share.
    domain: usize,
    /// Whether nothing else stands in its segment.
    is_lone: bool,
    /// Whether the pattern says where in a path it stands.
    is_fixed: bool,
}

/// What stands in some braces, by their places.
type Chosen = Vec<((usize, usize), Pattern)>;

/// What is known of all braces below a scope.
pub(super) struct Names<'a, 'c> {
    contexts: &'a [EvalContext<'c>],
    unknowns: &'a Unknowns,
    /// For each domain, whether one name of each sort has to be tried for its values.
    by_itself: Vec<bool>,
    /// A name of each sort, if any domain needs them.
    names: Vec<String>,
    /// Whether no bound was met: these are names of all sorts, and all ways to fill braces were tried.
    pub(super) are_all: bool,
}

impl<'a, 'c> Names<'a, 'c> {
    /// Finds out which domains need a name of each sort; the names come with [`Self::tell_apart`].
    pub(super) fn new(
        contexts: &'a [EvalContext<'c>],
        unknowns: &'a Unknowns,
        patterns: &[Asking<'_>],
    ) -> Self {
        let mut names = Self {
            contexts,
            unknowns,
            by_itself: vec![false; unknowns.references.len()],
            names: Vec::new(),
            are_all: true,
        };
        let mut places = vec![0; unknowns.references.len()];
        if let Some(domain) = unknowns.number(NAME) {
            places[domain] += 1;
        }
        let mut seen = rustc_hash::FxHashSet::default();
        for Asking { pattern, start, .. } in patterns {
            // The same pattern from the same start is one place, however often it is written.
            let text = pattern.text.trim_start_matches('!').trim_start_matches('/');
            if !seen.insert(format!("{start}/{text}")) {
                continue;
            }
            for open in names.open_braces(pattern) {
                places[open.domain] += 1;
                let is_asked = unknowns.by_number(open.domain).is_asked;
                names.by_itself[open.domain] |= !open.is_fixed && is_asked;
            }
        }
        for (by_itself, places) in names.by_itself.iter_mut().zip(places) {
            *by_itself |= places > 1;
        }
        names
    }

    /// Names that a path's last segment is compared with, if `target.name` needs a name of each sort.
    pub(super) fn of_target(&self) -> impl Iterator<Item = &str> {
        let is_needed = self.unknowns.number(NAME).is_some_and(|domain| self.by_itself[domain]);
        self.names.iter().filter(move |_| is_needed).map(String::as_str)
    }

    /// Finds a name of each sort.
    pub(super) fn tell_apart<'n>(
        &mut self,
        patterns: &[Asking<'_>],
        scope: &'n str,
        in_the_way: impl Iterator<Item = &'n str>,
    ) {
        let domains = (0..self.by_itself.len()).filter(|domain| self.by_itself[*domain]);
        let copies = domains.map(|domain| self.unknowns.by_number(domain).shared_by).max();
        let Some(copies) = copies else { return };
        self.are_all &= copies <= MOST_WORDS_EACH;
        let text = |text: &str| vec![Piece::Text(text.to_owned())];
        let mut told: Vec<Pattern> = scope.split('/').chain(in_the_way).map(text).collect();
        for Asking { pattern, .. } in patterns {
            for (at, segment) in pattern.segments.iter().enumerate() {
                match segment {
                    Segment::Literal(name) => told.push(text(name)),
                    Segment::Any | Segment::Rest => {}
                    Segment::Mixed(_) => told.extend(self.segment(pattern, at)),
                }
            }
        }
        for reference in [NAME, PATH] {
            let Some(domain) = self.unknowns.domain(reference) else { continue };
            let texts = domain.written_out();
            told.extend(texts.iter().flat_map(|path| path.split('/')).map(text));
            for fits in &domain.fit_patterns {
                if reference == NAME {
                    told.push(in_segment(of_fits(fits)));
                } else {
                    self.are_all &= fits.chars().count() <= MOST_OF_A_PATH;
                    told.extend(parts_of(fits));
                }
            }
        }
        told.sort_unstable();
        told.dedup();
        let is_name = |name: &str| !matches!(name, "" | "." | "..") && !name.contains('/');
        self.names.clear();
        self.are_all &=
            tell_names_apart(&told, &mut self.names, copies.min(MOST_WORDS_EACH), &is_name);
    }

    /// The ways in which one segment of a pattern can be filled, apart from the others.
    fn segment(&self, pattern: &PathPattern, at: usize) -> Vec<Pattern> {
        let open = self.open_braces(pattern).into_iter().filter(|open| open.place.0 == at);
        let mut chosen = vec![Vec::new()];
        for open in open {
            chosen.extend(self.asked(open.domain).into_iter().map(|with| vec![(open.place, with)]));
        }
        let filled = self.contexts.iter().flat_map(|context| {
            let chosen = chosen.iter();
            chosen.flat_map(|chosen| {
                [false, true].map(|known| fill_segment(context, pattern, at, chosen, known))
            })
        });
        filled.map(in_segment).collect()
    }

    /// Every way to fill the braces of a pattern that has to be told from the others.
    pub(super) fn spelled(&mut self, pattern: &PathPattern) -> Vec<Pattern> {
        let open = self.open_braces(pattern);
        let mut chosen: Vec<Chosen> = vec![Vec::new()];
        // How many ways there are to fill together the braces whose place is left open.
        let mut together = 1_usize;
        let mut unfixed: Vec<Chosen> = vec![Vec::new()];
        for open in &open {
            let by_itself = self.by_itself[open.domain];
            // Names are sorted as wholes: what is only a part of a name is not covered by that.
            self.are_all &= open.is_lone || !by_itself;
            let ways = if by_itself && open.is_lone {
                self.names.iter().map(|name| vec![Piece::Text(name.clone())]).collect()
            } else {
                self.asked(open.domain)
            };
            chosen.extend(ways.iter().map(|with| vec![(open.place, with.clone())]));
            if !open.is_fixed {
                together = together.saturating_mul(ways.len() + 1);
                if together > MOST_FILLED {
                    self.are_all = false;
                    continue;
                }
                for known in unfixed.clone() {
                    let with =
                        |with: &Pattern| [&known[..], &[(open.place, with.clone())]].concat();
                    unfixed.extend(ways.iter().map(with));
                }
            }
        }
        chosen.extend(unfixed.into_iter().filter(|chosen| chosen.len() > 1));
        let has_braces = pattern.braces().next().is_some();
        let mut found = Vec::new();
        for context in self.contexts {
            found.extend(chosen.iter().map(|chosen| fill(context, pattern, chosen, false)));
            if has_braces {
                found.push(fill(context, pattern, &[], true));
            }
        }
        found
    }

    /// What conditions ask a value to be, each as a pattern for a segment.
    fn asked(&self, domain: usize) -> Vec<Pattern> {
        let domain = self.unknowns.by_number(domain);
        let texts = domain.written_out().into_iter();
        let texts = texts.filter(|text| !text.is_empty() && !text.contains('/'));
        let texts = texts.map(|text| vec![Piece::OneOf(vec![text])]);
        let fitted = domain.fit_patterns.iter().map(|pattern| in_segment(of_fits(pattern)));
        let integers = domain.integers_between().into_iter();
        let integers = integers.map(|(from, to)| vec![Piece::Integer(from, to)]);
        texts.chain(fitted).chain(integers).collect()
    }

    fn open_braces(&self, pattern: &PathPattern) -> Vec<Open> {
        let is_rest = |segment: &Segment<Reference>| matches!(segment, Segment::Rest);
        let mut found = Vec::new();
        for (at, segment) in pattern.segments.iter().enumerate() {
            let Segment::Mixed(parts) = segment else { continue };
            let is_between = pattern.segments[..at].iter().any(is_rest)
                && pattern.segments[at..].iter().any(is_rest);
            let loose = parts.iter().filter(|part| !matches!(part, SegmentPart::Text(_))).count();
            for (part_at, part) in parts.iter().enumerate() {
                let SegmentPart::Brace(brace) = part else { continue };
                let Some(domain) = self.unknowns.number(brace.attribute) else { continue };
                found.push(Open {
                    place: (at, part_at),
                    domain,
                    is_lone: parts.len() == 1,
                    is_fixed: !is_between && loose == 1,
                });
            }
        }
        found
    }
}

/// What of a `fits` on a path a single name may have to match: each part of it from one letter to
/// another, except across a `/`, which no name holds.
fn parts_of(fits: &str) -> Vec<Pattern> {
    let letters: Vec<char> = fits.chars().take(MOST_OF_A_PATH).collect();
    let mut found = Vec::new();
    for from in 0..letters.len() {
        let within = letters[from..].iter().take_while(|letter| **letter != '/').count();
        for to in 1..=within {
            let part: String = letters[from..from + to].iter().collect();
            found.push(in_segment(of_fits(&part)));
        }
    }
    found
}

/// A pattern over letters whose stars stay within one segment.
pub(super) fn in_segment(pattern: Pattern) -> Pattern {
    let within = |piece| match piece {
        Piece::Any => Piece::AnyInSegment,
        Piece::Single => Piece::SingleInSegment,
        other => other,
    };
    pattern.into_iter().map(within).collect()
}

/// A path pattern as one over letters, a `/` before every segment. A brace is what was chosen for it,
/// else the values that are known for it; where a value is unknown it is any name, or no name at all if
/// `known_alone`.
fn fill(
    context: &EvalContext<'_>,
    pattern: &PathPattern,
    chosen: &[((usize, usize), Pattern)],
    known_alone: bool,
) -> Pattern {
    let mut pieces = Pattern::new();
    for (at, segment) in pattern.segments.iter().enumerate() {
        if matches!(segment, Segment::Rest) {
            pieces.push(Piece::AnySegments);
            continue;
        }
        pieces.push(Piece::Text("/".to_owned()));
        pieces.extend(fill_segment(context, pattern, at, chosen, known_alone));
    }
    pieces
}

fn fill_segment(
    context: &EvalContext<'_>,
    pattern: &PathPattern,
    at: usize,
    chosen: &[((usize, usize), Pattern)],
    known_alone: bool,
) -> Pattern {
    let mut pieces = Pattern::new();
    match &pattern.segments[at] {
        Segment::Literal(text) => pieces.push(Piece::Text(text.to_string())),
        Segment::Any | Segment::Rest => pieces.push(Piece::AnyInSegment),
        Segment::Mixed(parts) => {
            for (part_at, part) in parts.iter().enumerate() {
                match part {
                    SegmentPart::Text(text) => pieces.push(Piece::Text(text.to_string())),
                    SegmentPart::Star => pieces.push(Piece::AnyInSegment),
                    SegmentPart::Brace(brace) => {
                        let with = chosen.iter().find(|(place, _)| *place == (at, part_at));
                        match with {
                            Some((_, with)) => pieces.extend_from_slice(with),
                            None => pieces.push(brace_piece(context, brace, known_alone)),
                        }
                    }
                }
            }
        }
    }
    pieces
}

fn brace_piece(context: &EvalContext<'_>, brace: &Brace<Reference>, known_alone: bool) -> Piece {
    let (mut texts, mut unknown) = (Vec::new(), false);
    context.alternatives(brace, &mut |text| match text {
        Some(text) => texts.push(text.to_owned()),
        None => unknown = true,
    });
    if unknown && !known_alone { Piece::AnyInSegment } else { Piece::OneOf(texts) }
}
