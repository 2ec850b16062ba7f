//! Quotes in tables, which the reader of CSV is lenient about: a quote that nothing closes would make one
//! cell of all rows below it, and what these say would seem not to be said.

use memchr::memchr;

/// Where the quotes of a table went wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BadQuote {
    /// The line, from 1, on which the cell starts.
    pub line: usize,
    /// Why, in words.
    pub why: &'static str,
}

/// The first cell that starts with a quote and is not closed by one that a comma, the end of a line or the
/// end of the file follows (RFC 4180, section 2).
#[must_use]
pub fn bad_quote(text: &[u8]) -> Option<BadQuote> {
    let text = text.strip_prefix("\u{feff}".as_bytes()).unwrap_or(text);
    let mut line = 1;
    let mut at = 0;
    let mut is_cell_start = true;
    while let Some(&byte) = text.get(at) {
        at += 1;
        if is_cell_start && byte == b'"' {
            let bad = |why| Some(BadQuote { line, why });
            let Some(length) = quoted(&text[at..]) else {
                return bad("no quote closes this cell: the file may be cut off");
            };
            let cell = &text[at..at + length];
            at += length;
            if !matches!(text.get(at), None | Some(b',' | b'\n' | b'\r')) {
                return bad("something follows the quote that closes a cell");
            }
            line += cell.iter().filter(|byte| **byte == b'\n').count();
            is_cell_start = false;
            continue;
        }
        line += usize::from(byte == b'\n');
        is_cell_start = matches!(byte, b',' | b'\n' | b'\r');
    }
    None
}

/// The length of a cell up to and with the quote that closes it; two quotes stand for one.
fn quoted(text: &[u8]) -> Option<usize> {
    let mut at = 0;
    loop {
        at += memchr(b'"', &text[at..])? + 1;
        match text.get(at) {
            Some(b'"') => at += 1,
            _ => return Some(at),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::bad_quote;

    fn line(text: &str) -> Option<usize> {
        bad_quote(text.as_bytes()).map(|bad| bad.line)
    }

    #[test]
    fn quotes_are_closed_where_a_cell_ends() {
        for sound in
            ["", "a,b\n", "\"\"", "\"a\"\"b\",c\r\n\"d\ne\"\n", "a\"b,c\"\n", "\u{feff}\"a\"\n"]
        {
            assert_eq!(line(sound), None, "{sound}");
        }
        for (bad, at) in [
            ("\"", 1),
            ("\"\"\"", 1),
            ("a,\"b\nc\n", 1),
            ("a\n\"b\nc\",\"d\n", 3),
            ("a\n\"b\"c\n", 2),
            ("a\r\"b\" ,\n", 1),
            ("\u{feff}\"a\n", 1),
        ] {
            assert_eq!(line(bad), Some(at), "{bad}");
        }
    }

    proptest! {
        /// What a writer of CSV writes is sound, and cut off within a cell in quotes it is not.
        #[test]
        fn what_is_written_is_sound(
            rows in prop::collection::vec(prop::collection::vec("[a\",\n\r ]{0,4}", 3), 1..5),
            at: prop::sample::Index,
        ) {
            let mut writer = csv::WriterBuilder::new().from_writer(Vec::new());
            rows.iter().for_each(|row| writer.write_record(row).expect("it is written"));
            let text = writer.into_inner().expect("it is written");
            prop_assert_eq!(bad_quote(&text), None);
            let cut = &text[..at.index(text.len() + 1)];
            // All quotes come in pairs, so that an odd number leaves a cell open.
            let is_open = cut.iter().filter(|byte| **byte == b'"').count() % 2 == 1;
            prop_assert_eq!(bad_quote(cut).is_some(), is_open);
        }
    }
}
