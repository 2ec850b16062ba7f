//! What cannot differ between two estates, as far as that is known before they are compared.

use rustc_hash::FxHashSet;

use crate::origin::{FileId, Origin};

/// Files of which the text is the same in two estates, so that what they declare is the same.
#[derive(Clone, Debug, Default)]
pub struct SameFiles {
    /// By their numbers in the first estate.
    pub before: FxHashSet<FileId>,
    /// By their numbers in the second.
    pub after: FxHashSet<FileId>,
    /// Where it is known: the places in other files of all that differs. They have the same numbers
    /// in both estates.
    pub(crate) differing: Option<FxHashSet<Origin>>,
}

impl SameFiles {
    /// These files, with the second estate taken for the first.
    pub(crate) fn turned(&self) -> Self {
        let Self { before, after, differing } = self.clone();
        Self { before: after, after: before, differing }
    }

    /// Whether what stands at a place of one of the estates may differ, given the files that are the
    /// same in it.
    pub(super) fn may_differ(&self, same: &FxHashSet<FileId>, origin: Origin) -> bool {
        !same.contains(&origin.file)
            && self.differing.as_ref().is_none_or(|places| places.contains(&origin))
    }
}
