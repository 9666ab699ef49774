//! Claims, as objects of their own and as templates in pods and stateful sets.

use serde::Deserialize;

use super::meta::ObjectMeta;

/// A PersistentVolumeClaim.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PersistentVolumeClaim {
    /// Its name.
    pub metadata: ObjectMeta,
    /// What it asks for.
    pub spec: PersistentVolumeClaimSpec,
    /// What became of it.
    pub status: PersistentVolumeClaimStatus,
}

/// `status` of a claim.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PersistentVolumeClaimStatus {
    /// `Pending`, `Bound` or `Lost`.
    pub phase: Option<String>,
}

/// `spec` of a claim.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PersistentVolumeClaimSpec {
    /// The volume it is bound to.
    pub volume_name: Option<String>,
    /// Its class.
    pub storage_class_name: Option<String>,
    /// How it is used.
    pub access_modes: Vec<String>,
    /// `Filesystem` or `Block`.
    pub volume_mode: Option<String>,
    /// What it is made a copy of.
    pub data_source: Option<serde_json::Value>,
    /// The same, of more kinds.
    pub data_source_ref: Option<serde_json::Value>,
}
