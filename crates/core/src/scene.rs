//! Everything that was told: workloads, images, volumes and the host.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::fact::{Fact, Provenance};
use crate::identity::{ContainerSecurity, ImageFacts, PlainIdentity, PodSecurity};
use crate::ids::{MountIds, UserNamespace};
use crate::mount::MountFlags;
use crate::personality::Personality;
use crate::stage::{Role, Settings};
use crate::tree::Tree;

/// Everything that was told, before any rule is applied.
#[derive(Clone, Debug, Default)]
pub struct Scene {
    /// What runs.
    pub workloads: Vec<Workload>,
    /// What is known of images, by the name workloads use.
    pub images: BTreeMap<String, Image>,
    /// What is known of volumes, by claim name or scene volume name.
    pub volumes: BTreeMap<String, VolumeFacts>,
    /// What is known of the host.
    pub host: Host,
}

/// What is known of one image.
#[derive(Clone, Debug, Default)]
pub struct Image {
    /// Its user and accounts.
    pub identity: ImageFacts,
    /// Its files; `None` where nobody told.
    pub tree: Option<Arc<Tree>>,
}

/// What is known of one volume.
#[derive(Clone, Debug)]
pub struct VolumeFacts {
    /// What lies on it; `None` where nobody told.
    pub tree: Option<Arc<Tree>>,
    /// Its filesystem type.
    pub filesystem: Option<Fact<String>>,
    /// What that filesystem does differently, its options included.
    pub personality: Personality,
    /// Mount options that are flags.
    pub flags: MountFlags,
    /// Whether its superblock is read-only.
    pub read_only_filesystem: bool,
    /// Whether the kubelet applies the filesystem group to it.
    pub group_ownership: Option<Fact<bool>>,
    /// Where it was told.
    pub from: Provenance,
}

/// What is known of the host.
#[derive(Clone, Debug, Default)]
pub struct Host {
    /// What lies at the sources of host paths; `None` where nobody told.
    pub tree: Option<Arc<Tree>>,
    /// Its kernel settings.
    pub settings: Settings,
    /// The user namespace that containers without one of their own live in, where it is not the host's.
    pub user_namespace: Option<Fact<Arc<UserNamespace>>>,
}

/// One workload: a pod, or the containers a scene file lists itself.
#[derive(Clone, Debug)]
pub struct Workload {
    /// Its name.
    pub name: String,
    /// Its kind in the description, such as `Deployment`.
    pub kind: String,
    /// The pod-level security context; the default for containers of a scene file.
    pub security: PodSecurity,
    /// The volumes it declares.
    pub volumes: Vec<Volume>,
    /// Its containers in order: init containers first.
    pub containers: Vec<Container>,
    /// Whether the service account token is mounted; `None` where nobody told.
    pub service_account_token: Option<Fact<bool>>,
    /// Where it was described.
    pub from: Provenance,
}

/// Who describes a container's identity.
#[derive(Clone, Debug)]
pub enum Who {
    /// A Kubernetes security context.
    Kubernetes(ContainerSecurity),
    /// The scene file itself.
    Plain(PlainIdentity),
}

/// One container.
#[derive(Clone, Debug)]
pub struct Container {
    /// Its name.
    pub name: String,
    /// Its part in the pod.
    pub role: Role,
    /// The image it runs.
    pub image: Option<Fact<String>>,
    /// Who it is to be.
    pub who: Who,
    /// Whether its root filesystem is mounted read-only.
    pub read_only_root: bool,
    /// Whether it is privileged: every device, writable `/sys`.
    pub privileged: bool,
    /// The mounts it asks for.
    pub mounts: Vec<VolumeMount>,
    /// Its working directory, where the description sets one.
    pub working_directory: Option<Fact<Vec<u8>>>,
    /// Where the kubelet mounts the termination log, where the description says so.
    pub termination_log: Option<Fact<Vec<u8>>>,
    /// Where it was described.
    pub from: Provenance,
}

/// One mount a container asks for.
#[derive(Clone, Debug)]
pub struct VolumeMount {
    /// The name of the volume.
    pub volume: Fact<String>,
    /// The absolute path inside.
    pub at: Fact<Vec<u8>>,
    /// Whether this mount is read-only.
    pub read_only: bool,
    /// Further flags.
    pub flags: MountFlags,
    /// The mount's id map.
    pub ids: MountIds,
    /// The part of the volume that shows.
    pub sub_path: Option<Fact<Vec<u8>>>,
}

/// One declared volume.
#[derive(Clone, Debug)]
pub struct Volume {
    /// Its name within the workload.
    pub name: Fact<String>,
    /// What it is.
    pub kind: VolumeKind,
}

/// What a volume is.
#[derive(Clone, Debug)]
pub enum VolumeKind {
    /// `emptyDir`
    EmptyDir(Medium),
    /// `hostPath`
    HostPath {
        /// The path on the host.
        path: Vec<u8>,
        /// What the kubelet checks or makes.
        check: HostPathCheck,
    },
    /// `persistentVolumeClaim`
    Claim {
        /// The claim's name.
        claim: String,
        /// `readOnly` of the claim reference.
        read_only: bool,
    },
    /// A volume of the scene file.
    Stored(String),
    /// A kind whose contents are not known to this version; always read-only ones say so.
    Other {
        /// The field's name, such as `configMap`.
        kind: String,
        /// Whether it is mounted read-only whatever the mount says.
        read_only: bool,
    },
}

/// Where an `emptyDir` lives.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Medium {
    /// The node's disk.
    Disk,
    /// A tmpfs.
    Memory,
}

/// The `type` of a `hostPath`.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum HostPathCheck {
    /// Empty or absent: nothing is checked; a missing path becomes a directory.
    None,
    /// `DirectoryOrCreate`
    DirectoryOrCreate,
    /// `Directory`
    Directory,
    /// `FileOrCreate`
    FileOrCreate,
    /// `File`
    File,
    /// `Socket`
    Socket,
    /// `CharDevice`
    CharDevice,
    /// `BlockDevice`
    BlockDevice,
}

impl HostPathCheck {
    /// The check of that name in the API; names are case-sensitive.
    #[must_use]
    pub fn by_name(name: &str) -> Option<Self> {
        Some(match name {
            "" => Self::None,
            "DirectoryOrCreate" => Self::DirectoryOrCreate,
            "Directory" => Self::Directory,
            "FileOrCreate" => Self::FileOrCreate,
            "File" => Self::File,
            "Socket" => Self::Socket,
            "CharDevice" => Self::CharDevice,
            "BlockDevice" => Self::BlockDevice,
            _ => return None,
        })
    }

    /// Every name the API accepts.
    pub const NAMES: [&'static str; 7] =
        ["DirectoryOrCreate", "Directory", "FileOrCreate", "File", "Socket", "CharDevice", "BlockDevice"];
}
