//! A path for each sort of item below a scope: those that every pattern and condition treats alike
//! count as one.

use std::cell::RefCell;
use std::collections::BTreeSet;

use super::nfa::{Pattern, Piece, Words, of_fits, tell_apart};
use crate::condition::Reference;
use crate::condition::check::TargetAttribute;
use crate::engine::{Clause, EvalContext};
use crate::id::ScopeId;
use crate::pattern::matching::Braces as _;
use crate::pattern::path::{Brace, Part, PathPattern, Segment};
use crate::pattern::residual::Below;
use crate::prove::{Unknowns, ValueDomain};
use crate::request::{Place, resolve_target};

const PATH: Reference = Reference::Target(TargetAttribute::Path);
const NAME: Reference = Reference::Target(TargetAttribute::Name);

/// A path for each sort of item of `scope` that these tell apart, and whether that is every sort.
/// The scenes differ in the roles that statements see; their target is a sample item of the scope.
pub(crate) fn sorts(
    contexts: &[EvalContext<'_>],
    scope: ScopeId,
    asked: &[Clause<'_>],
) -> (Vec<String>, bool) {
    let Some(first) = contexts.first() else { return (Vec::new(), true) };
    let estate = first.index.estate();
    let path = &*estate.scope(scope).path;
    // Declared things below the scope that stood in the way of a word: what lies at or below them is
    // no item of the scope, and is told apart from what is.
    let in_the_way: RefCell<BTreeSet<String>> = RefCell::default();
    let is_item = |below: &str| {
        let found = resolve_target(estate, &format!("{path}{below}"))
            .is_ok_and(|target| target.place == Place::Item(scope));
        let first = below.split('/').nth(1).unwrap_or_default();
        if !first.is_empty() && !super::is_item(estate, scope, first) {
            in_the_way.borrow_mut().insert(format!("/{first}"));
        }
        found
    };
    let segments: Vec<&str> = path.split('/').collect();
    // An unknown brace counts as a `*` in what is left of a pattern; with a value it may still mean
    // some items alone.
    let singles_out = |pattern: &PathPattern, anchor| {
        contexts.iter().any(|context| match pattern.below(&segments, anchor, context) {
            Below::Nothing => false,
            Below::Some(..) => true,
            Below::All => pattern.braces().any(|brace| is_open(context, brace)),
        })
    };
    let mut words =
        Words { patterns: Vec::new(), before: Vec::new(), are_paths: true, is_sound: &is_item };
    let looks_at_path = asked.iter().any(|clause| {
        clause.when.is_some_and(|when| {
            when.references().iter().any(|(reference, _)| matches!(*reference, PATH | NAME))
        })
    });
    let mut patterns: Vec<(&PathPattern, usize)> = Vec::new();
    for clause in asked {
        let anchor = clause.anchor;
        let single_out = clause.patterns().filter(|p| singles_out(p, anchor));
        patterns.extend(single_out.map(|p| (p, anchor)));
    }
    if patterns.is_empty() && !looks_at_path {
        let one = ["/x", "/y", "/z"].into_iter().map(str::to_owned);
        let one = one.chain((1..1000).map(|n| format!("/x-{n}"))).find(|below| is_item(below));
        return (one.map(|below| format!("{path}{below}")).into_iter().collect(), true);
    }
    let mut unknowns = Unknowns::default();
    for clause in asked {
        contexts.iter().for_each(|context| unknowns.take_in(context, *clause));
    }
    for (pattern, anchor) in patterns {
        let start = if pattern.absolute { 0 } else { anchor };
        let Some(above) = segments.get(start..) else { continue };
        let above: String = above.iter().map(|segment| format!("/{segment}")).collect();
        let letters = contexts.iter().flat_map(|context| spelled(context, pattern, &unknowns));
        for letters in letters {
            words.patterns.push(letters);
            words.before.push(above.clone());
        }
    }
    // A value in a brace that is read as an address, a time or by its order: which of these others
    // fit, too, is more than words can tell.
    let is_in_parts = |part: &Part<Reference>| matches!(part, Part::Star | Part::Brace(_));
    let tells_parts = |segment: &Segment<Reference>| match segment {
        Segment::Mixed(parts) => parts.len() > 1 && parts.iter().any(is_in_parts),
        Segment::Literal(_) | Segment::Any | Segment::Rest => false,
    };
    let mut fits_parts =
        asked.iter().copied().flat_map(Clause::patterns).flat_map(|p| &p.segments).any(tells_parts);
    for reference in [PATH, NAME] {
        let domain = unknowns.domain(reference);
        fits_parts |= domain.is_some_and(|domain| !domain.fit_patterns.is_empty());
    }
    let braces = asked.iter().copied().flat_map(Clause::patterns).flat_map(PathPattern::braces);
    let mut domains = braces.filter_map(|brace| unknowns.domain(brace.attribute));
    let mut all_words = !fits_parts || domains.all(ValueDomain::is_told_by_words);
    for reference in [PATH, NAME] {
        let Some(domain) = unknowns.domain(reference) else { continue };
        all_words &= domain.has_all_words();
        let fitted = domain.fit_patterns.iter().map(|pattern| of_fits(pattern));
        let texts = domain.written_out().into_iter().filter(|text| !text.is_empty());
        let texts = texts.map(|text| vec![Piece::Text(text)]);
        for pattern in fitted.chain(texts) {
            if reference == PATH {
                words.patterns.push(pattern);
                words.before.push(path.to_owned());
            } else {
                // The last segment: after any `/`, and none later.
                let slash = [Piece::Any, Piece::Text("/".to_owned())];
                words.patterns.push(slash.into_iter().chain(in_segment(pattern)).collect());
                words.before.push(String::new());
            }
        }
    }
    let mut seen = rustc_hash::FxHashSet::default();
    let (patterns, before) = words
        .patterns
        .into_iter()
        .zip(words.before)
        .filter(|pair| seen.insert(pair.clone()))
        .unzip();
    let mut words = Words { patterns, before, ..words };
    let mut known = BTreeSet::new();
    loop {
        let (found, whole) = tell_apart(&words);
        let news: Vec<String> =
            in_the_way.borrow().iter().filter(|name| !known.contains(*name)).cloned().collect();
        if news.is_empty() || known.len() > MOST_IN_THE_WAY {
            let whole = whole && all_words && news.is_empty();
            return (found.into_iter().map(|below| format!("{path}{below}")).collect(), whole);
        }
        for name in news {
            words.patterns.push(vec![Piece::Text(name.clone()), Piece::AnySegments]);
            words.before.push(String::new());
            known.insert(name);
        }
    }
}

/// Most declared things below a scope that its items are told apart from one by one.
const MOST_IN_THE_WAY: usize = 64;

/// A path pattern over letters, a `/` before every segment: with what is unknown as any name, with
/// what is known alone, with each value that an unknown attribute is compared with, and with
/// whatever fits each of the patterns that it is asked for.
fn spelled(context: &EvalContext<'_>, pattern: &PathPattern, unknowns: &Unknowns) -> Vec<Pattern> {
    let fill = |known_alone: bool, chosen: Option<(Reference, &[Piece])>| -> Pattern {
        let mut pieces = Pattern::new();
        for segment in &pattern.segments {
            if matches!(segment, Segment::Rest) {
                pieces.push(Piece::AnySegments);
                continue;
            }
            pieces.push(Piece::Text("/".to_owned()));
            match segment {
                Segment::Literal(text) => pieces.push(Piece::Text(text.to_string())),
                Segment::Any | Segment::Rest => pieces.push(Piece::AnyInSegment),
                Segment::Mixed(parts) => parts.iter().for_each(|part| match part {
                    Part::Text(text) => pieces.push(Piece::Text(text.to_string())),
                    Part::Star => pieces.push(Piece::AnyInSegment),
                    Part::Brace(brace) => match chosen {
                        Some((chosen, with)) if chosen == brace.attribute => {
                            pieces.extend_from_slice(with);
                        }
                        _ => pieces.push(brace_piece(context, brace, known_alone)),
                    },
                }),
            }
        }
        pieces
    };
    let mut found = vec![fill(false, None)];
    if pattern.braces().next().is_none() {
        return found;
    }
    found.push(fill(true, None));
    for brace in pattern.braces() {
        let domain = unknowns.domain(brace.attribute);
        let texts = domain.into_iter().flat_map(ValueDomain::written_out);
        let texts = texts.filter(|text| !text.is_empty() && !text.contains('/'));
        let texts = texts.map(|text| vec![Piece::OneOf(vec![text])]);
        let fitted = domain.into_iter().flat_map(|domain| &domain.fit_patterns);
        let fitted = fitted.map(|pattern| in_segment(of_fits(pattern)));
        let all = texts.chain(fitted);
        found.extend(all.map(|with| fill(false, Some((brace.attribute, &with)))));
    }
    found
}

/// A pattern of letters as it fits within one segment alone.
fn in_segment(pattern: Pattern) -> Pattern {
    let within = |piece| match piece {
        Piece::Any => Piece::AnyInSegment,
        Piece::Single => Piece::SingleInSegment,
        other => other,
    };
    pattern.into_iter().map(within).collect()
}

/// Whether a brace may be filled with what nobody knows.
fn is_open(context: &EvalContext<'_>, brace: &Brace<Reference>) -> bool {
    let mut is_open = false;
    context.alternatives(brace, &mut |text| is_open |= text.is_none());
    is_open
}

fn brace_piece(context: &EvalContext<'_>, brace: &Brace<Reference>, known_alone: bool) -> Piece {
    let (mut texts, mut unknown) = (Vec::new(), false);
    context.alternatives(brace, &mut |text| match text {
        Some(text) => texts.push(text.to_owned()),
        None => unknown = true,
    });
    if unknown && !known_alone { Piece::AnyInSegment } else { Piece::OneOf(texts) }
}
