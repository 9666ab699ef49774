//! Values that nearly every installation has where nobody gives them (docs/usual.md has each with its source).

use std::sync::Arc;

use crate::ids::DiskOwner;
use crate::mode::Mode;

/// Directories that an image has (Filesystem Hierarchy Standard 3.0, chapters 3 to 5) and that are 0:0 0755, what holds one before it.
const DIRECTORIES: [&str; 15] = [
    "/bin",
    "/etc",
    "/home",
    "/mnt",
    "/opt",
    "/srv",
    "/usr",
    "/usr/bin",
    "/usr/lib",
    "/usr/local",
    "/usr/local/bin",
    "/usr/share",
    "/var",
    "/var/cache",
    "/var/lib",
];
/// Those that everybody may write to, 0:0 1777.
const TEMPORARY: [&str; 2] = ["/tmp", "/var/tmp"];

/// The directories of every image with their modes; what holds one comes before it.
pub fn image_directories() -> impl Iterator<Item = (&'static str, Mode)> {
    let plain = DIRECTORIES.iter().map(|path| (*path, Mode::new(0o755)));
    plain.chain(TEMPORARY.iter().map(|path| (*path, Mode::new(0o1777))))
}

/// Which usual value it is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum UsualRule {
    /// A claim that the input itself makes, for one node at a time: a file system on a block device, new and empty, its root
    /// directory 0:0 0755.
    NewClaim,
    /// The kubelet gives such a claim to the filesystem group.
    GroupApplied,
    /// A directory that the Filesystem Hierarchy Standard requires is in an image: 0:0 0755, `/tmp` and `/var/tmp` 0:0 1777.
    ImageDirectory,
    /// What is to be made under a new name is not there yet.
    NewName,
    /// What a mount shows is a directory.
    MountIsDirectory,
    /// What a container needs to start is there.
    Starts,
}

impl UsualRule {
    /// All of them.
    pub const ALL: [Self; 6] = [
        Self::NewClaim,
        Self::GroupApplied,
        Self::ImageDirectory,
        Self::NewName,
        Self::MountIsDirectory,
        Self::Starts,
    ];

    /// The word used in JSON and as the heading in docs/usual.md.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::NewClaim => "new-claim",
            Self::GroupApplied => "group-applied",
            Self::ImageDirectory => "image-directory",
            Self::NewName => "new-name",
            Self::MountIsDirectory => "mount-is-directory",
            Self::Starts => "starts",
        }
    }
}

/// One usual value, of one thing.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Usual {
    /// Which it is.
    pub rule: UsualRule,
    /// The same as a sentence: `claim readings is new: empty, its root 0:0 0755`.
    pub says: Arc<str>,
    /// Owner and mode, where it is about those of one inode.
    pub leaves: Option<(DiskOwner, Mode)>,
}

impl Usual {
    /// A usual value.
    #[must_use]
    pub fn new(rule: UsualRule, says: &str) -> Self {
        Self { rule, says: says.into(), leaves: None }
    }

    /// The same as an assumption, for where it is taken to be so.
    #[must_use]
    pub fn assumption(&self) -> Arc<str> {
        format!("as usual {}", self.says).into()
    }

    /// The same, to be shared by what it is usual of.
    #[must_use]
    pub fn shared(rule: UsualRule, says: &str) -> Arc<Self> {
        Arc::new(Self::new(rule, says))
    }
}
