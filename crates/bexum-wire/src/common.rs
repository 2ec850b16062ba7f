//! Pieces that several shapes share.

use std::borrow::Cow;

use bexum_core::attribute::Value;
use bexum_core::decision;
use bexum_core::principal::Subject;
use bexum_core::time::Window as CoreWindow;
use bexum_core::{Estate, Request, Time, truth};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value as Json};

/// Allow or deny.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the words of the decision table")]
pub enum Verdict {
    Allow,
    Deny,
}

impl From<decision::Verdict> for Verdict {
    fn from(verdict: decision::Verdict) -> Self {
        match verdict {
            decision::Verdict::Allow => Self::Allow,
            decision::Verdict::Deny => Self::Deny,
        }
    }
}

/// Which line of the decision table held.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the words of the decision table")]
pub enum Reason {
    Disabled,
    RoleRefused,
    Denied,
    NotGranted,
    OverCeiling,
    Granted,
}

impl From<decision::Reason> for Reason {
    fn from(reason: decision::Reason) -> Self {
        match reason {
            decision::Reason::Disabled => Self::Disabled,
            decision::Reason::RoleRefused => Self::RoleRefused,
            decision::Reason::Denied => Self::Denied,
            decision::Reason::NotGranted => Self::NotGranted,
            decision::Reason::OverCeiling => Self::OverCeiling,
            decision::Reason::Granted => Self::Granted,
        }
    }
}

/// True, false, or undecided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the three values")]
pub enum Truth {
    True,
    False,
    Undecided,
}

impl From<truth::Truth> for Truth {
    fn from(truth: truth::Truth) -> Self {
        match truth {
            truth::Truth::True => Self::True,
            truth::Truth::False => Self::False,
            truth::Truth::Undecided => Self::Undecided,
        }
    }
}

/// When something counts; RFC 3339, `from` included and `until` not, either may be open.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Window {
    /// From this moment on.
    pub from: Option<String>,
    /// Before this moment.
    pub until: Option<String>,
}

impl From<CoreWindow> for Window {
    fn from(window: CoreWindow) -> Self {
        let text = |time: Option<Time>| time.map(|time| time.to_string());
        Self { from: text(window.from), until: text(window.until) }
    }
}

/// A request as `replay` reads it.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Asked {
    /// The principal.
    pub who: String,
    /// The action.
    pub does: String,
    /// The path.
    pub on: String,
    /// A role taken up.
    #[serde(rename = "as", skip_serializing_if = "Option::is_none")]
    pub take_up: Option<String>,
    /// Groups supposed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// Policies that bound the session.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub under: Vec<String>,
    /// Circumstances, in tables by their dotted names; `null` is absent. `time` is the moment, where
    /// it is not the present.
    #[serde(skip_serializing_if = "Map::is_empty")]
    pub given: Map<String, Json>,
    /// Attributes of the item itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<Map<String, Json>>,
}

impl Asked {
    /// A request, at `time` if it is not the present.
    #[must_use]
    pub fn new(request: &Request<'_>, time: Option<Time>) -> Self {
        let names = |names: &[Cow<'_, str>]| names.iter().map(ToString::to_string).collect();
        let mut given = circumstances(request);
        if let Some(time) = time {
            given.insert("time".to_owned(), Json::String(time.to_string()));
        }
        let item = request.item.as_ref();
        Self {
            who: request.who.to_string(),
            does: request.does.to_string(),
            on: request.on.to_string(),
            take_up: request.take_up.as_ref().map(ToString::to_string),
            also: names(&request.also),
            under: names(&request.under),
            given,
            item: item.map(|item| nested(item.iter().map(|(name, value)| (&**name, Some(value))))),
        }
    }
}

/// What a request gives, as `given` has it in a request; absent is `null`.
#[must_use]
pub fn circumstances(request: &Request<'_>) -> Map<String, Json> {
    nested(request.given.iter().map(|(name, value)| (&**name, value.as_ref())))
}

/// Attributes by dotted names as tables in tables; one that is said to be absent is `null`.
fn nested<'v>(attributes: impl Iterator<Item = (&'v str, Option<&'v Value>)>) -> Map<String, Json> {
    let mut whole = Json::Object(Map::new());
    for (name, value) in attributes {
        let mut at = &mut whole;
        for part in name.split('.') {
            at = &mut at[part];
        }
        *at = value.map_or(Json::Null, value_json);
    }
    match whole {
        Json::Object(map) => map,
        _ => Map::new(),
    }
}

/// An attribute's value as JSON; a time as a string.
#[must_use]
pub fn value_json(value: &Value) -> Json {
    match value {
        Value::Text(text) => Json::from(&**text),
        Value::Integer(n) => Json::from(*n),
        Value::Boolean(b) => Json::from(*b),
        Value::Time(time) => Json::from(time.to_string()),
        Value::List(items) => Json::Array(items.iter().map(value_json).collect()),
    }
}

/// `user:ines`, `everyone`.
pub(crate) fn subject(estate: &Estate, subject: Subject) -> String {
    match subject {
        Subject::Everyone => "everyone".to_owned(),
        Subject::One(principal) => estate.principal_id(principal),
    }
}
