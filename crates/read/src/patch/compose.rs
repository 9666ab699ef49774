//! Keys of the Compose specification.

use mivask_core::change::Process;
use yaml_edit::YamlValue;

use super::document::{Document, Part, below};
use super::{PatchError, no_field, read_only};
use crate::yaml::Node;

/// Writes `what` about the service.
pub(super) fn write(document: &Document, what: &Process) -> Result<(), PatchError> {
    let service = document.container();
    let key = |key: &str| below(service, &[key]);
    match what {
        Process::Becomes(uid, gid) => {
            let told = document.read(&key("user")).and_then(Node::text).and_then(|text| text.split_once(':'));
            let group = gid.map(|gid| gid.to_string()).or_else(|| told.map(|(_, group)| group.to_owned()));
            let user = group.map_or_else(|| uid.to_string(), |group| format!("{uid}:{group}"));
            document.set(&key("user"), user)
        }
        Process::Umask(_) => Err(no_field(
            "no key of a service sets a umask: set it where the program starts, or in the image",
        )),
        Process::Drops(names) => {
            names.iter().try_for_each(|name| document.append(&key("cap_drop"), name.as_str().into()))
        }
        Process::Adds(names) => {
            names.iter().try_for_each(|name| document.append(&key("cap_add"), name.as_str().into()))
        }
        Process::Joins(gid) => document.append(&key("group_add"), YamlValue::from(gid.to_string().as_str())),
        Process::FilesystemGroup(_) => Err(no_field("a service has no filesystem group")),
        Process::Mounts(at, options) if at.as_slice() == b"/" => {
            document.set(&key("read_only"), read_only(options)?)
        }
        Process::Mounts(at, options) => remount(document, at, read_only(options)?),
        Process::Scratch(at) => {
            let path = std::str::from_utf8(at).map_err(|_| PatchError::Lost)?;
            document.append(&key("tmpfs"), path.into())
        }
    }
}

/// The entry of `volumes` that is mounted at `at`, short or long.
fn remount(document: &Document, at: &[u8], read_only: bool) -> Result<(), PatchError> {
    let at = std::str::from_utf8(at).map_err(|_| PatchError::Lost)?.trim_end_matches('/');
    let volumes = below(document.container(), &["volumes"]);
    let listed = document.read(&volumes).ok_or(PatchError::Lost)?;
    for (index, entry) in listed.items().iter().enumerate() {
        let mut way = volumes.clone();
        way.push(Part::Item(index));
        if entry.get("target").and_then(Node::text).is_some_and(|target| target.trim_end_matches('/') == at) {
            way.push(Part::Key("read_only".to_owned()));
            return document.set(&way, read_only);
        }
        let Some(text) = entry.text() else { continue };
        let parts: Vec<&str> = text.split(':').collect();
        if parts.get(1).is_some_and(|target| target.trim_end_matches('/') == at) {
            let kept = parts.get(2).unwrap_or(&"").split(',');
            let mut options: Vec<&str> = kept.filter(|word| !matches!(*word, "" | "ro" | "rw")).collect();
            if read_only {
                options.insert(0, "ro");
            }
            let mut short = parts[..2].join(":");
            if !options.is_empty() {
                short = format!("{short}:{}", options.join(","));
            }
            return document.set(&way, short);
        }
    }
    Err(PatchError::Lost)
}
