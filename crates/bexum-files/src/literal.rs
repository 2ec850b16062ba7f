//! From a byte range of a decoded TOML string back to the bytes of its literal.

use std::ops::Range;

/// The part of the literal `raw` (quotes and escapes as written) that stands for the bytes
/// `start..end` of the string it decodes to. What cannot be traced becomes the whole literal.
pub(crate) fn locate(raw: &str, start: usize, end: usize) -> Range<usize> {
    let multi_line = raw.starts_with("\"\"\"") || raw.starts_with("'''");
    let quotes = if multi_line { 3 } else { 1 };
    let is_cut = raw.len() < quotes * 2 || !raw.is_char_boundary(raw.len() - quotes);
    if is_cut {
        return 0..raw.len();
    }
    let escapes = raw.starts_with('"');
    let close = raw.len() - quotes;
    let mut at = quotes;
    if multi_line {
        // A line end right after the opening quotes is no part of the string.
        let body = &raw[at..];
        at += if body.starts_with("\r\n") { 2 } else { usize::from(body.starts_with('\n')) };
    }
    let mut decoded = 0;
    let mut first = None;
    while at < close {
        if first.is_none() && decoded >= start {
            first = Some(at);
        }
        if decoded >= end && first.is_some() {
            break;
        }
        // A wrong escape may claim part of a character.
        let Some(c) = raw.get(at..).and_then(|left| left.chars().next()) else {
            at += 1;
            continue;
        };
        if !escapes || c != '\\' {
            decoded += c.len_utf8();
            at += c.len_utf8();
            continue;
        }
        let (length, stands_for) = escape(&raw[at..close]);
        at = (at + length).min(close);
        decoded += stands_for;
    }
    let border = |at: usize| (0..=at.min(close)).rev().find(|at| raw.is_char_boundary(*at));
    let first = border(first.unwrap_or(at)).unwrap_or(0);
    let next = raw[first..close].chars().next().map_or(0, char::len_utf8);
    first..border(at).unwrap_or(0).max(first + next)
}

/// The bytes that an escape takes, and the bytes that it stands for.
fn escape(text: &str) -> (usize, usize) {
    let hex = |digits: usize| {
        let code = text.get(2..2 + digits).and_then(|hex| u32::from_str_radix(hex, 16).ok());
        (2 + digits, code.and_then(char::from_u32).map_or(1, char::len_utf8))
    };
    match text.as_bytes().get(1) {
        Some(b'u') => hex(4),
        Some(b'U') => hex(8),
        Some(b'x') => hex(2),
        Some(b' ' | b'\t' | b'\r' | b'\n') => {
            // A backslash at a line's end swallows all white space that follows.
            let blank =
                text[1..].len() - text[1..].trim_start_matches([' ', '\t', '\r', '\n']).len();
            (1 + blank, 0)
        }
        // A quote or a letter; of a file that is being reported, perhaps anything.
        _ => (1 + text[1..].chars().next().map_or(0, char::len_utf8), 1),
    }
}

#[cfg(test)]
mod tests {
    use super::locate;

    #[test]
    fn through_quotes_and_escapes() {
        for (raw, start, end, part) in [
            ("'abc def'", 4, 7, "def"),
            ("\"a\\u00e9b\"", 3, 4, "b"),
            ("\"a\\u00e9b\"", 1, 3, "\\u00e9"),
            ("\"\"\"\nab\\\n   cd\"\"\"", 2, 4, "cd"),
            ("'''\r\nab'''", 0, 1, "a"),
            ("\"\\\"x\\\" = y\"", 6, 7, "y"),
        ] {
            let found = locate(raw, start, end);
            assert_eq!(
                raw[found].trim_start_matches(['\\', '\n', ' ']),
                part.trim_start_matches('\\'),
                "{raw}"
            );
        }
    }

    proptest::proptest! {
        /// However a string is written, the part found for one of its letters stands for that letter.
        #[test]
        fn every_letter_is_found_again(letters in "[a-zé\u{1F600}]{1,8}", ways in proptest::collection::vec(0..4u8, 8), at in 0..8usize) {
            let mut raw = String::from("\"");
            let mut pieces = Vec::new();
            for (letter, way) in letters.chars().zip(&ways) {
                let piece = match way {
                    0 | 1 => letter.to_string(),
                    2 => format!("\\U{:08x}", letter as u32),
                    _ if (letter as u32) < 0x10000 => format!("\\u{:04X}", letter as u32),
                    _ => letter.to_string(),
                };
                raw.push_str(&piece);
                pieces.push((letter, piece));
            }
            raw.push('"');
            let at = at % pieces.len();
            let start: usize = pieces[..at].iter().map(|(letter, _)| letter.len_utf8()).sum();
            let found = locate(&raw, start, start + pieces[at].0.len_utf8());
            proptest::prop_assert_eq!(&raw[found], &pieces[at].1);
        }
    }

    #[test]
    fn never_outside() {
        for raw in [
            "\"\\é\"",
            "\"\\u00é\"",
            "\"é",
            "",
            "'",
            "''",
            "\"\"",
            "\"\"\"\"\"\"",
            "\"\\",
            "\"\\u00",
            "12",
        ] {
            for (start, end) in [(0, 0), (0, 9), (5, 9)] {
                let found = locate(raw, start, end);
                assert!(found.start <= found.end && found.end <= raw.len(), "{raw} {found:?}");
            }
        }
    }
}
