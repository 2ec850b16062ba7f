//! Lists and things: `show --format json`.

use std::collections::BTreeMap;

use bexum_core::Time;
use bexum_core::attribute::Attributes;
use bexum_core::estate::Estate;
use bexum_core::time::{Phase, Window as CoreWindow};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value as Json, json};

use crate::common::{Window, value_json};

/// Some things of an estate, in sections.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Show {
    /// The version of this shape.
    pub version: u32,
    /// Each section by its name.
    #[serde(flatten)]
    pub sections: BTreeMap<String, Section>,
}

/// A part of what is shown.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Section {
    /// What there is to say of one thing.
    Fields(Map<String, Json>),
    /// Several things.
    Rows(Vec<Map<String, Json>>),
}

/// A window, and whether it holds at a moment; `null` for always.
#[must_use]
pub fn window(window: CoreWindow, at: Time) -> Json {
    if window == CoreWindow::ALWAYS {
        return Json::Null;
    }
    let state = match window.phase(at) {
        Phase::Open => "open",
        Phase::Future => "not-begun",
        Phase::Past => "over",
    };
    let Window { from, until } = window.into();
    json!({ "from": from, "until": until, "state": state })
}

/// Attributes by their dotted names.
#[must_use]
pub fn attributes(estate: &Estate, attributes: &Attributes) -> Json {
    let names = &estate.attribute_names;
    let all = attributes.iter().map(|(id, value)| (names.name(id).to_owned(), value_json(value)));
    Json::Object(all.collect())
}
