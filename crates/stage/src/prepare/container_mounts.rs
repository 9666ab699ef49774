//! One container while its mounts are made.

use std::collections::BTreeSet;

use mivask_model::fact::Provenance;
use mivask_model::ids::{KernelOwner, MountIds};
use mivask_model::mount::{MountTable, SourceId};
use mivask_model::refusal::Refusal;
use mivask_model::refusal::RefusalClass;

use super::context::Context;
use super::mount_point::Maker;
use crate::runtime::Profile;
use crate::scene::{Container, Image};
use crate::stage::Stage;

/// Which volumes were mounted and filled by earlier containers.
#[derive(Debug, Default)]
pub(super) struct Filled {
    pub mounted: BTreeSet<SourceId>,
    pub copied: BTreeSet<SourceId>,
}

pub(super) struct ContainerMounts<'a> {
    pub stage: &'a mut Stage,
    pub context: &'a Context<'a>,
    pub container: &'a Container,
    pub filled: &'a mut Filled,
    pub mounts: MountTable,
    /// The image alone, as an engine looks into it before anything is mounted.
    pub image_table: MountTable,
    pub image: Option<&'a Image>,
    pub blocked: Option<Refusal>,
    /// The namespace's ids as the map of a mount.
    pub own_ids: MountIds,
    /// Who makes mount points.
    pub creator: KernelOwner,
    /// The process's own user and group, where they are settled.
    pub process: Option<KernelOwner>,
}

impl ContainerMounts<'_> {
    pub(super) const fn profile(&self) -> &Profile {
        self.context.profile
    }

    pub(super) fn maker(&self) -> Maker {
        Maker::runtime(&self.profile().mount_points, self.creator)
    }

    pub(super) fn stop(&mut self, class: RefusalClass, reason: String, from: Provenance) {
        self.blocked.get_or_insert(Refusal { class, reason, from, whole_pod: false });
    }
}
