//! Deciding: an [`Engine`] owns an estate and an immutable [`Index`] over it, and a [`Decider`]
//! answers queries with it.
//!
//! The engine is built once and shared; each thread has its own decider, which keeps what it has
//! worked out about principals. Nothing on the way of a query scans all attachments: candidates
//! are found on the target's chain of scopes, by the principal's closure and the action's policies.

mod brief;
mod closure;
mod directory;
mod evaluate;
mod facts;
mod index;
mod kept;
mod naming;
mod places;
mod session;
mod sets;
mod sink;
mod sought;
mod texts;

pub use brief::{Brief, Briefs};
pub use closure::{Closure, RoleClosure};
pub use evaluate::Decider;
pub use facts::{Scene, Source};
pub use index::{Engine, Index};
pub(crate) use session::Session;
pub use sets::Cells;
pub(crate) use sets::SoughtStatement;
pub use sink::{Bound, Candidate, Limit, Nothing, Obstacle, Sink};
pub(crate) use sought::{Sought, Whom};
