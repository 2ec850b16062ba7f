//! Where a person wrote something: a file, a byte range in it, and what stood there.

/// A file of the estate, by its position in the loader's list of sources.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FileId(pub u32);

/// A byte range in a file of the estate.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Origin {
    /// The file.
    pub file: FileId,
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

/// A place to point at: an [`Origin`], or a part of the text that a string there stands for.
///
/// The core reads the text of conditions and patterns as decoded strings; only the loader can say
/// which bytes of the file (escapes and all) a part of such a text came from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct SourceSpan {
    /// The value as a whole.
    pub origin: Origin,
    /// Byte range within the decoded string at `origin`, when only a part of it is meant.
    pub within: Option<(u32, u32)>,
}

impl SourceSpan {
    /// The part `start..end` (bytes of the decoded text) of the string at `origin`.
    #[must_use]
    pub fn inside(origin: Origin, start: usize, end: usize) -> Self {
        let narrow = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
        Self { origin, within: Some((narrow(start), narrow(end))) }
    }
}

impl From<Origin> for SourceSpan {
    fn from(origin: Origin) -> Self {
        Self { origin, within: None }
    }
}

/// A value with the place where it was written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Spanned<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub origin: Origin,
}

impl<T> Spanned<T> {
    /// Ties `value` to `origin`.
    pub fn new(value: T, origin: Origin) -> Self {
        Self { value, origin }
    }
}
