//! Mistakes and oddities in what was read, each with its place and what to do.

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

/// The diagnostics of one reading.
#[derive(Clone, Debug, Default)]
pub struct Diagnostics {
    all: Vec<Diagnostic>,
}

impl Diagnostics {
    /// Adds a diagnostic.
    pub fn push(&mut self, diagnostic: Diagnostic) {
        self.all.push(diagnostic);
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
        self.all.push(Diagnostic {
            severity,
            source: source.clone(),
            span: span.clone(),
            message: message.into(),
            help,
        });
    }

    /// Whether the input cannot be used.
    #[must_use]
    pub fn has_errors(&self) -> bool {
        self.all.iter().any(|diagnostic| diagnostic.severity == Severity::Error)
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.all.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Every diagnostic, in the order of reading.
    pub fn iter(&self) -> impl Iterator<Item = &Diagnostic> {
        self.all.iter()
    }
}
