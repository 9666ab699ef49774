//! Colours say again what words say already; a writer that wants none strips them.

use anstyle::{AnsiColor, Style};
use mivask_core::settle::Outcome;

/// Headings and names.
pub(crate) const STRONG: Style = Style::new().bold();
/// Sources and other asides.
pub(crate) const FAINT: Style = Style::new().dimmed();
/// What is allowed, and checks that passed.
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
/// What is denied, and the check that failed.
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
/// What depends.
pub(crate) const OPEN: Style = AnsiColor::Yellow.on_default();

/// `text` in `style`.
pub(crate) fn paint(style: Style, text: &str) -> String {
    if text.is_empty() { String::new() } else { format!("{style}{text}{style:#}") }
}

/// An outcome with its errno, such as `denied EACCES`.
pub(crate) fn outcome(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Allowed => paint(GOOD, "allowed"),
        Outcome::Denied(Some(errno)) => paint(BAD, &format!("denied {errno}")),
        Outcome::Denied(None) => paint(BAD, "denied"),
        Outcome::Depends => paint(OPEN, "depends"),
        Outcome::NeverRuns(_) => paint(OPEN, "never runs"),
    }
}

/// The usual outcome where there is one: `usually allowed`.
pub(crate) fn usual_or(usual: Option<&Outcome>, certain: &Outcome) -> String {
    match usual {
        Some(usual) => format!("{}{}", paint(OPEN, "usually "), outcome(usual)),
        None => outcome(certain),
    }
}

/// The mark of a cell that is only usual: it depends on facts that are nearly always the same.
pub(crate) const USUAL_MARK: &str = "~";

/// One cell of what is usual: the same words behind a mark, in the colour of what depends.
pub(crate) fn usual_cell(usual: &Outcome) -> String {
    let word = match usual {
        Outcome::Allowed => "yes",
        Outcome::Denied(Some(errno)) => errno.name(),
        Outcome::Denied(None) => "denied",
        Outcome::Depends => "depends",
        Outcome::NeverRuns(_) => "never",
    };
    paint(OPEN, &format!("{USUAL_MARK}{word}"))
}

/// One cell of a matrix: `yes`, the errno, `depends`, or `-` where the question makes no sense.
pub(crate) fn cell(outcome: Option<&Outcome>) -> String {
    match outcome {
        None => paint(FAINT, "-"),
        Some(Outcome::Allowed) => paint(GOOD, "yes"),
        Some(Outcome::Denied(Some(errno))) => paint(BAD, errno.name()),
        Some(Outcome::Denied(None)) => paint(BAD, "denied"),
        Some(Outcome::Depends) => paint(OPEN, "depends"),
        Some(Outcome::NeverRuns(_)) => paint(OPEN, "never"),
    }
}
