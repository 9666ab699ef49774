//! Fields of the Kubernetes API.

use mivask_core::change::{Process, scratch_name};
use mivask_core::scene::Workload;
use yaml_edit::{Mapping, YamlValue};

use super::document::{Document, Part, below, mapping};
use super::{PatchError, no_field, read_only};

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
        Process::Drops(names) => names
            .iter()
            .try_for_each(|name| document.append(&security(&["capabilities", "drop"]), name.as_str().into())),
        Process::Adds(names) => names
            .iter()
            .try_for_each(|name| document.append(&security(&["capabilities", "add"]), name.as_str().into())),
        Process::Joins(gid) => {
            let groups = below(spec, &["securityContext", "supplementalGroups"]);
            document.append(&groups, YamlValue::from(i64::from(*gid)))
        }
        Process::FilesystemGroup(gid) => {
            document.set(&below(spec, &["securityContext", "fsGroup"]), i64::from(*gid))
        }
        Process::Mounts(at, options) if at.as_slice() == b"/" => {
            document.set(&security(&["readOnlyRootFilesystem"]), read_only(options)?)
        }
        Process::Mounts(at, options) => {
            let mounts = below(container, &["volumeMounts"]);
            let listed = document.read(&mounts).ok_or(PatchError::Lost)?;
            let same = |node: &crate::yaml::Node| {
                let told = node.get("mountPath").and_then(crate::yaml::Node::text);
                told.is_some_and(|told| {
                    told.trim_end_matches('/').as_bytes() == at.strip_suffix(b"/").unwrap_or(at)
                })
            };
            let index = listed.items().iter().position(same).ok_or(PatchError::Lost)?;
            let mut way = mounts;
            way.extend([Part::Item(index), Part::Key("readOnly".to_owned())]);
            document.set(&way, read_only(options)?)
        }
        Process::Scratch(at) => {
            let path = std::str::from_utf8(at).map_err(|_| PatchError::Lost)?;
            let name = scratch_name(workload, at);
            let volume = mapping(&[("name", &name)]);
            volume.set("emptyDir", Mapping::new_flow());
            document.append_mapping(&below(spec, &["volumes"]), volume)?;
            let mount = mapping(&[("name", &name), ("mountPath", path)]);
            document.append_mapping(&below(container, &["volumeMounts"]), mount)
        }
    }
}
