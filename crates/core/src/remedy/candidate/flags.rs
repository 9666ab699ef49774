//! Candidates where a flag of the mount refuses.

use mivask_model::act::Act;
use mivask_model::ids::MountIds;
use mivask_model::mount::MountOrigin;
use mivask_model::mount_kind::MountKind;
use mivask_model::path::parent;
use mivask_stage::runtime::Runtime;
use mivask_stage::stage::Stage;

use super::{Candidate, Met, absent};
use crate::change::{Change, Process};
use crate::remedy::Side;

impl Met<'_> {
    /// The mount is read-only: the same one for writing or, under the root, a scratch directory to create in.
    pub(super) fn writable(&self, stage: &Stage, act: &Act) -> Vec<Candidate> {
        let mut all = self.remounted("rw");
        if self.mount.origin == MountOrigin::Root && act.verb.creates() {
            all.extend(absent::scratch(stage, self.actor, self.name, parent(&act.path)));
        }
        all
    }

    /// What Podman can do about a mount whose owners are not those of the container's own user namespace: `idmap` shows them
    /// as they are on the disk, which an engine without root may not; `U` gives all of it to the process, as far as it is the
    /// engine's user's to give.
    pub(super) fn of_other_ids(&self) -> Vec<Candidate> {
        let given = matches!(self.mount.facts.kind, MountKind::Bind | MountKind::Volume)
            && self.mount.origin == MountOrigin::Declared;
        let own = !self.namespace().is_initial();
        if !given || self.actor.runtime != Runtime::Podman || self.is_mine() {
            return Vec::new();
        }
        let mapped = self.mount.facts.ids != MountIds::default();
        let id_mapped = own && self.actor.starter.is_none() && !mapped;
        let mut all = if id_mapped { self.remounted("idmap") } else { Vec::new() };
        if own {
            all.extend(self.remounted("U"));
        }
        all
    }

    /// A flag of the mount refuses: the same mount with `option` instead, except where the kubelet makes it.
    pub(super) fn remounted(&self, option: &str) -> Vec<Candidate> {
        if self.mount.is_written_by_kubelet() {
            return Vec::new();
        }
        let what = Process::Mounts(self.mount.facts.at.to_vec(), vec![option.to_owned()]);
        vec![Candidate { changes: vec![Change::Process(self.name.to_owned(), what)], side: Side::Mount }]
    }
}
