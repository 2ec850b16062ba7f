//! Loading into the processor's cache what deciding a query will read first, so that many queries wait
//! for memory at the same time.
//!
//! A read whose result is not needed is enough: the processor goes on while the memory answers.

use std::hint::black_box;

use crate::engine::Decider;
use crate::engine::action_index::ActionIndex;
use crate::engine::scope_index::ScopeIndex;
use crate::id::{ActionId, ScopeId};
use crate::policy::Effect;
use crate::request::Query;

/// How many steps [`of_query`] takes.
pub(super) const STEPS: usize = 4;

/// Loads for one query, in steps: each reads where the one before has led.
pub(super) fn of_query(decider: &Decider<'_>, query: &Query<'_>, step: usize) {
    let index = decider.index;
    of_scope(&index.scope_index, query.target.scope(), step);
    let (number, _) = index.scope_index.subject_ids.number(query.who);
    match step {
        0 => _ = black_box(decider.closures.at.get(number).copied()),
        1 => _ = black_box(decider.closures.latest(number)),
        2 => {
            if let Some(closure) = decider.closures.latest(number) {
                let subjects = &closure.subjects;
                black_box((closure.valid_during.until, closure.is_disabled));
                black_box((subjects.few[0], subjects.length));
            }
        }
        _ => of_action(&index.action_index, query.action),
    }
}

/// What lies at a scope, then what lies above it.
pub(super) fn of_scope(index: &ScopeIndex, scope: ScopeId, step: usize) {
    if let Some((scope, ..)) = index.chain(scope).nth(step / 2) {
        match step % 2 {
            0 => _ = black_box(index.nodes[scope.index()].depth),
            _ => _ = black_box(index.attached_at(scope).keys.first().copied()),
        }
    }
}

fn of_action(index: &ActionIndex, action: ActionId) {
    // A cache line holds eight words, and a few lines are as many as will be there in time; denies
    // are few, and seldom asked about.
    let row = index.policies[Effect::Allow as usize].of(action);
    row.iter().step_by(8).take(8).for_each(|word| _ = black_box(*word));
}
