//! Volume plugins with a file system of their own, in a pod's `volumes` and in a PersistentVolume alike.

use mivask_core::cluster::Backing;

use crate::yaml::Node;

/// Plugins for disks: the key, and whether a CSI driver has taken it over (`CSIMigration`).
const DISKS: [(&str, bool); 9] = [
    ("iscsi", false),
    ("fc", false),
    ("rbd", false),
    ("flexVolume", false),
    ("awsElasticBlockStore", true),
    ("gcePersistentDisk", true),
    ("azureDisk", true),
    ("cinder", true),
    ("vsphereVolume", true),
];

/// Plugins for file systems on a network.
const REMOTE: [&str; 3] = ["cephfs", "glusterfs", "quobyte"];

/// What is behind the volume at `node`, and whether that is read-only.
///
/// `inline` says that it is a pod's own. The node was checked against the API's types.
pub(super) fn backing(node: &Node, inline: bool) -> Option<(Backing, bool)> {
    let there = |key: &str| node.get(key).filter(|source| !source.is_nothing());
    let text = |source: &Node, key: &str| {
        source.get(key).filter(|text| !text.is_nothing())?.text().map(str::to_owned)
    };
    let read_only = |source: &Node| source.get("readOnly").is_some_and(|flag| flag.truth().unwrap_or(false));
    if let Some(csi) = there("csi") {
        let fs_type = text(csi, "fsType").filter(|kind| !kind.is_empty());
        let driver = text(csi, "driver").unwrap_or_default();
        return Some((Backing::Csi { driver, fs_type, inline }, read_only(csi)));
    }
    if let Some(nfs) = there("nfs") {
        return Some((Backing::Nfs, read_only(nfs)));
    }
    if let Some(share) = there("azureFile") {
        return Some((Backing::AzureFile, read_only(share)));
    }
    if let Some((plugin, source)) = REMOTE.iter().find_map(|key| Some((*key, there(key)?))) {
        return Some((Backing::Remote(plugin.to_owned()), read_only(source)));
    }
    let (plugin, migrated, source) =
        DISKS.iter().find_map(|(key, migrated)| Some((*key, *migrated, there(key)?)))?;
    let disk = Backing::Disk { plugin: plugin.to_owned(), fs_type: text(source, "fsType"), migrated };
    // The API has no `readOnly` for that one.
    Some((disk, plugin != "vsphereVolume" && read_only(source)))
}
