//! Expectations, and what came of them.

use super::{Counterexample, Coverage, Outcome, Overlap};
use crate::expectation::{Check, Law, Separation};
use crate::origin::Origin;
use crate::{Reason, Request};

/// One expectation and what came of it.
#[derive(Debug)]
pub enum Tried<'e> {
    /// Questions with the answer that each must have.
    Check {
        /// As written.
        check: &'e Check,
        /// How many requests it makes.
        requests: usize,
        /// Those that are answered otherwise, and how.
        wrong: Vec<(Request<'e>, Reason)>,
    },
    /// A law about everybody.
    Law {
        /// As written.
        law: &'e Law,
        /// What came of it.
        outcome: Outcome,
        /// On how much it was tried.
        coverage: Coverage,
        /// A counterexample of each principal who breaks it, where everybody was asked about.
        others: Vec<Counterexample>,
    },
    /// What nobody may have together.
    Apart {
        /// As written.
        separation: &'e Separation,
        /// Who has two of it.
        overlaps: Vec<Overlap>,
        /// How many principals were looked at.
        principals: usize,
    },
}

impl<'e> Tried<'e> {
    /// Whether it is as expected, for certain.
    #[must_use]
    pub fn holds(&self) -> bool {
        match self {
            Self::Check { wrong, .. } => wrong.is_empty(),
            Self::Law { outcome, .. } => matches!(outcome, Outcome::Held),
            Self::Apart { overlaps, .. } => overlaps.is_empty(),
        }
    }

    /// Whether it is a law about nothing, which is mostly a slip of the pen.
    #[must_use]
    pub fn is_about_nothing(&self) -> bool {
        matches!(self, Self::Law { coverage, .. } if coverage.is_empty() && self.holds())
    }

    /// `held`, `broken` or `not decided`.
    #[must_use]
    pub fn status(&self) -> &'static str {
        match self {
            Self::Law { outcome: Outcome::NotDecided(_), .. } => "not decided",
            _ if self.holds() => "held",
            _ => "broken",
        }
    }

    /// The table that it is written in.
    #[must_use]
    pub fn table(&self) -> &'static str {
        match self {
            Self::Check { .. } => "check",
            Self::Law { law, .. } => law.claim.word(),
            Self::Apart { .. } => "apart",
        }
    }

    /// What it is called.
    #[must_use]
    pub fn name(&self) -> &'e str {
        match self {
            Self::Check { check, .. } => &check.name,
            Self::Law { law, .. } => &law.name,
            Self::Apart { separation, .. } => &separation.name,
        }
    }

    /// Where it is written.
    #[must_use]
    pub fn origin(&self) -> Origin {
        match self {
            Self::Check { check, .. } => check.origin,
            Self::Law { law, .. } => law.origin,
            Self::Apart { separation, .. } => separation.origin,
        }
    }
}
