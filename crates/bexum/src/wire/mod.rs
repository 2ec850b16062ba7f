//! JSON shapes: requests in, answers out. Versioned apart from the core's types, so that neither
//! moves the other.

pub(crate) mod answer;
pub(crate) mod json;
pub(crate) mod proof;
pub(crate) mod reach;
pub(crate) mod request;
pub(crate) mod scan;
