//! What can be wrong with a survey.

use std::io;

/// Why the bytes are not a survey, or not a whole one.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SurveyError {
    /// The operating system refuses.
    #[error("cannot be read: {0}")]
    Io(#[from] io::Error),
    /// The first line is another.
    #[error("this is not a survey")]
    Magic,
    /// A later version of the format.
    #[error("this survey was written by a later version of mivask")]
    Version,
    /// It ends too early.
    #[error("the survey ends too early: it was cut")]
    Cut,
    /// A frame is not what was written.
    #[error("the survey is damaged: {what}")]
    Damaged {
        /// What was noticed.
        what: String,
        /// The byte at which the frame begins.
        at: u64,
    },
}
