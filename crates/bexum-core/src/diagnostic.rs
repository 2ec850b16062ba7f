//! Something to tell about an estate, as data: faults of loading, findings, whatever an editor shows.
//!
//! Where it is found it is a type of its own (a [`Fault`](crate::Fault), say), which words it. Colour,
//! layout and the text around it are somebody else's.

use crate::origin::SourceSpan;

/// How much it matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Nothing is decided until it is mended.
    Error,
    /// It works, and is probably not what was meant.
    Warning,
    /// Worth knowing.
    Note,
}

impl Severity {
    /// `error`, `warning`, `note`.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Note => "note",
        }
    }
}

/// A place, and what it has to do with the matter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// Where.
    pub place: SourceSpan,
    /// A few words, such as `first declared here`; empty for the place that is meant itself.
    pub text: &'static str,
}

/// What would most likely mend it: a name that stands in a place, replaced by another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remedy {
    /// Where; more than the name may stand there (quotes, `user:` before it).
    pub place: SourceSpan,
    /// The name that is wrong.
    pub instead_of: String,
    /// The name that is probably meant.
    pub name: String,
}

/// What to tell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnostic {
    /// Which sort it is, for machines: `unknown-key`. It stays when the wording changes.
    pub code: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// What is the matter: lower case, names in backquotes, no full stop.
    pub message: String,
    /// Where it shows, then other places that have to do with it. None where no text could be read.
    pub labels: Vec<Label>,
    /// What to do, where the message does not say so itself.
    pub hint: Option<String>,
    /// What would most likely mend it.
    pub remedy: Option<Remedy>,
}

impl Diagnostic {
    /// Where it shows.
    #[must_use]
    pub fn place(&self) -> Option<SourceSpan> {
        self.labels.first().map(|label| label.place)
    }
}
