//! Proof: whether an estate decides as it is expected to.
//!
//! A [check](crate::expectation::Check) is asked as it stands. A [law](crate::expectation::Law) is
//! about requests without number, so it is decided by analysis: over every principal concerned,
//! every role that it could take up, every declared target and every sort of item below one,
//! every action, every moment at which something changes, and every value of every attribute that
//! could make a difference. What a law says holds of all requests that could be asked, save for
//! suppositions (`also`) and bounds of a session (`under`). Where the analysis meets a limit of
//! its own, a law is *not decided*; it is never said to hold.

mod addresses;
mod apart;
mod declared;
mod fulfil;
mod heads;
mod moments;
mod opened;
mod plan;
mod print;
mod representatives;
mod search;
mod smallest;
mod spellings;
mod tried;
mod walk;

use std::sync::atomic::{AtomicUsize, Ordering};

use fixedbitset::FixedBitSet;

use crate::decision::Reason;
use crate::engine::{Decider, Index};
use crate::expectation::{Check, Law};
use crate::principal::Principal;
use crate::request::{Query, Request, RequestFault};
use crate::time::Time;

pub use apart::{Has, Overlap, overlaps};
pub(crate) use fulfil::fulfilled;
use moments::{EARLIEST, LATEST};
pub(crate) use opened::{KnownAnswers, Opened, opened};
use plan::{Placed, Plan};
pub(crate) use representatives::{MOST_WORDS_EACH, Unknowns, ValueDomain};
pub use tried::Tried;

/// Steps that the search for circumstances of one request may take.
const STEPS: usize = 50_000;

/// Steps that all searches for one law may take together; each principal has its share.
const LAW_STEPS: usize = 4_000_000;

/// Steps of any search, whatever was spent before: enough to try what the conditions want.
const LEAST_STEPS: usize = 300;

/// Requests of one principal and one law that may wait for a search.
const WAITING: usize = 1_000_000;

/// A request that breaks a law, asked and answered.
#[derive(Clone, Debug)]
pub struct Counterexample {
    /// The request; it resolves.
    pub request: Request<'static>,
    /// The answer to it.
    pub reason: Reason,
    /// How many attributes it gives, of circumstances and of its item.
    pub given: usize,
}

/// Why a law could not be decided.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum NotWorkedOut {
    /// Too many combinations of circumstances.
    Steps,
    /// An attribute, as written, whose values could not all be tried.
    Values(String),
    /// A scope whose items could not all be told apart, by its path.
    Items(String),
}

/// What is known of a law for some principals.
#[derive(Clone, Debug, Default)]
pub struct Judgement {
    /// How many principals it is about.
    pub principals: usize,
    /// The request that breaks it with the least given, if one was found.
    pub counterexample: Option<Counterexample>,
    /// Where the analysis met a limit.
    pub limit: Option<NotWorkedOut>,
    /// The statements with a condition that had a say, by id.
    conditional: FixedBitSet,
}

impl Judgement {
    /// Adds what is known for principals that come after these.
    pub fn join(&mut self, other: Self) {
        self.principals += other.principals;
        self.conditional.union_with(&other.conditional);
        self.limit = self.limit.take().or(other.limit);
        let better = match (&self.counterexample, &other.counterexample) {
            (Some(known), Some(found)) => found.given < known.given,
            (None, Some(_)) => true,
            (_, None) => false,
        };
        if better {
            self.counterexample = other.counterexample;
        }
    }
}

/// What a law was tried on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Coverage {
    /// Principals that it is about at some time.
    pub principals: usize,
    /// Declared targets; the items of one scope count as one more.
    pub targets: usize,
    /// Actions that apply to any of them.
    pub actions: usize,
    /// Different conditions that had a say.
    pub conditions: usize,
}

impl Coverage {
    /// Whether the law is about nothing at all.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.principals == 0 || self.actions == 0
    }
}

/// What came of a law.
#[derive(Clone, Debug)]
pub enum Outcome {
    /// It holds, whatever is asked.
    Held,
    /// A request breaks it.
    Broken(Box<Counterexample>),
    /// Nothing was found against it, but not everything could be tried.
    NotDecided(NotWorkedOut),
}

/// Laws, ready to be tried on one principal after another.
#[derive(Debug)]
pub struct Laws<'e> {
    index: &'e Index,
    plans: Vec<Plan<'e>>,
    placed: Vec<Placed<'e>>,
    /// The moment that is tried before all others.
    now: Time,
    /// Steps for each principal and law.
    share: usize,
    /// Steps that were taken.
    steps: AtomicUsize,
}

impl<'e> Laws<'e> {
    /// Finds out what each law is about.
    #[must_use]
    pub fn new(index: &'e Index, laws: impl IntoIterator<Item = &'e Law>, now: Time) -> Self {
        Self::within(index, laws, now, LAW_STEPS)
    }

    /// The same with so many steps for all searches of one law together.
    pub(crate) fn within(
        index: &'e Index,
        laws: impl IntoIterator<Item = &'e Law>,
        now: Time,
        steps: usize,
    ) -> Self {
        let placed = plan::identities(index.estate());
        let plans = laws.into_iter().map(|law| Plan::new(index.estate(), law, &placed)).collect();
        let mut laws = Self { index, plans, placed, now, share: 0, steps: AtomicUsize::new(0) };
        let least = (steps / 2000).min(2000);
        laws.share = (steps / laws.principals().len().max(1)).clamp(least, 10 * STEPS);
        laws
    }

    /// How many steps searches took so far.
    pub(crate) fn steps(&self) -> usize {
        self.steps.load(Ordering::Relaxed)
    }

    /// Everybody whom any of the laws may be about.
    #[must_use]
    pub fn principals(&self) -> Vec<Principal> {
        plan::concerned(self.index.estate(), self.plans.iter().map(|plan| plan.law))
    }

    /// Nothing known yet, for each law.
    #[must_use]
    pub fn nothing(&self) -> Vec<Judgement> {
        vec![Judgement::default(); self.plans.len()]
    }

    /// Tries every law that is not broken in `known` on one principal.
    pub fn judge(
        &self,
        decider: &mut Decider<'e>,
        who: Principal,
        known: &[Judgement],
    ) -> Vec<(usize, Judgement)> {
        walk::judge(self, decider, who, known)
    }

    /// Tries every law on every principal, one after another.
    #[must_use]
    pub fn judge_all(&self) -> Vec<Judgement> {
        let mut known = self.nothing();
        for who in self.principals() {
            let mut decider = Decider::new(self.index);
            for (law, part) in self.judge(&mut decider, who, &known) {
                known[law].join(part);
            }
        }
        known
    }

    /// What came of a law, all principals tried, and what it was tried on.
    #[must_use]
    pub fn outcome(&self, law: usize, part: &Judgement) -> (Outcome, Coverage) {
        let plan = &self.plans[law];
        let mut texts: Vec<&str> = part
            .conditional
            .ones()
            .filter_map(|id| self.index.estate().statements[id].when.as_ref())
            .chain(&plan.law.when)
            .map(|when| &*when.text)
            .collect();
        texts.sort_unstable();
        texts.dedup();
        let coverage = Coverage {
            principals: part.principals,
            targets: plan.targets(),
            actions: plan.actions.len(),
            conditions: texts.len(),
        };
        let outcome = match (&part.counterexample, &part.limit) {
            (Some(counterexample), _) => Outcome::Broken(Box::new(counterexample.clone())),
            (None, Some(limit)) => Outcome::NotDecided(limit.clone()),
            (None, None) => Outcome::Held,
        };
        (outcome, coverage)
    }
}

/// Whether a request that is refused could be allowed if more were known.
#[derive(Clone, Debug)]
pub enum Possible {
    /// It is, in these circumstances.
    Yes(Box<Request<'static>>),
    /// It is not, whatever they are.
    No,
    /// Neither could be found out.
    NotDecided,
}

/// Steps in looking for circumstances in which one request is allowed.
const POSSIBLE_STEPS: usize = 5_000;

/// Whether a query is allowed in some circumstances that complete those it gives, its item's
/// attributes among them if these are open.
pub fn possible(decider: &mut Decider<'_>, query: &Query<'_>) -> Possible {
    search::with_search(decider, None, query.clone(), None, POSSIBLE_STEPS, |search| {
        match search.at_first() {
            search::AtFirst::Kept => Possible::No,
            search::AtFirst::Broken(counterexample) => {
                Possible::Yes(Box::new(counterexample.request))
            }
            search::AtFirst::Open => match search.run() {
                search::SearchResult::Nothing => Possible::No,
                search::SearchResult::Counterexample(counterexample) => {
                    Possible::Yes(Box::new(counterexample.request))
                }
                search::SearchResult::Limit(_) => Possible::NotDecided,
            },
        }
    })
}

/// Every request of a check with its answer; `now` is the time of those that name none.
pub fn answers<'c>(
    decider: &mut Decider<'_>,
    check: &'c Check,
    now: Time,
) -> Vec<(Request<'c>, Result<Reason, RequestFault>)> {
    let estate = decider.index.estate();
    check
        .requests(now)
        .map(|request| {
            let answer = request.resolve(estate).map(|query| decider.decide(&query));
            (request, answer)
        })
        .collect()
}
