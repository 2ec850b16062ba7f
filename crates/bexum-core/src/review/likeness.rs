//! How much a member of a group is like the others. The measure is plain on purpose, so that its figures
//! can be told.

use std::collections::BTreeMap;

use crate::attribute::Value;
use crate::estate::Estate;
use crate::id::UserId;
use crate::principal::Principal;

/// Fewest members of a group of which anybody is unlike the others.
const FEWEST: usize = 4;

/// A member's likeness to the other members.
#[derive(Clone, Debug, PartialEq)]
pub struct Likeness {
    /// From 0, like nobody, to 1.
    pub likeness: f64,
    /// The median of the others'.
    pub median: f64,
    /// How many users are in the group directly.
    pub members: usize,
    /// The attributes that tell members from everybody else, with how much, most first; and how many of
    /// the other members agree with this one.
    pub weights: Vec<(String, f64, usize)>,
}

impl Likeness {
    /// Whether the member is unlike the others: at most half as like, in a group of four or more.
    #[must_use]
    pub fn is_unlike(&self) -> bool {
        self.members >= FEWEST && self.likeness <= self.median / 2.0
    }
}

/// A likeness, with what counts in it.
type Weighed = (f64, Vec<(String, f64, usize)>);

/// What is known of somebody: scalar attributes and the manager, as text by name.
type Traits = BTreeMap<String, String>;

fn traits(estate: &Estate, id: UserId) -> Traits {
    let user = estate.user(id);
    let mut found = Traits::new();
    for (name, value) in user.identity.attributes.iter() {
        if !matches!(value, Value::List(_)) {
            found.insert(estate.attribute_names.name(name).to_owned(), value.to_string());
        }
    }
    if let Some(manager) = user.manager {
        found.insert("manager".to_owned(), estate.principal_id(Principal::User(manager)));
    }
    found
}

/// How often two of these agree on something; absent agrees with nobody.
fn agreement(all: &[&Traits], name: &str) -> f64 {
    let mut counts: BTreeMap<&str, f64> = BTreeMap::new();
    for one in all {
        if let Some(value) = one.get(name) {
            *counts.entry(value).or_default() += 1.0;
        }
    }
    let pairs = |n: f64| n * (n - 1.0);
    let possible = pairs(all.len() as f64);
    match possible > 0.0 {
        true => counts.values().map(|n| pairs(*n)).sum::<f64>() / possible,
        false => 0.0,
    }
}

/// The likeness of each user among some members, in their order (spec-work section 12).
///
/// For an attribute, what counts is how often two *other* members agree on it, less how often two
/// enabled users of the estate do: what everybody has tells nothing.
pub(super) fn likenesses(estate: &Estate, members: &[UserId]) -> Vec<Likeness> {
    let all: Vec<Traits> = members.iter().map(|id| traits(estate, *id)).collect();
    let enabled: Vec<Traits> = (0..estate.users.len())
        .map(UserId::new)
        .filter(|id| estate.user(*id).enabled)
        .map(|id| traits(estate, id))
        .collect();
    let enabled: Vec<&Traits> = enabled.iter().collect();
    let mut names: Vec<&String> = all.iter().flat_map(BTreeMap::keys).collect();
    names.sort();
    names.dedup();
    let usual: Vec<f64> = names.iter().map(|name| agreement(&enabled, name)).collect();
    let of_one = |at: usize| -> Weighed {
        let others = all.iter().enumerate().filter(|(i, _)| *i != at).map(|(_, one)| one);
        let others: Vec<&Traits> = others.collect();
        let mut weights = Vec::new();
        let (mut sum, mut whole) = (0.0, 0.0);
        for (name, usual) in names.iter().zip(&usual) {
            let weight = (agreement(&others, name) - usual).max(0.0);
            let agree = match all[at].get(*name) {
                Some(own) => others.iter().filter(|one| one.get(*name) == Some(own)).count(),
                None => 0,
            };
            if weight > 0.0 {
                sum += weight * agree as f64 / others.len() as f64;
                whole += weight;
                weights.push(((*name).clone(), weight, agree));
            }
        }
        weights.sort_by(|a, b| b.1.total_cmp(&a.1));
        (if whole > 0.0 { sum / whole } else { 0.0 }, weights)
    };
    let found: Vec<Weighed> = (0..all.len()).map(of_one).collect();
    let median_without = |at: usize| {
        let others = found.iter().enumerate().filter(|(i, _)| *i != at);
        let mut others: Vec<f64> = others.map(|(_, one)| one.0).collect();
        others.sort_by(f64::total_cmp);
        match others.len() {
            0 => 0.0,
            n if n % 2 == 1 => others[n / 2],
            n => f64::midpoint(others[n / 2 - 1], others[n / 2]),
        }
    };
    let likeness = |(at, (likeness, weights)): (usize, &Weighed)| Likeness {
        likeness: *likeness,
        median: median_without(at),
        members: all.len(),
        weights: weights.clone(),
    };
    found.iter().enumerate().map(likeness).collect()
}
