//! The files of an estate as text, and places in them for people.

use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use bexum_core::diagnostic::Remedy;
use bexum_core::origin::{FileId, Origin, SourceSpan};

use crate::literal;
use crate::problem::Problem;

/// One file, read.
#[derive(Debug)]
pub struct Source {
    /// Its path below the estate's root.
    pub path: PathBuf,
    /// What stands in it.
    pub text: String,
    /// How many lines end before each [`STRIDE`] bytes.
    line_ends: OnceLock<Vec<u32>>,
}

/// Bytes that are looked through for line ends to find the line of one of them.
const STRIDE: usize = 1024;

impl Source {
    pub(crate) fn new(path: PathBuf, text: String) -> Self {
        Self { path, text, line_ends: OnceLock::new() }
    }

    /// A file of these bytes, if they are UTF-8.
    pub(crate) fn read(path: PathBuf, bytes: Vec<u8>) -> Result<Self, Problem> {
        match String::from_utf8(bytes) {
            Ok(text) => Ok(Self::new(path, text)),
            Err(error) => {
                let good = error.utf8_error().valid_up_to();
                let line = error.as_bytes()[..good].iter().filter(|b| **b == b'\n').count() + 1;
                Err(Problem::NotUtf8 { path, byte: good + 1, line })
            }
        }
    }

    /// The line of a byte and its column in characters, both from 1.
    #[must_use]
    pub fn line_and_column(&self, byte: usize) -> (usize, usize) {
        let ends_in = |part: &[u8]| memchr::memchr_iter(b'\n', part).count();
        let text = self.text.as_bytes();
        let ends = self.line_ends.get_or_init(|| {
            let mut ends = 0;
            let before = text.chunks(STRIDE).map(|part| {
                let before = ends;
                ends += ends_in(part) as u32;
                before
            });
            before.collect()
        });
        let byte = byte.min(text.len());
        // A byte past the last one lies behind a last part that may be whole.
        let part = (byte / STRIDE).min(ends.len().saturating_sub(1));
        let known = ends.get(part).map_or(0, |ends| *ends as usize);
        let line = 1 + known + ends_in(&text[part * STRIDE..byte]);
        let start = memchr::memrchr(b'\n', &text[..byte]).map_or(0, |at| at + 1);
        let before = self.text.get(start..byte).unwrap_or_default();
        (line, before.chars().count() + 1)
    }

    /// The bytes of the line that holds `byte`, without its end.
    #[must_use]
    pub fn line_around(&self, byte: usize) -> Range<usize> {
        let byte = byte.min(self.text.len());
        let start = self.text[..byte].rfind('\n').map_or(0, |at| at + 1);
        let end = self.text[byte..].find('\n').map_or(self.text.len(), |at| byte + at);
        start..end
    }
}

/// All files that were read, by [`FileId`].
#[derive(Debug, Default)]
pub struct Sources {
    /// The estate's root folder.
    pub root: PathBuf,
    pub(crate) files: Vec<Arc<Source>>,
    /// The root's `bexum.toml`, where it could be read.
    pub(crate) root_file: Option<FileId>,
}

impl Sources {
    /// A file.
    #[must_use]
    pub fn get(&self, id: FileId) -> &Source {
        &self.files[id.0 as usize]
    }

    /// Every file, in path order.
    pub fn iter(&self) -> impl Iterator<Item = &Source> {
        self.files.iter().map(|file| &**file)
    }

    /// The file of a path below the root.
    #[must_use]
    pub fn find(&self, path: &Path) -> Option<&Source> {
        Some(self.get(self.number(path)?))
    }

    /// The number of the file of a path below the root.
    pub(crate) fn number(&self, path: &Path) -> Option<FileId> {
        // Paths are compared part by part, which takes longer than their letters.
        let as_written = self.iter().position(|file| file.path.as_os_str() == path.as_os_str());
        let found = as_written.or_else(|| self.iter().position(|file| file.path == path));
        found.map(|place| FileId(place as u32))
    }

    /// The numbers that these files have among others; `None` where one is not there.
    pub(crate) fn numbers_in(&self, others: &Self) -> Option<Vec<FileId>> {
        let mut others = others.files.iter().enumerate();
        let mut number = |file: &Arc<Source>| others.find(|(_, other)| other.path == file.path);
        let numbers = self.files.iter().map(|file| number(file).map(|(i, _)| FileId(i as u32)));
        numbers.collect()
    }

    /// The exact bytes that a place means: a part of a string is traced through its escapes.
    #[must_use]
    pub fn bytes(&self, place: SourceSpan) -> Range<usize> {
        let text = &self.get(place.origin.file).text;
        let whole = place.origin.start as usize..place.origin.end as usize;
        match place.within {
            None => whole,
            Some((start, end)) => {
                let raw = text.get(whole.clone()).unwrap_or_default();
                let inner = literal::locate(raw, start as usize, end as usize);
                whole.start + inner.start..whole.start + inner.end
            }
        }
    }

    /// The bytes that a remedy replaces, in the file of its place; `None` where the wrong name does not
    /// stand there just once, as it may if it is written with escapes.
    #[must_use]
    pub fn bytes_of_remedy(&self, remedy: &Remedy) -> Option<Range<usize>> {
        let whole = self.bytes(remedy.place);
        let text = self.get(remedy.place.origin.file).text.get(whole.clone())?;
        let mut found = text.match_indices(&remedy.instead_of);
        let (start, name) = found.next()?;
        let start = whole.start + start;
        found.next().is_none().then_some(start..start + name.len())
    }

    /// `people/users.toml:14`, for people and their editors.
    #[must_use]
    pub fn shown(&self, origin: Origin) -> String {
        let file = self.get(origin.file);
        let (line, _) = file.line_and_column(origin.start as usize);
        format!("{}:{line}", file.path.display())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{STRIDE, Source};

    proptest! {
        /// Lines and columns are what counting from the start of the file says.
        #[test]
        fn places_are_counted(
            lines in prop::collection::vec("[aé]{0,3}", 1..8),
            wide in prop::sample::select(vec![1, 700, STRIDE]),
            ended: bool,
            at: prop::sample::Index,
        ) {
            let lines: Vec<String> = lines.iter().map(|line| line.repeat(wide)).collect();
            let text = lines.join("\n") + if ended { "\n" } else { "" };
            let source = Source::new("f".into(), text.clone());
            let mut byte = at.index(text.len() + 1);
            while !text.is_char_boundary(byte) {
                byte -= 1;
            }
            let before = &text[..byte];
            let start = before.rfind('\n').map_or(0, |at| at + 1);
            let expected = (before.matches('\n').count() + 1, before[start..].chars().count() + 1);
            prop_assert_eq!(source.line_and_column(byte), expected);
            prop_assert_eq!(source.line_and_column(text.len() + STRIDE).0, text.matches('\n').count() + 1);
        }
    }
}
