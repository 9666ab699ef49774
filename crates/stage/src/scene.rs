//! Everything that was told: workloads, images, volumes and the host.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::accounts::Accounts;

use crate::cast::Cast;
pub use crate::cluster::HostPathCheck;
use crate::cluster::{Backing, Cluster};
use crate::identity::{ContainerSecurity, ImageFacts, PlainIdentity, PodSecurity, ProcessIdentity, Resolved};
use crate::recipe::Recipe;
use crate::runtime::{Flavour, Runtime};
use crate::stage::Role;
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::host_mounts::HostMounts;
use mivask_model::ids::{MountIds, UserNamespace};
use mivask_model::mode::Mode;
use mivask_model::mount::MountFlags;
use mivask_model::personality::{Personality, Tmpfs};
use mivask_model::refusal::Refusal;
use mivask_model::storage::Settings;
use mivask_model::tree::Tree;

/// Everything that was told, before any rule is applied.
#[derive(Clone, Debug, Default)]
pub struct Scene {
    /// What it is about, in the user's words.
    pub title: Option<String>,
    /// What runs.
    pub workloads: Vec<Workload>,
    /// What is known of images, by the name workloads use.
    pub images: BTreeMap<String, Image>,
    /// How images are built that nobody gave, by the same name. What `images` says of one wins.
    pub builds: BTreeMap<String, Recipe>,
    /// What is known of volumes, by claim name or scene volume name.
    pub volumes: BTreeMap<String, VolumeFacts>,
    /// What is known of the host.
    pub host: Host,
    /// The runtime that was named; each workload's usual one where none was, or where it cannot run it.
    pub runtime: Option<Runtime>,
    /// Ids the platform gives to pods that name none.
    pub assigned: Assigned,
    /// Objects that pods refer to.
    pub cluster: Cluster,
}

impl Scene {
    /// The names its actors go by.
    #[must_use]
    pub fn cast(&self) -> Cast {
        let names: Vec<Arc<str>> =
            self.workloads.iter().map(|workload| workload.name.as_str().into()).collect();
        let workloads = names.iter().zip(&self.workloads);
        Cast::of(workloads.flat_map(|(name, workload)| {
            workload.containers.iter().map(move |container| (name, container.name.as_str()))
        }))
    }

    /// The runtime of `workload`.
    #[must_use]
    pub fn runtime_of(&self, workload: &Workload) -> Runtime {
        let named = self.runtime.filter(|runtime| runtime.runs(workload.flavour));
        named.unwrap_or_else(|| workload.flavour.usual())
    }
}

/// Ids that some platforms give to every pod of a namespace whose manifest names none.
#[derive(Clone, Debug, Default)]
pub struct Assigned {
    /// In place of a missing `runAsUser`.
    pub user: Option<Fact<u32>>,
    /// In place of a missing `runAsGroup`.
    pub group: Option<Fact<u32>>,
    /// In place of a missing `fsGroup`.
    pub filesystem_group: Option<Fact<u32>>,
}

/// What is known of one image.
#[derive(Clone, Debug, Default)]
pub struct Image {
    /// Its user and accounts.
    pub identity: ImageFacts,
    /// Its files; `None` where nobody told.
    pub tree: Option<Arc<Tree>>,
    /// The paths of its `VOLUME`s.
    pub volumes: Vec<Fact<Vec<u8>>>,
    /// Its working directory.
    pub working_directory: Option<Fact<Vec<u8>>>,
    /// What was taken for granted about it.
    pub assumptions: Vec<Arc<str>>,
    /// Why there is no such image: its build fails.
    pub failure: Option<Refusal>,
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

impl VolumeFacts {
    /// What lies on a volume with a native file system.
    #[must_use]
    pub fn native(filesystem: &str, tree: Tree, from: Provenance) -> Self {
        Self {
            tree: Some(Arc::new(tree)),
            filesystem: Some(Fact::new(filesystem.to_owned(), from.clone())),
            personality: Personality::default(),
            flags: MountFlags::NONE,
            read_only_filesystem: false,
            group_ownership: None,
            from,
        }
    }
}

/// What is known of the host.
#[derive(Clone, Debug, Default)]
pub struct Host {
    /// What lies at the sources of host paths; `None` where nobody told.
    pub tree: Option<Arc<Tree>>,
    /// What is mounted on it; `None` where nobody told.
    pub mounts: Option<HostMounts>,
    /// Its account files; they decide nothing in a container, and tell which numbers are taken.
    pub accounts: Option<Accounts>,
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
    /// What kind of description it comes from.
    pub flavour: Flavour,
    /// Its namespace in a cluster; `default` where none is told.
    pub namespace: String,
    /// `hostUsers: false`: the pod has a user namespace of its own, and its volumes are id-mapped.
    pub own_users: Option<Provenance>,
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

impl Workload {
    /// Containers that see exactly the mounts they ask for, of volumes that the scene tells of by name.
    #[must_use]
    pub fn plain(name: &str, containers: Vec<Container>, from: Provenance) -> Self {
        let mounts = containers.iter().flat_map(|container| &container.mounts);
        let names: std::collections::BTreeSet<&str> =
            mounts.map(|mount| mount.volume.value.as_str()).collect();
        let volume = |name: &str| Volume {
            name: Fact::new(name.to_owned(), from.clone()),
            kind: VolumeKind::Stored(name.to_owned()),
        };
        Self {
            name: name.to_owned(),
            kind: "scene".to_owned(),
            flavour: Flavour::Scene,
            namespace: String::new(),
            own_users: None,
            security: PodSecurity::default(),
            volumes: names.into_iter().map(volume).collect(),
            containers,
            service_account_token: None,
            from,
        }
    }
}

/// Who describes a container's identity.
#[derive(Clone, Debug)]
pub enum Who {
    /// A Kubernetes security context.
    Kubernetes(Box<ContainerSecurity>),
    /// The scene file itself, or a Compose file.
    Plain(Box<PlainIdentity>),
    /// An OCI runtime configuration.
    Process(Box<ProcessIdentity>),
    /// A process that runs already: it is who it is.
    Running(Box<Resolved>),
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
    /// Whether nothing of `/proc` and `/sys` is hidden or kept from being written.
    pub unmasked: bool,
    /// Why it never runs, where the description alone says so.
    pub refusal: Option<Refusal>,
    /// The mounts it asks for.
    pub mounts: Vec<VolumeMount>,
    /// Its working directory, where the description sets one.
    pub working_directory: Option<Fact<Vec<u8>>>,
    /// Where the kubelet mounts the termination log, where the description says so.
    pub termination_log: Option<Fact<Vec<u8>>>,
    /// Where it was described.
    pub from: Provenance,
}

impl Container {
    /// A container that runs as `user` (`UID`, `UID:GID` or names) and asks for nothing more.
    #[must_use]
    pub fn plain(name: &str, user: &str, from: Provenance) -> Self {
        let user = Some(Fact::new(user.to_owned(), from.clone()));
        Self {
            name: name.to_owned(),
            role: Role::App,
            image: None,
            who: Who::Plain(Box::new(PlainIdentity { user, ..PlainIdentity::default() })),
            read_only_root: false,
            privileged: false,
            unmasked: false,
            refusal: None,
            mounts: Vec::new(),
            working_directory: None,
            termination_log: None,
            from,
        }
    }
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
    /// Whether the image's content is kept out of a new volume.
    pub no_copy: bool,
    /// Further flags.
    pub flags: MountFlags,
    /// The mount's id map.
    pub ids: MountIds,
    /// The part of the volume that shows.
    pub sub_path: Option<Fact<Vec<u8>>>,
    /// What only some engines do with a mount.
    pub engine: EngineOptions,
    /// What becomes of the host's mounts below.
    pub below: Below,
    /// Why nobody knows which part shows, where that hangs on something nobody told.
    pub unknown_part: Option<Unknown>,
}

impl VolumeMount {
    /// The whole of `volume`, writable at `at`, with nothing more asked for.
    #[must_use]
    pub fn new(volume: Fact<String>, at: Fact<Vec<u8>>) -> Self {
        Self {
            volume,
            at,
            read_only: false,
            no_copy: false,
            flags: MountFlags::NONE,
            ids: MountIds::default(),
            sub_path: None,
            engine: EngineOptions::default(),
            below: Below::default(),
            unknown_part: None,
        }
    }
}

/// What a bind does with the mounts that lie below its source; without anything told they come along as they are.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Below {
    /// They stay behind: the directories underneath show.
    pub left: bool,
    /// Flags that it sets on itself and on them.
    pub set: MountFlags,
    /// Flags that it takes from itself and from them; one that is set too is set.
    pub cleared: MountFlags,
}

impl Below {
    /// `flags` after what is set and taken.
    #[must_use]
    pub const fn applied(self, flags: MountFlags) -> MountFlags {
        flags.without(self.cleared).with(self.set)
    }
}

/// Options of a mount that one engine knows and another refuses.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct EngineOptions {
    /// The first of them as it is written.
    pub first: Option<Fact<String>>,
    /// `U`: everything goes to the process's user and group.
    pub take_over: bool,
    /// `idmap`: the container's own user namespace maps the mount too.
    pub id_mapped: bool,
    /// Flags that a later option takes back; crun sets them all the same.
    pub taken_back: MountFlags,
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
    /// `ephemeral`: a claim made for the pod.
    Ephemeral {
        /// `storageClassName`
        class: Option<String>,
        /// `accessModes`
        access_modes: Vec<String>,
    },
    /// A volume that the pod describes itself: `csi`, `nfs`, `iscsi` and the like.
    Backed {
        /// What it is made of.
        backing: Backing,
        /// Its `readOnly`.
        read_only: bool,
    },
    /// `configMap`, `secret`, `downwardAPI`, `projected`
    Api(ApiVolume),
    /// `image`: another image's files, read-only.
    Image(Fact<String>),
    /// A volume of the scene file.
    Stored(String),
    /// A named volume of an engine.
    Named {
        /// What lies behind it.
        driver: Driver,
        /// Whether it is made elsewhere, so that nobody knows what it holds.
        external: bool,
    },
    /// A volume of one container that nobody named.
    Anonymous,
    /// A host path that an engine binds.
    Bind {
        /// The absolute path on the host.
        path: Vec<u8>,
        /// Whether the description asks for a missing one to be made; an engine may refuse.
        make_missing: bool,
    },
    /// A tmpfs of one container.
    Tmpfs(TmpfsAsked),
    /// A file system of the kernel's, of this type: `proc`, `sysfs`, `mqueue`; `dev` is a tmpfs with the usual devices.
    System(String),
    /// A kind whose contents are not known here.
    Other {
        /// The field's name.
        kind: String,
        /// Whether it is mounted read-only whatever the mount says.
        read_only: bool,
    },
}

/// What lies behind a named volume of an engine.
#[derive(Clone, PartialEq, Debug)]
pub enum Driver {
    /// A directory of the engine's own.
    Local,
    /// `o: bind`: a directory of the host that must exist.
    Bind(Vec<u8>),
    /// `type: tmpfs`
    Tmpfs(Tmpfs),
    /// `type: nfs`
    Nfs(Personality),
    /// A driver or a type whose rules are not known here.
    Unknown(String),
}

/// What a description asks of a tmpfs; what it leaves out the runtime decides.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct TmpfsAsked {
    /// `mode=`
    pub mode: Option<Mode>,
    /// `uid=`
    pub uid: Option<u32>,
    /// `gid=`
    pub gid: Option<u32>,
    /// Flags added to the runtime's own.
    pub added: MountFlags,
    /// Flags taken from the runtime's own.
    pub cleared: MountFlags,
}

/// A volume made of objects of the API.
#[derive(Clone, Debug)]
pub struct ApiVolume {
    /// The field's name.
    pub kind: ApiKind,
    /// `defaultMode`, 0644 where it is left out.
    pub default_mode: Fact<Mode>,
    /// What it is made of.
    pub sources: Vec<ApiSource>,
}

/// Which field an [`ApiVolume`] comes from.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ApiKind {
    /// `configMap`: a directory on the node's disk.
    ConfigMap,
    /// `secret`: a tmpfs.
    Secret,
    /// `downwardAPI`: a tmpfs.
    DownwardApi,
    /// `projected`: a tmpfs.
    Projected,
}

impl ApiKind {
    /// The field's name.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::ConfigMap => "configMap",
            Self::Secret => "secret",
            Self::DownwardApi => "downwardAPI",
            Self::Projected => "projected",
        }
    }
}

/// One source of an [`ApiVolume`].
#[derive(Clone, Debug)]
pub enum ApiSource {
    /// A `ConfigMap` (or, if told so, a `Secret`).
    Object {
        /// Whether it is a `Secret`.
        secret: bool,
        /// Its name.
        name: Fact<String>,
        /// Which keys show where; all under their own names where nothing is told.
        items: Option<Vec<ApiItem>>,
        /// Whether it may be missing.
        optional: bool,
    },
    /// Files that exist whatever other objects say: fields of the pod, certificates.
    Files(Vec<ApiItem>),
    /// A service account token.
    Token(ApiItem),
}

/// One file of an [`ApiVolume`].
#[derive(Clone, Debug)]
pub struct ApiItem {
    /// The key of the object; empty where there is none.
    pub key: String,
    /// The relative path in the volume.
    pub path: Fact<String>,
    /// Its own mode.
    pub mode: Option<Fact<Mode>>,
}

/// Where an `emptyDir` lives.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Medium {
    /// The node's disk.
    Disk,
    /// A tmpfs.
    Memory,
}
