//! Facts and where they came from.

use std::fmt;
use std::sync::Arc;

use crate::usual::Usual;

/// A value together with the place it was read from, or the rule that set it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Fact<T> {
    /// The value.
    pub value: T,
    /// Where it came from.
    pub from: Provenance,
}

impl<T> Fact<T> {
    /// A value read from or derived by `from`.
    pub const fn new(value: T, from: Provenance) -> Self {
        Self { value, from }
    }

    /// The same provenance with another value.
    pub fn map<U>(self, change: impl FnOnce(T) -> U) -> Fact<U> {
        Fact { value: change(self.value), from: self.from }
    }
}

/// Where a fact came from.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Provenance {
    /// A field of a document the user wrote.
    Document {
        /// The file as the user named it, or `standard input`.
        file: Arc<str>,
        /// Line, from 1.
        line: usize,
        /// Column in characters, from 1.
        column: usize,
        /// The field's path, such as `securityContext.runAsUser`.
        field: Arc<str>,
    },
    /// A line of a passwd or group file, or of a listing.
    Line {
        /// The file as the user named it.
        file: Arc<str>,
        /// Line, from 1.
        line: usize,
    },
    /// A disk, an archive or a survey, as the user named it.
    Source(Arc<str>),
    /// What a kubelet, container runtime or kernel does by rule when no one says otherwise.
    Rule(Arc<str>),
    /// Taken for granted and listed with the answer.
    Assumption(Arc<str>),
    /// No one said; the answer depends on it.
    Unknown(Arc<str>),
    /// An act or a change that was tried out.
    Act(Arc<str>),
}

impl Provenance {
    /// The rule `text`.
    #[must_use]
    pub fn rule(text: &str) -> Self {
        Self::Rule(Arc::from(text))
    }
}

impl fmt::Display for Provenance {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Document { file, line, column, field } => write!(f, "{file}:{line}:{column} {field}"),
            Self::Line { file, line } => write!(f, "{file}:{line}"),
            Self::Source(name) => f.write_str(name),
            Self::Rule(text) => f.write_str(text),
            Self::Assumption(text) => write!(f, "assumed: {text}"),
            Self::Unknown(text) => write!(f, "unknown: {text}"),
            Self::Act(text) => write!(f, "changed by `{text}`"),
        }
    }
}

/// Something that is not given us, with what would settle it.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Unknown {
    /// The fact that is missing, such as `what the claim "readings" holds`.
    pub fact: Arc<str>,
    /// What the user can add to settle it, such as `volumes: { readings: { tree: ... } }`.
    pub settle: Arc<str>,
    /// What it usually is.
    pub usual: Option<Arc<Usual>>,
}

impl Unknown {
    /// A missing fact and what would settle it.
    #[must_use]
    pub fn new(fact: &str, settle: &str) -> Self {
        Self { fact: Arc::from(fact), settle: Arc::from(settle), usual: None }
    }

    /// The same, of which this is usual.
    #[must_use]
    pub fn usually(self, usual: Option<Arc<Usual>>) -> Self {
        Self { usual, ..self }
    }
}
