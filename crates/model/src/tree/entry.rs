//! What is known of one inode when it is added to a tree.

use super::{Content, Device, Doubt, Extended, Marks};
use crate::fact::Provenance;
use crate::ids::{DiskGid, DiskUid};
use crate::mode::{FileKind, Mode};

/// The facts of one new inode.
#[derive(Clone, Debug)]
pub struct Entry {
    /// What it is.
    pub kind: FileKind,
    /// Owner as stored on the disk.
    pub uid: DiskUid,
    /// Group as stored on the disk.
    pub gid: DiskGid,
    /// Permission bits; an access ACL below adjusts them.
    pub mode: Mode,
    /// ACLs and file capabilities.
    pub extended: Extended,
    /// Immutable and append-only attributes.
    pub marks: Marks,
    /// A link's target.
    pub target: Box<[u8]>,
    /// A file's content, as execve sees it.
    pub content: Content,
    /// A device's numbers.
    pub device: Option<Device>,
    /// Where these facts came from; `None` for the tree's own origin.
    pub place: Option<Provenance>,
    /// The line of the listing it is in, from 1; 0 for none.
    pub line: u32,
    /// How many bytes a file has, where that was asked for.
    pub size: Option<u64>,
    /// What is not certain about it.
    pub doubt: Option<Doubt>,
}

impl Entry {
    /// An inode of `kind`, owned by `uid:gid`, with `mode` and nothing special.
    #[must_use]
    pub fn new(kind: FileKind, uid: u32, gid: u32, mode: Mode) -> Self {
        Self {
            kind,
            uid: DiskUid::new(uid),
            gid: DiskGid::new(gid),
            mode,
            extended: Extended::default(),
            marks: Marks::default(),
            target: Box::default(),
            content: Content::Unknown,
            device: None,
            place: None,
            line: 0,
            size: None,
            doubt: None,
        }
    }

    /// A directory owned by `uid:gid`.
    #[must_use]
    pub fn directory(uid: u32, gid: u32, mode: u16) -> Self {
        Self::new(FileKind::Directory, uid, gid, Mode::new(mode))
    }

    /// A regular file owned by `uid:gid`.
    #[must_use]
    pub fn file(uid: u32, gid: u32, mode: u16) -> Self {
        Self::new(FileKind::File, uid, gid, Mode::new(mode))
    }

    /// The same inode with doubtful owner and mode.
    #[must_use]
    pub fn doubting(mut self, doubt: Doubt) -> Self {
        self.doubt = (doubt != Doubt::default()).then_some(doubt);
        self
    }

    /// The same inode with its facts read at `place`.
    #[must_use]
    pub fn at(mut self, place: Provenance) -> Self {
        self.place = Some(place);
        self
    }
}
