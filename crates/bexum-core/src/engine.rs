//! Deciding: an [`Engine`] owns an estate and an immutable [`Index`] over it, and a [`Decider`]
//! answers queries with it.
//!
//! The engine is built once and shared; each thread has its own decider, which keeps what it has
//! worked out about principals. Nothing on the way of a query scans all attachments: candidates
//! are found on the target's chain of scopes, by the principal's closure and the action's policies.

mod action_index;
mod batch;
mod clause;
mod closure;
mod closure_cache;
mod evaluate;
mod facts;
mod in_force;
mod index;
mod scope_index;
mod session;
mod sets;
mod sink;
mod subjects;

pub use batch::{BorrowedRequest, RequestBatch};
pub(crate) use clause::Clause;
pub use closure::{Closure, RoleClosure};
pub use evaluate::Decider;
pub use facts::{EvalContext, Source};
pub(crate) use in_force::{InForce, Sense, in_force};
pub use index::{Engine, Index};
pub(crate) use session::Session;
pub use sets::Cells;
pub(crate) use sets::{StatementInPlay, parts};
pub use sink::{Bound, Candidate, LimitingPolicy, NullSink, Obstacle, Sink};
pub(crate) use subjects::{SubjectId, SubjectSet, SubjectSets};
