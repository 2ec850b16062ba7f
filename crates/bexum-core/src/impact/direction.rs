//! Which way a change can turn decisions at most, seen from what differs alone.
//!
//! A request is allowed if an allow in play matches, no deny in play does, and every ceiling in play lets
//! it through (spec section 6). Whatever is given and whenever it is asked, one more attached allow can
//! therefore only turn a deny into an allow, and one more attached deny or ceiling an allow into a deny; no
//! condition, pattern, membership or role asks what is attached. Taken away, they turn it the other way.
//! A policy by itself decides nothing, unless it has a place, where it is a target; nor do expectations
//! and whatever else says how people work with the estate.

use super::change::{Difference, Thing};
use super::said::MayTurn;
use crate::estate::Estate;

/// What a change from the first estate to the second may do at most, if they differ in this.
pub(super) fn may_turn_at_most(differences: &[Difference], estates: [&Estate; 2]) -> MayTurn {
    let each = differences.iter().map(|one| may_turn(one, estates));
    each.fold(MayTurn::NEITHER, MayTurn::or)
}

fn may_turn(difference: &Difference, [before, after]: [&Estate; 2]) -> MayTurn {
    if difference.decides_nothing() || is_about_work(&difference.thing) {
        return MayTurn::NEITHER;
    }
    match (difference.before, difference.after) {
        (None, Some(_)) => may_turn_where_new(&difference.thing, after),
        (Some(_), None) => may_turn_where_new(&difference.thing, before).turned(),
        _ => MayTurn::BOTH,
    }
}

/// Whether a thing says how people work with the estate, and nothing about who may do what.
fn is_about_work(thing: &Thing) -> bool {
    matches!(
        thing,
        Thing::Preset(_)
            | Thing::Expectation(_)
            | Thing::EditRights
            | Thing::Review(_)
            | Thing::Application(_)
            | Thing::Source(_)
            | Thing::Vet
            | Thing::Accepted(..)
    )
}

/// What it may do that an estate has a thing besides.
fn may_turn_where_new(thing: &Thing, estate: &Estate) -> MayTurn {
    let find = |name: &str| estate.find_policy(name).map(|id| estate.policy(id));
    match thing {
        Thing::Attachment { policy, .. } => match find(policy) {
            Some(policy) => {
                MayTurn { open: !policy.allows.is_empty(), close: !policy.denies.is_empty() }
            }
            None => MayTurn::BOTH,
        },
        Thing::Ceiling { .. } => MayTurn { open: false, close: true },
        Thing::Policy(name) => match find(name) {
            Some(policy) if policy.place.is_none() => MayTurn::NEITHER,
            _ => MayTurn::BOTH,
        },
        _ => MayTurn::BOTH,
    }
}
