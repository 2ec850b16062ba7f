//! Edits, and what they do: `edit --format json`.

use schemars::JsonSchema;
use serde::Serialize;

use crate::impact::Impact;

/// The whole.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Edit {
    /// The version of this shape.
    pub version: u32,
    /// The edits, as `edit` takes them.
    pub edits: Vec<String>,
    /// Whether they were written into the files.
    pub written: bool,
    /// Why they are not to be written; not there where they may be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
    /// Why they are written whatever breaks, if that was said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub despite: Option<String>,
    /// What stood there already, or needs a word, in sentences.
    pub notes: Vec<String>,
    /// The files that change.
    pub files: Vec<File>,
    /// What the change does.
    pub impact: Impact,
}

/// A file that changes.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct File {
    /// Below the estate's root.
    pub path: String,
    /// Whether it was not there before.
    pub is_new: bool,
    /// What changes in it, as a unified diff.
    pub diff: String,
}
