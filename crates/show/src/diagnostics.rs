//! Mistakes in what was read, with the line they are on.

use std::io::{self, Write};

use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use mivask_core::question::Remark;
use mivask_read::diagnostic::{Diagnostic, Severity};

use crate::safe::safe;
use crate::style::{BAD, OPEN, STRONG, paint};

/// Bytes of a line that are shown around a mistake, on either side.
const NEAR: usize = 160;

/// One diagnostic as a message, its place, the source line and what to do.
///
/// # Errors
/// Whatever `out` refuses.
pub fn diagnostic(out: &mut dyn Write, diagnostic: &Diagnostic) -> io::Result<()> {
    let level = match diagnostic.severity {
        Severity::Note => Level::NOTE,
        Severity::Warning => Level::WARNING,
        Severity::Error => Level::ERROR,
    };
    let (mut excerpt, first_line, span) = excerpt(diagnostic);
    if diagnostic.source.has_secrets() {
        excerpt = masked(&excerpt);
    }
    let name = safe(diagnostic.source.name_at(diagnostic.span.start));
    // The renderer counts columns in the excerpt; of a long line, or one with escapes, that is another number.
    let drawn = format!("{name}:{first_line}:{}\n", excerpt[..span.start].chars().count() + 1);
    let (line, column) = diagnostic.source.line_column(diagnostic.span.start);
    let place = format!("{name}:{line}:{column}\n");
    let message = safe(&diagnostic.message);
    let snippet = Snippet::source(excerpt)
        .path(name)
        .line_start(first_line)
        .annotation(AnnotationKind::Primary.span(span));
    let mut group = level.primary_title(message).element(snippet);
    if let Some(help) = &diagnostic.help {
        group = group.element(Level::HELP.message(safe(help)));
    }
    writeln!(out, "{}\n", Renderer::styled().render(&[group]).replacen(&drawn, &place, 1))
}

/// That `count` more like `last` are not shown.
///
/// # Errors
/// Whatever `out` refuses.
pub fn left_out(out: &mut dyn Write, count: usize, last: &Diagnostic) -> io::Result<()> {
    let word = match last.severity {
        Severity::Note => paint(STRONG, "note"),
        Severity::Warning => paint(OPEN.bold(), "warning"),
        Severity::Error => paint(BAD, "error"),
    };
    more(out, &word, count, &last.message)
}

/// The same of remarks.
///
/// # Errors
/// Whatever `out` refuses.
pub fn more_remarks(out: &mut dyn Write, count: usize, last: &Remark) -> io::Result<()> {
    more(out, &paint(OPEN.bold(), "warning"), count, &last.message)
}

fn more(out: &mut dyn Write, word: &str, count: usize, message: &str) -> io::Result<()> {
    writeln!(out, "{word}: {}", paint(STRONG, &format!("{count} more like: {}", safe(message))))?;
    writeln!(out)
}

/// One remark as a message, its place and what to do.
///
/// # Errors
/// Whatever `out` refuses.
pub fn remark(out: &mut dyn Write, remark: &Remark) -> io::Result<()> {
    let word = if remark.note { paint(STRONG, "note") } else { paint(OPEN.bold(), "warning") };
    line(out, &word, remark)
}

/// The same about something that makes the input unusable.
///
/// # Errors
/// Whatever `out` refuses.
pub fn fault(out: &mut dyn Write, fault: &Remark) -> io::Result<()> {
    line(out, &paint(BAD, "error"), fault)
}

fn line(out: &mut dyn Write, word: &str, remark: &Remark) -> io::Result<()> {
    writeln!(out, "{word}: {}", paint(STRONG, &safe(&remark.message)))?;
    writeln!(out, " --> {}", safe(&remark.from.to_string()))?;
    if let Some(help) = &remark.help {
        writeln!(out, "  = help: {}", safe(help))?;
    }
    writeln!(out)
}

/// The line a diagnostic is on, with tabs and control characters made harmless, and the diagnostic's span within it. Of a long line
/// only what is near.
fn excerpt(diagnostic: &Diagnostic) -> (String, usize, std::ops::Range<usize>) {
    let text = &diagnostic.source.text;
    let start = boundary(text, diagnostic.span.start);
    let near = boundary(text, start.saturating_sub(NEAR));
    let line_start = text[near..start].rfind('\n').map_or(near, |newline| near + newline + 1);
    let far = boundary(text, start.saturating_add(2 * NEAR).min(text.len()));
    let line_end = text[start..far].find('\n').map_or(far, |newline| start + newline);
    let end = boundary(text, diagnostic.span.end).clamp(start, boundary(text, line_end.min(start + NEAR)));
    let cut = |whole: bool| if whole { "" } else { "..." };
    let whole_before = line_start == 0 || text.as_bytes()[line_start - 1] == b'\n';
    let whole_after = line_end == text.len() || text.as_bytes()[line_end] == b'\n';
    let before = harmless(&text[line_start..start]);
    let before = format!("{}{before}", cut(whole_before));
    let marked = harmless(text[start..end].trim_end());
    let after = harmless(&text[(start + text[start..end].trim_end().len())..line_end]);
    let after = format!("{after}{}", cut(whole_after));
    let (line, _) = diagnostic.source.line_column(diagnostic.span.start);
    let from = before.len();
    let span = from..from + marked.len();
    (format!("{before}{marked}{after}"), line, span)
}

/// A line whose values nobody is to see: what follows the first colon is asterisks, byte for byte.
fn masked(line: &str) -> String {
    let (key, value) = line.split_at(line.find(':').unwrap_or(0));
    let hide = |letter: char| {
        if letter == ' ' || letter == ':' { letter.to_string() } else { "*".repeat(letter.len_utf8()) }
    };
    key.chars().map(String::from).chain(value.chars().map(hide)).collect()
}

/// The first place from `at` on where a character begins: a span that ends within one is drawn to its end.
fn boundary(text: &str, at: usize) -> usize {
    (at..text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(text.len())
}

fn harmless(text: &str) -> String {
    safe(&text.replace('\t', " ").replace('\r', ""))
}
