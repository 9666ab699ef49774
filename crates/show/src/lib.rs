//! Answers as text and JSON. Nothing is decided here, and no file is known: everything is written
//! to a `&mut dyn Write` that someone else opened.

#![forbid(unsafe_code)]

pub mod ci;
pub mod compare;
pub mod diagnostics;
pub mod draft;
pub mod drift;
pub mod figure;
pub mod guarded;
pub mod json;
mod layout;
pub mod remedy;
pub mod report;
pub mod script;
pub mod shell;
pub mod sides;
pub mod text;
pub mod upheld;
pub mod words;

mod safe;
mod style;
mod table;

pub use safe::safe;

/// What came of random acts, for `confirm --random`.
#[derive(Clone, Debug)]
pub struct RandomSummary {
    /// Acts held against the kernel.
    pub checked: usize,
    /// Where the random numbers started.
    pub seed: u64,
    /// Acts that could not be held against it, by reason.
    pub not_checked: Vec<(String, usize)>,
    /// How acts ended on the kernel.
    pub outcomes: Vec<(String, usize)>,
    /// Acts on each file system.
    pub filesystems: Vec<(String, usize)>,
    /// The file the scene of a differing act was written to.
    pub scene: Option<String>,
}
