//! What can keep an estate from being loaded, each worded once.

use std::io;
use std::path::PathBuf;

use bexum_core::diagnostic::{Diagnostic, Label, Severity};
use bexum_core::fault::LocatedFault;
use bexum_core::origin::SourceSpan;

use crate::texts::RevisionError;

/// Largest file, in bytes. The reader of TOML takes some forty times as much memory for a file of
/// nothing but brackets.
pub const FILE_BYTES: u64 = 32 << 20;

/// Largest estate, in bytes of all its files together.
pub const ESTATE_BYTES: u64 = 2 << 30;

/// One thing that keeps an estate from being loaded.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Problem {
    /// The folder has no `bexum.toml`.
    #[error("`{}` is no estate: it has no `bexum.toml`", .0.display())]
    NoEstate(PathBuf),
    /// A file or folder that cannot be read.
    #[error("cannot read `{}`: {error}", path.display())]
    Unreadable {
        /// Below the root.
        path: PathBuf,
        /// The system's word.
        error: io::Error,
    },
    /// A file that is not UTF-8.
    #[error("`{}` is not UTF-8: byte {byte} on line {line} belongs to no character", path.display())]
    NotUtf8 {
        /// Below the root.
        path: PathBuf,
        /// The first wrong byte, from 1.
        byte: usize,
        /// Its line, from 1.
        line: usize,
    },
    /// A file beyond all use.
    #[error("`{}` is larger than {} MiB", .0.display(), FILE_BYTES >> 20)]
    TooLarge(PathBuf),
    /// Files that are too much together.
    #[error("the files of this estate hold {} MiB: they may hold {}", bytes >> 20, ESTATE_BYTES >> 20)]
    EstateTooLarge {
        /// All of them together, a file beyond [`FILE_BYTES`] as that much.
        bytes: u64,
    },
    /// A `bexum.toml` that cannot be one.
    #[error("`{}` is no estate: its `bexum.toml` {why}", root.display())]
    RootFile {
        /// The estate's folder.
        root: PathBuf,
        /// Why, in words.
        why: &'static str,
    },
    /// More files than any estate has.
    #[error("this folder holds {count} files in `.toml`: an estate has at most {most}")]
    TooManyFiles {
        /// How many.
        count: usize,
        /// How many may be.
        most: usize,
    },
    /// A link that leads nowhere.
    #[error("link `{}` leads nowhere: {error}", path.display())]
    LinkNowhere {
        /// Below the root.
        path: PathBuf,
        /// The system's word.
        error: io::Error,
    },
    /// A link out of the estate.
    #[error("link `{}` leads out of the estate, to `{}`", path.display(), to.display())]
    LinkOutside {
        /// Below the root.
        path: PathBuf,
        /// Where to.
        to: PathBuf,
    },
    /// A folder of a revision whose content another repository keeps.
    #[error("`{}` is kept in another repository: a revision of this one does not hold it", .0.display())]
    Elsewhere(PathBuf),
    /// A revision that cannot be read.
    #[error(transparent)]
    Revision(Box<RevisionError>),
    /// A file that is no TOML.
    #[error("{message}")]
    Syntax {
        /// The TOML reader's word.
        message: String,
        /// Where.
        place: SourceSpan,
        /// The first of two, when something stands twice.
        first: Option<SourceSpan>,
    },
    /// A fault of what the files declare.
    #[error("{}", .0.fault)]
    Declared(Box<LocatedFault>),
}

impl Problem {
    pub(crate) fn declared(located: LocatedFault) -> Self {
        Self::Declared(Box::new(located))
    }

    /// Where it shows, if in a file that could be read.
    #[must_use]
    pub fn place(&self) -> Option<SourceSpan> {
        match self {
            Self::Syntax { place, .. } => Some(*place),
            Self::Declared(located) => Some(located.place),
            _ => None,
        }
    }

    /// The problem in the form in which faults are shown.
    #[must_use]
    pub fn diagnostic(&self) -> Diagnostic {
        if let Self::Declared(located) = self {
            return located.diagnostic();
        }
        let mut labels = Vec::new();
        if let Self::Syntax { place, first, .. } = self {
            labels.push(Label { place: *place, text: "" });
            labels.extend(first.map(|place| Label { place, text: "first here" }));
        }
        Diagnostic {
            code: self.code(),
            severity: Severity::Error,
            message: self.to_string(),
            labels,
            hint: self.hint(),
            remedy: None,
        }
    }

    /// Which sort of problem it is, for machines; it stays when the wording changes.
    #[must_use]
    pub fn code(&self) -> &'static str {
        match self {
            Self::NoEstate(_) => "no-estate",
            Self::Unreadable { .. } => "unreadable",
            Self::NotUtf8 { .. } => "not-utf8",
            Self::TooLarge(_) => "too-large",
            Self::EstateTooLarge { .. } => "estate-too-large",
            Self::RootFile { .. } => "root-file",
            Self::TooManyFiles { .. } => "too-many-files",
            Self::LinkNowhere { .. } => "link-nowhere",
            Self::LinkOutside { .. } => "link-outside",
            Self::Elsewhere(_) => "elsewhere",
            Self::Revision(_) => "revision",
            Self::Syntax { .. } => "syntax",
            Self::Declared(located) => located.fault.code(),
        }
    }

    /// What to do about it, where the message does not say so itself.
    fn hint(&self) -> Option<String> {
        match self {
            Self::NoEstate(_) => Some(
                "go to an estate's folder, name one with `-C DIR`, or start one with `bexum init DIR`"
                    .to_owned(),
            ),
            Self::TooLarge(_) => Some(
                "cut it into several files: which file of an estate holds a table means nothing"
                    .to_owned(),
            ),
            Self::EstateTooLarge { .. } => {
                Some("cut it into several estates, one for an account, say".to_owned())
            }
            Self::RootFile { .. } => {
                Some("`bexum.toml` is a text with `[estate]` in it: `bexum init DIR` writes one".to_owned())
            }
            Self::NotUtf8 { .. } => Some("save the file as UTF-8".to_owned()),
            Self::LinkNowhere { .. } => Some("remove the link or mend its target".to_owned()),
            Self::LinkOutside { .. } => {
                Some("an estate is whole by itself: copy the files into it".to_owned())
            }
            Self::Unreadable { .. } => {
                Some("an estate is read whole or not at all: allow reading it, or move it away".to_owned())
            }
            Self::Elsewhere(_) => Some("an estate is whole by itself: copy the files into it".to_owned()),
            Self::Revision(error) => match **error {
                RevisionError::NoGit(_) => Some("install `git`, or name a folder".to_owned()),
                RevisionError::NoRevision { .. } => {
                    Some("`git log --oneline` lists revisions, `git tag` names some".to_owned())
                }
                _ => None,
            },
            Self::Declared(located) => located.fault.hint(),
            _ => None,
        }
    }
}
