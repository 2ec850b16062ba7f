//! An edit before it is written: what changes in the files, and what that does.

use std::collections::HashMap;
use std::path::Path;

use rayon::prelude::*;
use similar::udiff::UnifiedHunkHeader;
use similar::{Algorithm, DiffOp, DiffTag, capture_diff_slices, group_diff_ops};

use super::report::wrap_under;
use super::style::{self, paint, safe};

/// A file's change, as a unified diff.
pub(crate) fn diff(path: &Path, old: Option<&str>, new: &str) -> String {
    let path = path.display();
    let from = if old.is_some() { format!("a/{path}") } else { "/dev/null".to_owned() };
    let mut out = format!("--- {from}\n+++ b/{path}\n");
    let whole = old.unwrap_or_default();
    let mut around = 4 * LINES_AROUND;
    let (middle, old, new, changes) = loop {
        let middle = differing(whole, new, around);
        let old: Vec<&str> = whole[middle.start..middle.old].split_inclusive('\n').collect();
        let new: Vec<&str> = new[middle.start..middle.new].split_inclusive('\n').collect();
        let changes = match old.len().min(new.len()) {
            ..MANY_LINES => None,
            _ => changes_by_tables(&old, &new),
        };
        let changes = changes.unwrap_or_else(|| changes_of(&old, &new));
        // What goes or comes beside lines that are like it may be said to do so further up or down.
        let shows_enough = |part: Option<&DiffOp>| match part {
            Some(DiffOp::Equal { len, .. }) => *len >= LINES_AROUND,
            _ => false,
        };
        let is_amid = (middle.start == 0 || shows_enough(changes.first()))
            && (middle.old == whole.len() || shows_enough(changes.last()));
        if is_amid {
            break (middle, old, new, changes);
        }
        around *= 8;
    };
    let lines_above = memchr::memchr_iter(b'\n', &whole.as_bytes()[..middle.start]).count();
    for hunk in group_diff_ops(changes, LINES_AROUND) {
        let in_file: Vec<DiffOp> =
            hunk.iter().map(|part| moved(*part, (lines_above, lines_above))).collect();
        out.push_str(&format!("{}\n", UnifiedHunkHeader::new(&in_file)));
        for part in hunk {
            let (tag, in_old, in_new) = part.as_tag_tuple();
            match tag {
                DiffTag::Equal => push_lines(&mut out, " ", &old[in_old]),
                _ => {
                    push_lines(&mut out, "-", &old[in_old]);
                    push_lines(&mut out, "+", &new[in_new]);
                }
            }
        }
    }
    out
}

/// Lines beyond which a text is compared table by table: the time that it takes as a whole grows with the lines
/// and with how many of them differ.
const MANY_LINES: usize = 1000;

fn changes_of(old: &[&str], new: &[&str]) -> Vec<DiffOp> {
    // Lines are compared as they are: where few of many differ, to number the same ones takes longer.
    capture_diff_slices(Algorithm::Myers, old, new)
}

/// The changes from one text to another, which are parted at the headers of tables that stand once in each;
/// `None` where these are in another order.
fn changes_by_tables(old: &[&str], new: &[&str]) -> Option<Vec<DiffOp>> {
    let headers = [old, new].map(|lines| {
        let mut places: HashMap<&str, Option<usize>> = HashMap::new();
        for (at, line) in lines.iter().enumerate().filter(|(_, line)| line.starts_with('[')) {
            places.entry(line).and_modify(|place| *place = None).or_insert(Some(at));
        }
        places
    });
    let once = |all: &HashMap<&str, Option<usize>>, line: &str| all.get(line).copied().flatten();
    let cuts = old.iter().enumerate().filter_map(|(at, line)| {
        let at = once(&headers[0], line).filter(|place| *place == at)?;
        Some((at, once(&headers[1], line)?))
    });
    let cuts: Vec<(usize, usize)> = cuts.chain([(old.len(), new.len())]).collect();
    let mut changes: Vec<DiffOp> = Vec::new();
    let mut from = (0, 0);
    for until in cuts {
        let part = new.get(from.1..until.1)?;
        for change in changes_of(&old[from.0..until.0], part) {
            add_change(&mut changes, moved(change, from));
        }
        from = until;
    }
    Some(changes)
}

/// Adds a change; lines that are the same on both sides of a cut are told as one.
fn add_change(changes: &mut Vec<DiffOp>, change: DiffOp) {
    match (changes.last_mut(), change) {
        (Some(DiffOp::Equal { len, .. }), DiffOp::Equal { len: more, .. }) => *len += more,
        _ => changes.push(change),
    }
}

fn push_lines(out: &mut String, sign: &str, lines: &[&str]) {
    for line in lines {
        out.push_str(sign);
        out.push_str(line);
        if !line.ends_with('\n') {
            out.push_str("\n\\ No newline at end of file\n");
        }
    }
}

/// Lines without change that are shown around one.
const LINES_AROUND: usize = 3;

/// Where two texts differ, in whole lines and with some lines around: from the first byte to one past the
/// last in each.
struct Differing {
    start: usize,
    old: usize,
    new: usize,
}

fn differing(old: &str, new: &str, around: usize) -> Differing {
    let (a, b) = (old.as_bytes(), new.as_bytes());
    let whole = BYTES * same_first(a.chunks_exact(BYTES).zip(b.chunks_exact(BYTES)));
    let mut start = whole + same_first(a[whole..].iter().zip(&b[whole..]));
    for _ in 0..=around {
        start = memchr::memrchr(b'\n', &a[..start]).unwrap_or(0);
    }
    // Behind the line end that was found last.
    start += usize::from(start > 0);
    let (rest_old, rest_new) = (&a[start..], &b[start..]);
    let parts = rest_old.rchunks_exact(BYTES).zip(rest_new.rchunks_exact(BYTES));
    let whole = BYTES * same_first(parts);
    let rest_old = &rest_old[..rest_old.len() - whole];
    let rest_new = &rest_new[..rest_new.len() - whole];
    let last = whole + same_first(rest_old.iter().rev().zip(rest_new.iter().rev()));
    let mut end = a.len() - last;
    for _ in 0..=around {
        end = memchr::memchr(b'\n', &a[end..]).map_or(a.len(), |at| end + at + 1);
    }
    Differing { start, old: end, new: b.len() - (a.len() - end) }
}

/// Bytes that are compared at once.
const BYTES: usize = 1024;

/// How many of the first pairs are the same.
fn same_first<T: PartialEq>(pairs: impl Iterator<Item = (T, T)>) -> usize {
    pairs.take_while(|(one, other)| one == other).count()
}

/// A part of a diff of texts that stand below so many lines of each.
fn moved(part: DiffOp, (above_old, above_new): (usize, usize)) -> DiffOp {
    let (tag, old, new) = part.as_tag_tuple();
    let (old_index, new_index) = (old.start + above_old, new.start + above_new);
    let (old_len, new_len) = (old.len(), new.len());
    match tag {
        DiffTag::Equal => DiffOp::Equal { old_index, new_index, len: old_len },
        DiffTag::Delete => DiffOp::Delete { old_index, old_len, new_index },
        DiffTag::Insert => DiffOp::Insert { old_index, new_index, new_len },
        DiffTag::Replace => DiffOp::Replace { old_index, old_len, new_index, new_len },
    }
}

/// All that is told of edits.
pub(crate) struct Shown<'s> {
    pub(crate) notes: &'s [String],
    pub(crate) diffs: &'s [String],
    /// As `impact` tells it.
    pub(crate) impact: &'s str,
    /// Why it is not to be written.
    pub(crate) refused: Option<&'s str>,
    /// Why it is written all the same.
    pub(crate) despite: Option<&'s str>,
    pub(crate) is_written: bool,
    pub(crate) asks_to_write: bool,
}

impl Shown<'_> {
    pub(crate) fn text(&self, width: usize) -> String {
        let mut out = String::new();
        for note in self.notes {
            wrap_under(&mut out, "note: ", "      ", &safe(note), width);
        }
        if self.diffs.is_empty() {
            out.push_str("nothing changes in the files\n");
            return out;
        }
        if !out.is_empty() {
            out.push('\n');
        }
        let painted: Vec<String> = self.diffs.par_iter().map(|diff| painted(diff)).collect();
        out.push_str(&painted.concat());
        out.push('\n');
        out.push_str(self.impact);
        out.push('\n');
        let end = match (self.is_written, self.refused) {
            (true, _) => match self.despite {
                Some(reason) => format!("written, despite what breaks: {reason}"),
                None => "written".to_owned(),
            },
            (false, Some(why)) if self.asks_to_write => format!("nothing was written: {why}"),
            (false, Some(why)) => {
                format!("nothing was written, and `--write` would be refused: {why}")
            }
            (false, None) => "nothing was written; add `--write`".to_owned(),
        };
        wrap_under(&mut out, "", "  ", &paint(style::HEADING, &safe(&end)), width);
        out
    }
}

/// A diff as a terminal shows it.
fn painted(diff: &str) -> String {
    if style::is_plain() && style::passes(diff) {
        return diff.to_owned();
    }
    let mut out = String::with_capacity(diff.len());
    for line in diff.lines() {
        let style = match line.as_bytes().first() {
            _ if line.starts_with("---") || line.starts_with("+++") => style::HEADING,
            Some(b'+') => style::ALLOW,
            Some(b'-') => style::DENY,
            Some(b'@') => style::QUIET,
            _ => anstyle::Style::new(),
        };
        out.push_str(&paint(style, &safe(line)));
        out.push('\n');
    }
    out
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use proptest::prelude::*;
    use similar::{ChangeTag, DiffOp, DiffTag, TextDiff};

    use super::{changes_by_tables, diff};

    /// What a diff of one file makes of a text.
    fn applied(old: &str, diff: &str) -> String {
        let old: Vec<&str> = old.split_inclusive('\n').collect();
        let (mut new, mut at) = (String::new(), 0);
        let mut lines = diff.split_inclusive('\n').skip(2).peekable();
        while let Some(line) = lines.next() {
            if let Some(ranges) = line.strip_prefix("@@ -") {
                let (start, rest) = ranges.split_once([',', ' ']).expect("a range");
                let is_empty = rest.starts_with("0 ");
                let start: usize = start.parse().expect("a number");
                let start = if is_empty { start } else { start - 1 };
                new.extend(old[at..start].iter().copied());
                at = start;
                continue;
            }
            let (sign, text) = line.split_at(1);
            let is_unended = lines.next_if(|next| next.starts_with('\\')).is_some();
            let text = if is_unended { text.strip_suffix('\n').expect("a line") } else { text };
            if sign != "+" {
                assert_eq!(old[at], text, "{diff}");
                at += 1;
            }
            if sign != "-" {
                new.push_str(text);
            }
        }
        new.extend(old[at..].iter().copied());
        new
    }

    fn changed_lines(diff: &str) -> usize {
        diff.lines().skip(2).filter(|line| line.starts_with(['+', '-'])).count()
    }

    /// A text of many lines that are often alike, and some places at which others stand then.
    fn texts() -> impl Strategy<Value = (String, String)> {
        let lines = |most| prop::collection::vec("[ab]{0,2}", 0..most);
        let changes =
            prop::collection::vec((any::<prop::sample::Index>(), 0..3usize, lines(3)), 0..4);
        (lines(60), changes, any::<[bool; 2]>(), 0..3usize).prop_map(
            |(lines, changes, ended, wide)| {
                let mut new = lines.clone();
                for (at, gone, more) in changes {
                    let at = at.index(new.len() + 1);
                    let end = (at + gone).min(new.len());
                    new.splice(at..end, more);
                }
                let text = |lines: &[String], is_ended: bool| {
                    let lines: Vec<String> =
                        lines.iter().map(|line| line.repeat(1 + 400 * wide)).collect();
                    let end = if is_ended && !lines.is_empty() { "\n" } else { "" };
                    lines.join("\n") + end
                };
                (text(&lines, ended[0]), text(&new, ended[1]))
            },
        )
    }

    /// A text of tables, each with lines that are often alike; some are gone then, and some have others.
    fn tables() -> impl Strategy<Value = (String, String)> {
        let lines = || prop::collection::vec("[ab]?", 0..4);
        let name = prop_oneof![4 => "[a-h]", 1 => Just("twice".to_owned())];
        let tables = prop::collection::vec((name, lines(), prop::option::of(lines()), 0..6), 0..12);
        tables.prop_map(|tables| {
            let (mut old, mut new) = (String::new(), String::new());
            for (name, lines, others, odd) in tables {
                let table = |lines: &[String]| {
                    let lines: String = lines.iter().map(|line| format!("{line}\n")).collect();
                    format!("[{name}]\n{lines}\n")
                };
                let then = table(others.as_ref().unwrap_or(&lines));
                match odd {
                    0 => new.push_str(&then),
                    1 => old.push_str(&table(&lines)),
                    2 => {
                        old.push_str(&table(&lines));
                        new.insert_str(0, &then);
                    }
                    _ => {
                        old.push_str(&table(&lines));
                        new.push_str(&then);
                    }
                }
            }
            (old, new)
        })
    }

    proptest! {
        /// Parted at the headers of tables, a diff still makes the new text of the old one.
        #[test]
        fn a_diff_by_tables_is_what_differs((old, new) in tables()) {
            let [old, new] = [&old, &new].map(|text| text.split_inclusive('\n').collect::<Vec<_>>());
            let Some(changes) = changes_by_tables(&old, &new) else { return Ok(()) };
            let (mut made, mut at) = (Vec::new(), 0);
            for change in &changes {
                let (tag, in_old, in_new) = change.as_tag_tuple();
                prop_assert_eq!((in_old.start, in_new.start), (at, made.len()), "{:?}", changes);
                if tag == DiffTag::Equal {
                    prop_assert_eq!(&old[in_old.clone()], &new[in_new.clone()]);
                }
                at = in_old.end;
                made.extend(&new[in_new]);
            }
            prop_assert_eq!((made, at), (new, old.len()), "{:?}", changes);
            let is_equal = |change: &DiffOp| change.tag() == DiffTag::Equal;
            prop_assert!(!changes.windows(2).any(|two| two.iter().all(is_equal)), "{:?}", changes);
        }
    }

    /// Where each of many tables gets a line, that is all that is told; in whatever order they stand.
    #[test]
    fn many_tables_are_compared_each_with_itself() {
        let table = |i: usize, more: &str| format!("[user.u{i}]\nfull-name = 'U'\n{more}\n");
        let all = |more: &str| (0..600).map(|i| table(i, more)).collect::<String>();
        let (old, new) = (all(""), all("source = 'office'\n"));
        let shown = diff(Path::new("f"), Some(&old), &new);
        assert_eq!(applied(&old, &shown), new);
        assert_eq!(changed_lines(&shown), 600);
        let turned: String = (0..600).rev().map(|i| table(i, "")).collect();
        let shown = diff(Path::new("f"), Some(&old), &turned);
        assert_eq!(applied(&old, &shown), turned);
    }

    proptest! {
        /// A diff makes the new text of the old one, and changes no more lines than another does.
        #[test]
        fn a_diff_is_what_differs((old, new) in texts()) {
            let shown = diff(Path::new("f"), Some(&old), &new);
            prop_assert_eq!(applied(&old, &shown), new.clone(), "{}", shown);
            let other = TextDiff::from_lines(old.as_str(), new.as_str());
            let changes = other.iter_all_changes().filter(|one| one.tag() != ChangeTag::Equal);
            prop_assert_eq!(changed_lines(&shown), changes.count(), "{}", shown);
            // As many lines are shown around them as of the whole files.
            let other = other.unified_diff().context_radius(3).header("a/f", "b/f").to_string();
            let is_none = if old == new { 2 } else { 0 };
            prop_assert_eq!(shown.lines().count() - is_none, other.lines().count(), "{}", shown);
        }
    }
}
