//! A Bexum estate on disk.
//!
//! [`load`](load::load) discovers the files of a folder, reads and decodes them into the core's
//! declarations, and has the core build an estate of them. Every problem of a load is reported
//! together, each with its place. This crate knows files and TOML; it knows nothing of requests,
//! and nothing of how a problem is shown.

pub mod append;
mod decode;
pub mod discover;
mod literal;
pub mod load;
pub mod problem;
pub mod source;

pub use append::append_check;
pub use discover::find_root;
pub use load::{Failure, Loaded, load, read};
pub use problem::Problem;
pub use source::{Source, Sources};
