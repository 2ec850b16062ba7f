//! Edits done on files: planned on texts, compared with what they say, and written all together or
//! not at all.
//!
//! A plan does each edit on declarations ([`bexum_core::edit`]), brings the texts in line with the
//! outcome (`sync`), reads them again, and holds what they declare then against what they are to
//! declare. Nothing is written before that. Writing is the business of [`journal`].

mod block;
mod document;
pub mod journal;
mod lists;
mod plan;
mod sync;
mod table;
pub(crate) mod written;

pub use plan::{DraftedPeople, Plan, PlanError, draft_people, plan, plan_people};
