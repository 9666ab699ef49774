//! Objects that say what is behind volumes.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::meta::ObjectMeta;
use super::volumes::HostPathVolumeSource;

/// A PersistentVolume.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PersistentVolume {
    /// Its name.
    pub metadata: ObjectMeta,
    /// What it is.
    pub spec: PersistentVolumeSpec,
}

/// `spec` of a volume.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PersistentVolumeSpec {
    /// How it can be used.
    pub access_modes: Vec<String>,
    /// Options it is mounted with.
    pub mount_options: Vec<String>,
    /// `Block` for a device.
    pub volume_mode: Option<String>,
    /// The claim it is bound to.
    pub claim_ref: Option<ObjectReference>,
    /// A path of the node.
    pub host_path: Option<HostPathVolumeSource>,
    /// A disk of the node.
    pub local: Option<LocalVolumeSource>,
}

/// `claimRef`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct ObjectReference {
    /// The claim.
    pub name: Option<String>,
    /// Its namespace.
    pub namespace: Option<String>,
}

/// `local`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct LocalVolumeSource {
    /// The path on the node.
    pub path: String,
}

/// A StorageClass.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct StorageClass {
    /// Its name.
    pub metadata: ObjectMeta,
    /// Who makes its volumes.
    pub provisioner: String,
    /// What the provisioner is given.
    pub parameters: BTreeMap<String, String>,
    /// Options its volumes are mounted with.
    pub mount_options: Vec<String>,
}

/// A CSIDriver.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct CsiDriver {
    /// Its name.
    pub metadata: ObjectMeta,
    /// What it can do.
    pub spec: CsiDriverSpec,
}

/// `spec` of a driver.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct CsiDriverSpec {
    /// Whether its volumes are given a group.
    pub fs_group_policy: Option<String>,
    /// Whether its volumes may be mounted with a label.
    pub se_linux_mount: Option<bool>,
}
