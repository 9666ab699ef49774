//! `linux.maskedPaths` and `linux.readonlyPaths` of a bundle: what is hidden and what is kept from being written once everything else
//! is mounted (OCI runtime specification, config-linux.md; runc's `maskPath` and `readonlyPath`).

use std::collections::BTreeMap;

use mivask_model::mode::FileKind;
use mivask_model::mount::{Mount, MountFlags, MountId, MountOrigin};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;

use super::container_mounts::{Attachment, ContainerMounts};
use super::default_sources::Placement;
use super::prepared::Ready;
use super::tree_cache::TreeCache;
use crate::scene::{Shield, ShieldKind};

impl ContainerMounts<'_> {
    /// Every shield of the container, in the order of its runtime: runc hides last, crun first.
    pub(super) fn shields(&mut self, cache: &mut TreeCache) {
        let container = self.container;
        let hidden = |shield: &&Shield| shield.kind == ShieldKind::Masked;
        let (masked, read_only): (Vec<&Shield>, Vec<&Shield>) = container.shields.iter().partition(hidden);
        let masks_last = self.profile().mount_points.guards_proc;
        let (first, last) = if masks_last { (read_only, masked) } else { (masked, read_only) };
        for shield in first.into_iter().chain(last) {
            self.shield(shield, cache);
        }
    }

    /// A path that is not there needs no shield.
    fn shield(&mut self, shield: &Shield, cache: &mut TreeCache) {
        let at = &shield.at.value;
        let Ok(Sight::There(place)) = look(&self.stage.storage, &self.mounts, at, Follow::Links) else {
            return;
        };
        let Some(inode) = place.inode else { return };
        match shield.kind {
            ShieldKind::Masked => {
                let directory = self.stage.source(place.source).tree.inode(inode).kind == FileKind::Directory;
                let file = if self.profile().mount_points.guards_proc {
                    MountFlags::NONE
                } else {
                    MountFlags::READ_ONLY
                };
                let mut placing = Placement { stage: &mut *self.stage, cache, own: "" };
                let Ready::Shared(volume) = placing.mask(!directory, file) else { return };
                let (root, flags, from) = (volume.root, volume.flags, &shield.at.from);
                let (origin, ids) = (MountOrigin::Shield, &self.own_ids.clone());
                self.push(
                    Some((place.mount, inode)),
                    &Attachment { at, volume: &volume, root, flags, origin, from, ids },
                );
            }
            ShieldKind::ReadOnly => self.bind_again(place, shield),
        }
    }

    /// The same once more, read-only; what is mounted below comes along as it is.
    fn bind_again(&mut self, place: Place, shield: &Shield) {
        let Some(inode) = place.inode else { return };
        let under = self.mounts.get(place.mount).clone();
        // crun forgets the flags of what it binds again.
        let kept = if self.profile().mount_points.guards_proc { under.flags } else { MountFlags::NONE };
        let mut facts = (*under.facts).clone();
        facts.at = shield.at.value.as_slice().into();
        facts.from = shield.at.from.clone();
        let new = Mount {
            on: Some((place.mount, inode)),
            root: Some(inode),
            flags: kept.with(MountFlags::READ_ONLY),
            origin: MountOrigin::Shield,
            facts: facts.into(),
            ..under
        };
        let before: Vec<(MountId, Mount)> =
            self.mounts.iter().map(|(id, mount)| (id, mount.clone())).collect();
        let mut copies: BTreeMap<MountId, MountId> = BTreeMap::new();
        copies.insert(place.mount, self.mounts.push(new));
        let tree = self.stage.source(place.source).tree.clone();
        for (id, mount) in before {
            let Some((on, at)) = mount.on else { continue };
            let Some(copy) = copies.get(&on).copied() else { continue };
            // Of the mount that is bound again only what is below the path comes along.
            if on == place.mount && (at == inode || !tree.is_within(at, inode)) {
                continue;
            }
            let made = self.mounts.push(Mount { on: Some((copy, at)), ..mount });
            copies.insert(id, made);
        }
    }
}
