//! `U` of a volume: Podman gives everything in it to the process (docs/facts/runtimes.md 3.2, docs/facts/rootless.md).

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::ids::{DiskOwner, InsideGid, InsideUid, KernelGid, KernelOwner, KernelUid, OVERFLOW_ID};
use mivask_model::mode::FileKind;
use mivask_model::mount_kind::MountKind;
use mivask_model::picked::is_picked;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::{Certainty, InodeId, Tree};

use super::container_mounts::ContainerMounts;
use super::engine::InImage;
use super::prepared::Prepared;
use crate::namespace::Starter;

impl ContainerMounts<'_> {
    /// Everything goes to the process's user and group; the root then back to whom the image's directory belongs, where there is one
    /// and the volume is the engine's own, mounted for the first time.
    pub(super) fn take_over(&mut self, volume: &mut Prepared, at: &Fact<Vec<u8>>) {
        let Some(root) = volume.root else { return };
        let in_image = if volume.kind == MountKind::Volume { Some(self.in_image(&at.value)) } else { None };
        // The kernel would not let a chown through a link touch what is elsewhere: the engine uses lchown.
        let owner = self.process;
        let (starter, _) = self.context.starter_of();
        for variant in volume.variants.clone() {
            let tree = Arc::make_mut(&mut self.stage.storage.source_mut(variant.source).tree);
            let refused = tree.below(root).into_iter().find_map(|id| match owner {
                Some(owner) => give(tree, id, owner, starter),
                None => {
                    let fact = "the process's user and group, which own everything with `U`";
                    let unknown = Unknown::new(fact, "give `user` and `accounts` of the image");
                    tree.doubt_attributes(id, Certainty::Unknown(unknown));
                    None
                }
            });
            if let Some((path, owner)) = refused {
                let who = starter.map_or_else(String::new, Starter::word);
                let reason = format!(
                    "`U` gives {} to the process, and {who} may not take it from {owner}: EPERM",
                    quoted(&path)
                );
                return self.stop(RefusalClass::StartRefused, reason, at.from.clone());
            }
        }
        volume.note("`U` gives everything in it to the process's user and group");
        let source = volume.variants[0].source;
        if let Some(InImage::Directory(image, inode)) = in_image {
            let owner = self.renumbering()(self.stage.source(image).tree.inode(inode).stored_owner());
            let tree = Arc::make_mut(&mut self.stage.storage.source_mut(source).tree);
            let rule = Provenance::rule("the root goes back to the owner of the image's directory");
            tree.chown(root, owner.uid.raw(), owner.gid.raw(), rule);
            volume.note("its root goes back to the owner of the image's directory");
        }
    }
}

/// One file of it; its path and owner where that is refused.
fn give(
    tree: &mut Tree,
    id: InodeId,
    owner: KernelOwner,
    starter: Option<&Starter>,
) -> Option<(Vec<u8>, DiskOwner)> {
    let before = tree.inode(id).stored_owner();
    let known = tree.doubt(id).is_none_or(|doubt| doubt.owner == Certainty::Known);
    if let Some(starter) = starter.filter(|_| known) {
        if !is_picked(owner.uid.raw())
            && seen(starter, before.uid.raw(), before.gid.raw())
                == seen(starter, owner.uid.raw(), owner.gid.raw())
        {
            return None;
        }
        if !may_give(starter, before, owner) {
            return Some((path_of(tree, id), before));
        }
    }
    let rule = Provenance::rule("`U` gives it to the process");
    tree.chown(id, owner.uid.raw(), owner.gid.raw(), rule);
    None
}

/// The first path of an inode, whatever it is.
fn path_of(tree: &Tree, id: InodeId) -> Vec<u8> {
    let is_directory = |id: &InodeId| tree.inode(*id).kind == FileKind::Directory;
    if is_directory(&id) {
        return tree.path_of(id);
    }
    let above = tree.ids().filter(is_directory).find_map(|dir| {
        let (name, _) = tree.children(dir).find(|(_, child)| *child == id)?;
        Some([&tree.path_of(dir), b"/".as_slice(), name].concat())
    });
    above.unwrap_or_default()
}

/// An owner as the engine sees it: what its namespace lacks is 65534, which it takes for that number
/// (`ChangeHostPathOwnership` compares what stat shows).
fn seen(starter: &Starter, uid: u32, gid: u32) -> (u32, u32) {
    let uid = starter.namespace.to_inside_uid(KernelUid::new(uid)).map_or(OVERFLOW_ID, InsideUid::raw);
    let gid = starter.namespace.to_inside_gid(KernelGid::new(gid)).map_or(OVERFLOW_ID, InsideGid::raw);
    (uid, gid)
}

/// `chown_ok` and `chgrp_ok` of fs/attr.c for the root of the engine's namespace.
fn may_give(starter: &Starter, before: DiskOwner, owner: KernelOwner) -> bool {
    let (uid, gid) = (before.uid.raw(), before.gid.raw());
    // What the engine picks it picks of its own.
    let held = (is_picked(uid) || starter.namespace.to_inside_uid(KernelUid::new(uid)).is_some())
        && (is_picked(gid) || starter.namespace.to_inside_gid(KernelGid::new(gid)).is_some());
    let owns = before.uid.raw() == starter.uid;
    let user = owns && owner.uid.raw() == before.uid.raw();
    let gid = owner.gid.raw();
    let group = owns && (gid == before.gid.raw() || gid == starter.gid || starter.groups.contains(&gid));
    held || user && group
}
