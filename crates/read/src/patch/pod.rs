//! Fields of the Kubernetes API.

use mivask_core::change::{GroupStep, Process, mode_option, scratch_name};
use mivask_core::mode::Mode;
use mivask_core::scene::Workload;
use yaml_edit::{Mapping, YamlValue};

use super::document::{Document, Part, below, item, mapping, text};
use super::{PatchError, no_field, read_only};
use crate::yaml::Node;

/// Writes `what` about the container.
pub(super) fn write(document: &Document, workload: &Workload, what: &Process) -> Result<(), PatchError> {
    let container = document.container();
    // containers[i] of the pod's spec.
    let spec = container.get(..container.len().saturating_sub(2)).ok_or(PatchError::Lost)?;
    let security = |key: &[&str]| below(container, &[&["securityContext"], key].concat());
    match what {
        Process::Becomes(uid, gid) => {
            document.set(&security(&["runAsUser"]), i64::from(*uid))?;
            gid.map_or(Ok(()), |gid| document.set(&security(&["runAsGroup"]), i64::from(gid)))
        }
        Process::Umask(_) => {
            Err(no_field("no field of a pod sets a umask: set it where the program starts, or in the image"))
        }
        Process::UserNamespace(_) => {
            Err(no_field("a pod has `hostUsers`, and no other word on its user namespace"))
        }
        Process::Level(value) => level(document, (spec, workload.containers.len()), value),
        Process::StartsAgain | Process::IsMadeAgain => Err(no_field("it is not part of a description")),
        Process::Drops(names) | Process::Adds(names) => {
            let drop = security(&["capabilities", "drop"]);
            let add = security(&["capabilities", "add"]);
            let dropping = matches!(what, Process::Drops(_));
            document.capabilities(names, if dropping { (&drop, &add) } else { (&add, &drop) }, dropping)
        }
        Process::Joins(gid) => {
            let groups = below(spec, &["securityContext", "supplementalGroups"]);
            document.append(&groups, YamlValue::from(i64::from(*gid)))
        }
        Process::FilesystemGroup(step) => {
            let field = |name: &str| below(spec, &["securityContext", name]);
            match step {
                GroupStep::Group(gid) => document.set(&field("fsGroup"), i64::from(*gid)),
                GroupStep::Off => document.remove(&field("fsGroup")),
                GroupStep::Always => document.set(&field("fsGroupChangePolicy"), "Always"),
                GroupStep::OnRootMismatch => document.set(&field("fsGroupChangePolicy"), "OnRootMismatch"),
            }
        }
        Process::Mounts(at, options) if at.as_slice() == b"/" => {
            document.set(&security(&["readOnlyRootFilesystem"]), read_only(options)?)
        }
        Process::Mounts(at, options) => match options.iter().find_map(|option| mode_option(option)) {
            Some(Ok(mode)) if options.len() == 1 => files(document, spec, at, mode),
            Some(_) | None => remount(document, spec, at, read_only(options)?),
        },
        Process::Only(part) => only(document, &below(container, &["volumeMounts"]), part),
        Process::Scratch(at) => {
            let path = text(at)?;
            let name = scratch_name(workload, at);
            let volume = mapping(&[("name", &name)]);
            volume.set("emptyDir", Mapping::new_flow());
            document.append_mapping(&below(spec, &["volumes"]), volume)?;
            let mount = mapping(&[("name", &name), ("mountPath", path)]);
            document.append_mapping(&below(container, &["volumeMounts"]), mount)
        }
    }
}

/// Sets the level of the container's label. A container's own options take the place of all of its pod's.
fn level(document: &Document, (spec, containers): (&[Part], usize), level: &str) -> Result<(), PatchError> {
    let own = below(document.container(), &["securityContext", "seLinuxOptions"]);
    let of_pod = below(spec, &["securityContext", "seLinuxOptions"]);
    if document.read(&own).is_some() || document.read(&of_pod).is_none() {
        return document.set(&below(&own, &["level"]), level);
    }
    if containers > 1 {
        return Err(no_field(
            "its pod has seLinuxOptions, which hold for every container: write the level there, for all of them",
        ));
    }
    document.set(&below(&of_pod, &["level"]), level)
}

/// Sets `readOnly` of what is mounted at `at`, in decimal as JSON has it.
fn remount(document: &Document, spec: &[Part], at: &[u8], read_only: bool) -> Result<(), PatchError> {
    let mounts = below(document.container(), &["volumeMounts"]);
    let way = document.mount_at(&mounts, "mountPath", at).ok_or(PatchError::Lost)?;
    let mount = document.read(&way).ok_or(PatchError::Lost)?;
    if !read_only {
        writable(document, spec, mount)?;
        // The API refuses the one without the other.
        if mount.get("recursiveReadOnly").is_some() {
            document.set(&below(&way, &["recursiveReadOnly"]), "Disabled")?;
        }
    }
    document.set(&below(&way, &["readOnly"]), read_only)
}

/// Sets `defaultMode` of the volume of API objects that is mounted at `at`, in decimal as JSON has it.
fn files(document: &Document, spec: &[Part], at: &[u8], mode: Mode) -> Result<(), PatchError> {
    let mounts = below(document.container(), &["volumeMounts"]);
    let way = document.mount_at(&mounts, "mountPath", at).ok_or(PatchError::Lost)?;
    let mount = document.read(&way).ok_or(PatchError::Lost)?;
    let (way, volume) = volume(document, spec, mount).ok_or(PatchError::Lost)?;
    let kinds = ["secret", "configMap", "downwardAPI", "projected"];
    let kind = kinds.into_iter().find(|kind| volume.get(kind).is_some()).ok_or(PatchError::Lost)?;
    document.set(&below(&way, &[kind, "defaultMode"]), i64::from(mode.bits()))
}

/// The volume that `mount` names, and the way to it.
fn volume<'a>(document: &'a Document, spec: &[Part], mount: &Node) -> Option<(Vec<Part>, &'a Node)> {
    let volumes = below(spec, &["volumes"]);
    let name = mount.get("name").and_then(Node::text);
    let listed = document.read(&volumes).map(Node::items).unwrap_or_default();
    let index = listed.iter().position(|volume| volume.get("name").and_then(Node::text) == name)?;
    Some((item(&volumes, index), &listed[index]))
}

/// Mounts a part of the volume above `part`, and not the whole.
fn only(document: &Document, mounts: &[Part], part: &[u8]) -> Result<(), PatchError> {
    let (way, _) = document.mount_above(mounts, "mountPath", part).ok_or(PatchError::Lost)?;
    if document.read(&below(&way, &["subPathExpr"])).is_some() {
        return Err(no_field("the mount has a subPathExpr already: write the rest of the path there"));
    }
    document.part_alone(mounts, ("mountPath", "subPath"), part)
}

/// Takes the `readOnly` of the volume that `mount` names.
fn writable(document: &Document, spec: &[Part], mount: &Node) -> Result<(), PatchError> {
    let Some((way, volume)) = volume(document, spec, mount) else { return Ok(()) };
    for source in ["persistentVolumeClaim", "csi", "nfs", "iscsi", "fc", "rbd", "cephfs", "azureFile"] {
        let given = volume.get(source).and_then(|source| source.get("readOnly"));
        if given.and_then(Node::text) == Some("true") {
            document.set(&below(&way, &[source, "readOnly"]), false)?;
        }
    }
    Ok(())
}
