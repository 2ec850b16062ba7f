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
    /// Of an import, whom it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub import: Option<Import>,
    /// What stood there already, or needs a word, in sentences.
    pub notes: Vec<String>,
    /// The files that change.
    pub files: Vec<File>,
    /// What the change does.
    pub impact: Impact,
}

/// What an import does to people and groups.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Import {
    /// The source.
    pub source: String,
    /// How many users carried it, or are taken over.
    pub of_source: usize,
    /// Users who are enabled again.
    pub enabled: Vec<String>,
    /// Users who are disabled.
    pub disabled: Vec<String>,
    /// Those of them who are no longer in the files.
    pub gone: Vec<String>,
    /// Users and groups that are new.
    pub new: Vec<String>,
    /// Users and groups with another name: before, and then.
    pub renamed: Vec<(String, String)>,
    /// Users and groups that are taken over.
    pub adopted: Vec<String>,
    /// How many users have another key.
    pub changed: usize,
    /// Places in groups that are new.
    pub joined: usize,
    /// Places in groups that are gone.
    pub left: usize,
    /// Groups that are no longer in the files, and are emptied.
    pub emptied: Vec<String>,
    /// Groups that are no longer in the files, and stay, since emptying them might open something.
    pub kept: Vec<String>,
    /// What could not be taken.
    pub not_taken: Vec<Complaint>,
}

/// Something about a file of the source.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Complaint {
    /// A line, or a JSON pointer.
    pub place: String,
    /// What is the matter.
    pub message: String,
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
