//! Volumes that several workloads mount, each prepared in its own way: seen together they are one disk.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::mount::SourceId;
use mivask_model::tree::InodeId;
use mivask_stage::stage::Stage;

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

/// A stage on which every disk has one tree, and which source means which.
pub(crate) struct Joined {
    pub stage: Stage,
    /// For each source, the first that shows the same disk.
    disks: BTreeMap<SourceId, SourceId>,
    /// For each source, what its preparation made and what that is on the tree of all.
    became: BTreeMap<SourceId, BTreeMap<InodeId, InodeId>>,
    /// What was taken for granted, by the first source of a disk.
    pub notes: BTreeMap<SourceId, Arc<str>>,
}

impl Joined {
    /// Where workloads find a disk differently, it is as the last one finds it. Where a fact is missing, each possibility is
    /// joined with the same one of the others, and workloads that have others stay apart.
    pub(crate) fn new(stage: &Stage) -> Self {
        let possible = possibilities(stage);
        let mut groups: BTreeMap<(SourceId, Possibility), Vec<SourceId>> = BTreeMap::new();
        for (source, disk) in stage.source_ids().zip(stage.storage.disks()) {
            let possibility = possible.get(&source).copied().unwrap_or_default();
            groups.entry((disk, possibility)).or_default().push(source);
        }
        let mut joined = Self {
            stage: stage.clone(),
            disks: BTreeMap::new(),
            became: BTreeMap::new(),
            notes: BTreeMap::new(),
        };
        for sources in groups.values() {
            if let Some(first) = sources.first() {
                joined.disks.extend(sources.iter().map(|source| (*source, *first)));
                joined.join(*first, sources);
            }
        }
        joined.renumber();
        let mut counts: BTreeMap<SourceId, BTreeSet<usize>> = BTreeMap::new();
        for (disk, (_, of)) in groups.keys() {
            counts.entry(*disk).or_default().insert(*of);
        }
        for ((disk, (at, _)), sources) in &groups {
            let apart = counts.get(disk).is_some_and(|counts| counts.len() > 1);
            if let Some(first) = sources.first()
                && apart
                && *at == 0
            {
                let name = &joined.stage.source(*first).facts.name;
                let note = format!(
                    "workloads differ in what is known of {name}: what one does with another one's files is left out"
                );
                joined.notes.insert(*first, note.into());
            }
        }
        joined
    }

    /// The source that means the disk of `source`.
    pub(crate) fn disk(&self, source: SourceId) -> SourceId {
        self.disks.get(&source).copied().unwrap_or(source)
    }

    /// Gives the sources of one disk one tree.
    fn join(&mut self, disk: SourceId, sources: &[SourceId]) {
        let Some(last) = sources.last().map(|source| self.stage.source(*source).tree.clone()) else { return };
        if sources.iter().all(|source| Arc::ptr_eq(&self.stage.source(*source).tree, &last)) {
            return;
        }
        let mut whole = last.clone();
        let mut alike = Vec::new();
        for source in sources {
            let tree = self.stage.source(*source).tree.clone();
            let given = self.stage.source(*source).facts.disk.as_ref().map_or(tree.len(), |disk| disk.given);
            let same = Arc::ptr_eq(&tree, &last);
            let became = if same || tree.len() <= given {
                Ok(BTreeMap::new())
            } else {
                Arc::make_mut(&mut whole).take_in(&tree, given)
            };
            match became {
                Ok(became) => {
                    self.became.insert(*source, became);
                    alike.push(*source);
                }
                // It keeps what it has, and is a disk of its own here.
                Err(_) => {
                    self.disks.insert(*source, *source);
                }
            }
        }
        for source in alike {
            self.stage.storage.source_mut(source).tree = whole.clone();
        }
        let name = &self.stage.source(disk).facts.name;
        let note = format!("{name} is as the last workload finds it: each prepares it in its own way");
        self.notes.insert(disk, note.into());
    }

    /// Lets mounts of what a preparation made show it where it is now.
    fn renumber(&mut self) {
        let now = |source: SourceId, inode: InodeId| {
            self.became.get(&source).and_then(|became| became.get(&inode)).copied().unwrap_or(inode)
        };
        if self.became.values().all(BTreeMap::is_empty) {
            return;
        }
        for actor in Arc::make_mut(&mut self.stage.actors) {
            let shown: Vec<SourceId> =
                actor.mounts.iter().map(|(_, mount)| mount.variants[0].source).collect();
            actor.mounts.change(|id, mount| {
                mount.root = mount.root.map(|root| now(shown[id.number()], root));
                mount.on = mount.on.map(|(below, inode)| (below, now(shown[below.number()], inode)));
            });
        }
    }
}
