//! The items that patterns single out, as rows that people are shown (spec section 8).

use std::collections::BTreeSet;

use super::is_item;
use super::meeting::meeting;
use crate::engine::{EvalContext, StatementInPlay};
use crate::id::ScopeId;
use crate::pattern::residual::{Below, Rest};

/// Pairs of patterns below one scope beyond which no more meetings are looked for.
const MOST_PAIRS: usize = 250_000;

/// Items that a pattern singles out, or two of them together.
#[derive(Clone, Debug)]
pub(crate) struct Single {
    /// Below the scope, as it is shown.
    pub(crate) shown: String,
    /// Below the scope, a path that stands for it.
    pub(crate) asked: String,
    /// What is left of the pattern; of two that meet nothing but the path.
    pub(crate) rest: Option<Rest>,
}

/// Items that patterns single out, by the bytes of their paths, and whether these are all.
#[derive(Debug)]
pub(crate) struct Rows {
    pub(crate) singled: Vec<Single>,
    /// Whether no bound was met.
    pub(crate) whole: bool,
}

impl Rows {
    /// Nothing, where there is nothing to single out.
    pub(crate) fn none() -> Self {
        Self { singled: Vec::new(), whole: true }
    }
}

/// What the patterns of these statements single out below a scope: a row for what is left of each
/// of them, with `many` fresh names for a `**`, and one for each two that match an item together
/// for which neither of their own rows stands.
///
/// `context` is the query as a statement sees it, by its number in the list.
pub(crate) fn rows<'s>(
    scope: ScopeId,
    statements: &[StatementInPlay],
    context: &dyn Fn(usize) -> EvalContext<'s>,
    many: usize,
) -> Rows {
    let mut found = Rows::none();
    let Some(estate) = (!statements.is_empty()).then(|| context(0).index.estate()) else {
        return found;
    };
    let segments: Vec<&str> = estate.scope(scope).path.split('/').collect();
    let (mut rests, whole) = rests(&segments, statements, context, many);
    found.whole = whole;
    rests.retain(|(_, asked)| is_item(estate, scope, asked));
    let mut names: BTreeSet<String> = rests.iter().map(|(rest, _)| rest.text.to_string()).collect();
    let is_free = |name: &str| is_item(estate, scope, name);
    let mut pairs = 0;
    'all: for (i, (one, asked)) in rests.iter().enumerate() {
        for (other, asked_of_other) in &rests[..i] {
            pairs += 1;
            if pairs > MOST_PAIRS {
                found.whole = false;
                break 'all;
            }
            if other.takes(asked) || one.takes(asked_of_other) {
                continue;
            }
            if let Some(both) = meeting(one, other, &is_free)
                && names.insert(both.clone())
            {
                found.singled.push(Single { shown: both.clone(), asked: both, rest: None });
            }
        }
    }
    found.singled.extend(rests.into_iter().map(|(rest, asked)| Single {
        shown: rest.text.to_string(),
        asked,
        rest: Some(rest),
    }));
    found.singled.sort_by(|a, b| a.shown.cmp(&b.shown));
    found
}

/// What is left of each pattern of these statements below the place of these segments, each once,
/// with a path that stands for it; and whether these are all.
pub(crate) fn rests<'s>(
    segments: &[&str],
    statements: &[StatementInPlay],
    context: &dyn Fn(usize) -> EvalContext<'s>,
    many: usize,
) -> (Vec<(Rest, String)>, bool) {
    let (mut found, mut is_whole): (Vec<(Rest, String)>, bool) = (Vec::new(), true);
    let mut names: BTreeSet<String> = BTreeSet::new();
    for (i, said) in statements.iter().enumerate() {
        let context = context(i);
        let on = &context.index.estate().statement(said.id).on;
        for pattern in on.plain.iter().chain(&on.excluded) {
            let Below::Some(left, whole) = pattern.below(segments, said.anchor, &context) else {
                continue;
            };
            is_whole &= whole;
            for rest in left {
                if names.insert(rest.text.to_string()) {
                    let asked = rest.example(many);
                    found.push((rest, asked));
                }
            }
        }
    }
    (found, is_whole)
}
