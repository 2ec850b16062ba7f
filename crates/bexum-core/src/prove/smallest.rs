//! From what was found to what is shown: as little given as will do, by its names.

use super::Counterexample;
use super::heads::{lies_below, unused};
use super::representatives::Unknowns;
use super::search::{Assignment, ProofSearch};
use crate::attribute::Value;
use crate::id::{AttributeId, GroupId, PolicyId};
use crate::principal::Principal;
use crate::request::{Given, Request};

/// Steps that may go into looking for a smaller given once one is found.
const MINIMIZE_STEPS: usize = 20_000;

impl ProofSearch<'_, '_> {
    /// Takes back what is not needed; then looks whether fewer attributes would do.
    pub(super) fn minimize(&mut self, unknowns: &Unknowns, assignment: &mut Assignment) {
        for place in 0..assignment.len() {
            let Some(kept) = assignment[place].take() else { continue };
            self.give(unknowns, assignment);
            if !self.is_broken() {
                assignment[place] = Some(kept);
            }
        }
        let given = assignment.iter().flatten().count();
        let mut steps = 0;
        for fewer in 1..given {
            let mut smaller: Assignment = vec![None; assignment.len()];
            if self.choose(unknowns, &mut smaller, 0, fewer, &mut steps) {
                *assignment = smaller;
                return;
            }
        }
    }

    /// Tries every choice of `left` more attributes from `first` on.
    fn choose(
        &mut self,
        unknowns: &Unknowns,
        assignment: &mut Assignment,
        first: usize,
        left: usize,
        steps: &mut usize,
    ) -> bool {
        *steps += 1;
        if *steps > MINIMIZE_STEPS {
            return false;
        }
        self.give(unknowns, assignment);
        if left == 0 {
            return self.is_broken();
        }
        if !self.is_open() {
            return false;
        }
        for place in first..assignment.len() {
            for value in &unknowns.values(place).0 {
                if !self.fits(unknowns, assignment, place, value) {
                    continue;
                }
                assignment[place] = Some(value.clone());
                if self.choose(unknowns, assignment, place + 1, left - 1, steps) {
                    return true;
                }
                assignment[place] = None;
            }
        }
        false
    }

    /// The request by names, asked once more in the usual way.
    pub(super) fn counterexample(&mut self) -> Option<Counterexample> {
        let estate = self.decider.index.estate();
        let names = &estate.attribute_names;
        let mut request = Request::new(
            estate.principal_id(self.query.who),
            estate.catalogue.action(self.query.action).name.to_string(),
            self.query.target.path.to_owned(),
            self.query.time,
        );
        request.take_up = self
            .query
            .take_up
            .map(|role| format!("role:{}", estate.role(role).identity.name).into());
        let id = |group: &GroupId| estate.principal_id(Principal::Group(*group)).into();
        request.also = self.query.also.iter().map(id).collect();
        let name = |policy: &PolicyId| estate.policy(*policy).name.to_string().into();
        request.under = self.query.under.iter().map(name).collect();
        let is_implied = |list: &[(_, Given)], id| {
            list.iter().filter(|(other, given)| *other == id && *given != Given::Head).count() == 0
                && list.iter().any(|(other, given)| {
                    *given != Given::Absent
                        && std::iter::successors(names.parent(*other), |head| names.parent(*head))
                            .any(|head| head == id)
                })
        };
        let mut item = Vec::new();
        for (list, is_item) in [(&self.query.given, false), (&self.query.item, true)] {
            for (id, given) in list {
                // `null` says the same of all that lies below.
                let above = |(other, given): &(AttributeId, Given)| {
                    *given == Given::Absent && lies_below(names, *id, *other)
                };
                if list.iter().any(above) {
                    continue;
                }
                let name = names.name(*id).to_owned();
                let (name, value) = match given {
                    Given::Value(value) => (name, Some(value.clone())),
                    Given::Absent => (name, None),
                    Given::Head if is_implied(list, *id) => continue,
                    Given::Head => {
                        (format!("{name}.{}", unused(names, &name)), Some(Value::Boolean(true)))
                    }
                };
                match (is_item, value) {
                    (false, value) => request.given.push((name.into(), value)),
                    (true, Some(value)) => item.push((name.into(), value)),
                    (true, None) => {}
                }
            }
        }
        request.item = (!item.is_empty()).then_some(item);
        let given = request.given.len() + request.item.as_ref().map_or(0, Vec::len);
        let reason = {
            let query = request.resolve(estate).ok()?;
            self.decider.decide(&query)
        };
        let counterexample = Counterexample { request, reason, given };
        self.claim().is_broken_by(reason).then_some(counterexample)
    }
}
