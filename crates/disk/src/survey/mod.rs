//! The survey file: a tree recorded once, to be asked often (docs/formats/survey.md).
//!
//! A line that names the format, then frames. Each frame is compressed by itself and carries a checksum that covers
//! the frame before it too, so that a file that was cut, reordered or changed is found out. Directories come
//! parents first; their entries are in columns, names without what they share with the name before.

mod beside;
mod columns;
mod error;
mod frame;
mod read;
mod recorder;
mod values;
mod write;

pub use error::SurveyError;
pub use read::{read, read_named};

pub(crate) use write::Recording;
pub use write::{Recorded, record, write};

use beside::Beside;
use serde::{Deserialize, Serialize};

/// The first line of a survey without labels.
pub const MAGIC: &[u8; 16] = b"mivask-survey 1\n";

/// That of one with labels, which earlier readers do not know.
pub const MAGIC_LABELLED: &[u8; 16] = b"mivask-survey 2\n";

/// A survey whose head is sound and whose one frame of directories holds `raw`, for tests of what reads it: their
/// bytes get past the checksums.
#[must_use]
pub fn framed(raw: &[u8]) -> Vec<u8> {
    let mut out = MAGIC.to_vec();
    let head = serde_json::to_vec(&Head { inodes: 3, ..Head::default() }).unwrap_or_default();
    // Memory takes whatever is written.
    let _ = frame::Packer::new().and_then(|mut packer| {
        let mut frames = frame::FrameWriter::new(&mut out);
        frames.write(&packer.pack(frame::Kind::Head, &head)?)?;
        frames.write(&packer.pack(frame::Kind::Directories, raw)?)?;
        frames.write(&packer.pack(frame::Kind::End, b"3")?)
    });
    out
}

/// What is at the beginning.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub struct Head {
    /// What was surveyed, as the user named it.
    pub source: String,
    /// How many inodes there are, the root included.
    pub inodes: u32,
    /// How many of them are directories.
    pub directories: u32,
    /// How many bytes all names have together.
    pub name_bytes: u32,
    /// What is assumed of files because no one asked them: of ACLs, of file capabilities, of attributes.
    pub unrecorded: [Option<String>; 3],
    /// Entries that went away while they were looked at.
    pub vanished: u64,
    /// What could not be looked at.
    pub denied: u64,
    /// What could not be read for another reason.
    pub failed: u64,
    /// Directories on which something else is mounted.
    pub boundaries: u64,
    /// What an image says beside its files; left out where there is nothing.
    #[serde(skip_serializing_if = "Beside::is_empty")]
    pub image: Beside,
}
