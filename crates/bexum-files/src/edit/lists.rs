//! Lists as they are written: on one line or on several, with comments, or one text for a list of one.

use std::ops::Range;

use super::document::{Document, Splice, Value};

impl Document<'_> {
    /// Puts elements at the end of a list, or makes a list of one text.
    pub(super) fn extend(&self, value: &Value<'_>, more: &[String]) -> Splice {
        let span = value.span();
        let Some(list) = value.get_ref().as_array() else {
            let old = &self.text[span.clone()];
            let text = format!("[{old}, {}]", more.join(", "));
            return Splice { range: span, text };
        };
        let Some(last) = list.iter().last() else {
            let start = span.start + 1;
            return Splice { range: start..start, text: more.join(", ") };
        };
        let end = last.span().end;
        let comma = self.comma_after(end, span.end);
        let own_line = self.stands_alone(last.span().start);
        let Some(indent) = own_line else {
            let at = end;
            return Splice { range: at..at, text: format!(", {}", more.join(", ")) };
        };
        // Each on a line of its own, after the comment that the last one may have.
        let ends_with_comma = comma.is_some();
        let from = comma.map_or(end, |comma| comma + 1);
        let line = self.text[from..].find('\n').map_or(self.text.len(), |at| from + at);
        let line = if self.text[..line].ends_with('\r') { line - 1 } else { line };
        let line = line.min(span.end - 1);
        let mut text = String::new();
        if !ends_with_comma {
            text.push(',');
        }
        text.push_str(&self.text[from..line]);
        for (i, one) in more.iter().enumerate() {
            let comma = if ends_with_comma || i + 1 < more.len() { "," } else { "" };
            text.push_str(&format!("{}{indent}{one}{comma}", self.line_end));
        }
        Splice { range: from..line, text }
    }

    /// The comma that follows a byte before another, past white space and comments.
    fn comma_after(&self, at: usize, limit: usize) -> Option<usize> {
        let mut at = at;
        while at < limit {
            match self.text.as_bytes()[at] {
                b',' => return Some(at),
                b'#' => at = self.line_after(at),
                b' ' | b'\t' | b'\r' | b'\n' => at += 1,
                _ => return None,
            }
        }
        None
    }

    /// The white space before something that is the first on its line.
    fn stands_alone(&self, at: usize) -> Option<&str> {
        let before = &self.text[self.line_start(at)..at];
        before.chars().all(|c| c == ' ' || c == '\t').then_some(before)
    }

    /// Takes elements out of a list; of one text that is no list, it makes an empty one.
    pub(super) fn shrink(&self, value: &Value<'_>, gone: &[usize]) -> Vec<Splice> {
        let span = value.span();
        let Some(list) = value.get_ref().as_array() else {
            return vec![Splice { range: span, text: "[]".to_owned() }];
        };
        let spans: Vec<Range<usize>> = list.iter().map(toml::Spanned::span).collect();
        let mut splices = Vec::new();
        let mut at = 0;
        while at < spans.len() {
            // Those that go one after the other go together.
            let next = (at..spans.len()).find(|i| !gone.contains(i)).unwrap_or(spans.len());
            if next > at {
                splices.extend(self.elements_gone(&spans, at..next, span.end));
            }
            at = next + 1;
        }
        splices
    }

    fn elements_gone(
        &self,
        spans: &[Range<usize>],
        gone: Range<usize>,
        list_end: usize,
    ) -> Vec<Splice> {
        let lines: Option<Vec<Range<usize>>> =
            spans[gone.clone()].iter().map(|span| self.own_lines(span, list_end)).collect();
        let cut = |range| Splice { range, text: String::new() };
        if let Some(lines) = lines {
            return lines.into_iter().map(cut).collect();
        }
        let (first, last) = (&spans[gone.start], &spans[gone.end - 1]);
        vec![cut(match (spans.get(gone.end), gone.start) {
            (Some(next), _) => first.start..next.start,
            (None, 0) => {
                let comma = self.comma_after(last.end, list_end);
                first.start..comma.map_or(last.end, |comma| comma + 1)
            }
            (None, start) => spans[start - 1].end..last.end,
        })]
    }

    /// The lines of an element that stands on lines of its own, with its comma and its comment.
    fn own_lines(&self, span: &Range<usize>, list_end: usize) -> Option<Range<usize>> {
        self.stands_alone(span.start)?;
        let comma = self.comma_after(span.end, self.line_after(span.end - 1));
        let end = comma.map_or(span.end, |comma| comma + 1);
        let line_end = self.line_after(end - 1);
        let rest = self.text[end..line_end].trim();
        let is_own = (rest.is_empty() || rest.starts_with('#')) && line_end <= list_end;
        is_own.then(|| self.line_start(span.start)..line_end)
    }
}
