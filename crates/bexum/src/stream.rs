//! The three streams: colour, width, closed pipes.

use std::io::{self, IsTerminal, Write};

use anstream::ColorChoice;
use indicatif::{ProgressBar, ProgressStyle};

use crate::args::Colour;
use crate::render::{self, style};

/// Width where nothing says otherwise, in columns.
const PLAIN_WIDTH: usize = 100;

/// Applies `--color`; by default the streams decide (`NO_COLOR`, pipes).
pub(crate) fn set_colour(colour: Colour) {
    match colour {
        Colour::Auto => {}
        Colour::Always => ColorChoice::Always.write_global(),
        Colour::Never => ColorChoice::Never.write_global(),
    }
}

/// Columns to lay out for: `$COLUMNS`, else the terminal's, else 100; never under 40.
pub(crate) fn width() -> usize {
    let set = std::env::var("COLUMNS").ok().and_then(|text| text.parse::<usize>().ok());
    let of_terminal = || terminal_size::terminal_size().map(|(width, _)| usize::from(width.0));
    set.or_else(of_terminal).unwrap_or(PLAIN_WIDTH).clamp(40, 160)
}

/// Writes a whole text, styled, to standard output.
pub(crate) fn print(text: &str) -> anyhow::Result<()> {
    let mut out = anstream::stdout().lock();
    out.write_all(text.as_bytes())?;
    out.flush()?;
    Ok(())
}

/// Writes a whole text, styled, to standard error; nobody is left to tell when that fails.
pub(crate) fn print_error(text: &str) {
    let mut out = anstream::stderr().lock();
    let _ = out.write_all(text.as_bytes());
}

/// Whether somebody watches standard error.
pub(crate) fn is_watched() -> bool {
    io::stderr().is_terminal()
}

/// A bar that says how far a long work is, on a terminal only.
pub(crate) fn progress(length: u64, of_what: &str) -> ProgressBar {
    if !is_watched() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::new(length);
    let template = format!("{{bar:30}} {{human_pos}} of {{human_len}} {of_what}");
    // The template has no variable part; were it wrong, the plain bar would do.
    if let Ok(style) = ProgressStyle::with_template(&template) {
        bar.set_style(style);
    }
    bar
}

/// Tells what went wrong.
pub(crate) fn report(error: &anyhow::Error) {
    match error.downcast_ref::<bexum_files::Failure>() {
        Some(failure) => print_error(&render::problem::report(failure, width())),
        None => {
            // What somebody typed comes back; it must not steer the terminal.
            let told = format!("{error:#}");
            let lines: Vec<String> = told.lines().map(style::safe).collect();
            print_error(&format!(
                "{}: {}\n",
                style::paint(style::ERROR, "error"),
                lines.join("\n")
            ));
        }
    }
}

/// A reader that went away (`bexum … | head`) is no error.
pub(crate) fn is_closed_pipe(error: &anyhow::Error) -> bool {
    error.chain().any(|cause| {
        let io = cause.downcast_ref::<io::Error>();
        io.is_some_and(|io| io.kind() == io::ErrorKind::BrokenPipe)
    })
}
