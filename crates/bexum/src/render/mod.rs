//! From data to text. Nothing here decides anything.

pub(crate) mod answer;
pub(crate) mod drawing;
pub(crate) mod edit;
mod fold;
pub(crate) mod grid;
pub(crate) mod grid_builder;
pub(crate) mod impact;
pub(crate) mod impact_besides;
pub(crate) mod impact_csv;
mod impact_markdown;
mod impact_page;
pub(crate) mod junit;
pub(crate) mod page;
pub(crate) mod phrases;
pub(crate) mod problem;
pub(crate) mod proof;
pub(crate) mod reach_csv;
pub(crate) mod report;
pub(crate) mod report_page;
pub(crate) mod review;
pub(crate) mod ruling;
pub(crate) mod style;
pub(crate) mod trim;
pub(crate) mod usage;
mod usage_page;
pub(crate) mod vet;
pub(crate) mod ways;
