//! Circumstances in which one statement matches, looked for in a few steps.

use super::representatives::Unknowns;
use crate::condition::Reference;
use crate::condition::check::TargetAttribute;
use crate::engine::{Clause, Decider, EvalContext, Session};
use crate::id::{AttributeId, StatementId};
use crate::request::{Given, Query};
use crate::truth::Truth;

/// Values of one attribute that are tried, and steps of one search.
const VALUES: usize = 16;
const STEPS: usize = 400;

/// The query with more given, so that a statement matches whose patterns start `anchor` segments
/// down; `None` where no such circumstances are found soon: there may be some.
pub(crate) fn fulfilled<'q>(
    decider: &mut Decider<'_>,
    query: &Query<'q>,
    statement: StatementId,
    anchor: usize,
) -> Option<Query<'q>> {
    let session = decider.session(query);
    let index = decider.index;
    let effect = index.estate().statement(statement).effect;
    let matches = |query: &Query<'_>, session: &Session<'_>| {
        let roles = Some(session.roles_of(effect));
        EvalContext { index, query, closure: &session.closure, roles }.truth(statement, anchor)
    };
    match matches(query, &session) {
        Truth::True => return Some(query.clone()),
        Truth::False => return None,
        Truth::Undecided => {}
    }
    let mut unknowns = Unknowns::default();
    let roles = Some(session.roles_of(effect));
    let context = EvalContext { index, query, closure: &session.closure, roles };
    unknowns.take_in(&context, Clause::of_statement(index.estate(), statement, anchor));
    let names = &index.estate().attribute_names;
    let id = |reference: &Reference| match reference {
        Reference::Given(id) => Some((false, *id)),
        Reference::Target(TargetAttribute::Own(id)) => Some((true, *id)),
        _ => None,
    };
    let ids: Vec<(bool, AttributeId)> =
        unknowns.references.iter().map(id).collect::<Option<_>>()?;
    // Tables with something below them that is asked about, too, take more care than a quick search.
    let is_head = |one: AttributeId, other: AttributeId| {
        std::iter::successors(names.parent(other), |id| names.parent(*id)).any(|id| id == one)
    };
    if ids.iter().any(|(_, one)| ids.iter().any(|(_, other)| is_head(*one, *other))) {
        return None;
    }
    let mut steps = STEPS;
    let mut given = query.clone();
    fill(&unknowns, &ids, 0, &mut given, &mut steps, &|query| matches(query, &session))
        .then_some(given)
}

/// Gives one attribute after the other a value, until all of it is true.
fn fill(
    unknowns: &Unknowns,
    ids: &[(bool, AttributeId)],
    at: usize,
    query: &mut Query<'_>,
    steps: &mut usize,
    truth: &dyn Fn(&Query<'_>) -> Truth,
) -> bool {
    match truth(query) {
        Truth::True => return true,
        Truth::False => return false,
        Truth::Undecided => {}
    }
    let Some((is_item, id)) = ids.get(at) else { return false };
    for value in unknowns.values(at).0.iter().take(VALUES) {
        if matches!(value, Given::Head) {
            continue;
        }
        if *steps == 0 {
            return false;
        }
        *steps -= 1;
        let list = if *is_item { &mut query.item } else { &mut query.given };
        list.push((*id, value.clone()));
        if fill(unknowns, ids, at + 1, query, steps, truth) {
            return true;
        }
        let list = if *is_item { &mut query.item } else { &mut query.given };
        list.pop();
    }
    false
}
