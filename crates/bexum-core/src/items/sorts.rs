//! A path for each sort of item below a scope: those that every pattern and condition treats alike
//! count as one.

use std::cell::RefCell;
use std::collections::BTreeSet;

use super::names::{Asking, NAME, Names, PATH, in_segment};
use super::nfa::{Pattern, Piece, Words, of_fits, tell_apart};
use crate::condition::Reference;
use crate::engine::{Clause, EvalContext};
use crate::id::ScopeId;
use crate::pattern::matching::Braces as _;
use crate::pattern::path::{Brace, PathPattern, Segment, SegmentPart};
use crate::pattern::residual::Below;
use crate::prove::{Unknowns, ValueDomain};
use crate::request::{TargetPlace, resolve_target};

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
            .is_ok_and(|target| target.place == TargetPlace::Item(scope));
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
    let looks_at_path = asked.iter().any(|clause| {
        clause.when.is_some_and(|when| {
            when.references().iter().any(|(reference, _)| matches!(*reference, PATH | NAME))
        })
    });
    let mut patterns: Vec<Asking<'_>> = Vec::new();
    for clause in asked {
        let anchor = clause.anchor;
        for pattern in clause.patterns().filter(|pattern| singles_out(pattern, anchor)) {
            let start = if pattern.absolute { 0 } else { anchor };
            let Some((start, above)) = segments.split_at_checked(start) else { continue };
            let [start, above] = [start, above]
                .map(|names| names.iter().map(|segment| format!("/{segment}")).collect());
            patterns.push(Asking { pattern, start, above });
        }
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
    let mut names = Names::new(contexts, &unknowns, &patterns);
    let mut known: BTreeSet<String> = BTreeSet::new();
    loop {
        names.tell_apart(&patterns, path, known.iter().map(|name| name.trim_start_matches('/')));
        let (letters, before) = letters(&mut names, &unknowns, &patterns, path, &known);
        let is_integer = |piece: &Piece| matches!(piece, Piece::Integer(..));
        let asks_for_integers = letters.iter().flatten().any(is_integer);
        let words = Words { patterns: letters, before, are_paths: true, is_sound: &is_item };
        let (found, whole) = tell_apart(&words);
        let news: Vec<String> =
            in_the_way.borrow().iter().filter(|name| !known.contains(*name)).cloned().collect();
        if news.is_empty() || known.len() > MOST_IN_THE_WAY {
            let whole = whole
                && news.is_empty()
                && names.are_all
                && are_told_by_letters(&unknowns, asked)
                && (!asks_for_integers || found.iter().all(|word| has_no_endless_number(word)));
            return (found.into_iter().map(|below| format!("{path}{below}")).collect(), whole);
        }
        known.extend(news);
    }
}

/// Most declared things below a scope that its items are told apart from one by one.
const MOST_IN_THE_WAY: usize = 64;

/// All that tells items apart, as patterns over the letters of their paths below the scope, each with
/// the text that stands before it.
fn letters(
    names: &mut Names<'_, '_>,
    unknowns: &Unknowns,
    patterns: &[Asking<'_>],
    scope: &str,
    in_the_way: &BTreeSet<String>,
) -> (Vec<Pattern>, Vec<String>) {
    let mut found: Vec<(Pattern, String)> = Vec::new();
    for Asking { pattern, above, .. } in patterns {
        let spelled = names.spelled(pattern).into_iter();
        found.extend(spelled.map(|letters| (letters, above.clone())));
    }
    // A name is what stands behind the last `/`.
    let last = |name: Pattern| {
        let slash = [Piece::Any, Piece::Text("/".to_owned())];
        (slash.into_iter().chain(in_segment(name)).collect(), String::new())
    };
    for reference in [PATH, NAME] {
        let Some(domain) = unknowns.domain(reference) else { continue };
        let fitted = domain.fit_patterns.iter().map(|pattern| of_fits(pattern));
        let texts = domain.written_out().into_iter().filter(|text| !text.is_empty());
        let texts = texts.map(|text| vec![Piece::Text(text)]);
        found.extend(fitted.chain(texts).map(|pattern| match reference {
            PATH => (pattern, scope.to_owned()),
            _ => last(pattern),
        }));
    }
    found.extend(names.of_target().map(|name| last(vec![Piece::Text(name.to_owned())])));
    let at_or_below = |name: &String| vec![Piece::Text(name.clone()), Piece::AnySegments];
    found.extend(in_the_way.iter().map(|name| (at_or_below(name), String::new())));
    let mut seen = rustc_hash::FxHashSet::default();
    found.retain(|pair| seen.insert(pair.clone()));
    found.into_iter().unzip()
}

/// Whether the letters of a path, and the order of integers in it, are all that tells items apart. They
/// are not where a name is read as an address or a time, or compared with another by order, while some
/// pattern looks at parts of it: then nobody knows which of these values the pattern matches.
fn are_told_by_letters(unknowns: &Unknowns, asked: &[Clause<'_>]) -> bool {
    let is_in_parts =
        |part: &SegmentPart<Reference>| matches!(part, SegmentPart::Star | SegmentPart::Brace(_));
    let tells_parts = |segment: &Segment<Reference>| match segment {
        Segment::Mixed(parts) => parts.len() > 1 && parts.iter().any(is_in_parts),
        Segment::Literal(_) | Segment::Any | Segment::Rest => false,
    };
    let patterns = || asked.iter().copied().flat_map(Clause::patterns);
    let braces = patterns().flat_map(PathPattern::braces).map(|brace| brace.attribute);
    let domains: Vec<&ValueDomain> =
        braces.chain([NAME]).filter_map(|reference| unknowns.domain(reference)).collect();
    let of_path = unknowns.domain(PATH);
    let fits_parts = patterns().flat_map(|pattern| &pattern.segments).any(tells_parts)
        || domains.iter().copied().chain(of_path).any(|domain| !domain.fit_patterns.is_empty());
    of_path.is_none_or(ValueDomain::has_all_words)
        && (!fits_parts || domains.into_iter().all(ValueDomain::is_told_by_words))
}

/// Whether every number in a path fits into 64 bits: a longer one is no attribute's value.
fn has_no_endless_number(path: &str) -> bool {
    const LONGEST: usize = "9223372036854775807".len();
    let runs = path.split(|letter: char| !letter.is_ascii_digit());
    runs.filter(|run| run.len() >= LONGEST).all(|run| run.parse::<i64>().is_ok())
}

/// Whether a brace may stand for a value that nobody gave.
fn is_open(context: &EvalContext<'_>, brace: &Brace<Reference>) -> bool {
    let mut is_open = false;
    context.alternatives(brace, &mut |text| is_open |= text.is_none());
    is_open
}
