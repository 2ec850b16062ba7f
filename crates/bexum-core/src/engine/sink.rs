//! Where the evaluator reports what it meets. Deciding uses the empty sink, explaining one that
//! records, so an explanation cannot contradict its decision: the walk is the same.

use super::facts::EvalContext;
use crate::id::{AttachmentId, CeilingId, PolicyId, ScopeId, StatementId};
use crate::principal::Subject;
use crate::time::Phase;
use crate::truth::Truth;

/// A statement whose `do` matches, by way of one attachment at or above the target.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Candidate {
    /// The statement.
    pub statement: StatementId,
    /// The policy attached (which may include the statement's own).
    pub policy: PolicyId,
    /// The attachment.
    pub attachment: AttachmentId,
    /// The subject that it names.
    pub subject: Subject,
    /// Where it is attached.
    pub scope: ScopeId,
}

/// Why a candidate is not in play.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Obstacle {
    /// A sealed scope between the attachment and the target.
    Seal(ScopeId),
    /// The attachment's window.
    Window(Phase),
}

/// A ceiling in play: one policy, over one scope or everywhere, or for this session.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct LimitingPolicy {
    /// The ceiling as written; `None` for a policy named in `under`.
    pub ceiling: Option<CeilingId>,
    /// The policy.
    pub policy: PolicyId,
    /// The scope it stands over, if any.
    pub over: Option<ScopeId>,
}

/// What a ceiling in play comes to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bound {
    /// The ceiling.
    pub limit: LimitingPolicy,
    /// Whether it bounds the request.
    pub bounds: bool,
    /// Its statements whose `do` matches, with what they come to.
    pub statements: Vec<(StatementId, Truth)>,
}

/// Who hears what the evaluator meets.
pub trait Sink {
    /// Whether to go on after the decision is certain, and to report what is not in play.
    const THOROUGH: bool;
    /// Whether to meet every allow in play, and all that a ceiling says, where nothing denies.
    const ALL_ALLOWS: bool = Self::THOROUGH;

    /// A deny or an allow in play, and what it comes to.
    fn candidate(&mut self, _candidate: Candidate, _truth: Truth, _scene: &EvalContext<'_>) {}

    /// A candidate that is not in play, and what it would come to.
    fn obstructed(
        &mut self,
        _candidate: Candidate,
        _truth: Truth,
        _obstacle: Obstacle,
        _scene: &EvalContext<'_>,
    ) {
    }

    /// A ceiling in play.
    fn bound(&mut self, _bound: Bound, _scene: &EvalContext<'_>) {}
}

/// The sink that hears nothing: for decisions alone.
#[derive(Clone, Copy, Debug, Default)]
pub struct NullSink;

impl Sink for NullSink {
    const THOROUGH: bool = false;
}
