//! Patterns (spec section 3): which actions a statement names, and on which paths.
//!
//! Parsing knows nothing of any estate; [`action`] patterns are then spelled out against the
//! catalogue once, [`path`] patterns are [matched](matching) against one request at a time.

pub mod action;
pub mod matching;
pub mod path;
pub mod residual;

pub use path::{PathPattern, PathSet};

/// What is wrong with a pattern.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PatternFault {
    /// No `KIND.VERB`, `KIND.@LEVEL` or `*`.
    #[error("this is no action pattern: it is written `KIND.VERB`, `KIND.@LEVEL` or `*`")]
    ActionForm,
    /// A level that does not exist.
    #[error("there is no level `{0}`: the levels are `observe`, `operate`, `alter`, `govern`")]
    Level(String),
    /// Only exclusions.
    #[error("this list only excludes: it needs at least one pattern without `!`")]
    OnlyExcludes,
    /// `a//b`, a slash at the end, or nothing at all.
    #[error("a path pattern has no empty segment")]
    EmptySegment,
    /// `..`
    #[error("`..` does not stand in a path pattern")]
    DotDot,
    /// `.` that is not alone.
    #[error("`.` stands for the starting scope itself, and only alone")]
    DotNotAlone,
    /// `**` in a longer segment.
    #[error("`**` must be a whole segment")]
    StarsInSegment,
    /// A brace that is no `{who.NAME}` or `{given.NAME}`.
    #[error("a brace is written `{{who.NAME}}` or `{{given.NAME}}`")]
    Brace,
    /// A brace under a root that had another name once.
    #[error("a brace is written `{{who.NAME}}` or `{{given.NAME}}`")]
    OldBrace {
        /// The brace as it is written now.
        meant: String,
    },
    /// `{given.time}`
    #[error("`{{given.time}}` cannot stand in a pattern: a moment is no part of a path")]
    BraceTime,
    /// A built-in name of the other root.
    #[error("`{0}` is built in under `target.`, not under `who.`")]
    BraceRoot(String),
    /// Longer than any useful pattern.
    #[error("a pattern is at most 8192 bytes long")]
    TooLong,
}

impl PatternFault {
    /// What to do about it, where the message does not say so itself.
    #[must_use]
    pub fn hint(&self) -> Option<String> {
        match self {
            Self::OldBrace { meant } => Some(format!("did you mean `{meant}`?")),
            _ => None,
        }
    }
}
