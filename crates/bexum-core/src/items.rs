//! The items below a scope: undeclared things without number, told apart by what is asked about
//! them.
//!
//! [`rows`] are what people are shown: those that a pattern singles out, and those that two of them
//! single out together (spec section 8). [`sorts`] are one for every way in which all that a law
//! and the statements ask can come out together. Both begin with what is left of each pattern
//! below the scope ([`below`](crate::pattern::residual)).

mod integers;
mod meeting;
mod names;
mod nfa;
mod rows;
mod sorts;

pub(crate) use meeting::meeting;
pub(crate) use nfa::{of_fits, tell_names_apart};
pub(crate) use rows::{Rows, Single, rests, rows};
pub(crate) use sorts::sorts;

use crate::estate::Estate;
use crate::id::ScopeId;

/// Whether what lies below a scope, by its path from there, is an item of it: its first name is
/// that of nothing declared (spec section 1).
pub(crate) fn is_item(estate: &Estate, scope: ScopeId, below: &str) -> bool {
    let first = below.split('/').next().unwrap_or_default();
    let path = format!("{}/{first}", estate.scope(scope).path);
    estate.scopes.find(&path).is_none() && estate.identity_at(&path).is_none()
}
