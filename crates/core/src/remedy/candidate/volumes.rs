//! What a description can say of a volume: a part of it alone, a filesystem group, and what fills it.

use mivask_model::act::Verb;
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::mount::MountOrigin;
use mivask_model::mount_kind::MountKind;
use mivask_model::path::parent;
use mivask_model::personality::{Personality, Squash};
use mivask_stage::runtime::Flavour;
use mivask_stage::scene::Scene;

use super::{Candidate, Met, process};
use crate::change::{Change, GroupStep, Process};
use crate::remedy::Side;

impl Met<'_> {
    /// The file `target` alone, or its directory, mounted past the one that may not be entered.
    pub(super) fn parts_alone(&self, needed: Access, target: &[u8]) -> Vec<Candidate> {
        let file = Self::at(self.stage, self.actor, self.name, target)
            .is_some_and(|met| met.inode.kind == FileKind::File);
        let file = Some(target).filter(|_| file);
        [Some(parent(target)), file]
            .into_iter()
            .flatten()
            .filter_map(|part| self.part_alone(needed, part))
            .collect()
    }

    /// `part` alone, mounted past the directory that may not be entered.
    fn part_alone(&self, needed: Access, part: &[u8]) -> Option<Candidate> {
        let deeper = mivask_model::host_mounts::is_within(part, &self.path) && part != self.path;
        let closed = needed == Access::EXECUTE && self.inode.kind == FileKind::Directory;
        let mount = self.place.mount;
        let same =
            Self::at(self.stage, self.actor, self.name, part).is_some_and(|met| met.place.mount == mount);
        // Who mounts it is root, and has to get past that directory too.
        let personality = &self.stage.source(self.place.source).facts.personality;
        let passes =
            !matches!(personality, Personality::Nfs(nfs) if nfs.export.squash != Some(Squash::Nobody));
        let offered = deeper && closed && same && passes && self.mount.origin == MountOrigin::Declared;
        let what = Process::Only(part.to_vec());
        offered.then(|| Candidate {
            changes: vec![Change::Process(self.name.to_owned(), what)],
            side: Side::Mount,
        })
    }

    /// A filesystem group, where the kubelet or the scene applies one to this volume.
    pub(super) fn filesystem_group(&self, scene: &Scene) -> Vec<Candidate> {
        let workload = scene.workloads.iter().find(|workload| *workload.name == *self.actor.workload);
        let Some(workload) = workload.filter(|workload| matches!(workload.flavour, Flavour::Pod)) else {
            return Vec::new();
        };
        // The kubelet leaves the host's own directories and those of a server as they are.
        let reached = self.mount.origin == MountOrigin::Declared
            && !matches!(self.mount.facts.kind, MountKind::HostPath | MountKind::Nfs);
        if workload.security.fs_group.is_some() || !reached {
            return Vec::new();
        }
        let own = self.own_groups().first().copied();
        // A number that nobody has opens nothing else.
        let fresh = own.or_else(|| crate::change::free_id(scene));
        let mut gids: Vec<u32> = self.gid.filter(|gid| *gid != 0).into_iter().chain(fresh).collect();
        gids.dedup();
        let given = |gid| process(self.name, Process::FilesystemGroup(GroupStep::Group(gid)));
        gids.into_iter().map(given).collect()
    }

    /// The owner in the image, where an engine may have filled the volume from it.
    pub(super) fn filled(&self, scene: &Scene) -> Vec<Candidate> {
        let mut workloads = scene.workloads.iter().filter(|workload| *workload.name == *self.actor.workload);
        let engine = workloads.next().is_some_and(|workload| workload.flavour == Flavour::Compose);
        // Engines fill named and anonymous volumes from the image, nothing else.
        let bound = matches!(self.mount.facts.kind, MountKind::Bind | MountKind::Tmpfs);
        if !engine || bound || self.mount.origin != MountOrigin::Declared {
            return Vec::new();
        }
        let Some(own) = self.to_own().map(|verb| Change::Image(self.act(verb))) else { return Vec::new() };
        let made = Change::Image(self.act(Verb::MakesDirectory(Mode::new(0o755))));
        // Where the image lacks it, it has to be made there too.
        let all = [vec![own.clone()], vec![made, own]];
        all.map(|changes| Candidate { changes, side: Side::Image }).into()
    }
}
