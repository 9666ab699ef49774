//! What kind of volume or file system a mount shows.

use std::fmt;
use std::sync::Arc;

/// What is mounted, as far as rules and remedies tell kinds apart.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum MountKind {
    /// The files of an image: a container's root, or an image volume.
    Image,
    /// The host's own tree, for its actor.
    Host,
    /// A directory of the pod's own.
    EmptyDir,
    /// A tmpfs of the container's own.
    Tmpfs,
    /// A path of the node, for a pod.
    HostPath,
    /// A path of the host, or a single file that the runtime provides.
    Bind,
    /// A claim for a volume of the cluster.
    Claim,
    /// A claim that is made with the pod.
    Ephemeral,
    /// A volume of an engine or of a scene.
    Volume,
    /// Entries of a Secret.
    Secret,
    /// Entries of a ConfigMap.
    ConfigMap,
    /// Several API objects in one volume.
    Projected,
    /// Fields of the pod.
    DownwardApi,
    /// An NFS export that the pod names itself.
    Nfs,
    /// What the runtime mounts into every container, by its name: `proc`, `masked` and the like.
    Runtime(Arc<str>),
    /// Any other volume type, by its key in the description.
    Other(Arc<str>),
}

impl MountKind {
    /// The kind of a volume that a pod describes under `key`.
    #[must_use]
    pub fn of_key(key: &str) -> Self {
        match key {
            "nfs" => Self::Nfs,
            "hostPath" => Self::HostPath,
            other => Self::Other(Arc::from(other)),
        }
    }

    /// The word used in answers: the key of the description where there is one.
    #[must_use]
    pub fn word(&self) -> &str {
        match self {
            Self::Image => "image",
            Self::Host => "host",
            Self::EmptyDir => "emptyDir",
            Self::Tmpfs => "tmpfs",
            Self::HostPath => "hostPath",
            Self::Bind => "bind",
            Self::Claim => "persistentVolumeClaim",
            Self::Ephemeral => "ephemeral",
            Self::Volume => "volume",
            Self::Secret => "secret",
            Self::ConfigMap => "configMap",
            Self::Projected => "projected",
            Self::DownwardApi => "downwardAPI",
            Self::Nfs => "nfs",
            Self::Runtime(word) | Self::Other(word) => word,
        }
    }

    /// Whether the kubelet writes it: what is changed there is replaced, and every mount of it is read-only
    /// (docs/facts/kubelet.md section 6).
    #[must_use]
    pub const fn is_written_by_kubelet(&self) -> bool {
        matches!(self, Self::Secret | Self::ConfigMap | Self::Projected | Self::DownwardApi)
    }

    /// Whether it is made anew, and empty, with each pod or container.
    #[must_use]
    pub const fn is_made_anew(&self) -> bool {
        matches!(self, Self::EmptyDir | Self::Tmpfs)
    }

    /// Whether it is bound from the host's tree.
    #[must_use]
    pub const fn is_bound(&self) -> bool {
        matches!(self, Self::Bind | Self::HostPath)
    }
}

impl fmt::Display for MountKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}
