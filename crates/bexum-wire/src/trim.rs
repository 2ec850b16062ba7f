//! A tighter estate, as edits: `trim --format json`.

use schemars::JsonSchema;
use serde::Serialize;

/// The whole.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Trim {
    /// The version of this shape.
    pub version: u32,
    /// How many requests the log has that this estate knows.
    pub requests: u64,
    /// Lines that are no request of this estate.
    pub errors: u64,
    /// How many different requests are allowed, before and after.
    pub allowed: usize,
    /// Whether the outcome as a whole was found to open nothing; each step opens nothing in any case.
    pub is_decided: bool,
    /// Steps left out because it could not be decided whether they open something.
    pub not_decided: usize,
    /// Cells that are not denied, by level; none where there are too many to count.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cells: Option<Vec<Level>>,
    /// The edits, as `edit --from` takes them, a line each.
    pub edits: Vec<String>,
}

/// Cells of one level.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Level {
    /// `observe`, `operate`, `alter` or `govern`.
    pub level: String,
    /// How many are not denied before.
    pub before: u64,
    /// How many are not after.
    pub after: u64,
}

/// A new policy, as edits: `trim --draft POLICY --format json`.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Draft {
    /// The version of this shape.
    pub version: u32,
    /// The policy.
    pub policy: String,
    /// Lines that are no request of this estate.
    pub errors: u64,
    /// The edits, as `edit --from` takes them, a line each.
    pub edits: Vec<String>,
}
