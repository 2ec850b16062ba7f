//! From data to text. Nothing here decides anything.

pub(crate) mod answer;
pub(crate) mod drawing;
mod fold;
pub(crate) mod grid;
pub(crate) mod junit;
pub(crate) mod page;
pub(crate) mod problem;
pub(crate) mod proof;
pub(crate) mod reach_csv;
pub(crate) mod report;
pub(crate) mod sketch;
pub(crate) mod style;
pub(crate) mod typed;
pub(crate) mod words;
