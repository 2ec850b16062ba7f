//! Which policies and statements name an action: a row of bits for each action, so that those which
//! do not are passed over without being looked at.

use crate::catalogue::ActionSet;
use crate::estate::Estate;
use crate::id::{ActionId, PolicyId, StatementId};
use crate::policy::{Effect, Policy};

/// For each action, which things of some sort name it, a bit each.
#[derive(Debug)]
pub(super) struct Rows {
    bits: Vec<u64>,
    /// Words for each action.
    row: usize,
    /// The actions that any of them names.
    named: ActionSet,
}

impl Rows {
    fn new<'e>(actions: usize, things: impl ExactSizeIterator<Item = &'e ActionSet>) -> Self {
        let row = things.len().div_ceil(64);
        let mut bits = vec![0; row * actions];
        let mut named = ActionSet::with_capacity(actions);
        for (i, names) in things.enumerate() {
            for action in names.ones() {
                bits[action * row + i / 64] |= 1 << (i % 64);
            }
            named.union_with(names);
        }
        Self { bits, row, named }
    }

    pub(super) fn of(&self, action: ActionId) -> &[u64] {
        &self.bits[action.index() * self.row..][..self.row]
    }
}

fn has(row: &[u64], thing: usize) -> bool {
    row[thing / 64] >> (thing % 64) & 1 == 1
}

/// Who names what, in one estate.
#[derive(Debug)]
pub(crate) struct ActionIndex {
    /// Allowing, then denying.
    pub(super) policies: [Rows; 2],
    statements: Rows,
    /// The statements of all policies one after the other, allows and denies apart.
    listed: Vec<StatementId>,
    /// For each policy where its allows begin, and its denies; then where those of the last end.
    starts: Vec<u32>,
}

impl ActionIndex {
    pub(crate) fn new(estate: &Estate) -> Self {
        let actions = estate.catalogue.actions.len();
        let of = |names: fn(&Policy) -> &ActionSet| {
            Rows::new(actions, estate.policies.iter().map(names))
        };
        let mut listed = Vec::new();
        let mut starts = Vec::with_capacity(estate.policies.len() * 2 + 1);
        for policy in &estate.policies {
            for statements in [&policy.allows, &policy.denies] {
                starts.push(listed.len() as u32);
                listed.extend_from_slice(statements);
            }
        }
        starts.push(listed.len() as u32);
        Self {
            policies: [of(|policy| &policy.allowed_actions), of(|policy| &policy.denied_actions)],
            statements: Rows::new(actions, estate.statements.iter().map(|s| &s.actions)),
            listed,
            starts,
        }
    }

    /// Whether any policy has a statement of this effect that names the action.
    pub(crate) fn is_named(&self, effect: Effect, action: ActionId) -> bool {
        self.policies[effect as usize].named.contains(action.index())
    }

    /// Which policies have such a statement.
    pub(crate) fn policies(
        &self,
        effect: Effect,
        action: ActionId,
    ) -> impl Fn(PolicyId) -> bool + Copy + '_ {
        let row = self.policies[effect as usize].of(action);
        move |policy| has(row, policy.index())
    }

    /// Whether a policy has statements of this effect at all.
    pub(crate) fn has_any(&self, policy: PolicyId, effect: Effect) -> bool {
        !self.listed_of(policy, effect).is_empty()
    }

    fn listed_of(&self, policy: PolicyId, effect: Effect) -> &[StatementId] {
        let at = policy.index() * 2 + effect as usize;
        &self.listed[self.starts[at] as usize..self.starts[at + 1] as usize]
    }

    /// The statements of a policy that have this effect and name the action.
    pub(crate) fn statements(
        &self,
        policy: PolicyId,
        effect: Effect,
        action: ActionId,
    ) -> impl Iterator<Item = StatementId> + '_ {
        let row = self.statements.of(action);
        self.listed_of(policy, effect).iter().copied().filter(move |id| has(row, id.index()))
    }
}

#[cfg(test)]
mod tests {
    use super::{Rows, has};
    use crate::catalogue::ActionSet;
    use crate::id::ActionId;

    /// So many that the bits of one action take several words.
    #[test]
    fn every_thing_has_its_bit() {
        let (actions, things) = (7, 150);
        let names = |thing: usize, action: usize| thing * 31 % 11 < 4 && (thing + action) % 3 != 1;
        let sets: Vec<ActionSet> = (0..things)
            .map(|thing| {
                let mut set = ActionSet::with_capacity(actions);
                set.extend((0..actions).filter(|action| names(thing, *action)));
                set
            })
            .collect();
        let rows = Rows::new(actions, sets.iter());
        for action in 0..actions {
            let row = rows.of(ActionId::new(action));
            for thing in 0..things {
                assert_eq!(has(row, thing), names(thing, action), "{thing} {action}");
            }
        }
    }
}
