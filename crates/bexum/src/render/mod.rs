//! From data to text. Nothing here decides anything.

pub(crate) mod answer;
pub(crate) mod page;
pub(crate) mod problem;
pub(crate) mod report;
pub(crate) mod style;
pub(crate) mod words;
