//! Why an image is not had from a place.

use std::fmt;

use mivask_disk::error::DiskError;

/// What is wrong, where, and what to do about it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FetchError {
    /// The place, as it was named, or the host that was asked.
    pub place: String,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
    missing: bool,
}

impl FetchError {
    pub(crate) fn new(place: impl Into<String>, message: impl Into<String>) -> Self {
        Self { place: place.into(), message: message.into(), help: None, missing: false }
    }

    /// The place has no such image.
    pub(crate) fn missing(place: impl Into<String>, message: impl Into<String>) -> Self {
        Self { missing: true, ..Self::new(place, message) }
    }

    pub(crate) fn with_help(self, help: impl Into<String>) -> Self {
        Self { help: Some(help.into()), ..self }
    }

    /// Whether the place answered and has no such image, so that the next one may have it.
    #[must_use]
    pub const fn is_missing(&self) -> bool {
        self.missing
    }
}

impl fmt::Display for FetchError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.place, self.message)
    }
}

impl std::error::Error for FetchError {}

impl From<DiskError> for FetchError {
    fn from(error: DiskError) -> Self {
        let help = error.help.clone();
        let shown = error.to_string();
        let message = shown.strip_prefix(&error.source).and_then(|rest| rest.strip_prefix([':']));
        let message = message.map_or(shown.clone(), |rest| rest.trim_start().to_owned());
        Self { place: error.source, message, help, missing: false }
    }
}
