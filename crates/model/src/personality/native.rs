//! ext2, ext3, ext4, xfs, btrfs and others that keep owners and modes themselves.

use super::Support;
use crate::outcome::Errno;

/// Where a new inode's group comes from.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub enum GroupRule {
    /// From the process, or from a set-group-id directory (`inode_init_owner`).
    #[default]
    Process,
    /// Always from the directory; new directories inherit no set-group-id bit (`ext4_new_inode` under `grpid`).
    Directory,
    /// From the directory, which passes its set-group-id bit on if it has one (`xfs_inode_init` under `grpid`).
    DirectoryUnlessSetGroupId,
}

/// A native filesystem.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Native {
    groups: GroupRule,
    with_option: GroupRule,
    is_xfs: bool,
    is_ext: bool,
}

impl Native {
    pub(super) fn of(filesystem: &str) -> Self {
        let with_option = match filesystem {
            "ext2" | "ext3" | "ext4" => GroupRule::Directory,
            "xfs" => GroupRule::DirectoryUnlessSetGroupId,
            _ => GroupRule::Process,
        };
        Self {
            groups: GroupRule::Process,
            with_option,
            is_xfs: filesystem == "xfs",
            is_ext: filesystem.starts_with("ext"),
        }
    }

    pub(super) fn option(&mut self, key: &str) -> bool {
        match key {
            "grpid" | "bsdgroups" if self.with_option != GroupRule::Process => self.groups = self.with_option,
            "nogrpid" | "sysvgroups" => self.groups = GroupRule::Process,
            "acl" | "user_xattr" | "discard" | "errors" | "data" | "inode64" | "lazytime" => {}
            _ => return false,
        }
        true
    }

    /// What a rename over a directory with entries ends with; POSIX allows both (`xfs_rename`).
    pub(super) const fn full_directory(self) -> Errno {
        if self.is_xfs { Errno::EEXIST } else { Errno::ENOTEMPTY }
    }

    /// Whether an immutable inode refuses a chown that names no id too, and an append-only one to lose set-id bits
    /// by it (`ext4_setattr`).
    pub(super) const fn locks_all(self) -> bool {
        self.is_ext
    }

    /// Whether a link's target of `length` bytes is kept (`XFS_SYMLINK_MAXLEN`; elsewhere it has to fit in a block, as in
    /// `ext4_symlink`, and blocks have 1024 bytes at least).
    pub(super) const fn keeps_target(self, length: usize) -> Support {
        match length {
            0..1024 => Support::Yes,
            _ if self.is_xfs => Support::No(Errno::ENAMETOOLONG),
            _ => Support::Unknown("whether a link target of that length fits in a block of the file system"),
        }
    }

    /// Whether truncate(2) of a file that is empty already does nothing at all, set-id bits included
    /// (`xfs_setattr_size`).
    pub(super) const fn skips_empty(self) -> bool {
        self.is_xfs
    }

    pub(super) const fn group_rule(self) -> GroupRule {
        self.groups
    }
}
