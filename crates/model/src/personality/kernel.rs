//! proc, sysfs, devpts and mqueue: the kernel makes what is in them, and lets nobody change their directories but for mqueue's
//! files. Measured as root and as another user, in crates/trial/tests/kernel_files.rs.

use super::{Feature, Support};
use crate::outcome::Errno;

/// One of them.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Kernel {
    /// Processes and settings: the look-up of a name that is not there fails whatever it is for (`proc_lookup_de`).
    Proc,
    /// Devices and drivers (kernfs).
    Sysfs,
    /// Terminals.
    Devpts,
    /// POSIX message queues: files, made and removed like others.
    Mqueue,
}

/// What is done to a directory.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Entry {
    /// A regular file is made.
    File,
    /// Anything else is made, or gets another name.
    Other,
    /// A name that is not a directory's is removed.
    Removed,
    /// A directory is removed.
    DirectoryRemoved,
    /// An entry is renamed.
    Renamed,
}

impl Kernel {
    pub(super) fn of(filesystem: &str) -> Option<Self> {
        Some(match filesystem {
            "proc" => Self::Proc,
            "sysfs" => Self::Sysfs,
            "devpts" => Self::Devpts,
            "mqueue" => Self::Mqueue,
            _ => return None,
        })
    }

    /// Where it has no such operation: what it answers to whoever has permission (`lookup_open`, `vfs_mkdir`, `vfs_unlink` and
    /// the like in fs/namei.c).
    pub(super) const fn refuses(self, entry: Entry) -> Option<Errno> {
        match (self, entry) {
            (Self::Mqueue, Entry::File | Entry::Removed) => None,
            (_, Entry::File) => Some(Errno::EACCES),
            (_, Entry::Other | Entry::Removed | Entry::DirectoryRemoved | Entry::Renamed) => {
                Some(Errno::EPERM)
            }
        }
    }

    pub(super) const fn support(self, feature: Feature) -> Support {
        match (self, feature) {
            (_, Feature::Links | Feature::HardLinks | Feature::Nodes) => Support::No(Errno::EPERM),
            (Self::Proc, Feature::Owners | Feature::Modes) => {
                Support::Unknown("whether this file of proc lets its owner and mode be changed")
            }
            (Self::Sysfs, Feature::Attributes) => Support::Unknown("which attributes sysfs keeps"),
            (_, Feature::Owners | Feature::Modes) => Support::Yes,
            (_, Feature::Attributes | Feature::Acls) => Support::No(Errno::EOPNOTSUPP),
        }
    }
}
