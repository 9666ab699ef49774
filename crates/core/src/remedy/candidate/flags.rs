//! Candidates where a flag of the mount refuses.

use mivask_model::act::Act;
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

    /// A flag of the mount refuses: the same mount with `option` instead, except where the kubelet makes it.
    /// `U`: an engine without root gives what it mounts to the process, as far as it is its user's to give.
    pub(super) fn taken_over(&self) -> Vec<Candidate> {
        let given = matches!(self.mount.facts.kind, MountKind::Bind | MountKind::Volume)
            && self.mount.origin == MountOrigin::Declared;
        let podman = self.actor.starter.is_some() && self.actor.runtime == Runtime::Podman;
        if given && podman && !self.is_mine() { self.remounted("U") } else { Vec::new() }
    }

    pub(super) fn remounted(&self, option: &str) -> Vec<Candidate> {
        if self.mount.is_written_by_kubelet() {
            return Vec::new();
        }
        let what = Process::Mounts(self.mount.facts.at.to_vec(), vec![option.to_owned()]);
        vec![Candidate { changes: vec![Change::Process(self.name.to_owned(), what)], side: Side::Mount }]
    }
}
