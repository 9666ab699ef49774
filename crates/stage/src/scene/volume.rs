//! Volumes, and how containers mount them.

use std::sync::Arc;

use mivask_model::fact::{Fact, Unknown};
use mivask_model::ids::MountIds;
use mivask_model::mode::Mode;
use mivask_model::mount::MountFlags;
use mivask_model::mount_kind::MountKind;
use mivask_model::personality::{Personality, Tmpfs};

use crate::cluster::Backing;
use crate::cluster::HostPathCheck;

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
    /// Why no one knows which part shows, where that depends on a missing fact.
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

/// What a bind does with the mounts that are below its source; without anything told they come along as they are.
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
    /// `O`: an overlay of its own lies over it.
    pub overlaid: bool,
    /// `idmap`: the container's own user namespace maps the mount too.
    pub id_mapped: bool,
    /// What a bundle gives as the id map of the mount and is none, as it is written there.
    pub bad_map: Option<String>,
    /// Flags that a later option takes back; crun sets them all the same.
    pub taken_back: MountFlags,
    /// That it is another container's (`volumes_from`), with a mode word or without.
    pub lent: Option<Lent>,
    /// `z` or `Z`: the engine labels everything below its source anew, before the container starts.
    pub relabel: Option<Fact<Relabel>>,
}

/// For whom an engine labels what it mounts.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Relabel {
    /// `z`: for every container.
    Shared,
    /// `Z`: for this container alone, at its level.
    Private,
}

/// How a volume is lent.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Lent {
    /// By the lender's name alone.
    Plain,
    /// With `:ro` or `:rw` behind it.
    WithMode,
}

/// One declared volume.
#[derive(Clone, Debug)]
pub struct Volume {
    /// Its name within the workload.
    pub name: Fact<String>,
    /// What it is.
    pub kind: VolumeKind,
}

impl Volume {
    /// The name by which a scene tells what is on it ([`Scene::volumes`](super::Scene::volumes)); `None` of what holds what the host, an
    /// image or its maker puts there.
    #[must_use]
    pub fn key(&self) -> Option<&str> {
        match &self.kind {
            VolumeKind::Claim { claim: key, .. } | VolumeKind::Stored(key) => Some(key),
            VolumeKind::Named { .. } | VolumeKind::Backed { .. } => Some(&self.name.value),
            VolumeKind::EmptyDir(_)
            | VolumeKind::HostPath { .. }
            | VolumeKind::Ephemeral { .. }
            | VolumeKind::Api(_)
            | VolumeKind::Image(_)
            | VolumeKind::Anonymous
            | VolumeKind::Bind { .. }
            | VolumeKind::Tmpfs(_)
            | VolumeKind::System(_)
            | VolumeKind::Other { .. } => None,
        }
    }
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
        /// What the engine calls it: its `name:`, else the project's name and its own, or its own alone where it is external.
        listed: String,
        /// What is behind it.
        driver: Driver,
        /// Whether it is made elsewhere, so that no one knows what it holds.
        external: bool,
        /// The flags that its driver's options give it.
        flags: MountFlags,
    },
    /// A volume of one container that no one named.
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

/// What is behind a named volume of an engine.
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
    /// `tmpcopyup` and `notmpcopyup`: whether the content of the directory it covers is copied in.
    pub copies_up: Option<bool>,
    /// The first option that mount(8) and the kernel take and not every engine, such as `noatime`.
    pub other: Option<Arc<str>>,
    /// The first option that no engine or kernel takes, so that it is not mounted.
    pub refused: Option<Arc<str>>,
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
    /// The kind of mount that it makes.
    #[must_use]
    pub const fn mount_kind(self) -> MountKind {
        match self {
            Self::ConfigMap => MountKind::ConfigMap,
            Self::Secret => MountKind::Secret,
            Self::DownwardApi => MountKind::DownwardApi,
            Self::Projected => MountKind::Projected,
        }
    }

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
    /// A `ConfigMap` (or, if given so, a `Secret`).
    Object {
        /// Whether it is a `Secret`.
        secret: bool,
        /// Its name.
        name: Fact<String>,
        /// Which keys show where; all under their own names where nothing is given.
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
