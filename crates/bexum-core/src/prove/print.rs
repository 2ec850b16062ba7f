//! All that the outcome of a search depends on but what is given, as a key by which outcomes are kept.

use std::hash::{Hash, Hasher};

use super::search::{EFFECTS, ProofSearch};
use crate::condition::eval::Facts as _;
use crate::condition::fact::Fact;
use crate::engine::{Clause, EvalContext};
use crate::id::{PolicyId, ScopeId};
use crate::policy::Effect;
use crate::truth::Truth;

/// A key: everything that was put into it, one after the other, so that two are equal only where all of
/// that is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub(crate) struct Print(Vec<u8>);

/// Whatever can be hashed can be put into a key: it keeps the bytes instead of mixing them.
struct Keep<'p>(&'p mut Vec<u8>);

impl Hasher for Keep<'_> {
    fn write(&mut self, bytes: &[u8]) {
        self.0.extend_from_slice(bytes);
    }

    fn finish(&self) -> u64 {
        0
    }
}

impl Print {
    fn put(&mut self, what: impl Hash) {
        what.hash(&mut Keep(&mut self.0));
    }

    /// Puts in how many things follow, so that what comes after them cannot be taken for one of them.
    fn put_each(&mut self, all: impl Iterator<Item = impl Hash>) {
        all.for_each(|one| self.put((true, one)));
        self.put(false);
    }

    /// Another key after this one.
    pub(super) fn and(mut self, other: &Self) -> Self {
        self.put(other);
        self
    }

    /// Puts in what is known of an attribute, and whether it is set.
    fn put_fact(&mut self, fact: Fact<'_>, is_set: Truth) {
        match fact {
            Fact::Absent => self.put((0_u8, is_set)),
            Fact::Unknown => self.put((1_u8, is_set)),
            Fact::Scalar(scalar) => self.put((2_u8, is_set, scalar)),
            Fact::List(list) => {
                self.put((3_u8, is_set));
                self.put_each(list.iter());
            }
        }
    }
}

impl ProofSearch<'_, '_> {
    /// Two requests alike in this have the same outcome. `None` where patterns hang on what is given,
    /// and so on the path.
    pub(super) fn fingerprint(&self) -> Option<Print> {
        let mut print = Print::default();
        print.put((self.query.action, self.entries, self.query.take_up));
        self.put_rest(&mut print).then_some(print)
    }

    /// The print of a request without who asks and for which action: of policies only those count that
    /// name the action or are ceilings, and of who asks only what the statements ask.
    pub(super) fn print_of_statements(&self) -> Option<Print> {
        let index = self.decider.index;
        let estate = self.decider.index.estate();
        let action = self.query.action.index();
        let counts = |policy: PolicyId| {
            let body = estate.policy(policy);
            body.allowed_actions.contains(action)
                || body.denied_actions.contains(action)
                || index.ceilings.contains(policy.index())
        };
        let mut print = Print::default();
        print.put(self.session.is_refused(self.query.take_up));
        print.put_each(self.entries.iter().filter(|(policy, ..)| counts(*policy)));
        // With a role taken up, what is attached to others counts as well, but grants nothing.
        if self.query.take_up.is_some() {
            let granting = self.session.subjects_of(Effect::Allow);
            let granting = index.policies_above(granting, self.query.target.scope());
            print.put_each(granting.into_iter().filter(|(policy, ..)| counts(*policy)));
        }
        let kind = estate.catalogue.action(self.query.action).kind;
        print.put((kind, self.statements, self.query.target.is_sample));
        self.put_rest(&mut print).then_some(print)
    }

    /// Whether all that is left could be told.
    fn put_rest(&self, print: &mut Print) -> bool {
        let estate = self.decider.index.estate();
        let contexts = EFFECTS.map(|effect| self.context(effect));
        let scope = self.query.target.scope();
        let seals: Vec<ScopeId> =
            estate.scopes.chain(scope).filter(|id| estate.scope(*id).sealed).collect();
        print.put((self.query.time, seals));
        self.asked().all(|clause| contexts.iter().all(|context| put_clause(print, clause, context)))
    }
}

/// Puts in whether a path is matched and what conditions ask; whether that could be told.
fn put_clause(print: &mut Print, clause: Clause<'_>, context: &EvalContext<'_>) -> bool {
    let Clause { on, when, anchor } = clause;
    let path = on.matches(&context.query.target.segments, anchor, context);
    if path == Truth::Undecided {
        return false;
    }
    print.put(path);
    // Which attributes are asked about, the statements say.
    for (reference, _) in when.into_iter().flat_map(|when| when.references()) {
        print.put_fact(context.fact(reference), context.is_set(reference));
    }
    true
}
