//! Lines of text, wrapped to a width, with a quiet note at their end where it fits.

use super::report::wrap_under;
use super::style::{self, paint, safe};

/// Text under construction.
pub(crate) struct Page {
    out: String,
    width: usize,
}

impl Page {
    pub(crate) fn new(width: usize) -> Self {
        Self { out: String::new(), width }
    }

    pub(crate) fn blank(&mut self) {
        self.out.push('\n');
    }

    /// A heading of a section, after an empty line.
    pub(crate) fn heading(&mut self, text: &str) {
        self.blank();
        self.out.push_str(&paint(style::HEADING, text));
        self.out.push('\n');
    }

    /// A line at an indent; what does not fit goes on two columns further in.
    pub(crate) fn line(&mut self, indent: usize, text: &str) {
        let first = " ".repeat(indent);
        let rest = " ".repeat(indent + 2);
        wrap_under(&mut self.out, &first, &rest, text, self.width);
    }

    /// A line after a mark, under which it goes on.
    pub(crate) fn marked(&mut self, mark: &str, text: &str) {
        let rest = " ".repeat(textwrap::core::display_width(mark) + 1);
        let first = format!("{} ", paint(style::HEADING, mark));
        wrap_under(&mut self.out, &first, &rest, text, self.width);
    }

    /// A line with a note: at its end if both fit, else under it.
    pub(crate) fn noted(&mut self, indent: usize, text: &str, note: &str) {
        let note = &safe(note);
        let used = indent + textwrap::core::display_width(text) + 2;
        let note_width = textwrap::core::display_width(note);
        if used + note_width <= self.width {
            self.line(indent, &format!("{text}  {}", paint(style::QUIET, note)));
        } else {
            self.line(indent, text);
            self.line(indent + 2, &paint(style::QUIET, note));
        }
    }

    /// A command to paste, on one line however narrow the page is.
    pub(crate) fn command(&mut self, indent: usize, command: &str) {
        let prompt = paint(style::QUIET, "$");
        self.out.push_str(&format!("{:indent$}{prompt} {command}\n", ""));
    }

    /// Lines that are laid out already, further in.
    pub(crate) fn block(&mut self, indent: usize, text: &str) {
        for line in text.lines() {
            if !line.is_empty() {
                self.out.push_str(&" ".repeat(indent));
                self.out.push_str(line);
            }
            self.out.push('\n');
        }
    }

    pub(crate) fn finish(self) -> String {
        self.out
    }
}
