//! Objects that say what is behind volumes.

use std::collections::BTreeSet;

use mivask_core::cluster::{
    ApiObject, Backing, Cluster, CsiDriver, GroupPolicy, PersistentClaim, PersistentVolume as Volume,
    StorageClass,
};
use mivask_core::fact::{Fact, Provenance};
use mivask_core::mount::MountFlags;
use mivask_core::personality::Personality;
use mivask_core::scene::HostPathCheck;

use super::api::{self, ObjectReference, PersistentVolume, PersistentVolumeClaim, PersistentVolumeSpec};
use super::{DEFAULT_NAMESPACE, Origin, plugins};
use crate::diagnostic::{Diagnostics, Severity};
use crate::labels;
use crate::yaml::{Node, Value};

/// Adds an object of `kind`; whether it is one of those that say something about volumes.
pub(super) fn add(
    kind: &str,
    origin: &Origin<'_>,
    cluster: &mut Cluster,
    diagnostics: &mut Diagnostics,
) -> bool {
    match kind {
        "PersistentVolume" => {
            if let Some(object) = api::read(kind, origin, diagnostics) {
                volume(object, origin, cluster, diagnostics);
            }
        }
        "PersistentVolumeClaim" => {
            if let Some(object) = api::read(kind, origin, diagnostics) {
                claim(object, origin, cluster);
            }
        }
        "StorageClass" => {
            if let Some(object) = api::read(kind, origin, diagnostics) {
                class(object, origin, cluster);
            }
        }
        "CSIDriver" => {
            if let Some(object) = api::read(kind, origin, diagnostics) {
                driver(object, origin, cluster, diagnostics);
            }
        }
        "ConfigMap" => keys(origin, &["data", "binaryData"], &mut cluster.config_maps),
        "Secret" => keys(origin, &["data", "stringData"], &mut cluster.secrets),
        // It holds names apart and says nothing else about files.
        "Namespace" => {}
        _ => return false,
    }
    true
}

/// The names of entries. Values are not looked at, let alone kept.
fn keys(
    origin: &Origin<'_>,
    fields: &[&str],
    objects: &mut std::collections::BTreeMap<mivask_core::cluster::Key, ApiObject>,
) {
    let Some(name) = origin.node.find("metadata.name").and_then(Node::text) else { return };
    let namespace = origin.node.find("metadata.namespace").and_then(Node::text).unwrap_or(DEFAULT_NAMESPACE);
    let mut keys = BTreeSet::new();
    for field in fields {
        if let Some(Value::Mapping(pairs)) = origin.node.get(field).map(|node| &node.value) {
            keys.extend(pairs.iter().filter_map(|(key, _)| key.text()).map(str::to_owned));
        }
    }
    let from = origin.place("metadata.name", "metadata.name");
    objects.insert((namespace.to_owned(), name.to_owned()), ApiObject { keys, from });
}

/// A claim, by namespace and name.
pub(super) fn claim(object: PersistentVolumeClaim, origin: &Origin<'_>, cluster: &mut Cluster) {
    let Some(name) = object.metadata.name else { return };
    let namespace = object.metadata.namespace.unwrap_or_else(|| DEFAULT_NAMESPACE.to_owned());
    let spec = object.spec;
    let copied = spec.data_source.is_some() || spec.data_source_ref.is_some();
    let bound = spec.volume_name.is_some() || object.status.phase.is_some();
    let claim = PersistentClaim {
        new: !copied && !bound && spec.volume_mode.as_deref() != Some("Block"),
        volume: spec.volume_name.filter(|name| !name.is_empty()),
        class: spec.storage_class_name,
        access_modes: spec.access_modes.into_iter().collect(),
        from: origin.place("metadata.name", "metadata.name"),
    };
    cluster.claims.insert((namespace, name), claim);
}

fn class(object: api::StorageClass, origin: &Origin<'_>, cluster: &mut Cluster) {
    let Some(name) = object.metadata.name else { return };
    let parameters = object.parameters;
    let fs_type =
        ["csi.storage.k8s.io/fstype", "fstype", "fsType"].iter().find_map(|key| parameters.get(*key));
    let options = object.mount_options;
    let class = StorageClass {
        provisioner: object.provisioner,
        flags: flags(&options),
        labels: labels::of_options(&options),
        fs_type: fs_type.cloned(),
        from: origin.place("metadata.name", "metadata.name"),
    };
    cluster.classes.insert(name, class);
}

fn driver(object: api::CsiDriver, origin: &Origin<'_>, cluster: &mut Cluster, diagnostics: &mut Diagnostics) {
    let Some(name) = object.metadata.name else { return };
    let at = "spec.fsGroupPolicy";
    let policy = match object.spec.fs_group_policy.as_deref() {
        Some("File") => origin.fact(at, at, GroupPolicy::File),
        Some("None") => origin.fact(at, at, GroupPolicy::None),
        Some("ReadWriteOnceWithFSType") => origin.fact(at, at, GroupPolicy::ReadWriteOnceWithFsType),
        None => {
            let rule = Provenance::rule("a CSIDriver without fsGroupPolicy has ReadWriteOnceWithFSType");
            Fact::new(GroupPolicy::ReadWriteOnceWithFsType, rule)
        }
        Some(other) => {
            let message = format!("the API knows no fsGroupPolicy `{other}`");
            let help = "write ReadWriteOnceWithFSType, File or None".to_owned();
            origin.diagnostic(Severity::Error, at, message, Some(help), diagnostics);
            return;
        }
    };
    cluster
        .drivers
        .insert(name, CsiDriver { policy, mounts_with_label: object.spec.se_linux_mount.unwrap_or(false) });
}

/// Those of mount options that are flags.
fn flags(options: &[String]) -> MountFlags {
    options.iter().filter_map(|word| MountFlags::by_word(word)).fold(MountFlags::NONE, MountFlags::with)
}

fn volume(
    object: PersistentVolume,
    origin: &Origin<'_>,
    cluster: &mut Cluster,
    diagnostics: &mut Diagnostics,
) {
    let Some(name) = object.metadata.name else { return };
    let spec = object.spec;
    let Some(backing) = backing(&spec, origin, diagnostics) else { return };
    let options = &spec.mount_options;
    let mut personality = backing.filesystem().and_then(Personality::of);
    for option in options.iter().filter(|option| MountFlags::by_word(option).is_none()) {
        // What a family does not know, such as `nfsvers=4.1`, decides nothing here.
        if let Some(personality) = &mut personality {
            let _ = personality.option(option);
        }
    }
    let key = |claim: ObjectReference| {
        Some((claim.namespace.unwrap_or_else(|| DEFAULT_NAMESPACE.to_owned()), claim.name?))
    };
    let volume = Volume {
        backing,
        access_modes: spec.access_modes.into_iter().collect(),
        flags: flags(options),
        labels: labels::of_options(options),
        personality,
        block: spec.volume_mode.as_deref() == Some("Block"),
        claim: spec.claim_ref.and_then(key),
        from: origin.place("metadata.name", "metadata.name"),
    };
    cluster.volumes.insert(name, volume);
}

fn backing(
    spec: &PersistentVolumeSpec,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Option<Backing> {
    if let Some(host) = &spec.host_path {
        let word = host.type_.as_deref().unwrap_or_default();
        let check = HostPathCheck::by_name(word).unwrap_or(HostPathCheck::None);
        return Some(Backing::HostPath { path: host.path.as_bytes().to_vec(), check });
    }
    if let Some(local) = &spec.local {
        return Some(Backing::Local { path: local.path.as_bytes().to_vec() });
    }
    let plugin = origin.node.get("spec").and_then(|spec| plugins::backing(spec, false));
    if plugin.is_none() {
        let message = "this PersistentVolume has no source that Mivask knows, so it is skipped";
        origin.diagnostic(Severity::Note, "metadata.name", message, None, diagnostics);
    }
    plugin.map(|(backing, _)| backing)
}
