//! Patterns of paths, as far as rules need them.

use std::fmt;

/// Tells whether a path matches.
pub type Matcher = Box<dyn Fn(&[u8]) -> bool>;

/// Makes matchers of patterns such as `/data/**/*.csv`; this crate has no pattern language of its own.
pub trait Globs: fmt::Debug {
    /// The matcher of a pattern.
    ///
    /// # Errors
    /// Why it is not a pattern.
    fn matcher(&self, pattern: &[u8]) -> Result<Matcher, String>;
}

/// Knows no patterns: every path is meant as it is.
#[derive(Clone, Copy, Debug)]
pub struct NoGlobs;

impl Globs for NoGlobs {
    fn matcher(&self, _: &[u8]) -> Result<Matcher, String> {
        Err("patterns are not known here".to_owned())
    }
}
