//! Volumes of a pod. Those with a file system of a plugin's own are read by
//! [`plugins`](super::super::plugins) from the document itself.

use serde::Deserialize;

use super::claim::PersistentVolumeClaimSpec;

/// A volume.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct Volume {
    /// What mounts call it.
    pub name: String,
    /// A new directory.
    pub empty_dir: Option<EmptyDirVolumeSource>,
    /// A path of the node.
    pub host_path: Option<HostPathVolumeSource>,
    /// A claim.
    pub persistent_volume_claim: Option<PersistentVolumeClaimVolumeSource>,
    /// A claim made for the pod.
    pub ephemeral: Option<EphemeralVolumeSource>,
    /// The files of an image.
    pub image: Option<ImageVolumeSource>,
    /// Entries of a ConfigMap.
    pub config_map: Option<ConfigMapVolumeSource>,
    /// Entries of a Secret.
    pub secret: Option<SecretVolumeSource>,
    /// Fields of the pod.
    #[serde(rename = "downwardAPI")]
    pub downward_api: Option<DownwardApi>,
    /// Several of these in one.
    pub projected: Option<ProjectedVolumeSource>,
}

/// `emptyDir`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct EmptyDirVolumeSource {
    /// `Memory` for a tmpfs.
    pub medium: Option<String>,
    /// Its permission bits.
    pub mode: Option<i32>,
}

/// `hostPath`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct HostPathVolumeSource {
    /// The path on the node.
    pub path: String,
    /// What must be there.
    #[serde(rename = "type")]
    pub type_: Option<String>,
}

/// `persistentVolumeClaim`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PersistentVolumeClaimVolumeSource {
    /// The claim.
    pub claim_name: String,
    /// Whether it is read-only.
    pub read_only: Option<bool>,
}

/// `ephemeral`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct EphemeralVolumeSource {
    /// The claim.
    pub volume_claim_template: Option<PersistentVolumeClaimTemplate>,
}

/// The claim of an ephemeral volume.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PersistentVolumeClaimTemplate {
    /// What it asks for.
    pub spec: PersistentVolumeClaimSpec,
}

/// `image`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct ImageVolumeSource {
    /// The image.
    pub reference: Option<String>,
}

/// `configMap`, also projected.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct ConfigMapVolumeSource {
    /// The ConfigMap.
    pub name: String,
    /// Which entries become which files; all where it is missing.
    pub items: Option<Vec<KeyToPath>>,
    /// Permission bits of the files.
    pub default_mode: Option<i32>,
    /// Whether it may be missing.
    pub optional: Option<bool>,
}

/// `secret`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct SecretVolumeSource {
    /// The Secret.
    pub secret_name: Option<String>,
    /// Which entries become which files; all where it is missing.
    pub items: Option<Vec<KeyToPath>>,
    /// Permission bits of the files.
    pub default_mode: Option<i32>,
    /// Whether it may be missing.
    pub optional: Option<bool>,
}

/// `secret`, projected.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct SecretProjection {
    /// The Secret.
    pub name: String,
    /// Which entries become which files; all where it is missing.
    pub items: Option<Vec<KeyToPath>>,
    /// Whether it may be missing.
    pub optional: Option<bool>,
}

/// One entry as a file.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct KeyToPath {
    /// The entry.
    pub key: String,
    /// The file within the volume.
    pub path: String,
    /// Its permission bits.
    pub mode: Option<i32>,
}

/// `downwardAPI`, also projected.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct DownwardApi {
    /// The files.
    pub items: Vec<DownwardApiFile>,
    /// Permission bits of the files.
    pub default_mode: Option<i32>,
}

/// One field as a file.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct DownwardApiFile {
    /// The file within the volume.
    pub path: String,
    /// Its permission bits.
    pub mode: Option<i32>,
}

/// `projected`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct ProjectedVolumeSource {
    /// What it holds.
    pub sources: Vec<VolumeProjection>,
    /// Permission bits of the files.
    pub default_mode: Option<i32>,
}

/// One source of a projected volume.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct VolumeProjection {
    /// Entries of a ConfigMap.
    pub config_map: Option<ConfigMapVolumeSource>,
    /// Entries of a Secret.
    pub secret: Option<SecretProjection>,
    /// Fields of the pod.
    #[serde(rename = "downwardAPI")]
    pub downward_api: Option<DownwardApi>,
    /// A token.
    pub service_account_token: Option<FileProjection>,
    /// Certificates.
    pub cluster_trust_bundle: Option<FileProjection>,
    /// A certificate of the pod.
    pub pod_certificate: Option<PodCertificateProjection>,
}

/// A projection that is one file.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct FileProjection {
    /// The file within the volume.
    pub path: String,
}

/// `podCertificate`.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub(in crate::kubernetes) struct PodCertificateProjection {
    /// The file of key and certificates.
    pub credential_bundle_path: Option<String>,
    /// The file of the key.
    pub key_path: Option<String>,
    /// The file of the certificates.
    pub certificate_chain_path: Option<String>,
}
