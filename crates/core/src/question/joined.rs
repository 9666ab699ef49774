//! Volumes that several workloads mount, each prepared in its own way: seen together they are one disk.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::mount::{Mount, SourceId};
use crate::stage::Stage;

/// A stage on which every disk has one tree, and which source stands for which.
pub(super) struct Joined {
    pub stage: Stage,
    /// For each source, the first that shows the same disk.
    disks: BTreeMap<SourceId, SourceId>,
    /// What was taken for granted, by the first source of a disk.
    pub notes: BTreeMap<SourceId, Arc<str>>,
}

impl Joined {
    /// Where workloads find a disk differently, it is as the last one finds it.
    pub(super) fn new(stage: &Stage) -> Self {
        let disks: BTreeMap<SourceId, SourceId> =
            stage.source_ids().map(|source| (source, stage.disk_of(source))).collect();
        let mut joined = Self { stage: stage.clone(), disks, notes: BTreeMap::new() };
        let mut groups: BTreeMap<SourceId, Vec<SourceId>> = BTreeMap::new();
        for (source, disk) in &joined.disks {
            groups.entry(*disk).or_default().push(*source);
        }
        for (disk, sources) in groups {
            joined.join(disk, &sources);
        }
        joined
    }

    /// The source that stands for the disk of `source`.
    pub(super) fn disk(&self, source: SourceId) -> SourceId {
        self.disks.get(&source).copied().unwrap_or(source)
    }

    fn join(&mut self, disk: SourceId, sources: &[SourceId]) {
        let Some(last) = sources.last().map(|source| self.stage.source(*source).tree.clone()) else { return };
        if sources.iter().all(|source| Arc::ptr_eq(&self.stage.source(*source).tree, &last)) {
            return;
        }
        // What a preparation added has a number behind those that all have.
        let common = sources.iter().map(|source| self.stage.source(*source).tree.len()).min().unwrap_or(0);
        for source in sources {
            if Arc::ptr_eq(&self.stage.source(*source).tree, &last) {
                continue;
            }
            if self.needs_no_more(*source, common) {
                self.stage.source_mut(*source).tree = last.clone();
            } else {
                // It keeps what it has, and is a disk of its own here.
                self.disks.insert(*source, *source);
            }
        }
        let name = &self.stage.source(disk).name;
        let note = format!("{name} is as the last workload finds it: each prepares it in its own way");
        self.notes.insert(disk, note.into());
    }

    /// Whether every mount of `source`, and every mount on one of its directories, stands on the first `common` inodes.
    fn needs_no_more(&self, source: SourceId, common: usize) -> bool {
        let within = |number: u32| usize::try_from(number).is_ok_and(|number| number < common);
        self.stage.actors.iter().all(|actor| {
            let shows = |mount: &Mount| mount.variants.iter().any(|one| one.source == source);
            actor.mounts.iter().all(|(_, mount)| {
                let root = !shows(mount) || mount.root.is_none_or(|root| within(root.number()));
                let on = mount
                    .on
                    .is_none_or(|(below, inode)| !shows(actor.mounts.get(below)) || within(inode.number()));
                root && on
            })
        })
    }
}
