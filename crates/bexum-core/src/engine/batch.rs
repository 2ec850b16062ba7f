//! The fast path for logs: requests in their commonest form, many together, borrowed from their text.
//!
//! The rest of the engine knows nothing of it but the index of names, and decides in the same way.
//! What it is worth, and what waiting for memory together is worth, `cargo bench -- batch` measures.

mod name_index;
mod prefetch;
mod requests;
mod string_table;

pub(super) use name_index::NameIndex;
pub use requests::{BorrowedRequest, RequestBatch};
