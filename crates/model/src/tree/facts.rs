//! What a tree mentions single inodes.

use std::sync::Arc;

use super::Inode;
use crate::acl::Acl;
use crate::caps::FileCapabilities;
use crate::mode::FileKind;

/// What an inode's flags and side tables say about it, one bit each.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Marks(pub(super) u8);

impl Marks {
    /// The immutable attribute is set.
    pub const IMMUTABLE: Self = Self(1);
    /// The append-only attribute is set.
    pub const APPEND_ONLY: Self = Self(2);
    /// The inode is in the table of doubts.
    pub const DOUBTED: Self = Self(4);
    /// The filesystem-group step changed its group or mode.
    pub const GROUP_STEP: Self = Self(8);
    /// On an overlay: it comes from a lower layer.
    pub const LOWER: Self = Self(16);
    /// On an overlay: what comes from a lower layer and is in the upper one too.
    pub const MERGED: Self = Self(32);

    /// On an overlay: it is in the upper layer alone.
    pub const UPPER: Self = Self(64);

    /// What is not listed in it are the host's devices.
    pub const DEVICES: Self = Self(128);

    /// The marks that a source may tell, as one byte: 1 immutable, 2 append-only, 16 lower, 32 merged, 64 upper.
    #[must_use]
    pub const fn given(self) -> u8 {
        self.0 & Self::TOLD
    }

    /// The marks of such a byte; bits without a meaning are dropped.
    #[must_use]
    pub const fn of_told(bits: u8) -> Self {
        Self(bits & Self::TOLD)
    }

    /// Every mark that a source may tell.
    pub(super) const EVERY: Self = Self(Self::TOLD);

    /// Those that are among `others`.
    #[must_use]
    pub(super) const fn among(self, others: Self) -> Self {
        Self(self.0 & others.0)
    }

    const TOLD: u8 = !(Self::DOUBTED.0 | Self::GROUP_STEP.0) & 0x7f;

    /// Whether all marks of `other` are set.
    #[must_use]
    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }

    /// With the marks of `other` added.
    #[must_use]
    pub const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }
}

/// What execve meets in a regular file.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Content {
    /// No one said.
    Unknown,
    /// Something the kernel can start.
    Program,
    /// Bytes that no binary format accepts: ENOEXEC.
    Data,
    /// No bytes at all: ENOEXEC.
    Empty,
    /// A script for this interpreter (the path behind `#!`).
    Script(Box<[u8]>),
}

/// What decides about one inode, without its name, place and doubts: those with equal likeness get the same answers.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct Likeness {
    // Packed into whole words, since a sweep compares and hashes one for every inode: fields of one and two bytes that
    // are read back as one wider word wait for the store.
    /// Owner and group.
    owner: u64,
    /// Kind, marks, mode, and the number of its attributes beyond the mode.
    attributes: u64,
    /// Content or device; 0 for directories and links, each of which is its own.
    extra: u64,
}

impl Likeness {
    #[inline]
    pub(super) fn new(inode: &Inode) -> Self {
        let own = matches!(inode.kind, FileKind::Directory | FileKind::Link);
        let kind_and_marks = (inode.kind as u64) << 8 | u64::from(inode.marks.0);
        Self {
            owner: u64::from(inode.uid.raw()) << 32 | u64::from(inode.gid.raw()),
            attributes: kind_and_marks << 48 | u64::from(inode.mode.bits()) << 32 | u64::from(inode.extended),
            extra: if own { 0 } else { u64::from(inode.extra) },
        }
    }
}

/// What few inodes carry: ACLs, file capabilities and security labels.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Extended {
    /// The access ACL; `None` where the mode says it all.
    pub access: Option<Acl>,
    /// The default ACL of a directory.
    pub default: Option<Acl>,
    /// What running the file adds.
    pub capabilities: Option<FileCapabilities>,
    /// Its label (`security.selinux`), as it was told; `None` where nobody told it.
    pub label: Option<Arc<str>>,
    /// Whether an act made or labelled it after any engine did: then its label is the one here, and not known where none is.
    pub labelled_since: bool,
}

/// The device numbers of a node.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Device {
    /// Major number.
    pub major: u32,
    /// Minor number.
    pub minor: u32,
}
