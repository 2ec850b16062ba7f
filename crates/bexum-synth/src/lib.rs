//! Large made-up platforms: a consortium of radio observatories that has grown too large to be
//! looked after by hand. The same size and seed make the same estate, to the byte.
//!
//! [`Model`] is the platform in memory; [`write_estate`] writes it as the files of an estate, and
//! [`Requests`] are a log of what its people ask for. [`demo_log`] is one for the
//! estate of the demo.

mod astray;
mod files;
mod habits;
mod model;
mod planted;
mod requests;

pub use files::{Layout, write_estate};
pub use habits::demo_log;
pub use model::{Model, Size};
pub use planted::PLANTED;
pub use requests::{Asked, Requests};
