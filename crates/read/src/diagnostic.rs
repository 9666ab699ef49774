//! Mistakes and oddities in what was read, each with its place and what to do.

use std::collections::BTreeMap;
use std::ops::Range;

use crate::text::SourceText;

/// How bad a diagnostic is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Severity {
    /// Worth knowing; nothing is wrong.
    Note,
    /// Read all the same, but probably not what was meant.
    Warning,
    /// The input cannot be used.
    Error,
}

/// One mistake or oddity.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Diagnostic {
    /// How bad it is.
    pub severity: Severity,
    /// The text it is in.
    pub source: SourceText,
    /// The bytes it is at.
    pub span: Range<usize>,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
}

/// How many of a kind are kept.
pub const MOST_OF_A_KIND: usize = 20;

/// The diagnostics of one reading: of each kind [`MOST_OF_A_KIND`] at most, the others counted.
#[derive(Clone, Debug, Default)]
pub struct Diagnostics {
    all: Vec<Diagnostic>,
    kinds: BTreeMap<(Severity, String), usize>,
    errors: usize,
}

impl Diagnostics {
    /// Adds a diagnostic.
    pub fn push(&mut self, diagnostic: Diagnostic) {
        let count = self.kinds.entry((diagnostic.severity, kind(&diagnostic.message))).or_default();
        *count += 1;
        self.errors += usize::from(diagnostic.severity == Severity::Error);
        if *count <= MOST_OF_A_KIND {
            self.all.push(diagnostic);
        }
    }

    /// Adds a diagnostic made of its parts.
    pub fn add(
        &mut self,
        severity: Severity,
        source: &SourceText,
        span: &Range<usize>,
        message: impl Into<String>,
        help: Option<String>,
    ) {
        let message = message.into();
        self.push(Diagnostic { severity, source: source.clone(), span: span.clone(), message, help });
    }

    /// Whether the input cannot be used.
    #[must_use]
    pub fn has_errors(&self) -> bool {
        self.errors > 0
    }

    /// How many of `severity` were added.
    #[must_use]
    pub fn count(&self, severity: Severity) -> usize {
        self.kinds.iter().filter(|((of, _), _)| *of == severity).map(|(_, count)| count).sum()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Those that are kept, in the order of reading.
    pub fn iter(&self) -> impl Iterator<Item = &Diagnostic> {
        self.all.iter()
    }

    /// Of each kind that was too frequent how many were left out, with the last that was kept.
    pub fn left_out(&self) -> impl Iterator<Item = (usize, &Diagnostic)> {
        let frequent = self.kinds.iter().filter(|(_, count)| **count > MOST_OF_A_KIND);
        frequent.filter_map(|((severity, name), count)| {
            let of_it = |one: &&Diagnostic| one.severity == *severity && kind(&one.message) == *name;
            Some((count - MOST_OF_A_KIND, self.all.iter().rfind(of_it)?))
        })
    }
}

/// A message without the names and numbers in it.
#[must_use]
pub fn kind(message: &str) -> String {
    let mut out = String::new();
    for (index, part) in message.split('`').enumerate() {
        out.push('`');
        if index % 2 == 0 {
            out.extend(part.chars().filter(|c| !c.is_ascii_digit()));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_frequent_is_counted() {
        let source = SourceText::new("x", "text");
        let mut diagnostics = Diagnostics::default();
        for number in 0..1000 {
            diagnostics.add(Severity::Warning, &source, &(0..1), format!("unknown key `k{number}`"), None);
        }
        diagnostics.add(Severity::Error, &source, &(0..1), "something else", None);
        assert_eq!((diagnostics.count(Severity::Warning), diagnostics.iter().count()), (1000, 21));
        let left: Vec<_> = diagnostics.left_out().map(|(count, one)| (count, one.message.as_str())).collect();
        assert_eq!(left, [(980, "unknown key `k19`")]);
        assert!(diagnostics.has_errors());
    }
}
