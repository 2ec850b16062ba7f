//! An `on` and a `when` together: of a statement at the place where it is attached, or of a law.

use super::facts::EvalContext;
use crate::condition::Condition;
use crate::estate::Estate;
use crate::expectation::Law;
use crate::id::StatementId;
use crate::pattern::{PathPattern, PathSet};
use crate::truth::Truth;

/// What must be true of a target and its circumstances.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Clause<'a> {
    pub(crate) on: &'a PathSet,
    pub(crate) when: Option<&'a Condition>,
    /// How many segments down the patterns start that are not absolute: the depth of the scope of the
    /// attachment or ceiling.
    pub(crate) anchor: usize,
}

impl<'a> Clause<'a> {
    /// The clause of a statement whose policy is attached `anchor` segments down.
    pub(crate) fn of_statement(estate: &'a Estate, id: StatementId, anchor: usize) -> Self {
        let statement = estate.statement(id);
        Self { on: &statement.on, when: statement.when.as_ref(), anchor }
    }

    /// The clause of a law, whose patterns are absolute.
    pub(crate) fn of_law(law: &'a Law) -> Self {
        Self { on: &law.on, when: law.when.as_ref(), anchor: 0 }
    }

    /// All its patterns, those that exclude among them.
    pub(crate) fn patterns(self) -> impl Iterator<Item = &'a PathPattern> {
        self.on.plain.iter().chain(&self.on.excluded)
    }

    /// What it comes to for one query.
    pub(crate) fn truth(self, context: &EvalContext<'_>) -> Truth {
        let on = self.on.matches(&context.query.target.segments, self.anchor, context);
        match self.when {
            Some(when) if on != Truth::False => on.and(when.eval(context)),
            _ => on,
        }
    }
}
