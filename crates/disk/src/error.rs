//! Why a source gives no facts.

use std::fmt;
use std::io;

/// A source that cannot be used: what, where, and what to do.
#[derive(Debug)]
pub struct DiskError {
    /// The source as the user named it.
    pub source: String,
    /// Where in it.
    pub at: At,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
}

/// A place within a source.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum At {
    /// The source as a whole.
    Whole,
    /// A byte of it, from 0.
    Byte(u64),
    /// A line of text.
    Line {
        /// From 1.
        line: usize,
        /// In characters, from 1.
        column: usize,
        /// The line itself, cut where it is long.
        text: String,
    },
}

impl DiskError {
    /// The whole source is unusable.
    #[must_use]
    pub fn whole(source: &str, message: impl Into<String>) -> Self {
        Self { source: source.to_owned(), at: At::Whole, message: message.into(), help: None }
    }

    /// The same with what to do about it.
    #[must_use]
    pub fn with_help(mut self, help: &str) -> Self {
        self.help = Some(help.to_owned());
        self
    }

    /// What the operating system says about it.
    #[must_use]
    pub fn io(source: &str, error: &io::Error) -> Self {
        Self::whole(source, format!("cannot be read: {error}"))
    }
}

impl fmt::Display for DiskError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.at {
            At::Whole => write!(f, "{}: {}", self.source, self.message),
            At::Byte(at) => write!(f, "{}: at byte {at}: {}", self.source, self.message),
            At::Line { line, column, .. } => write!(f, "{}:{line}:{column}: {}", self.source, self.message),
        }
    }
}

impl std::error::Error for DiskError {}
