//! Whether a document has the form that engines print.

use crate::diagnostic::{Diagnostics, Severity};
use crate::text::SourceText;
use crate::yaml::{Node, Value};

/// What an engine prints as a list.
const LISTS: [&str; 12] = [
    "Args",
    "BoundingCaps",
    "EffectiveCaps",
    "HostConfig.CapAdd",
    "HostConfig.CapDrop",
    "HostConfig.GroupAdd",
    "HostConfig.IDMappings.GidMap",
    "HostConfig.IDMappings.UidMap",
    "HostConfig.Mounts",
    "HostConfig.SecurityOpt",
    "Config.CreateCommand",
    "Mounts",
];

/// Whether what is read has the form that engines print; nothing is passed over in silence.
pub(super) fn is_shaped(node: &Node, source: &SourceText, diagnostics: &mut Diagnostics) -> bool {
    let mut refuse =
        |at: &Node, message: String| diagnostics.add(Severity::Error, source, &at.span, message, None);
    let mut shaped = true;
    for path in LISTS {
        let given = node.find(path).filter(|given| !given.is_nothing());
        if let Some(given) = given.filter(|given| !matches!(given.value, Value::Sequence(_))) {
            refuse(given, format!("`{path}` is a list where an engine prints it"));
            shaped = false;
        }
    }
    if let Some(user) = node.find("Config.User").filter(|user| user.text().is_none() && !user.is_nothing()) {
        refuse(user, "`Config.User` is a text where an engine prints it".to_owned());
        shaped = false;
    }
    let images = ["ImageName", "Config.Image", "Image"];
    if !images.iter().any(|path| node.find(path).and_then(Node::text).is_some_and(|name| !name.is_empty())) {
        refuse(node, "the container names no image".to_owned());
        shaped = false;
    }
    let tmpfs = node.find("HostConfig.Tmpfs").filter(|tmpfs| !tmpfs.is_nothing());
    if let Some(tmpfs) = tmpfs.filter(|tmpfs| !matches!(tmpfs.value, Value::Mapping(_))) {
        refuse(tmpfs, "`HostConfig.Tmpfs` is a mapping where an engine prints it".to_owned());
        shaped = false;
    }
    for mount in node.get("Mounts").map(Node::items).unwrap_or_default() {
        if mount.get("Destination").and_then(Node::text).is_none_or(str::is_empty) {
            refuse(mount, "this mount has no `Destination`".to_owned());
            shaped = false;
        }
    }
    shaped
}
