//! What is wrong with expectations, besides what their files say.

use mivask_core::expect::Expected;

use crate::end::CommandError;

/// Why nothing can be checked.
#[derive(Debug, thiserror::Error)]
pub(in crate::commands) enum UpholdError {
    /// Nothing is expected of any input.
    #[error(
        "nothing is expected: write expectations under `expect:` in the scene, or name a file of them with --expect"
    )]
    NothingExpected,
    /// Standard input is named where it cannot be read.
    #[error("standard input is read once: it can be one INPUT or one --expect, and not with --watch")]
    StandardInputMore,
    /// Files cannot be watched.
    #[error("files cannot be watched here: {0}")]
    Watch(#[from] notify::Error),
}

impl CommandError for UpholdError {}

/// An expectation holds an invalid pattern.
#[derive(Debug, thiserror::Error)]
#[error("{at}: {why}")]
pub(in crate::commands) struct Misread {
    /// Where it is written.
    at: String,
    /// What is wrong with it.
    why: String,
}

impl Misread {
    /// That of one expectation.
    pub(in crate::commands) fn at(expected: &Expected, why: impl ToString) -> Self {
        Self { at: expected.from.to_string(), why: why.to_string() }
    }
}

impl CommandError for Misread {}
