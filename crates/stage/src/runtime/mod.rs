//! What container runtimes do differently, one table a runtime (docs/facts/runtimes.md).
//!
//! A rule that rests on a quirk of one measured version is a switch of its own here, so that another version's
//! profile can leave it off.

mod builders;
mod common;
mod containerd;
mod cri_o;
mod docker;
mod oci;
mod podman;
mod profile;

pub use builders::{BuildRules, Builder, Chmod, InSetGroupId, WorkingDirectory};
pub use profile::{
    Added, BindRules, Both, CapabilityNames, CapabilityRules, DefaultKind, DefaultRow, Entering, Flavour,
    Forgets, IdentityRules, InNamespace, Listing, MountPointRules, Profile, RootDirectory, TmpfsRules,
    VolumeRules,
};

/// A container runtime whose rules are known here.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Runtime {
    /// No runtime was named: a container of the scene file, with exactly the mounts it lists.
    Bare,
    /// containerd 2.x with runc, behind a kubelet.
    Containerd,
    /// containerd 1.6 with runc 1.1, quirks included, as measured.
    Containerd16,
    /// CRI-O, by its documentation; not measured.
    CriO,
    /// Docker with runc 1.1, as measured.
    Docker,
    /// Podman with crun 1.8, as measured.
    Podman,
    /// runc 1.1 on an OCI bundle.
    Runc,
    /// crun 1.8 on an OCI bundle.
    Crun,
}

impl Runtime {
    /// Every runtime that can be named.
    pub const NAMED: [Self; 7] = [
        Self::Containerd,
        Self::Containerd16,
        Self::CriO,
        Self::Docker,
        Self::Podman,
        Self::Runc,
        Self::Crun,
    ];

    /// The name in scene files and answers.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Bare => "none",
            Self::Containerd => "containerd",
            Self::Containerd16 => "containerd-1.6",
            Self::CriO => "cri-o",
            Self::Docker => "docker",
            Self::Podman => "podman",
            Self::Runc => "runc",
            Self::Crun => "crun",
        }
    }

    /// The runtime of that name.
    #[must_use]
    pub fn by_word(word: &str) -> Option<Self> {
        Self::NAMED.into_iter().find(|runtime| runtime.word() == word)
    }

    /// Its rules.
    #[must_use]
    pub const fn profile(self) -> &'static Profile {
        match self {
            Self::Bare => &containerd::BARE,
            Self::Containerd => &containerd::CURRENT,
            Self::Containerd16 => &containerd::VERSION_1_6,
            Self::CriO => &cri_o::PROFILE,
            Self::Docker => &docker::PROFILE,
            Self::Podman => &podman::PROFILE,
            Self::Runc => &oci::RUNC,
            Self::Crun => &oci::CRUN,
        }
    }

    /// Whether it is an engine that users start for themselves, too.
    #[must_use]
    pub const fn has_starter(self) -> bool {
        match self {
            Self::Docker | Self::Podman | Self::Bare => true,
            Self::Containerd | Self::Containerd16 | Self::CriO | Self::Runc | Self::Crun => false,
        }
    }

    /// Whether it can run workloads of `flavour`.
    #[must_use]
    pub const fn runs(self, flavour: Flavour) -> bool {
        match flavour {
            Flavour::Scene => true,
            Flavour::Pod => matches!(self, Self::Containerd | Self::Containerd16 | Self::CriO),
            Flavour::Compose => matches!(self, Self::Docker | Self::Podman),
            Flavour::Bundle => matches!(self, Self::Runc | Self::Crun),
        }
    }
}

impl Flavour {
    /// The runtime of a workload whose description names none.
    #[must_use]
    pub const fn usual(self) -> Runtime {
        match self {
            Self::Scene => Runtime::Bare,
            Self::Pod => Runtime::Containerd,
            Self::Compose => Runtime::Docker,
            Self::Bundle => Runtime::Runc,
        }
    }
}
