//! Colours, all in one place. Every text says the same without them; blue and orange are told
//! apart by everybody.

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

/// `text` in a style.
pub(crate) fn paint(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// What anybody could have written, made fit for a terminal: control characters become visible.
pub(crate) fn safe(text: &str) -> String {
    if !text.contains(char::is_control) {
        return text.to_owned();
    }
    text.chars().map(|c| if c.is_control() { char::REPLACEMENT_CHARACTER } else { c }).collect()
}
