//! What deserves a second look.

use mivask_model::fact::Provenance;

/// Something that deserves a second look.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Remark {
    /// What is odd, in one sentence.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
    /// The fact it is about.
    pub from: Provenance,
    /// Whether it is only worth knowing: nothing is odd.
    pub note: bool,
}
