//! A Bexum estate on disk.
//!
//! [`load`](load::load) reads the [texts] of a folder, or from elsewhere, decodes them into the
//! core's declarations, and has the core build an estate of them. A [`Workspace`] keeps what each
//! text declares, to load the estate again with some of them changed. Every problem of a load is reported
//! together, each with its place. This crate knows files and TOML; it knows nothing of requests,
//! and nothing of how a problem is shown.

pub mod append;
mod decode;
pub mod discover;
pub mod edit;
mod literal;
pub mod load;
pub mod people;
pub mod problem;
pub mod quotes;
mod reviews;
pub mod source;
pub mod texts;
pub mod workspace;

pub use append::{append_check, append_tables};
pub use discover::find_root;
pub use load::{Failure, Loaded, load, load_declared, load_from, load_while, read};
pub use problem::Problem;
pub use reviews::{new_review, written_answer};
pub use source::{Source, Sources};
pub use texts::{Folder, Laid, Named, Revision, TextSource};
pub use workspace::Workspace;
