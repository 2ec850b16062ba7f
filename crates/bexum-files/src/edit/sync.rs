//! Files brought in line with what is to be declared.
//!
//! What an edit leaves alone keeps its origin, so two declarations of one origin are the same thing
//! before and after: where they differ, the file is changed there; what is gone is taken out, and
//! what has no origin is new.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};

use bexum_core::declaration::{Attachment, Ceiling, Declarations, Named};
use bexum_core::edit::changed_words;
use bexum_core::origin::{FileId, Origin, Spanned};
use rayon::prelude::*;

use super::block::{MOST_BLOCKS, NewBlock, NewBlocks};
use super::document::{Document, Splice, key_text};
use super::table::{Table, Thing};
use super::written::{self, quoted};
use crate::discover::ROOT_FILE;
use crate::source::Sources;

/// Where tables go that are the first of their sort.
const FIRST_FILE: &str = ROOT_FILE;
/// Bytes of new tables beyond which they go into files of their own, so that people can open them and
/// an edit reads no more than one of them again.
const MOST_NEW: usize = 256 * 1024;

/// One file while it is changed.
pub(super) struct FileEdit<'s> {
    pub(super) document: Document<'s>,
    pub(super) splices: Vec<Splice>,
    appended: Vec<String>,
}

impl<'s> FileEdit<'s> {
    pub(super) fn new(text: &'s str) -> Self {
        Self { document: Document::new(text), splices: Vec::new(), appended: Vec::new() }
    }

    /// Changes a thing, or takes it out; `None` where the file is written in a way that cannot be changed
    /// so.
    fn change<T: Thing>(
        &mut self,
        word: &'static str,
        old: &Named<T>,
        new: Option<&Named<T>>,
    ) -> Option<()> {
        let name = old.name.value.as_str();
        let Some(new) = new else {
            let gone = self.document.remove(None, &[word, name]);
            self.splices.extend(gone);
            return Some(());
        };
        let mut table = Table { file: self, path: vec![word, name], element: None };
        T::change(&mut table, old, new)?;
        if new.name.value != old.name.value {
            let text = key_text(&new.name.value);
            let spelled = table.file.document.spelled(&table.path).into_iter();
            let splices = spelled.map(|range| Splice { range, text: text.clone() });
            table.file.splices.extend(splices);
        }
        Some(())
    }

    /// The text with everything changed; `None` where two changes are in each other's way.
    pub(super) fn done(self) -> Option<String> {
        let mut text = spliced(self.document.text, self.splices)?;
        let line_end = self.document.line_end;
        let empty_line = line_end.repeat(2);
        for block in &self.appended {
            let is_empty = text.trim_start_matches('\u{feff}').is_empty();
            if !is_empty && !text.ends_with('\n') {
                text.push_str(line_end);
            }
            if !is_empty && !text.ends_with(&empty_line) {
                text.push_str(line_end);
            }
            for line in block.split_inclusive('\n') {
                match line.strip_suffix('\n') {
                    Some(line) => text.extend([line, line_end]),
                    None => text.push_str(line),
                }
            }
        }
        Some(text)
    }
}

/// A text with everything changed; `None` where two changes are in each other's way.
fn spliced(old: &str, mut splices: Vec<Splice>) -> Option<String> {
    // Those of one place stay in their order.
    splices.sort_by_key(|splice| (splice.range.start, splice.range.end));
    splices.dedup();
    let mut text = String::with_capacity(old.len() + 256);
    let mut at = 0;
    let mut is_gone = false;
    for splice in &splices {
        // What goes may go with more than one of the things that go.
        if is_gone && splice.text.is_empty() && splice.range.start <= at {
            at = at.max(splice.range.end);
            continue;
        }
        is_gone = splice.text.is_empty();
        text.push_str(old.get(at..splice.range.start)?);
        text.push_str(&splice.text);
        at = splice.range.end;
    }
    text.push_str(old.get(at..)?);
    Some(text)
}

/// All files while they are changed.
struct Sync<'s> {
    sources: &'s Sources,
    files: HashMap<FileId, FileEdit<'s>>,
    /// What changes in blocks, until something else of the file does, too.
    blocks: HashMap<FileId, Vec<NewBlock>>,
    /// Whether names may be others where they stand.
    in_place: bool,
    /// New tables, by the file in which they go.
    new: BTreeMap<PathBuf, Vec<String>>,
    /// The file that was named for new tables.
    wanted: Option<&'s Path>,
}

/// What is declared of something before and, unless it is gone, after.
type Changed<'d, T> = (&'d Named<T>, Option<&'d Named<T>>);

/// The files that have to differ.
pub(super) struct ChangedTexts {
    /// Their texts, by path below the root.
    pub(super) files: Vec<(PathBuf, String)>,
    /// What changes in those of them in which only blocks do.
    pub(super) blocks: NewBlocks,
}

/// The texts of the files that have to differ for `after` to be declared instead of `before`, beside what
/// else is `declared`, which stays.
///
/// New tables go to the end of the file where their like stand last, or to `file`. `in_place` says
/// whether names may be others where they stand. `None` where the files are written in a way that
/// cannot be changed so.
pub(super) fn changed_texts<'s>(
    sources: &'s Sources,
    declared: &Declarations,
    [before, after]: [&Declarations; 2],
    file: Option<&'s Path>,
    in_place: bool,
) -> Option<ChangedTexts> {
    let (files, blocks) = (HashMap::new(), HashMap::new());
    let mut sync = Sync { sources, files, blocks, in_place, new: BTreeMap::new(), wanted: file };
    if in_place {
        sync.words(before, after);
    }
    sync.named(&declared.users, [&before.users, &after.users], Thing::word)?;
    sync.named(&declared.groups, [&before.groups, &after.groups], Thing::word)?;
    sync.named(&declared.presets, [&before.presets, &after.presets], |_| "preset")?;
    sync.named(&declared.roles, [&before.roles, &after.roles], Thing::word)?;
    sync.named(&declared.policies, [&before.policies, &after.policies], Thing::word)?;
    sync.named(&declared.scopes, [&before.scopes, &after.scopes], Thing::word)?;
    sync.tables("attach", &before.attachments, &after.attachments)?;
    sync.tables("ceiling", &before.ceilings, &after.ceilings)?;
    sync.expectations(before, after)?;
    sync.applications(before, after)?;
    sync.done()
}

impl<'s> Sync<'s> {
    fn file(&mut self, id: FileId) -> &mut FileEdit<'s> {
        let sources = self.sources;
        self.files.entry(id).or_insert_with(|| FileEdit::new(&sources.get(id).text))
    }

    /// Changes things where they stand, the files on all cores: to read them is most of the work.
    fn change_all<T: Thing>(
        &mut self,
        changed: Vec<Changed<'_, T>>,
        word: fn(&Named<T>) -> &'static str,
    ) -> Option<()> {
        let mut of_files: BTreeMap<FileId, Vec<Changed<'_, T>>> = BTreeMap::new();
        for one in changed {
            of_files.entry(one.0.name.origin.file).or_default().push(one);
        }
        let sources = self.sources;
        let files = of_files.into_iter().map(|(id, changed)| (id, self.files.remove(&id), changed));
        let changed = files.collect::<Vec<_>>().into_par_iter().map(|(id, file, changed)| {
            let mut file = file.unwrap_or_else(|| FileEdit::new(&sources.get(id).text));
            for (old, new) in changed {
                file.change(word(old), old, new)?;
            }
            Some((id, file))
        });
        self.files.extend(changed.collect::<Option<Vec<_>>>()?);
        Some(())
    }

    /// Changes things in their blocks, as far as that can be done; the others. Files of which anything
    /// else changes are read whole all the same.
    fn in_blocks<'d, T: Thing>(&mut self, changed: Vec<Changed<'d, T>>) -> Vec<Changed<'d, T>> {
        if self.in_place {
            return changed;
        }
        let mut of_files: BTreeMap<FileId, Vec<Changed<'d, T>>> = BTreeMap::new();
        for one in changed {
            of_files.entry(one.0.name.origin.file).or_default().push(one);
        }
        let (sources, files) = (self.sources, &self.files);
        let found = of_files.into_par_iter().map(|(id, changed)| {
            let is_free = changed.len() <= MOST_BLOCKS && !files.contains_key(&id);
            let text = &sources.get(id).text;
            let block =
                |(old, new): &(&Named<T>, Option<&Named<T>>)| NewBlock::of(text, old, (*new)?);
            let blocks: Option<Vec<NewBlock>> =
                is_free.then(|| changed.iter().map(block).collect()).flatten();
            (id, changed, blocks)
        });
        let mut left = Vec::new();
        for (id, changed, blocks) in found.collect::<Vec<_>>() {
            match blocks {
                Some(blocks) => self.blocks.entry(id).or_default().extend(blocks),
                None => left.extend(changed),
            }
        }
        left
    }

    fn done(self) -> Option<ChangedTexts> {
        let Self { sources, mut files, blocks, in_place: _, new, wanted } = self;
        let ids: Vec<FileId> = (0..sources.iter().count()).map(|i| FileId(i as u32)).collect();
        let mut found = Vec::new();
        let parts = new.into_iter().flat_map(|(path, blocks)| match wanted {
            Some(_) => vec![(path, blocks)],
            None => spread(sources, path, blocks),
        });
        for (path, blocks) in parts {
            match ids.iter().find(|id| sources.get(**id).path == path) {
                Some(id) => {
                    let text = &sources.get(*id).text;
                    let file = files.entry(*id).or_insert_with(|| FileEdit::new(text));
                    file.appended.extend(blocks);
                }
                None => found.push((path, blocks.join("\n"))),
            }
        }
        let mut alone = NewBlocks::default();
        for (id, blocks) in blocks {
            let text =
                |block: &NewBlock| Splice { range: block.range.clone(), text: block.text.clone() };
            match files.get_mut(&id) {
                Some(file) => file.splices.extend(blocks.iter().map(text)),
                None => {
                    let source = sources.get(id);
                    let new = spliced(&source.text, blocks.iter().map(text).collect())?;
                    found.push((source.path.clone(), new));
                    alone.add(id, blocks);
                }
            }
        }
        let texts = files.into_par_iter().map(|(id, file)| Some((id, file.done()?)));
        for (id, new) in texts.collect::<Option<Vec<_>>>()? {
            let source = sources.get(id);
            if new != source.text {
                found.push((source.path.clone(), new));
            }
        }
        found.sort();
        Some(ChangedTexts { files: found, blocks: alone })
    }

    /// Puts new tables where their like stand last.
    fn add(&mut self, like: Option<Origin>, blocks: impl IntoIterator<Item = String>) {
        let path = match (self.wanted, like) {
            (Some(wanted), _) => wanted.to_path_buf(),
            (None, Some(like)) => self.sources.get(like.file).path.clone(),
            (None, None) => PathBuf::from(FIRST_FILE),
        };
        self.new.entry(path).or_default().extend(blocks);
    }

    /// Names and patterns that are others where they stood.
    fn words(&mut self, before: &Declarations, after: &Declarations) {
        for (origin, old, new) in changed_words(before, after) {
            let file = self.file(origin.file);
            let range = origin.start as usize..origin.end as usize;
            let text = other_word(&file.document.text[range.clone()], &old, &new);
            file.splices.push(Splice { range, text });
        }
    }

    /// Things under names of their own.
    fn named<T: Thing>(
        &mut self,
        declared: &[Named<T>],
        [before, after]: [&[Named<T>]; 2],
        word: fn(&Named<T>) -> &'static str,
    ) -> Option<()> {
        // Most stand where they stood.
        let mut known: Option<HashMap<Origin, &Named<T>>> = None;
        let by_place = || after.iter().map(|thing| (thing.name.origin, thing)).collect();
        let mut new_of = |i: usize, old: &Named<T>| {
            let place = old.name.origin;
            let same = after.get(i).filter(|new| new.name.origin == place);
            same.or_else(|| known.get_or_insert_with(by_place).get(&place).copied())
        };
        let changed: Vec<Changed<'_, T>> = before
            .iter()
            .enumerate()
            .map(|(i, old)| (old, new_of(i, old)))
            .filter(|(old, new)| *new != Some(*old))
            .collect();
        let changed = self.in_blocks(changed);
        self.change_all(changed, word)?;
        let mut last: HashMap<&'static str, Origin> = HashMap::new();
        let new = |thing: &&Named<T>| thing.name.origin == Origin::default();
        let new: Vec<&Named<T>> = after.iter().filter(new).collect();
        let olds = declared.iter().chain(before).filter(|_| !new.is_empty());
        for old in olds {
            let last = last.entry(word(old)).or_insert(old.name.origin);
            *last = old.name.origin.max(*last);
        }
        for alike in new.chunk_by(|one, other| word(one) == word(other)) {
            let blocks: Vec<String> = alike.par_iter().map(|thing| T::write(thing)).collect();
            self.add(last.get(word(alike[0])).copied(), blocks);
        }
        Some(())
    }

    /// Attachments or ceilings.
    fn tables<T: Tie>(&mut self, key: &'static str, before: &[T], after: &[T]) -> Option<()> {
        let known: HashMap<Origin, &T> =
            after.iter().map(|table| (table.origin(), table)).collect();
        for old in before {
            let origin = old.origin();
            match known.get(&origin) {
                Some(new) if *new == old => {}
                Some(new) => {
                    let file = self.file(origin.file);
                    let mut table =
                        Table { file, path: vec![key], element: Some(origin.start as usize) };
                    for ((key, old), (_, new)) in old.lists().into_iter().zip(new.lists()) {
                        table.names(key, Some(old), Some(new))?;
                    }
                }
                None => self.element_gone(&[key], origin)?,
            }
        }
        let like = before.iter().map(Tie::origin).max();
        // What is left of a table that was taken apart stands next to it.
        let mut last: Option<Origin> = None;
        let last_old = before.last().map(Tie::origin);
        for (i, table) in after.iter().enumerate() {
            if table.origin() != Origin::default() {
                last = Some(table.origin());
                continue;
            }
            let is_old_last = after[i..].iter().all(|one| one.origin() == Origin::default());
            match last.filter(|_| !is_old_last || last != last_old) {
                Some(origin) if self.wanted.is_none() => self.add_after(&[key], origin, table)?,
                _ => self.add(like, [table.block()]),
            }
        }
        Some(())
    }

    fn add_after<T: Tie>(&mut self, path: &[&str], origin: Origin, table: &T) -> Option<()> {
        let file = self.file(origin.file);
        let document = &file.document;
        let start = origin.start as usize;
        let (_, value) = document.element(path, start)?;
        if document.headers_of(value).is_empty() {
            self.add(Some(origin), [table.block()]);
            return Some(());
        }
        let end = document.after_block(start);
        let line_end = document.line_end;
        let block = table.block().replace('\n', line_end);
        let text = match document.text[..end].ends_with('\n') {
            true => format!("{line_end}{block}"),
            false => format!("{line_end}{line_end}{block}"),
        };
        file.splices.push(Splice { range: end..end, text });
        Some(())
    }

    /// A table of an array gone.
    fn element_gone(&mut self, path: &[&str], origin: Origin) -> Option<()> {
        let file = self.file(origin.file);
        let document = &file.document;
        let (at, value) = document.element(path, origin.start as usize)?;
        let splices = match document.headers_of(value)[..] {
            [] => document.shrink(document.get(path)?, &[at]),
            _ => vec![document.block_gone(origin.start as usize)],
        };
        file.splices.extend(splices);
        Some(())
    }

    /// Applications that lose a name.
    fn applications(&mut self, before: &Declarations, after: &Declarations) -> Option<()> {
        for (old, new) in before.applications.iter().zip(&after.applications) {
            if old == new {
                continue;
            }
            let file = self.file(old.name.origin.file);
            let path = vec!["application", old.name.value.as_str()];
            let mut table = Table { file, path, element: None };
            if let (Some(old), Some(new)) = (&old.body.open_to, &new.body.open_to) {
                table.names_at(&["open-to"], &old.value, &new.value)?;
            }
            for ((role, old), (_, new)) in old.body.roles.iter().zip(&new.body.roles) {
                table.names_at(&["roles", &role.value], &old.value, &new.value)?;
            }
        }
        Some(())
    }

    /// Checks, laws and separations that lose a name, or go.
    fn expectations(&mut self, before: &Declarations, after: &Declarations) -> Option<()> {
        type Lists<'d> = Vec<(&'static str, Option<&'d [Spanned<String>]>)>;
        let mut all: Vec<(&'static str, Origin, Lists<'_>, Option<Lists<'_>>)> = Vec::new();
        let checks: HashMap<Origin, _> = after.checks.iter().map(|one| (one.origin, one)).collect();
        for old in &before.checks {
            let new = checks.get(&old.origin).copied();
            if new == Some(old) {
                continue;
            }
            fn lists(one: &bexum_core::declaration::Check) -> Lists<'_> {
                vec![
                    ("who", Some(&one.who.value)),
                    ("on", Some(&one.on.value)),
                    ("also", Some(&one.also)),
                    ("under", Some(&one.under)),
                ]
            }
            all.push(("check", old.origin, lists(old), new.map(lists)));
        }
        let laws: HashMap<Origin, _> = after.laws.iter().map(|one| (one.origin, one)).collect();
        for old in &before.laws {
            let new = laws.get(&old.origin).copied();
            if new == Some(old) {
                continue;
            }
            fn lists(one: &bexum_core::declaration::Law) -> Lists<'_> {
                let except = one.except.as_ref().map(|list| &list.value[..]);
                vec![("who", Some(&one.who.value)), ("except", except), ("on", Some(&one.on.value))]
            }
            all.push((old.claim.word(), old.origin, lists(old), new.map(lists)));
        }
        let separations: HashMap<Origin, _> =
            after.separations.iter().map(|one| (one.origin, one)).collect();
        for old in &before.separations {
            let new = separations.get(&old.origin).copied();
            if new == Some(old) {
                continue;
            }
            fn lists(one: &bexum_core::declaration::Separation) -> Lists<'_> {
                let at = one.at.as_ref().map(|list| &list.value[..]);
                vec![("any-two-of", Some(&one.any_two_of.value)), ("at", at)]
            }
            all.push(("apart", old.origin, lists(old), new.map(lists)));
        }
        for (key, origin, old, new) in all {
            let Some(new) = new else {
                self.element_gone(&[key], origin)?;
                continue;
            };
            let file = self.file(origin.file);
            let mut table = Table { file, path: vec![key], element: Some(origin.start as usize) };
            for ((key, old), (_, new)) in old.into_iter().zip(new) {
                table.names(key, old, new)?;
            }
        }
        Some(())
    }
}

/// Tables of a file, and those that are too many for it with files of their own beside it.
fn spread(sources: &Sources, path: PathBuf, blocks: Vec<String>) -> Vec<(PathBuf, Vec<String>)> {
    let mut parts: Vec<Vec<String>> = Vec::new();
    let mut size = 0;
    for block in blocks {
        // An empty line keeps it apart.
        let more = block.len() + 1;
        match parts.last_mut().filter(|_| size + more <= MOST_NEW) {
            Some(part) => {
                size += more;
                part.push(block);
            }
            None => {
                size = more;
                parts.push(vec![block]);
            }
        }
    }
    let beside = (2..).map(|number| {
        let mut name = path.with_extension("").into_os_string();
        name.push(format!("-{number:03}.toml"));
        PathBuf::from(name)
    });
    let free = beside.filter(|path| sources.find(path).is_none()).take(parts.len());
    let free: Vec<PathBuf> = free.collect();
    std::iter::once(path).chain(free).zip(parts).collect()
}

/// Something of which tables stand in an array at the top of files.
trait Tie: PartialEq {
    fn origin(&self) -> Origin;
    fn block(&self) -> String;
    /// Its lists by key; one that is not written is empty.
    fn lists(&self) -> Vec<(&'static str, &[Spanned<String>])>;
}

impl Tie for Attachment {
    fn origin(&self) -> Origin {
        self.origin
    }

    fn block(&self) -> String {
        written::attachment(self)
    }

    fn lists(&self) -> Vec<(&'static str, &[Spanned<String>])> {
        vec![("policy", &self.policy.value), ("to", &self.to.value), ("at", &self.at.value)]
    }
}

impl Tie for Ceiling {
    fn origin(&self) -> Origin {
        self.origin
    }

    fn block(&self) -> String {
        written::ceiling(self)
    }

    fn lists(&self) -> Vec<(&'static str, &[Spanned<String>])> {
        let mut lists: Vec<(&'static str, &[Spanned<String>])> =
            vec![("policy", &self.policy.value)];
        lists.extend(self.over.iter().map(|over| ("over", &over.value[..])));
        lists.extend(self.bound.iter().map(|bound| ("for", &bound.value[..])));
        lists
    }
}

/// A string with another text in it, in the quotes that it had where these will do.
fn other_word(literal: &str, old: &str, new: &str) -> String {
    for quotes in ["\"\"\"", "'''", "\"", "'"] {
        let Some(body) = literal.strip_prefix(quotes).and_then(|rest| rest.strip_suffix(quotes))
        else {
            continue;
        };
        // A line break right after the opening quotes of a text of several lines is no part of it.
        let trimmed = match quotes.len() {
            3 => body.strip_prefix("\r\n").or(body.strip_prefix('\n')).unwrap_or(body),
            _ => body,
        };
        let before = &body[..body.len() - trimmed.len()];
        let same_lines = trimmed.replace("\r\n", "\n") == old.replace("\r\n", "\n");
        let fits = !new.contains('\\')
            && !new.contains(&quotes[..1])
            && (quotes.len() == 3 || !new.contains(char::is_control));
        if same_lines && fits {
            return format!("{quotes}{before}{new}{quotes}");
        }
        break;
    }
    quoted(new)
}
