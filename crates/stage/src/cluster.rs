//! Objects of a cluster that pods refer to: what is behind their volumes.

use std::collections::{BTreeMap, BTreeSet};

use mivask_model::fact::{Fact, Provenance};
use mivask_model::labels::Labels;
use mivask_model::mount::MountFlags;
use mivask_model::personality::Personality;

/// A namespaced name.
pub type Key = (String, String);

/// Every object that was given, by name.
#[derive(Clone, Debug, Default)]
pub struct Cluster {
    /// `PersistentVolume`
    pub volumes: BTreeMap<String, PersistentVolume>,
    /// `PersistentVolumeClaim`, by namespace and name.
    pub claims: BTreeMap<Key, PersistentClaim>,
    /// `StorageClass`
    pub classes: BTreeMap<String, StorageClass>,
    /// `CSIDriver`
    pub drivers: BTreeMap<String, CsiDriver>,
    /// `ConfigMap`, by namespace and name: its keys.
    pub config_maps: BTreeMap<Key, ApiObject>,
    /// `Secret`, by namespace and name: its keys.
    pub secrets: BTreeMap<Key, ApiObject>,
}

/// One `PersistentVolume`.
#[derive(Clone, Debug)]
pub struct PersistentVolume {
    /// What it is made of.
    pub backing: Backing,
    /// `accessModes`
    pub access_modes: BTreeSet<String>,
    /// `mountOptions` that are flags.
    pub flags: MountFlags,
    /// What `mountOptions` say of labels.
    pub labels: Labels,
    /// `mountOptions` of the file system; the family where it is given.
    pub personality: Option<Personality>,
    /// `volumeMode: Block`
    pub block: bool,
    /// `claimRef`
    pub claim: Option<Key>,
    /// Where it was given.
    pub from: Provenance,
}

/// One `PersistentVolumeClaim`.
#[derive(Clone, Debug)]
pub struct PersistentClaim {
    /// `volumeName`
    pub volume: Option<String>,
    /// `storageClassName`
    pub class: Option<String>,
    /// `accessModes`
    pub access_modes: BTreeSet<String>,
    /// Whether the description makes it: from nothing, and not bound yet.
    pub new: bool,
    /// Where it was given.
    pub from: Provenance,
}

/// One `StorageClass`.
#[derive(Clone, Debug)]
pub struct StorageClass {
    /// `provisioner`: the name of a CSI driver, mostly.
    pub provisioner: String,
    /// `mountOptions` that are flags.
    pub flags: MountFlags,
    /// What `mountOptions` say of labels.
    pub labels: Labels,
    /// The file system its volumes get, where a parameter says so.
    pub fs_type: Option<String>,
    /// Where it was given.
    pub from: Provenance,
}

/// One `CSIDriver`.
#[derive(Clone, Debug)]
pub struct CsiDriver {
    /// `fsGroupPolicy`; `ReadWriteOnceWithFSType` where it is left out.
    pub policy: Fact<GroupPolicy>,
    /// `seLinuxMount`: whether its volumes may be mounted with the option `context=`.
    pub mounts_with_label: bool,
}

/// `fsGroupPolicy` of a CSI driver.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum GroupPolicy {
    /// The filesystem group is applied where a file system type is set and the volume is ReadWriteOnce.
    ReadWriteOnceWithFsType,
    /// Always applied.
    File,
    /// Never applied.
    None,
}

/// A `ConfigMap` or `Secret`.
#[derive(Clone, Debug)]
pub struct ApiObject {
    /// The names of its entries.
    pub keys: BTreeSet<String>,
    /// Where it was given.
    pub from: Provenance,
}

/// What a persistent or inline volume is made of.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Backing {
    /// `hostPath`
    HostPath {
        /// The path on the host.
        path: Vec<u8>,
        /// What the kubelet checks or makes.
        check: HostPathCheck,
    },
    /// `local`
    Local {
        /// The path on the host.
        path: Vec<u8>,
    },
    /// `csi`
    Csi {
        /// The driver's name.
        driver: String,
        /// `fsType`, where it is set.
        fs_type: Option<String>,
        /// Whether the pod lists it inline.
        inline: bool,
    },
    /// `nfs`
    Nfs,
    /// A plugin that never calls the filesystem-group step: `cephfs`, `glusterfs`, `quobyte`.
    Remote(String),
    /// `azureFile`: SMB, with the filesystem group as its mount option `gid=`.
    AzureFile,
    /// A block device with a file system, of this plugin: `iscsi`, `fc`, `rbd` and the like.
    Disk {
        /// The field's name in the API.
        plugin: String,
        /// `fsType`, where it is set.
        fs_type: Option<String>,
        /// Whether it is a CSI volume in current releases (`awsElasticBlockStore` and the like).
        migrated: bool,
    },
}

impl Backing {
    /// The field's name in the API.
    #[must_use]
    pub fn word(&self) -> &str {
        match self {
            Self::HostPath { .. } => "hostPath",
            Self::Local { .. } => "local",
            Self::Csi { .. } => "csi",
            Self::Nfs => "nfs",
            Self::AzureFile => "azureFile",
            Self::Remote(plugin) | Self::Disk { plugin, .. } => plugin,
        }
    }

    /// Its file system's type, where that is given.
    #[must_use]
    pub fn filesystem(&self) -> Option<&str> {
        match self {
            Self::Nfs => Some("nfs"),
            Self::AzureFile => Some("cifs"),
            Self::Csi { fs_type, .. } => fs_type.as_deref(),
            // The API's own default for block devices.
            Self::Disk { fs_type, .. } => Some(fs_type.as_deref().unwrap_or("ext4")),
            Self::HostPath { .. } | Self::Local { .. } | Self::Remote(_) => None,
        }
    }
}

impl Cluster {
    /// The claim of that name, and the volume bound to it, as far as they were given.
    #[must_use]
    pub fn bound(
        &self,
        namespace: &str,
        claim: &str,
    ) -> (Option<&PersistentClaim>, Option<&PersistentVolume>) {
        let key = (namespace.to_owned(), claim.to_owned());
        let given = self.claims.get(&key);
        let named = given.and_then(|given| given.volume.as_ref()).and_then(|name| self.volumes.get(name));
        let volume =
            named.or_else(|| self.volumes.values().find(|volume| volume.claim.as_ref() == Some(&key)));
        (given, volume)
    }
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
    /// Not of the API: it must exist, whatever it is.
    MustExist,
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
