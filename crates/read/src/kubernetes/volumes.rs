//! Volumes of a pod.

use mivask_core::scene::{HostPathCheck, Medium, Volume, VolumeKind};

use super::api::Volume as ApiVolume;
use super::{Origin, api_volumes, plugins};
use crate::diagnostic::{Diagnostics, Severity};
use crate::nearest::nearest;
use crate::yaml::{Node, Value};

/// One volume; `origin` is at it.
pub(super) fn volume(
    volume: &ApiVolume,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Option<Volume> {
    if volume.name.is_empty() {
        let help = Some("mounts refer to it by its name".to_owned());
        origin.diagnostic(Severity::Error, "", "a volume has no name", help, diagnostics);
        return None;
    }
    let kind = if let Some(empty) = &volume.empty_dir {
        if empty.mode.is_some() {
            let message = "`mode` of an emptyDir is an alpha feature that is off by default: the directory is taken to be 0777";
            origin.diagnostic(Severity::Warning, "emptyDir.mode", message, None, diagnostics);
        }
        let name = empty.medium.as_deref().unwrap_or_default();
        // Huge pages are a hugetlbfs: its files are mapped, and writing to them fails.
        if name == "HugePages" || name.starts_with("HugePages-") {
            VolumeKind::Other { kind: "hugetlbfs".to_owned(), read_only: false }
        } else {
            VolumeKind::EmptyDir(medium(name, origin, diagnostics)?)
        }
    } else if let Some(host) = &volume.host_path {
        let name = host.type_.as_deref().unwrap_or_default();
        VolumeKind::HostPath {
            path: host_path(&host.path, origin, diagnostics)?,
            check: check(name, origin, diagnostics)?,
        }
    } else if let Some(claim) = &volume.persistent_volume_claim {
        VolumeKind::Claim { claim: claim.claim_name.clone(), read_only: claim.read_only.unwrap_or(false) }
    } else if let Some(ephemeral) = &volume.ephemeral {
        let spec = ephemeral
            .volume_claim_template
            .as_ref()
            .map(|template| template.spec.clone())
            .unwrap_or_default();
        VolumeKind::Ephemeral { class: spec.storage_class_name, access_modes: spec.access_modes }
    } else if let Some(api) = api_volumes::read(volume, origin, diagnostics) {
        VolumeKind::Api(api)
    } else if let Some(image) = &volume.image {
        let reference = image.reference.clone().unwrap_or_default();
        VolumeKind::Image(origin.fact("image.reference", "volumes.image.reference", reference))
    } else if let Some((backing, read_only)) = plugins::backing(origin.node, true) {
        VolumeKind::Backed { backing, read_only }
    } else {
        match source_key(origin.node) {
            Some(key) => VolumeKind::Other { kind: key.to_owned(), read_only: false },
            None => {
                let message = format!(
                    "volume `{}` has no known source, so the API server makes it an emptyDir",
                    volume.name
                );
                origin.diagnostic(
                    Severity::Warning,
                    "name",
                    message,
                    Some("add `emptyDir: {}` if that is intended".to_owned()),
                    diagnostics,
                );
                VolumeKind::EmptyDir(Medium::Disk)
            }
        }
    };
    Some(Volume { name: origin.fact("name", "volumes.name", volume.name.clone()), kind })
}

/// The key that names a known source; unknown keys are dropped by the API server, and so here.
fn source_key(node: &Node) -> Option<&str> {
    const OTHERS: [&str; 25] = [
        "awsElasticBlockStore",
        "azureDisk",
        "azureFile",
        "cephfs",
        "cinder",
        "configMap",
        "csi",
        "downwardAPI",
        "ephemeral",
        "fc",
        "flexVolume",
        "flocker",
        "gcePersistentDisk",
        "gitRepo",
        "glusterfs",
        "image",
        "iscsi",
        "nfs",
        "photonPersistentDisk",
        "portworxVolume",
        "projected",
        "quobyte",
        "rbd",
        "scaleIO",
        "secret",
    ];
    let Value::Mapping(pairs) = &node.value else {
        return None;
    };
    pairs
        .iter()
        .filter_map(|(key, _)| key.text())
        .find(|key| OTHERS.contains(key) || *key == "storageos" || *key == "vsphereVolume")
}

fn medium(name: &str, origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Option<Medium> {
    match name {
        "" => Some(Medium::Disk),
        "Memory" => Some(Medium::Memory),
        _ => {
            let help = nearest(name, ["Memory", "HugePages"])
                .map(|known| format!("did you mean `{known}`? Letter case counts"));
            let message = format!(
                "the kubelet knows no storage medium `{name}` for files: the pod would wait for ever"
            );
            origin.diagnostic(Severity::Error, "emptyDir.medium", message, help, diagnostics);
            None
        }
    }
}

fn host_path(path: &str, origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Option<Vec<u8>> {
    let at = "hostPath.path";
    if !path.starts_with('/') {
        let message = format!("host path `{path}` is not absolute: the container would not start");
        origin.diagnostic(Severity::Error, at, message, None, diagnostics);
        return None;
    }
    if path.split('/').any(|part| part == "..") {
        origin.diagnostic(Severity::Error, at, "the API refuses `..` in a host path", None, diagnostics);
        return None;
    }
    Some(path.as_bytes().to_vec())
}

fn check(name: &str, origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Option<HostPathCheck> {
    let check = HostPathCheck::by_name(name);
    if check.is_none() {
        let message = format!("the API knows no hostPath type `{name}`");
        let help = nearest(name, HostPathCheck::NAMES)
            .map(|known| format!("did you mean `{known}`? Letter case counts"));
        origin.diagnostic(Severity::Error, "hostPath.type", message, help, diagnostics);
    }
    check
}
