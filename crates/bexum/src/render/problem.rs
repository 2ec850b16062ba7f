//! Problems of a load: each with its file, line, column, the line itself marked, and a hint.

use std::fmt::Write as _;
use std::ops::Range;

use annotate_snippets::{AnnotationKind, Group, Level, Origin, Renderer, Snippet};
use bexum_core::diagnostic::{Diagnostic, Severity};
use bexum_core::origin::SourceSpan;
use bexum_files::{Failure, Sources};

use super::style;

/// Problems shown with their source; more than these are listed a line each.
const SHOWN_WHOLE: usize = 50;
/// Most of a long line that is shown on either side of what is meant, in bytes.
const MARGIN: usize = 160;

/// The whole report of a load that failed.
pub(crate) fn report(failure: &Failure, width: usize) -> String {
    let renderer = Renderer::styled().term_width(width);
    let mut out = String::new();
    for diagnostic in failure.diagnostics().take(SHOWN_WHOLE) {
        out.push_str(&render(&diagnostic, &failure.sources, &renderer));
        out.push_str("\n\n");
    }
    for diagnostic in failure.diagnostics().skip(SHOWN_WHOLE) {
        let at = diagnostic.place().map(|place| position(place, &failure.sources));
        let message = style::safe(&diagnostic.message);
        let _ = writeln!(out, "{}: {message}", at.unwrap_or_default());
    }
    if failure.problems.len() > SHOWN_WHOLE {
        out.push('\n');
    }
    let count = failure.problems.len();
    let _ = writeln!(
        out,
        "{}: {count} {} in this estate; nothing is decided until {} mended",
        style::paint(style::ERROR, "error"),
        if count == 1 { "fault" } else { "faults" },
        if count == 1 { "it is" } else { "they are" },
    );
    out
}

/// `people/users.toml:14:9`
pub(crate) fn position(place: SourceSpan, sources: &Sources) -> String {
    let source = sources.get(place.origin.file);
    let (line, column) = source.line_and_column(sources.bytes(place).start);
    format!("{}:{line}:{column}", style::safe(&source.path.display().to_string()))
}

fn render(diagnostic: &Diagnostic, sources: &Sources, renderer: &Renderer) -> String {
    let level = match diagnostic.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Note => Level::NOTE,
    };
    let message = style::safe(&diagnostic.message);
    let mut group = Group::with_title(level.primary_title(message));
    if let [itself, others @ ..] = &*diagnostic.labels {
        let others: Vec<(SourceSpan, &str)> =
            others.iter().map(|label| (label.place, label.text)).collect();
        group = show_places(group, sources, itself.place, &others);
    }
    if let Some(hint) = &diagnostic.hint {
        group = group.element(Level::HELP.message(style::safe(hint)));
    }
    let rendered = renderer.render(&[group]);
    // A window into a long line leaves an empty heading behind.
    let is_empty = |line: &str| anstream::adapter::strip_str(line).to_string().trim() == ":::";
    let lines: Vec<&str> = rendered.lines().filter(|line| !is_empty(line)).collect();
    lines.join("\n")
}

/// Farthest that two places in one file are shown in one piece, in bytes.
const TOGETHER: usize = 32 << 10;

/// A place and those that have to do with it: as one piece where they stand close together.
fn show_places<'a>(
    mut group: Group<'a>,
    sources: &'a Sources,
    place: SourceSpan,
    others: &[(SourceSpan, &'a str)],
) -> Group<'a> {
    let source = sources.get(place.origin.file);
    let bytes = sources.bytes(place);
    let line = source.line_around(bytes.start);
    let is_short = |line: &Range<usize>| line.len() <= 2 * MARGIN;
    let (near, far): (Vec<_>, Vec<_>) = others.iter().copied().partition(|(other, _)| {
        let other_bytes = sources.bytes(*other);
        is_short(&line)
            && other.origin.file == place.origin.file
            && other_bytes.start.abs_diff(bytes.start) <= TOGETHER
            && is_short(&source.line_around(other_bytes.start))
    });
    if near.is_empty() {
        group = show_place(group, sources, place, None, AnnotationKind::Primary);
    } else {
        let lines = near.iter().map(|(other, _)| source.line_around(sources.bytes(*other).start));
        let (start, end) = lines.fold((line.start, line.end), |(start, end), line| {
            (start.min(line.start), end.max(line.end))
        });
        // Only the line where each starts: what is meant may go on over many.
        let within = |bytes: Range<usize>| {
            let line = source.line_around(bytes.start);
            bytes.start - start..bytes.end.clamp(bytes.start, line.end) - start
        };
        let annotations = near.iter().map(|(other, label)| {
            AnnotationKind::Context.span(within(sources.bytes(*other))).label(*label)
        });
        let first = AnnotationKind::Primary.span(within(bytes));
        let window = Snippet::source(&source.text[start..end])
            .line_start(source.line_and_column(start).0)
            .path(style::safe(&source.path.display().to_string()))
            .annotations(std::iter::once(first).chain(annotations));
        group = group.element(window);
    }
    for (other, label) in far {
        group = show_place(group, sources, other, Some(label), AnnotationKind::Context);
    }
    group
}

/// One place: the bytes that are meant and a window of the line around them.
fn show_place<'a>(
    group: Group<'a>,
    sources: &'a Sources,
    place: SourceSpan,
    label: Option<&'a str>,
    kind: AnnotationKind,
) -> Group<'a> {
    let source = sources.get(place.origin.file);
    let bytes = sources.bytes(place);
    let line = source.line_around(bytes.start);
    // Only the line where it starts: what is meant may go on over many.
    let end = bytes.end.clamp(bytes.start, line.end.max(bytes.start));
    let start = floor(&source.text, bytes.start.saturating_sub(MARGIN).max(line.start));
    let cut = floor(&source.text, (end.min(bytes.start + MARGIN) + MARGIN).min(line.end));
    let end = end.min(cut);
    let (number, column) = source.line_and_column(bytes.start);
    let path = style::safe(&source.path.display().to_string());
    // The line is cut before it is handed over: a line may be megabytes long.
    let window = Snippet::source(&source.text[start..cut])
        .line_start(number)
        .fold(false)
        .annotation(kind.span(bytes.start - start..end - start).label(label));
    if start == line.start {
        return group.element(window.path(path));
    }
    // A window that starts within its line cannot tell the column by itself.
    group.element(Origin::path(path).line(number).char_column(column)).element(window)
}

/// The character border at or before `at`.
fn floor(text: &str, at: usize) -> usize {
    (0..=at.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0)
}
