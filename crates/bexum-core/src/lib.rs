//! The heart of Bexum: the policy language, the decision, its explanation, and analyses.
//!
//! Nothing here reads a file, a clock or the environment, and nothing prints.
//!
//! ```text
//! Declarations ──build──► Estate ──turn around──► Engine ──► Decider ──► Reason, Trace
//! ```
//!
//! Each stage has its own type and can be had only through the one before it. An [`Estate`] never
//! changes; an [`Engine`] owns one, turned around for deciding, and each thread asks through a
//! [`Decider`] of its own. The words (scope, item, principal, ceiling, …) are those of the spec's section 1.

mod action_set;
pub mod attribute;
pub mod catalogue;
pub mod condition;
pub mod decision;
pub mod declaration;
pub mod diagnostic;
pub mod engine;
pub mod estate;
pub mod expectation;
pub mod fault;
pub mod id;
mod items;
pub mod limits;
#[cfg(feature = "naive")]
pub mod naive;
pub mod name;
pub mod origin;
pub mod pattern;
pub mod policy;
pub mod principal;
pub mod prove;
pub mod reach;
pub mod request;
pub mod scope;
pub mod time;
pub mod trace;
pub mod truth;

pub use decision::{Reading, Reason, Verdict};
pub use declaration::Declarations;
pub use diagnostic::Diagnostic;
pub use engine::{Decider, Engine};
pub use estate::Estate;
pub use fault::{Fault, LocatedFault};
pub use principal::Principal;
pub use request::{Query, Request, RequestFault};
pub use time::Time;
pub use trace::Trace;
pub use truth::Truth;

/// Every table that a file may hold: those of the spec's section 2, in its order, then those of
/// [expectations](expectation).
pub const TABLES: [&str; 17] = [
    "estate",
    "service",
    "kind",
    "account",
    "subscription",
    "resource",
    "namespace",
    "user",
    "group",
    "role",
    "policy",
    "attach",
    "ceiling",
    "check",
    "never",
    "always",
    "apart",
];
