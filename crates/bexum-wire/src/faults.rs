//! Why an estate does not load.

use bexum_core::diagnostic::{self, Diagnostic};
use bexum_core::origin::SourceSpan;
use bexum_files::{Failure, Sources};
use schemars::JsonSchema;
use serde::Serialize;

/// Everything that keeps an estate from being loaded.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Faults {
    /// The version of this shape.
    pub version: u32,
    /// Never empty; those of whole files first, then by place.
    pub faults: Vec<Told>,
}

/// Something to tell.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Told {
    /// Which sort: `unknown-key`. It stays when the wording changes.
    pub code: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// What is the matter, in a sentence.
    pub message: String,
    /// Where: first the place that is meant, then others that have to do with it.
    pub labels: Vec<Label>,
    /// What to do.
    pub hint: Option<String>,
    /// What would most likely mend it.
    pub remedy: Option<Remedy>,
}

/// How much something matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "the words themselves")]
pub enum Severity {
    Error,
    Warning,
    Note,
}

/// A part of a file. Lines and columns count from 1, columns in characters; the end lies after it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[expect(missing_docs, reason = "what the names say")]
pub struct Span {
    pub file: String,
    pub line: usize,
    pub column: usize,
    pub end_line: usize,
    pub end_column: usize,
}

/// A place and what it has to do with the matter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Label {
    /// Where.
    #[serde(flatten)]
    pub span: Span,
    /// `first declared here`, say; nothing for the place that is meant itself.
    pub text: Option<&'static str>,
}

/// A replacement of a few letters.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Remedy {
    /// What is replaced.
    #[serde(flatten)]
    pub span: Span,
    /// By what.
    pub text: String,
}

impl Faults {
    /// Of a load that failed.
    #[must_use]
    pub fn of(failure: &Failure) -> Self {
        let told = failure.diagnostics().map(|diagnostic| Told::of(&failure.sources, diagnostic));
        Self { version: crate::VERSION, faults: told.collect() }
    }
}

impl Told {
    /// A diagnostic about these texts.
    #[must_use]
    pub fn of(sources: &Sources, diagnostic: Diagnostic) -> Self {
        let remedy = diagnostic.remedy.as_ref().and_then(|remedy| {
            let bytes = sources.bytes_of_remedy(remedy)?;
            let span = span_of(sources, remedy.place, bytes);
            Some(Remedy { span, text: remedy.name.clone() })
        });
        Self {
            code: diagnostic.code,
            severity: diagnostic.severity.into(),
            message: diagnostic.message,
            labels: diagnostic.labels.iter().map(|one| label(sources, one)).collect(),
            hint: diagnostic.hint,
            remedy,
        }
    }
}

impl From<diagnostic::Severity> for Severity {
    fn from(severity: diagnostic::Severity) -> Self {
        match severity {
            diagnostic::Severity::Error => Self::Error,
            diagnostic::Severity::Warning => Self::Warning,
            diagnostic::Severity::Note => Self::Note,
        }
    }
}

/// A label in these texts.
pub(crate) fn label(sources: &Sources, label: &diagnostic::Label) -> Label {
    let text = Some(label.text).filter(|text| !text.is_empty());
    Label { span: span(sources, label.place), text }
}

fn span(sources: &Sources, place: SourceSpan) -> Span {
    span_of(sources, place, sources.bytes(place))
}

fn span_of(sources: &Sources, place: SourceSpan, bytes: std::ops::Range<usize>) -> Span {
    let source = sources.get(place.origin.file);
    let (line, column) = source.line_and_column(bytes.start);
    let (end_line, end_column) = source.line_and_column(bytes.end);
    let file = source.path.display().to_string();
    Span { file, line, column, end_line, end_column }
}
