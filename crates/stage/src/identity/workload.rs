//! What a description and an image say about an identity, before anything is resolved.

use std::sync::Arc;

use mivask_model::accounts::Accounts;
use mivask_model::caps::CapabilitySet;
use mivask_model::fact::{Fact, Unknown};
use mivask_model::ids::UserNamespace;
use mivask_model::mode::Mode;

use crate::identity::capability_sets::DeclaredCapabilities;
use crate::namespace::NamespaceAsked;

/// What is known about something that may simply not have been given.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub enum Knowledge<T> {
    /// No one said.
    #[default]
    Unknown,
    /// Told.
    Known(T),
}

impl<T> Knowledge<T> {
    /// What was told, if anything was.
    pub const fn known(&self) -> Option<&T> {
        match self {
            Self::Known(told) => Some(told),
            Self::Unknown => None,
        }
    }
}

/// What an image says about identities.
#[derive(Clone, Debug, Default)]
pub struct ImageFacts {
    /// Its `USER`; `Known(None)` where it has none.
    pub user: Knowledge<Option<Fact<String>>>,
    /// Its account files.
    pub accounts: Knowledge<Accounts>,
    /// Whether others are mounted over them when the process starts: runc looks groups up in those.
    pub covered: bool,
}

/// The pod-level security context of the Kubernetes API, as far as it concerns identities.
#[derive(Clone, Debug, Default)]
pub struct PodSecurity {
    /// `runAsUser`
    pub run_as_user: Option<Fact<u32>>,
    /// `runAsGroup`
    pub run_as_group: Option<Fact<u32>>,
    /// `runAsNonRoot`
    pub run_as_non_root: Option<Fact<bool>>,
    /// `supplementalGroups`
    pub supplemental_groups: Vec<Fact<u32>>,
    /// `supplementalGroupsPolicy: Strict`
    pub strict_groups: Option<Fact<bool>>,
    /// `fsGroup`
    pub fs_group: Option<Fact<u32>>,
    /// `fsGroupChangePolicy: OnRootMismatch`
    pub on_root_mismatch: Option<Fact<bool>>,
    /// `seLinuxChangePolicy: Recursive`: no volume is mounted with its label.
    pub labels_recursively: Option<Fact<bool>>,
}

/// The container-level security context of the Kubernetes API.
#[derive(Clone, Debug, Default)]
pub struct ContainerSecurity {
    /// `runAsUser`
    pub run_as_user: Option<Fact<u32>>,
    /// `runAsGroup`
    pub run_as_group: Option<Fact<u32>>,
    /// `runAsNonRoot`
    pub run_as_non_root: Option<Fact<bool>>,
    /// `capabilities`
    pub capabilities: DeclaredCapabilities,
    /// `privileged`
    pub privileged: Option<Fact<bool>>,
    /// `allowPrivilegeEscalation`
    pub allow_privilege_escalation: Option<Fact<bool>>,
    /// `readOnlyRootFilesystem`
    pub read_only_root: Option<Fact<bool>>,
    /// The umask, where the scene sets it for this container.
    pub umask: Option<Fact<Mode>>,
}

/// A supplementary group as a description names it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum GroupName {
    /// By number.
    Number(u32),
    /// By name, which needs a line in the image's group file.
    Name(String),
}

impl std::fmt::Display for GroupName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Number(gid) => write!(f, "{gid}"),
            Self::Name(name) => f.write_str(name),
        }
    }
}

/// The identity of a container that a scene file or a Compose file describes.
#[derive(Clone, Debug, Default)]
pub struct PlainIdentity {
    /// `user`: `UID`, `UID:GID` or names; the image's `USER` where absent.
    pub user: Option<Fact<String>>,
    /// What would say who it is, where somebody is named and nobody can tell whom: neither `user` nor the image counts then.
    pub untold: Option<Unknown>,
    /// Added supplementary groups.
    pub groups: Vec<Fact<GroupName>>,
    /// `filesystem-group`: also a supplementary group.
    pub filesystem_group: Option<Fact<u32>>,
    /// `capabilities`
    pub capabilities: DeclaredCapabilities,
    /// `effective-capabilities`: wins over everything derived.
    pub effective: Option<Fact<CapabilitySet>>,
    /// `privileged`
    pub privileged: Option<Fact<bool>>,
    /// `no-new-privileges`
    pub no_new_privileges: Option<Fact<bool>>,
    /// `umask`
    pub umask: Option<Fact<Mode>>,
    /// The user namespace that it asks for; the engine's where absent.
    pub user_namespace: Option<Fact<NamespaceAsked>>,
}

/// What a container's user namespace and who starts its engine add to who it is.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct NamespaceTerms {
    /// The user and group inside of who starts the engine, who it runs as where nobody is named (`keep-id`).
    pub starter: Option<(u32, u32)>,
    /// The group inside that its engine adds (`keep-id`, `nomap`).
    pub kept_group: Option<Fact<u32>>,
    /// The groups of the host that `keep-groups` keeps; `None` where root starts it, who has none.
    pub kept_groups: Option<Arc<[u32]>>,
    /// The ids there are, where the engine passes over memberships of other groups.
    pub available: Option<Arc<UserNamespace>>,
}

/// The process of an OCI runtime configuration.
#[derive(Clone, Debug)]
pub struct ProcessIdentity {
    /// `process.user.uid`
    pub uid: Fact<u32>,
    /// `process.user.gid`
    pub gid: Fact<u32>,
    /// `process.user.additionalGids`
    pub groups: Vec<Fact<u32>>,
    /// `process.user.umask`
    pub umask: Option<Fact<Mode>>,
    /// `process.noNewPrivileges`
    pub no_new_privileges: Option<Fact<bool>>,
    /// `process.capabilities.bounding`
    pub bounding: CapabilitySet,
    /// `process.capabilities.effective`, in force until the program starts.
    pub effective: CapabilitySet,
    /// `process.capabilities.permitted`
    pub permitted: CapabilitySet,
    /// `process.capabilities.inheritable`
    pub inheritable: CapabilitySet,
    /// `process.capabilities.ambient`
    pub ambient: CapabilitySet,
    /// `linux.uidMappings` and `linux.gidMappings`
    pub user_namespace: Option<Fact<Arc<UserNamespace>>>,
}
