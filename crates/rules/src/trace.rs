//! The ordered checks that lead to an outcome.

use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::mode::{Access, Mode};
use mivask_model::outcome::Errno;

macro_rules! checks {
    ($($(#[$doc:meta])* $name:ident $code:literal),+ $(,)?) => {
        /// One kind of check the kernel makes.
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
        pub enum Check { $($(#[$doc])* $name),+ }

        impl Check {
            /// Every check.
            pub const ALL: &'static [Self] = &[$(Self::$name),+];

            /// The name used in JSON and traces; never changes once released.
            #[must_use]
            pub const fn code(self) -> &'static str {
                match self { $(Self::$name => $code),+ }
            }
        }
    };
}

checks! {
    /// The name was looked up in its directory.
    Lookup "lookup",
    /// A symbolic link was met.
    Link "link",
    /// `fs.protected_symlinks` on a final link in a shared directory.
    ProtectedSymlink "protected-symlink",
    /// A mount covers the path.
    MountPoint "mount-point",
    /// What kind of inode it is, against what the act needs.
    Kind "kind",
    /// The superblock is read-only.
    ReadOnlyFilesystem "read-only-filesystem",
    /// The mount is read-only.
    ReadOnlyMount "read-only-mount",
    /// `noexec` on the mount.
    NoExec "noexec-mount",
    /// `nodev` on the mount.
    NoDev "nodev-mount",
    /// The container's device list.
    DeviceList "device-list",
    /// The immutable attribute.
    Immutable "immutable",
    /// The append-only attribute.
    AppendOnly "append-only",
    /// An id of the inode has no mapping on this mount.
    Unmapped "unmapped-id",
    /// The owner's bits decide.
    OwnerBits "owner-bits",
    /// A named user entry of the ACL decides.
    AclUser "acl-user",
    /// Group entries of the ACL decide.
    AclGroup "acl-group",
    /// The group's bits decide.
    GroupBits "group-bits",
    /// Everyone else's bits decide.
    OtherBits "other-bits",
    /// The bits are against it, and a capability that is held does not count: an id of the inode is not mapped in the actor's user
    /// namespace.
    UnmappedOwner "unmapped-owner",
    /// A capability overrides the bits.
    Capability "capability",
    /// The sticky bit of the directory.
    Sticky "sticky",
    /// `fs.protected_regular` and `fs.protected_fifos`.
    ProtectedFile "protected-file",
    /// `fs.protected_hardlinks`.
    ProtectedHardlink "protected-hardlink",
    /// Both paths must be on one mount.
    OneMount "one-mount",
    /// Whether the actor owns the inode, or counts as its owner.
    Owner "owner",
    /// Who may give an inode to another user or group.
    GivingAway "giving-away",
    /// What the file system can do at all.
    Feature "feature",
    /// What a server behind the mount decides.
    Server "server",
    /// Whether a FUSE mount lets the actor in.
    Fuse "fuse",
    /// Whether the directory is empty.
    Empty "empty",
    /// What the file's first bytes are.
    Format "format",
    /// File capabilities of a started program.
    FileCapabilities "file-capabilities",
    /// Set-user-id and set-group-id on a started program.
    SetId "set-id",
    /// The labels of the process and of the inode, by the host's SELinux policy.
    Label "label",
    /// The AppArmor profile that the engine gives.
    Profile "apparmor",
    /// The owner, group and mode that a new or changed inode has.
    Imprint "imprint",
    /// No one said; one possibility is taken.
    Unknown "unknown",
}

impl Check {
    /// Whether it is one that bits, an ACL, ownership or a capability decides.
    #[must_use]
    pub const fn is_permission(self) -> bool {
        matches!(
            self,
            Self::OwnerBits
                | Self::AclUser
                | Self::AclGroup
                | Self::GroupBits
                | Self::OtherBits
                | Self::UnmappedOwner
                | Self::Capability
                | Self::Sticky
                | Self::Owner
                | Self::GivingAway
        )
    }
}

/// How a check ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum StepResult {
    /// It did not stop the act.
    Passed,
    /// It stopped the act.
    Failed(Errno),
}

/// One check, with the fact it rests on.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Step {
    /// The path it looked at, as walked so far.
    pub path: Vec<u8>,
    /// What was checked.
    pub check: Check,
    /// The fact, in words.
    pub fact: String,
    /// Where the fact came from.
    pub from: Provenance,
    /// How it ended.
    pub result: StepResult,
    /// What a check of mode bits or an ACL compared; `None` for every other check.
    pub bits: Option<Bits>,
}

impl Step {
    /// One for a witness that looks at nothing else ([`BRIEF`](crate::witness::Witness::BRIEF)).
    pub(crate) fn brief(check: Check, result: StepResult) -> Self {
        let from = Provenance::Rule(Arc::default());
        Self { path: Vec::new(), check, fact: String::new(), from, result, bits: None }
    }
}

/// What a check of mode bits or an ACL compared.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Bits {
    /// What the act needs.
    pub needed: Access,
    /// What the deciding class has, the ACL's mask applied. [`Step::check`] names the class.
    pub granted: Access,
    /// The inode's owner as the actor sees it: 65534 where the actor's namespace has no id for it.
    pub owner: InsideUid,
    /// The inode's group, likewise.
    pub group: InsideGid,
    /// The inode's permission bits.
    pub mode: Mode,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_differ() {
        let mut codes: Vec<_> = Check::ALL.iter().map(|check| check.code()).collect();
        codes.sort_unstable();
        codes.dedup();
        assert_eq!(codes.len(), Check::ALL.len());
    }
}
