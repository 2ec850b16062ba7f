//! Colours, all in one place. Every text says the same without them; blue and orange are told
//! apart by everybody.

use std::borrow::Cow;
use std::sync::atomic::{AtomicBool, Ordering};

use anstyle::{AnsiColor, Color, Style};

const fn coloured(colour: AnsiColor) -> Style {
    Style::new().fg_color(Some(Color::Ansi(colour)))
}

pub(crate) const ALLOW: Style =
    Style::new().fg_color(Some(Color::Ansi256(anstyle::Ansi256Color(75))));
pub(crate) const DENY: Style =
    Style::new().fg_color(Some(Color::Ansi256(anstyle::Ansi256Color(208))));
pub(crate) const ERROR: Style = coloured(AnsiColor::BrightRed).bold();
pub(crate) const HEADING: Style = Style::new().bold();
pub(crate) const NAME: Style = coloured(AnsiColor::Cyan);
pub(crate) const QUIET: Style = Style::new().dimmed();

/// Whether no stream would let a colour pass.
static IS_PLAIN: AtomicBool = AtomicBool::new(false);

/// From now on texts are made without colours: where no stream lets one pass, putting them in only
/// for them to be taken out again is a good part of the time that a long table takes.
pub(crate) fn leave_out_colours() {
    IS_PLAIN.store(true, Ordering::Relaxed);
}

/// Whether texts are made without colours.
pub(crate) fn is_plain() -> bool {
    IS_PLAIN.load(Ordering::Relaxed)
}

/// `text` in a style.
pub(crate) fn paint(style: Style, text: &str) -> String {
    if is_plain() {
        return text.to_owned();
    }
    format!("{style}{text}{style:#}")
}

/// What anybody could have written, made fit for a terminal: control characters and those that
/// turn the direction of writing are shown as escapes (`\u{1b}`).
pub(crate) fn safe(text: &str) -> String {
    if !text.contains(steers) {
        return text.to_owned();
    }
    let mut shown = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        if steers(c) {
            shown.extend(c.escape_default());
        } else {
            shown.push(c);
        }
    }
    shown
}

/// Whether a terminal would not show a character but do something: all of Unicode's controls, line
/// and paragraph separators, and marks that turn the direction of writing.
pub(crate) fn steers(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}')
        || matches!(c, '\u{2066}'..='\u{2069}' | '\u{feff}')
}

/// A laid-out text on its way to a terminal: line breaks and colours pass, all else that could
/// steer it is shown as escapes. Nothing reaches a terminal in any other way, so that a text that
/// was not made [`safe`] where it was put in does no harm either.
pub(crate) fn guard(text: &str) -> Cow<'_, str> {
    let is_plain = |c: char| c == '\n' || !steers(c);
    if passes(text) {
        return Cow::Borrowed(text);
    }
    let mut passed = String::with_capacity(text.len() + 16);
    let mut left = text;
    while let Some(at) = left.find(|c| !is_plain(c)) {
        passed.push_str(&left[..at]);
        left = &left[at..];
        let first = left.chars().next().map_or(0, char::len_utf8);
        let colour = colour_length(left);
        match colour {
            Some(length) => passed.push_str(&left[..length]),
            None => passed.extend(left[..first].chars().flat_map(char::escape_default)),
        }
        left = &left[colour.unwrap_or(first)..];
    }
    passed.push_str(left);
    Cow::Owned(passed)
}

/// Whether nothing in a text steers but its line breaks. Nearly all of a long text is printable ASCII,
/// of which no character has to be put together to be known.
pub(crate) fn passes(text: &str) -> bool {
    let is_printable = |byte: u8| matches!(byte, b' '..=b'~' | b'\n');
    // To ask all of some bytes is much quicker than to stop at the first one.
    let all_printable =
        |part: &&[u8]| part.iter().fold(true, |all, byte| all & is_printable(*byte));
    let printable = |text: &str| -> usize {
        text.as_bytes().chunks(64).take_while(all_printable).map(<[u8]>::len).sum()
    };
    let mut left = text;
    loop {
        left = &left[printable(left)..];
        let Some(at) = left.bytes().position(|byte| !is_printable(byte)) else { return true };
        let mut others = left[at..].chars();
        if others.next().is_some_and(steers) {
            return false;
        }
        left = others.as_str();
    }
}

/// Bytes of the sequence for a colour or weight (`ESC [ numbers m`) that a text begins with.
fn colour_length(text: &str) -> Option<usize> {
    let numbers = text.strip_prefix("\u{1b}[")?;
    let end = numbers.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    numbers[end..].starts_with('m').then_some(end + 3)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{guard, passes, safe, steers};

    proptest! {
        /// A long text is looked through in parts.
        #[test]
        fn no_part_of_a_text_is_overlooked(
            parts in prop::collection::vec("[a-z\n]{0,90}|[é…\u{202e}\u{7f}\u{1b}]", 0..8),
        ) {
            let text = parts.concat();
            prop_assert_eq!(passes(&text), text.chars().all(|c| c == '\n' || !steers(c)));
        }
    }

    #[test]
    fn nothing_steers_the_terminal() {
        assert_eq!(safe("a\u{1b}[2Jb\n\u{202e}é"), r"a\u{1b}[2Jb\n\u{202e}é");
        assert_eq!(safe("plain"), "plain");
        let coloured = "\u{1b}[1;38;5;75mALLOW\u{1b}[0m\n";
        assert_eq!(guard(coloured), coloured);
        assert_eq!(
            guard("\u{1b}]0;title\u{7}\u{1b}[2J\u{9b}m\r\n"),
            r"\u{1b}]0;title\u{7}\u{1b}[2J\u{9b}m\r".to_owned() + "\n"
        );
        assert_eq!(guard("\u{1b}[31"), r"\u{1b}[31");
    }
}
