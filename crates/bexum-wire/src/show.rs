//! Lists and things: `show --format json`.

use std::collections::BTreeMap;

use bexum_core::Time;
use bexum_core::attribute::Attributes;
use bexum_core::catalogue::{Addresses, TargetClass};
use bexum_core::estate::Estate;
use bexum_core::id::KindId;
use bexum_core::principal::Principal;
use bexum_core::time::{Phase, Window as CoreWindow};
use bexum_core::trace::{BriefRoute, RouteStep};
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

/// The way from a principal to whom something is for: their ids in order, beginning with itself. Of a
/// long way the middle is one element that says how many are left out.
#[must_use]
pub fn route(estate: &Estate, from: Principal, route: &BriefRoute) -> Json {
    let id = |step: &RouteStep| Json::from(estate.principal_id(step.into));
    let mut all = vec![Json::from(estate.principal_id(from))];
    all.extend(route.first.iter().map(id));
    all.extend((route.left_out > 0).then(|| json!({ "left-out": route.left_out })));
    all.extend(route.last.iter().map(id));
    Json::Array(all)
}

/// What a target is: its sort, and of what has one its kind.
#[must_use]
pub fn class(estate: &Estate, class: TargetClass) -> Json {
    let kind = |id: Option<KindId>| id.map(|id| &*estate.catalogue.kind(id).name);
    match class {
        TargetClass::Account => json!({ "sort": "account" }),
        TargetClass::Subscription => json!({ "sort": "subscription" }),
        TargetClass::Declared(id) => json!({ "sort": "scope", "kind": kind(id) }),
        TargetClass::Item(id) => json!({ "sort": "item", "below": kind(id) }),
        TargetClass::User => json!({ "sort": "user" }),
        TargetClass::Group => json!({ "sort": "group" }),
        TargetClass::Role => json!({ "sort": "role" }),
        TargetClass::Policy => json!({ "sort": "policy" }),
    }
}

/// Of what an action is asked.
#[must_use]
pub fn asked_of(addresses: Addresses) -> &'static str {
    match addresses {
        Addresses::Itself => "itself",
        Addresses::Account => "account",
        Addresses::Parent => "parent",
    }
}

/// Attributes by their dotted names.
#[must_use]
pub fn attributes(estate: &Estate, attributes: &Attributes) -> Json {
    let names = &estate.attribute_names;
    let all = attributes.iter().map(|(id, value)| (names.name(id).to_owned(), value_json(value)));
    Json::Object(all.collect())
}
