//! Patterns of paths, as far as rules need them.

use std::fmt;

/// Tells whether a path matches.
pub type Matcher = Box<dyn Fn(&[u8]) -> bool>;

/// Why a text is not a pattern: in words, since the pattern language is the caller's.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{0}")]
pub struct PatternError(pub String);

impl PatternError {
    /// With what its pattern language says.
    pub fn new(why: impl Into<String>) -> Self {
        Self(why.into())
    }
}

/// Whether `text` is a pattern, not a path.
#[must_use]
pub fn is_pattern(text: &[u8]) -> bool {
    text.iter().any(|byte| matches!(byte, b'*' | b'?' | b'['))
}

/// The directory that everything below which a pattern can match is in: `/data` of `/data/*.csv`.
#[must_use]
pub fn fixed_part(pattern: &[u8]) -> &[u8] {
    let wild = pattern.iter().position(|byte| matches!(byte, b'*' | b'?' | b'[')).unwrap_or(pattern.len());
    let end = pattern[..wild].iter().rposition(|byte| *byte == b'/').unwrap_or(0);
    if end == 0 { b"/" } else { &pattern[..end] }
}

/// Makes matchers of patterns such as `/data/**/*.csv`; this crate has no pattern language of its own.
pub trait Globs: fmt::Debug {
    /// The matcher of a pattern.
    ///
    /// # Errors
    /// Why it is not a pattern.
    fn matcher(&self, pattern: &[u8]) -> Result<Matcher, PatternError>;
}

/// Knows no patterns: every path is meant as it is.
#[derive(Clone, Copy, Debug)]
pub struct NoGlobs;

impl Globs for NoGlobs {
    fn matcher(&self, _: &[u8]) -> Result<Matcher, PatternError> {
        Err(PatternError::new("patterns are not known here"))
    }
}
