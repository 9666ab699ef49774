//! Mistakes and oddities in what was read, each with its place and what to do.

use std::ops::Range;

use crate::text::SourceText;

/// How bad a slip is.
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
pub struct Slip {
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

/// The slips of one reading.
#[derive(Clone, Debug, Default)]
pub struct Slips {
    all: Vec<Slip>,
}

impl Slips {
    /// Adds a slip.
    pub fn push(&mut self, slip: Slip) {
        self.all.push(slip);
    }

    /// Adds a slip made of its parts.
    pub fn add(
        &mut self,
        severity: Severity,
        source: &SourceText,
        span: &Range<usize>,
        message: impl Into<String>,
        help: Option<String>,
    ) {
        self.all.push(Slip {
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
        self.all.iter().any(|slip| slip.severity == Severity::Error)
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

    /// Every slip, in the order of reading.
    pub fn iter(&self) -> impl Iterator<Item = &Slip> {
        self.all.iter()
    }
}
