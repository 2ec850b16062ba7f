//! What a change does, for a comment on it where changes are talked over: the answer, a short table,
//! the rest folded away.

use super::impact::{Told, left_out};
use super::style::safe;

/// Rows of the table that are not folded away.
const SHOWN: usize = 8;

impl Told<'_> {
    /// As Markdown, with HTML where that has no words of its own.
    pub(crate) fn markdown(&self) -> String {
        let [before, after] = self.names.map(code);
        let about = format!("From {before} to {after}, as of {}.", self.second());
        let mut out = format!("**{}**\n\n{about}\n", self.answer());
        for line in self.renamed_lines() {
            out.push_str(&format!("\n{}\n", code(&line)));
        }
        let rows = self.rows();
        let (first, rest) = rows.split_at(rows.len().min(SHOWN));
        if !first.is_empty() {
            out.push_str(&format!("\n{HEAD}{}", first.concat()));
        }
        if !rest.is_empty() {
            let title = format!("{} more", rest.len());
            out.push_str(&folded(&title, &format!("{HEAD}{}", rest.concat())));
        }
        let others: String =
            self.besides.iter().map(|other| format!("- {}\n", code(&other.answer()))).collect();
        if !others.is_empty() {
            out.push_str(&format!("\nIn other circumstances:\n\n{others}"));
        }
        let later: String = self.later_lines().iter().map(|line| format!("- {line}\n")).collect();
        if !later.is_empty() {
            out.push_str(&format!("\nLater:\n\n{later}"));
        }
        if let Some(log) = self.in_log {
            let line =
                |group: &super::impact_besides::LogGroup| format!("- {}\n", code(&group.told()));
            let lines: String = log.groups.iter().take(SHOWN).map(line).collect();
            out.push_str(&format!("\nIn the log, {}.\n\n{lines}", log.sum()));
        }
        if !self.turned.is_empty() {
            let line = |one: &super::impact_besides::Turned| {
                let mark = if one.is_broken { "**" } else { "" };
                format!("- {mark}{}{mark}: {} ({})\n", one.change(), code(&one.what), code(&one.at))
            };
            let lines: String = self.turned.iter().map(line).collect();
            out.push_str(&format!("\nExpectations:\n\n{lines}"));
        }
        if let count @ 1.. = self.differing.len() {
            let line = |one: super::impact::Changed<'_>| {
                format!("- {}: {} ({})\n", code(&one.thing()), one.what(), code(&one.places()))
            };
            let lines: String = self.changes().map(line).collect();
            out.push_str(&folded(&format!("What was changed ({count})"), &lines));
        }
        out
    }

    fn rows(&self) -> Vec<String> {
        let mut rows = Vec::new();
        for (title, cells) in self.parts() {
            let (blocks, left) = self.blocks_of(&cells);
            for block in blocks {
                for ((level, before, after, actions), places) in block.lines {
                    let actions: Vec<String> = actions.iter().map(|name| code(name)).collect();
                    rows.push(format!(
                        "| {title} | {} | {} | {} → {}: {} | {} |\n",
                        self.codes(&block.names),
                        level.0.word(),
                        before.word(),
                        after.word(),
                        actions.join(", "),
                        self.codes(&places),
                    ));
                }
            }
            if let Some(more) = left_out(&left) {
                rows.push(format!("| {title} | {more} | | | |\n"));
            }
        }
        rows
    }

    fn codes(&self, all: &[String]) -> String {
        let all: Vec<String> = all.iter().map(|one| code(one)).collect();
        self.some(&all, ", ")
    }
}

const HEAD: &str = "| | who | level | what | where |\n| --- | --- | --- | --- | --- |\n";

pub(super) fn folded(title: &str, body: &str) -> String {
    format!("\n<details><summary>{title}</summary>\n\n{body}\n</details>\n")
}

/// Names that anybody could have written, as they are: nothing in them is markup, and none ends a
/// table's field.
pub(super) fn code(text: &str) -> String {
    let mut shown = String::from("<code>");
    for c in safe(text).chars() {
        match c {
            '&' => shown.push_str("&amp;"),
            '<' => shown.push_str("&lt;"),
            '>' => shown.push_str("&gt;"),
            // Markdown reads these even there.
            '|' | '*' | '_' | '`' | '[' | ']' | '\\' | '~' | '@' | '#' | '!' => {
                shown.push_str(&format!("&#{};", c as u32));
            }
            c => shown.push(c),
        }
    }
    shown + "</code>"
}
