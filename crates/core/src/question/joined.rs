//! Volumes that several workloads mount, each prepared in its own way: seen together they are one disk.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::mount::{Mount, SourceId};
use crate::stage::Stage;

/// Which of how many possibilities of a mount a source is: its place among them, and their number.
type Possibility = (usize, usize);

/// Those of every source that is mounted.
fn possibilities(stage: &Stage) -> BTreeMap<SourceId, Possibility> {
    let mounts = stage.actors.iter().flat_map(|actor| actor.mounts.iter());
    let variants = mounts.flat_map(|(_, mount)| {
        let count = mount.variants.len();
        mount.variants.iter().enumerate().map(move |(at, variant)| (variant.source, (at, count)))
    });
    variants.collect()
}

/// A stage on which every disk has one tree, and which source stands for which.
pub(super) struct Joined {
    pub stage: Stage,
    /// For each source, the first that shows the same disk.
    disks: BTreeMap<SourceId, SourceId>,
    /// What was taken for granted, by the first source of a disk.
    pub notes: BTreeMap<SourceId, Arc<str>>,
}

impl Joined {
    /// Where workloads find a disk differently, it is as the last one finds it. Where a fact is missing, each possibility is
    /// joined with the same one of the others, and workloads that have others stay apart.
    pub(super) fn new(stage: &Stage) -> Self {
        let possible = possibilities(stage);
        let mut groups: BTreeMap<(SourceId, Possibility), Vec<SourceId>> = BTreeMap::new();
        for source in stage.source_ids() {
            let possibility = possible.get(&source).copied().unwrap_or_default();
            groups.entry((stage.disk_of(source), possibility)).or_default().push(source);
        }
        let mut joined = Self { stage: stage.clone(), disks: BTreeMap::new(), notes: BTreeMap::new() };
        for sources in groups.values() {
            if let Some(first) = sources.first() {
                joined.disks.extend(sources.iter().map(|source| (*source, *first)));
                joined.join(*first, sources);
            }
        }
        for ((disk, (at, of)), sources) in &groups {
            let apart = groups.keys().any(|(other, (_, others))| other == disk && others != of);
            if let Some(first) = sources.first().filter(|_| apart && *at == 0) {
                let name = &joined.stage.source(*first).name;
                let note = format!(
                    "how workloads find {name} is not known of all alike: what one does with another one's files is left out"
                );
                joined.notes.insert(*first, note.into());
            }
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
