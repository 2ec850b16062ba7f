//! Circumstances in which it would be allowed: options of a question, and no change.

use std::collections::BTreeMap;

use super::{Candidate, Choice, Extent, Step, WaySearch};
use crate::attribute::Value;
use crate::condition::{Condition, ConditionStep, Reference, Term};
use crate::edit::of_attribute;
use crate::engine::Decider;
use crate::id::{AttributeId, StatementId};
use crate::pattern::path::BraceRoot;
use crate::request::Query;
use crate::trace::Recorder;

/// Most values of one attribute that are tried.
const MOST_VALUES: usize = 256;

impl WaySearch<'_> {
    /// (a) For each set of at most two circumstances that are not given and on which a statement in
    /// play hangs, the first by text of the values that work. Two only where neither does alone.
    pub(super) fn circumstances(&self, met: &Recorder) -> Vec<Candidate> {
        let mut pools: BTreeMap<&str, Vec<Value>> = BTreeMap::new();
        let names = &self.estate().attribute_names;
        for id in self.statements(met) {
            let statement = self.estate().statement(id);
            if let Some(when) = &statement.when {
                for (reference, _) in when.references() {
                    if let Reference::Given(id) = reference {
                        pools.entry(names.name(id)).or_default();
                    }
                }
                for (id, value) in compared(when) {
                    pools.entry(names.name(id)).or_default().push(value);
                }
            }
            let patterns = statement.on.plain.iter().chain(&statement.on.excluded);
            for brace in patterns.flat_map(|pattern| pattern.braces()) {
                if let (BraceRoot::Given, Reference::Given(id)) = (brace.root, brace.attribute) {
                    pools.entry(names.name(id)).or_default();
                }
            }
        }
        pools.retain(|name, _| self.request.given.iter().all(|(known, _)| known != name));
        let mut decider = Decider::new(self.index());
        let mut works = |options: Vec<Choice>| {
            let step = Step { options, ..Step::default() };
            let asked = step.asked(self.request);
            let query = asked.resolve(self.estate()).ok();
            let is_it = |query: Query<'_>| decider.decide(&query).verdict() == self.wanted;
            query.is_some_and(is_it).then_some(step)
        };
        let pools: Vec<(&str, Vec<Value>)> =
            pools.into_iter().map(|(name, pool)| (name, widened(pool))).collect();
        let choice = |name: &str, value: &Value| Choice::Given(name.to_owned(), value.clone());
        let mut found = Vec::new();
        let mut left: Vec<&(&str, Vec<Value>)> = Vec::new();
        for pool in &pools {
            let step = pool.1.iter().find_map(|value| works(vec![choice(pool.0, value)]));
            match step {
                Some(step) => found.push(step),
                None => left.push(pool),
            }
        }
        for (i, one) in left.iter().enumerate() {
            for other in &left[i + 1..] {
                let both = one.1.iter().flat_map(|a| other.1.iter().map(move |b| (a, b)));
                let step = both
                    .into_iter()
                    .find_map(|(a, b)| works(vec![choice(one.0, a), choice(other.0, b)]));
                found.extend(step);
            }
        }
        found.into_iter().map(|step| Candidate::new(step, Extent::nothing())).collect()
    }

    /// The statements in play.
    fn statements(&self, met: &Recorder) -> Vec<StatementId> {
        let findings = met.denies.iter().chain(&met.allows).chain(&met.misses);
        let findings = findings.map(|one| one.candidate.statement);
        let ceilings = met.ceilings.iter().flat_map(|one| &one.statements);
        let mut all: Vec<StatementId> = findings.chain(ceilings.map(|one| one.statement)).collect();
        all.sort_unstable();
        all.dedup();
        all
    }
}

/// The circumstances of a condition that are compared with literals, with these, element by element.
fn compared(when: &Condition) -> Vec<(AttributeId, Value)> {
    let program = &when.program;
    let mut found = Vec::new();
    for step in &program.steps {
        let ConditionStep::Compare(left, _, right) = *step else { continue };
        for (one, other) in [(left, right), (right, left)] {
            let (Some(Reference::Given(id)), Term::Literal(place)) = (one.attribute(), other)
            else {
                continue;
            };
            let value = &program.literal(place).value;
            if let Value::List(all) = value {
                found.extend(all.iter().map(|one| (id, one.clone())));
            }
            found.push((id, value.clone()));
        }
    }
    found
}

/// The values with `true` and `false` and each number's neighbours among them, in the order of their
/// texts.
fn widened(mut pool: Vec<Value>) -> Vec<Value> {
    let numbers: Vec<i64> = pool
        .iter()
        .filter_map(|value| match value {
            Value::Integer(number) => Some(*number),
            _ => None,
        })
        .collect();
    let neighbours = |number: i64| [number.checked_sub(1), number.checked_add(1)];
    pool.extend(numbers.into_iter().flat_map(neighbours).flatten().map(Value::Integer));
    pool.extend([Value::Boolean(true), Value::Boolean(false)]);
    pool.sort_by_cached_key(of_attribute);
    pool.dedup();
    pool.truncate(MOST_VALUES);
    pool
}
