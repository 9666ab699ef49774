//! Security labels of a source as a whole, beside those that its inodes have.

use std::sync::Arc;

/// What is known of the labels of a source.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Labels {
    /// Each inode has its own (`security.selinux`), as far as the options here do not say more.
    Stored(StoredLabels),
    /// One label for all that is and will be there: the mount option `context=`.
    Mounted(Arc<str>),
    /// The engine gives it the label of the container's own files.
    Container,
    /// Mount options say more of them than is followed here.
    Open,
    /// The kernel makes it up, and the policy labels it by its paths (`genfscon`).
    ByPath,
}

/// What is said beside the labels that inodes have.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct StoredLabels {
    /// The label of each inode of which none is told.
    pub rest: Option<Arc<str>>,
    /// The label of the file system itself (`fscontext=`), which is that of every inode where the policy labels by paths.
    pub filesystem: Option<Arc<str>>,
    /// The label of its root (`rootcontext=`).
    pub root: Option<Arc<str>>,
}

/// What a container's engine made of the labels below a mount.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Relabelled {
    /// They are those of every container's files.
    Shared,
    /// They are those of this container's files alone.
    Private,
    /// It lies an overlay over them, whose labels are not followed.
    Overlaid,
    /// Several containers have them labelled: who started last is not known.
    Contested,
}

impl Relabelled {
    /// The word in JSON; never changes once released.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Shared => "shared",
            Self::Private => "private",
            Self::Overlaid => "overlaid",
            Self::Contested => "contested",
        }
    }

    /// What did it, for sentences.
    #[must_use]
    pub const fn by(self) -> &'static str {
        match self {
            Self::Shared => "z",
            Self::Private => "Z",
            Self::Overlaid => "the engine's overlay",
            Self::Contested => "whichever container starts last",
        }
    }
}

impl Default for Labels {
    fn default() -> Self {
        Self::Stored(StoredLabels::default())
    }
}
