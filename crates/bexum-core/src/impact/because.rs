//! Which of the things that were changed have a say about a cell.

use std::collections::BTreeSet;

use rustc_hash::FxHashMap;

use super::Cell;
use super::change::{Difference, Thing};
use super::sessions::{Compared, InBoth};
use super::touches::subject_id;
use crate::estate::Estate;
use crate::reach::Viewpoint;
use crate::time::Time;

/// Differences that have a say about decisions, in the order of a list: of users, of whom there may be very
/// many, by name.
pub struct ByName<'d> {
    all: &'d [Difference],
    users: FxHashMap<&'d str, usize>,
    others: Vec<usize>,
}

impl<'d> ByName<'d> {
    /// The differences of a list.
    #[must_use]
    pub fn new(all: &'d [Difference]) -> Self {
        let mut found = Self { all, users: FxHashMap::default(), others: Vec::new() };
        for (at, one) in all.iter().enumerate().filter(|(_, one)| !one.decides_nothing()) {
            match &one.thing {
                Thing::User(name) => drop(found.users.insert(name, at)),
                _ => found.others.push(at),
            }
        }
        found
    }
}

/// What counts for a session in either estate, now or later.
struct Counts {
    /// Everybody whom an attachment or a ceiling can name to concern it, `everyone` among them.
    subjects: BTreeSet<String>,
    /// The policies that are attached to one of these, or bound one, at the cell's place or above,
    /// with what they include.
    policies: BTreeSet<String>,
}

impl Compared<'_, '_> {
    /// The differences that have a say about a cell: what is attached to its session and
    /// reaches its place, or bounds it; the groups and roles that the session is in; who asks; the
    /// place and what is above it. By their places in the list.
    pub fn because(&mut self, cell: &Cell, differences: &ByName<'_>) -> Vec<usize> {
        let sessions = self.sessions(&cell.who);
        let Some(session) = sessions.get(&cell.role) else { return Vec::new() };
        let counts = self.counts(session, cell);
        let target = cell.place.rsplit('/').next().unwrap_or_default();
        // Of users, whoever asks alone counts for themselves.
        let users = cell.who.strip_prefix("user:").into_iter().chain([target]);
        let users = users.filter_map(|name| differences.users.get(name));
        let has_a_say = |at: &usize| {
            let Difference { thing, .. } = &differences.all[*at];
            has_a_say(thing, cell, target, &counts)
        };
        let mut found: Vec<usize> =
            users.chain(&differences.others).copied().filter(has_a_say).collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    fn counts(&mut self, session: &InBoth, cell: &Cell) -> Counts {
        let mut counts = Counts { subjects: BTreeSet::new(), policies: BTreeSet::new() };
        counts.subjects.insert("everyone".to_owned());
        counts.subjects.insert(cell.who.clone());
        let times: Vec<Time> = self.times(session);
        for (side, view) in self.sides.iter_mut().zip(session) {
            let Some(view) = view else { continue };
            let index = side.decider.index;
            let estate = index.estate();
            for time in &times {
                let view = Viewpoint { time: *time, ..view.clone() };
                let asking = side.decider.session_of(view.who, &view.also, view.take_up, *time);
                let numbers = index.scope_index.subject_ids;
                let known = asking.subjects().subject_ids();
                let named = known.map(|id| subject_id(estate, numbers.subject(id)));
                counts.subjects.extend(named);
                let Some(nearest) = estate.scopes.nearest(&cell.place) else { continue };
                for (policy, ..) in index.policies_above(asking.subjects(), nearest) {
                    counts.policies.insert(estate.policy(policy).name.to_string());
                }
            }
            add_included(estate, &mut counts.policies);
        }
        counts
    }
}

/// Adds the policies that these include, to any depth.
fn add_included(estate: &Estate, policies: &mut BTreeSet<String>) {
    let mut waiting: Vec<String> = policies.iter().cloned().collect();
    while let Some(name) = waiting.pop() {
        let Some(policy) = estate.find_policy(&name) else { continue };
        for included in &estate.policy(policy).include {
            let name = estate.policy(*included).name.to_string();
            if policies.insert(name.clone()) {
                waiting.push(name);
            }
        }
    }
}

fn has_a_say(thing: &Thing, cell: &Cell, target: &str, counts: &Counts) -> bool {
    let reaches = |at: &str| {
        let below = cell.place.strip_prefix(at);
        below.is_some_and(|below| below.is_empty() || below.starts_with('/'))
    };
    let counts_for = |who: &str| counts.subjects.contains(who);
    let is_target = |name: &str| target == name;
    match thing {
        Thing::Kind(_) | Thing::Attribute(_) => true,
        // Nearby: what is new or gone right below takes its name from the items there.
        Thing::Scope(path) => reaches(path) || path.starts_with(cell.place.trim_end_matches("**")),
        Thing::User(name) => counts_for(&format!("user:{name}")) || is_target(name),
        Thing::Group(name) => counts_for(&format!("group:{name}")) || is_target(name),
        Thing::Role(name) => {
            let id = format!("role:{name}");
            *name == cell.role || cell.who == id || counts_for(&id) || is_target(name)
        }
        Thing::Policy(name) => counts.policies.contains(name) || is_target(name),
        Thing::Attachment { to, at, .. } => counts_for(to) && reaches(at),
        Thing::Ceiling { bound, over, .. } => {
            counts_for(bound) && over.as_deref().is_none_or(reaches)
        }
        Thing::Preset(_)
        | Thing::Service(_)
        | Thing::Expectation(_)
        | Thing::EditRights
        | Thing::Vet
        | Thing::Review(_)
        | Thing::Application(_)
        | Thing::Source(_)
        | Thing::Accepted(..)
        | Thing::Name => false,
    }
}
