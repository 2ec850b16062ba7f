//! Which of the things that were changed have a say about a cell.

use std::collections::BTreeSet;

use super::Cell;
use super::change::{Difference, Thing};
use super::sessions::{Compared, InBoth};
use super::touches::subject_id;
use crate::estate::Estate;
use crate::reach::Viewpoint;
use crate::time::Time;

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
    pub fn because(&mut self, cell: &Cell, differences: &[Difference]) -> Vec<usize> {
        let sessions = self.sessions(&cell.who);
        let Some(session) = sessions.get(&cell.role) else { return Vec::new() };
        let counts = self.counts(session, cell);
        let has_a_say = |difference: &Difference| {
            !difference.decides_nothing() && has_a_say(&difference.thing, cell, &counts)
        };
        let all = differences.iter().enumerate();
        all.filter(|(_, difference)| has_a_say(difference)).map(|(i, _)| i).collect()
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

fn has_a_say(thing: &Thing, cell: &Cell, counts: &Counts) -> bool {
    let reaches = |at: &str| {
        let below = cell.place.strip_prefix(at);
        below.is_some_and(|below| below.is_empty() || below.starts_with('/'))
    };
    let counts_for = |who: &str| counts.subjects.contains(who);
    let is_target = |name: &str| cell.place.rsplit('/').next() == Some(name);
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
