//! What a container has of the volumes of another one (`volumes_from`; docs/facts/runtimes.md section 14).

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::Fact;
use mivask_model::ids::MountIds;
use mivask_model::mount::{MountFlags, MountOrigin};
use mivask_model::mount_kind::MountKind;
use mivask_model::refusal::RefusalClass;

use super::container_mounts::{Attachment, ContainerMounts};
use super::path_parts::same_path;
use super::prepared::{Prepared, new_volume};
use crate::scene::{Lent, VolumeMount};

/// A volume that the image of another container declares.
pub(super) struct Lending {
    /// Where it shows.
    pub at: Fact<Vec<u8>>,
    /// What it is known by: the container that it was made for, and the place.
    name: String,
    how: Lent,
    read_only: bool,
}

impl ContainerMounts<'_> {
    /// The volumes of lenders' images that they have not mounted something else on.
    pub(super) fn lent_by_images(&self) -> Vec<Lending> {
        let mut all: Vec<Lending> = Vec::new();
        for (lender, how, read_only) in &self.container.lenders {
            let mut containers = self.context.workload.containers.iter();
            let Some(other) = containers.find(|other| other.name == lender.value) else { continue };
            let image = other.image.as_ref().and_then(|image| self.context.scene.images.get(&image.value));
            for volume in image.map(|image| image.volumes.as_slice()).unwrap_or_default() {
                let other_is_there =
                    other.mounts.iter().any(|mount| same_path(&mount.at.value, &volume.value));
                let twice = all.iter().any(|lent| same_path(&lent.at.value, &volume.value));
                if other_is_there || twice {
                    continue;
                }
                let name = format!("{}:{}", other.name, String::from_utf8_lossy(&volume.value));
                let at = Fact::new(volume.value.clone(), lender.from.clone());
                all.push(Lending { at, name, how: *how, read_only: *read_only });
            }
        }
        all
    }

    pub(super) fn lent(&mut self, lent: &Lending) {
        let mut volume = self.anonymous(&lent.name, &lent.at);
        let no_copy = self.lends_unfilled(lent.how, false);
        self.fill(&mut volume, &lent.at, no_copy);
        let read_only = if lent.read_only { MountFlags::READ_ONLY } else { MountFlags::NONE };
        let at = self.profile().mount_points.place(&lent.at.value);
        let (root, flags) = (volume.root, self.volume_flags(&volume).with(read_only));
        let (origin, from, ids) = (MountOrigin::Declared, &lent.at.from, &MountIds::default());
        self.attach(&Attachment { at: &at, volume: &volume, root, flags, origin, from, ids });
    }

    /// The anonymous volume that goes by `name`: one for whoever it was made for and everybody it is lent to.
    pub(super) fn anonymous(&mut self, name: &str, at: &Fact<Vec<u8>>) -> Prepared {
        if let Some(known) = self.filled.anonymous.get(name) {
            return known.clone();
        }
        let words = format!("anonymous volume at {}", quoted(&at.value));
        let mut volume = new_volume(self.stage, &words, MountKind::Volume, self.creator);
        let source = self.stage.storage.source_mut(volume.variants[0].source);
        Arc::make_mut(&mut source.facts).anonymous = true;
        volume.flags = self.profile().volumes.flags;
        self.filled.anonymous.insert(name.to_owned(), volume.clone());
        volume
    }

    /// Whether nothing is copied into the volume of `mount` from this container's image.
    pub(super) fn is_left_as_it_is(&self, mount: &VolumeMount) -> bool {
        mount.engine.lent.map_or(mount.no_copy, |how| self.lends_unfilled(how, mount.no_copy))
    }

    /// Docker fills nothing that is lent; Podman does, and forgets `nocopy` where a mode is said.
    fn lends_unfilled(&self, how: Lent, no_copy: bool) -> bool {
        !self.profile().volumes.owns_root_at_first_mount || how == Lent::Plain && no_copy
    }

    /// A tmpfs is nobody else's: Podman leaves it out, and Docker finds no volume of that name.
    pub(super) fn lent_tmpfs(&mut self, mount: &VolumeMount) {
        if !self.profile().volumes.owns_root_at_first_mount {
            let reason =
                format!("the tmpfs at {} cannot be lent: there is no such volume", quoted(&mount.at.value));
            self.stop(RefusalClass::StartRefused, reason, mount.at.from.clone());
        }
    }
}
