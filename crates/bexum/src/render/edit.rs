//! An edit before it is written: what changes in the files, and what that does.

use std::path::Path;

use similar::TextDiff;

use super::report::wrap_under;
use super::style::{self, paint, safe};

/// A file's change, as a unified diff.
pub(crate) fn diff(path: &Path, old: Option<&str>, new: &str) -> String {
    let path = path.display();
    let from = if old.is_some() { format!("a/{path}") } else { "/dev/null".to_owned() };
    let text = TextDiff::from_lines(old.unwrap_or_default(), new);
    text.unified_diff().context_radius(3).header(&from, &format!("b/{path}")).to_string()
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
        for diff in self.diffs {
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
        }
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
