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
    refused_by_the_api(volume, origin, diagnostics);
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
        match source_keys(origin.node).next() {
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

/// What the API server refuses of a source (ValidateVolumes of its validation): a second one, and one that names nothing.
fn refused_by_the_api(volume: &ApiVolume, origin: &Origin<'_>, diagnostics: &mut Diagnostics) {
    /// Sources and the field each has to have.
    const NEEDED: [(&str, &str); 6] = [
        ("configMap", "name"),
        ("secret", "secretName"),
        ("persistentVolumeClaim", "claimName"),
        ("ephemeral", "volumeClaimTemplate"),
        ("ephemeral", "volumeClaimTemplate.spec.accessModes"),
        ("ephemeral", "volumeClaimTemplate.spec.resources.requests.storage"),
    ];
    let keys: Vec<&str> = source_keys(origin.node).collect();
    if let [first, second, ..] = keys.as_slice() {
        let message =
            format!("volume `{}` has two sources, {first} and {second}: the API refuses that", volume.name);
        let help = Some("keep one of them, or make it two volumes".to_owned());
        origin.diagnostic(Severity::Error, second, message, help, diagnostics);
    }
    let mut said = None;
    for (source, field) in NEEDED.iter().filter(|(source, _)| keys.contains(source)) {
        // Of one source the first thing that is missing is enough.
        if said == Some(*source) {
            continue;
        }
        let given = origin.node.find(&format!("{source}.{field}"));
        if given.is_none_or(|node| node.is_nothing() || node.text() == Some("")) {
            let message =
                format!("{source} of volume `{}` has no {field}: the API refuses that", volume.name);
            let nested =
                field.split('.').rev().fold("...".to_owned(), |inner, key| format!("{{ {key}: {inner} }}"));
            let help = Some(format!("write `{source}: {nested}`"));
            origin.diagnostic(Severity::Error, source, message, help, diagnostics);
            said = Some(*source);
        }
    }
}

/// The keys that name known sources; unknown keys are dropped by the API server, and so here, and so is `null`.
fn source_keys(node: &Node) -> impl Iterator<Item = &str> {
    const SOURCES: [&str; 30] = [
        "awsElasticBlockStore",
        "azureDisk",
        "azureFile",
        "cephfs",
        "cinder",
        "configMap",
        "csi",
        "downwardAPI",
        "emptyDir",
        "ephemeral",
        "fc",
        "flexVolume",
        "flocker",
        "gcePersistentDisk",
        "gitRepo",
        "glusterfs",
        "hostPath",
        "image",
        "iscsi",
        "nfs",
        "persistentVolumeClaim",
        "photonPersistentDisk",
        "portworxVolume",
        "projected",
        "quobyte",
        "rbd",
        "scaleIO",
        "secret",
        "storageos",
        "vsphereVolume",
    ];
    let pairs = match &node.value {
        Value::Mapping(pairs) => pairs.as_slice(),
        Value::Scalar { .. } | Value::Sequence(_) => &[],
    };
    pairs
        .iter()
        .filter(|(_, value)| !value.is_nothing())
        .filter_map(|(key, _)| key.text())
        .filter(|key| SOURCES.contains(key))
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
        let message = format!("host path `{path}` is not absolute: what mounts it never starts");
        origin.diagnostic(Severity::Warning, at, message, None, diagnostics);
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
