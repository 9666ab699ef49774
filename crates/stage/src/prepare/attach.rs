//! One mount put in its place.

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::labels::Relabelled;
use mivask_model::mode::FileKind;
use mivask_model::mount::{Mount, MountFacts, MountId};
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::InodeId;

use super::bind::{self, Bound};
use super::container_mounts::{Attachment, ContainerMounts};
use super::prepared::Prepared;
use crate::scene::VolumeMount;

impl ContainerMounts<'_> {
    pub(super) fn attach(&mut self, new: &Attachment<'_>) {
        if let Some(reason) = self.guards(new).or_else(|| self.lacks_devices(new)) {
            return self.stop(RefusalClass::StartError, reason, new.from.clone());
        }
        let tree = &self.stage.source(new.volume.variants[0].source).tree;
        let directory = new.root.map(|root| tree.inode(root).kind == FileKind::Directory);
        let wanted = if directory == Some(true) { FileKind::Directory } else { FileKind::File };
        match self.mount_point(new, wanted) {
            Ok(place) => {
                let Some(inode) = place.inode else { return };
                let there = self.stage.source(place.source).tree.inode(inode).kind;
                if directory.is_some_and(|directory| directory != (there == FileKind::Directory)) {
                    let at = quoted(new.at);
                    let there = there.word();
                    let wanted = wanted.word();
                    let reason = format!("{at} is a {there}, a {wanted} cannot be mounted on it");
                    return self.stop(RefusalClass::StartError, reason, new.from.clone());
                }
                self.push(Some((place.mount, inode)), new);
            }
            Err(reason) => {
                let reason = format!("the mount point {} cannot be made: {reason}", quoted(new.at));
                self.stop(RefusalClass::StartError, reason, new.from.clone());
            }
        }
    }

    pub(super) fn push(&mut self, on: Option<(MountId, InodeId)>, new: &Attachment<'_>) {
        let source = self.stage.source(new.volume.variants[0].source);
        // Both engines label an anonymous volume for every container when they make it (`createContainerVolumesOS`,
        // `LabelVolumePath`).
        let anonymous = source.facts.anonymous && self.context.scene.host.selinux.is_some();
        let facts = MountFacts {
            relabelled: anonymous.then_some(Relabelled::Shared).or(new.volume.relabelled),
            question: new.volume.question.clone(),
            ids: new.ids.clone(),
            host_path: new.volume.host_path.clone(),
            label: new.volume.label.clone(),
            ..MountFacts::plain(new.at, new.volume.kind.clone(), new.from.clone())
        };
        self.mounts.push(Mount {
            on,
            variants: new.volume.variants.clone(),
            root: new.root,
            flags: new.flags,
            origin: new.origin,
            facts: Arc::new(facts),
        });
    }

    /// How this container's runtime makes a mount, or `None` where it refuses.
    pub(super) fn bound(&mut self, mount: &VolumeMount, volume: &Prepared) -> Option<Bound> {
        let how = (self.own_namespace, self.context.starter_of().0.is_some());
        let bound = bind::bound(&self.profile().binds, how, mount, volume);
        bound.map_err(|reason| self.stop(RefusalClass::StartRefused, reason, mount.at.from.clone())).ok()
    }
}
