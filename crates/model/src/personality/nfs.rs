//! NFS: the server decides, for the identity it makes of the client's (fs/nfsd/auth.c, `nfsd_setuser`).

use super::{Feature, Support};
use crate::ids::DiskOwner;
use crate::ids::OVERFLOW_ID;
use crate::outcome::Errno;

/// Whose ids the server replaces (exports(5)).
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Squash {
    /// `root_squash`, the default of servers: 0 becomes the anonymous user.
    Root,
    /// `all_squash`: everyone is the anonymous user.
    All,
    /// `no_root_squash`: no one is replaced.
    Nobody,
}

impl Squash {
    /// Every possibility, the servers' default first.
    pub const ALL: [Self; 3] = [Self::Root, Self::Nobody, Self::All];

    /// The word in scene files.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Root => "root",
            Self::All => "all",
            Self::Nobody => "none",
        }
    }
}

/// How the server exports it; `None` if not given.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Export {
    /// Whose ids are replaced.
    pub squash: Option<Squash>,
    /// The anonymous user and group, ids of the server.
    pub anonymous: DiskOwner,
    /// Whether the server looks groups up itself instead of taking the client's first sixteen.
    pub manages_groups: bool,
}

impl Default for Export {
    fn default() -> Self {
        Self { squash: None, anonymous: DiskOwner::new(OVERFLOW_ID, OVERFLOW_ID), manages_groups: false }
    }
}

/// A mounted export.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Nfs {
    /// How it is exported.
    pub export: Export,
}

impl Nfs {
    /// Groups that fit into an AUTH_SYS call (`UNX_NGROUPS`); the kernel sends the lowest ones.
    pub const MOST_GROUPS: usize = 16;
}

pub(super) fn is_harmless(key: &str) -> bool {
    matches!(
        key,
        "vers"
            | "nfsvers"
            | "hard"
            | "soft"
            | "proto"
            | "rsize"
            | "wsize"
            | "timeo"
            | "retrans"
            | "nolock"
            | "addr"
            | "minorversion"
            | "noresvport"
            | "tcp"
            | "actimeo"
            | "nconnect"
    )
}

pub(super) const fn support(feature: Feature) -> Support {
    match feature {
        Feature::Links | Feature::HardLinks | Feature::Nodes | Feature::Owners | Feature::Modes => {
            Support::Yes
        }
        Feature::Attributes => Support::Unknown("whether the NFS server keeps extended attributes"),
        Feature::Acls => Support::No(Errno::EOPNOTSUPP),
    }
}
