//! Things that stand by themselves in a part of a file: such a part is read, changed and read again
//! alone, so that an edit of a large file takes hardly more than one of a small one.
//!
//! A block begins at a header (`[user.ines]`) and ends before the first line after it that begins with
//! `[` and is no header of a table below. What is written before a header is none of a table's business
//! in TOML, and what stands after the next one neither; so the file says the same before and after a
//! block, and of the block what it says when it is read alone, if
//! - it is good TOML alone and declares just what the file declares of the thing: then nothing that
//!   spans lines goes on beyond it, and nothing of the thing stands elsewhere;
//! - no other header of the file has the thing's name: then no table elsewhere is one that the block
//!   might write, even an empty one.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;

use bexum_core::declaration::{Declarations, Named};
use bexum_core::edit::{Places, canonical, each_place_in, gathered};
use bexum_core::origin::{FileId, Origin};

use super::sync::FileEdit;
use super::table::{Table, Thing};
use crate::decode;

/// Things of one file that change in blocks of their own at most: to find out that a block stands alone,
/// the file is looked through for the name, and with many it is less work to read it whole.
pub(super) const MOST_BLOCKS: usize = 64;

/// A block with something else in it.
#[derive(Debug)]
pub(super) struct NewBlock {
    /// The thing's old place.
    pub(super) old: Origin,
    /// The old block's bytes in the file.
    pub(super) range: Range<usize>,
    /// The text that stands there then.
    pub(super) text: String,
    /// What this declares, with places as bytes of this text.
    read: Declarations,
}

impl NewBlock {
    /// Changes a thing of a file in its block; `None` where it has none, or this is no way to do it.
    pub(super) fn of<T: Thing>(text: &str, old: &Named<T>, new: &Named<T>) -> Option<Self> {
        let (place, word) = (old.name.origin, T::word(old));
        if old.name.value != new.name.value || T::word(new) != word {
            return None;
        }
        let range = block_of(text, place)?;
        let block = &text[range.clone()];
        let moved = |thing: &Named<T>| in_block(thing, place.file, &range);
        let (old, new) = (moved(old)?, moved(new)?);
        if read_alone::<T>(place.file, block)? != with(&old) {
            return None;
        }
        let mut file = FileEdit::new(block);
        let mut table = Table { file: &mut file, path: vec![word, &old.name.value], element: None };
        T::change(&mut table, &old, &new)?;
        let text = file.done()?;
        let read = read_alone::<T>(place.file, &text)?;
        let is_meant = canonical(read.clone()) == canonical(with(&new));
        // Another line that follows begins on one of its own.
        let ends_well = text.ends_with('\n') || !block.ends_with('\n');
        (is_meant && ends_well).then_some(Self { old: place, range, text, read })
    }
}

fn with<T: Thing>(thing: &Named<T>) -> Declarations {
    let mut declared = Declarations::default();
    T::all(&mut declared).push(thing.clone());
    declared
}

/// The thing with places as bytes of its block; `None` where one lies outside.
fn in_block<T: Thing>(thing: &Named<T>, file: FileId, range: &Range<usize>) -> Option<Named<T>> {
    let (mut thing, mut is_inside) = (thing.clone(), true);
    thing.each_place(&mut |origin| {
        // What is new stands nowhere yet.
        if *origin == Origin::default() {
            return;
        }
        is_inside &= origin.file == file
            && range.start <= origin.start as usize
            && origin.end as usize <= range.end;
        let start = range.start as u32;
        origin.start = origin.start.saturating_sub(start);
        origin.end = origin.end.saturating_sub(start);
    });
    is_inside.then_some(thing)
}

/// What a text declares by itself, if that is one such thing and nothing else.
fn read_alone<T: Thing>(file: FileId, text: &str) -> Option<Declarations> {
    let decoded = decode::decode(file, text, false);
    if !decoded.syntax.is_empty() || !decoded.faults.is_empty() || decoded.estate.is_some() {
        return None;
    }
    let mut declared = decoded.declared;
    let thing = T::all(&mut declared).pop()?;
    (declared == Declarations::default()).then(|| with(&thing))
}

/// The bytes of a block whose header names something at a place.
fn block_of(text: &str, place: Origin) -> Option<Range<usize>> {
    let name = place.start as usize..place.end as usize;
    let start = text.get(..name.start)?.rfind('\n')? + 1;
    let opening = text.get(start..name.end)?;
    let is_header = opening.starts_with('[') && !opening.starts_with("[[");
    if !is_header || !text[name.end..].starts_with(']') {
        return None;
    }
    let mut end = text.len();
    let mut at = start + text[start..].find('\n').map_or(text.len() - start, |end| end + 1);
    for line in text[at..].split_inclusive('\n') {
        let header = line.trim_start();
        let below = header.strip_prefix("[[").or(header.strip_prefix('['));
        let is_below = below.and_then(|below| below.strip_prefix(&opening[1..]));
        if below.is_some() && !is_below.is_some_and(|rest| rest.starts_with('.')) {
            end = at;
            break;
        }
        at += line.len();
    }
    let is_in_header = |at: usize| {
        let line = text[..at].rfind('\n').map_or(0, |end| end + 1);
        text[line..at].trim_start().starts_with('[')
    };
    let bare = text[name].trim_matches(['"', '\'']);
    // Next to a name stands no letter of one.
    let is_letter = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
    let is_whole = |at: usize| {
        !text[..at].ends_with(is_letter) && !text[at + bare.len()..].starts_with(is_letter)
    };
    let others = text.match_indices(bare).filter(|(at, _)| !(start..end).contains(at));
    let mut others = others.filter(|(at, _)| is_whole(*at));
    // A name may be written with escapes, too.
    let mut escapes = text.match_indices('\\');
    let is_alone = !bare.is_empty()
        && !others.any(|(at, _)| is_in_header(at))
        && !escapes.any(|(at, _)| is_in_header(at));
    is_alone.then_some(start..end)
}

/// All blocks that change, in files of which nothing else does.
#[derive(Debug, Default)]
pub(super) struct NewBlocks {
    /// By file, in order.
    of_files: BTreeMap<FileId, Vec<NewBlock>>,
}

impl NewBlocks {
    /// Adds those of a file.
    pub(super) fn add(&mut self, file: FileId, mut blocks: Vec<NewBlock>) {
        blocks.sort_by_key(|block| block.range.start);
        self.of_files.insert(file, blocks);
    }

    /// Whether these are all that changes in a file.
    pub(super) fn has(&self, file: FileId) -> bool {
        self.of_files.contains_key(&file)
    }

    /// Gives files other numbers, in the same order.
    pub(super) fn renumber(&mut self, renumber: &mut dyn FnMut(&mut Origin)) {
        let of_files = std::mem::take(&mut self.of_files).into_values().flat_map(|mut blocks| {
            blocks.iter_mut().for_each(|block| {
                renumber(&mut block.old);
                block.read.each_place(renumber);
            });
            blocks.first().map(|block| block.old.file).map(|file| (file, blocks))
        });
        self.of_files = of_files.collect();
    }

    /// The places at which the things were declared.
    pub(super) fn old_places(&self) -> HashSet<Origin> {
        self.of_files.values().flatten().map(|block| block.old).collect()
    }

    /// Moves what is declared behind the blocks to where it stands then, and adds what stands in them.
    pub(super) fn put(self, declared: &mut Declarations) -> Declarations {
        let mut found = Vec::new();
        let files = self.of_files.keys().next_back().map_or(0, |last| last.0 as usize + 1);
        let mut moves: Vec<Vec<(usize, i64)>> = vec![Vec::new(); files];
        for (file, blocks) in self.of_files {
            let mut moved: i64 = 0;
            let all = &mut moves[file.0 as usize];
            for block in blocks {
                let start = block.range.start as i64 + moved;
                let mut read = block.read;
                read.each_place(&mut |origin| shift(origin, start));
                found.push(read);
                moved += block.text.len() as i64 - block.range.len() as i64;
                all.push((block.range.end, moved));
            }
        }
        let moves_of = |file: FileId| moves.get(file.0 as usize).filter(|all| !all.is_empty());
        each_place_in(declared, |file| moves_of(file).is_some(), &mut |origin| {
            let Some(all) = moves_of(origin.file) else { return };
            let before = all.partition_point(|(end, _)| *end <= origin.start as usize);
            if let Some((_, moved)) = before.checked_sub(1).and_then(|last| all.get(last)) {
                shift(origin, *moved);
            }
        });
        gathered(found)
    }
}

fn shift(origin: &mut Origin, by: i64) {
    origin.start = (i64::from(origin.start) + by) as u32;
    origin.end = (i64::from(origin.end) + by) as u32;
}
