//! Mounts of the host that lie below a host path (facts/runtimes.md section 4, facts/kubelet.md section 5).

use std::sync::Arc;

use super::kube::Kube;
use super::prepared::Prepared;
use super::sub_path::{self, Part};
use crate::fact::{Provenance, Unknown};
use crate::host_mounts::HostMount;
use crate::mount::{MountFlags, Preparation, Source, SourceId};
use crate::personality::Personality;
use crate::stage::Stage;
use crate::tree::{Certainty, InodeId};

/// A mount of the host that lies below a host path.
#[derive(Clone, Debug)]
pub(super) struct Nested {
    /// Its path below the host path.
    pub rest: Vec<u8>,
    /// Its mount point, and what shows there.
    pub inode: InodeId,
    pub source: SourceId,
    pub flags: MountFlags,
    pub label: Arc<str>,
    pub from: Provenance,
}

/// The mounts of the host below a directory of it, as far as the tree has their mount points.
pub(super) fn below(
    stage: &mut Stage,
    kube: &Kube<'_>,
    host: SourceId,
    root: InodeId,
    path: &[u8],
) -> Vec<Nested> {
    let Some(mounts) = &kube.scene.host.mounts else { return Vec::new() };
    let mut all = Vec::new();
    for (mount, rest) in mounts.below(path) {
        let tree = &stage.source(host).tree;
        let names = rest.split(|byte| *byte == b'/').filter(|name| !name.is_empty());
        let found = names.into_iter().try_fold(root, |dir, name| tree.lookup(dir, name));
        let Some(inode) = found else { continue };
        let label = Arc::from(format!("host {}", crate::act::quoted(&mount.at)));
        let source = source_on(stage, host, Some(mount));
        let (rest, flags, from) = (rest.to_vec(), mount.flags, mount.from.clone());
        all.push(Nested { rest, inode, source, flags, label, from });
    }
    all
}

/// The part of a host path that `path` names where that lies on a mount below it, or `None` where it does not: whoever
/// looks for the part walks across mounts, and what is mounted there shows, with its flags.
///
/// # Errors
/// As for a part of any volume.
pub(super) fn part(
    stage: &mut Stage,
    volume: &Prepared,
    part: Part,
    path: &[u8],
) -> Result<Option<Prepared>, String> {
    let Some(root) = volume.root else { return Ok(None) };
    let tree = &stage.source(volume.variants[0].source).tree;
    let above =
        |from: InodeId| std::iter::successors(Some(from), |dir| (*dir != root).then(|| tree.parent(*dir)));
    let Some(nested) =
        above(part.directory).find_map(|dir| volume.nested.iter().find(|nested| nested.inode == dir))
    else {
        return Ok(None);
    };
    let mut on = Prepared {
        root: volume.root,
        flags: nested.flags,
        label: Some(nested.label.clone()),
        ..Prepared::single(nested.source, &volume.kind, Preparation::default())
    };
    on.root = sub_path::resolve(stage, &on, path)?.map(|part| part.inode);
    Ok(Some(on))
}

/// The source for paths on `mount`: the host's own, or one with the rules of the mount's file system.
pub(super) fn source_on(stage: &mut Stage, host: SourceId, mount: Option<&HostMount>) -> SourceId {
    let plain = |mount: &&HostMount| {
        mount.read_only_filesystem || mount.personality.as_ref() != Some(&Personality::default())
    };
    let Some(mount) = mount.filter(plain) else { return host };
    let mut tree = stage.source(host).tree.clone();
    if let Some(shown) = mount.personality.as_ref().and_then(Personality::shown) {
        Arc::make_mut(&mut tree).show_as(&shown);
    }
    let native = match &mount.personality {
        Some(_) => Certainty::Known,
        None => {
            let fact = format!(
                "the rules of {}, which is mounted at {}",
                mount.filesystem,
                crate::act::quoted(&mount.at)
            );
            Certainty::Unknown(Unknown::new(&fact, "not possible here: this version does not know them"))
        }
    };
    stage.add_source(Source {
        name: Arc::from(format!("host {}", crate::act::quoted(&mount.at))),
        filesystem: Some(mount.filesystem.clone()),
        tree,
        read_only: mount.read_only_filesystem,
        native,
        personality: mount.personality.clone().unwrap_or_default(),
    })
}
