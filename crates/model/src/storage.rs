//! The sources behind the mounts of a host, and the kernel settings that decide about all of them.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::mount::{Disk, Source, SourceId};

/// Kernel settings of the host that decide about files; `None` if not given.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Settings {
    /// `fs.protected_symlinks`
    pub protected_symlinks: Option<u8>,
    /// `fs.protected_regular`
    pub protected_regular: Option<u8>,
    /// `fs.protected_fifos`
    pub protected_fifos: Option<u8>,
    /// `fs.protected_hardlinks`
    pub protected_hardlinks: Option<u8>,
}

/// Every source that mounts of a host show, with the host's settings.
#[derive(Clone, Debug, Default)]
pub struct Storage {
    /// Shared by copies, on which something is tried, until one of them changes.
    sources: Arc<Vec<Source>>,
    /// For each source, the first one on the same disk, where no name says which disk that is.
    first_on_disk: Arc<Vec<SourceId>>,
    /// The host's kernel settings.
    pub settings: Settings,
}

impl Storage {
    /// Adds a source with a disk of its own, or of the name that it has.
    pub fn add_source(&mut self, source: Source) -> SourceId {
        let id = SourceId::at(self.sources.len());
        Arc::make_mut(&mut self.sources).push(source);
        Arc::make_mut(&mut self.first_on_disk).push(id);
        id
    }

    /// Adds a source that shows the disk of `other` by other rules.
    pub fn add_source_on(&mut self, other: SourceId, source: Source) -> SourceId {
        let id = self.add_source(source);
        let first = self.first_on_disk[other.index()];
        Arc::make_mut(&mut self.first_on_disk)[id.index()] = first;
        id
    }

    /// The source `id`.
    #[must_use]
    pub fn source(&self, id: SourceId) -> &Source {
        &self.sources[id.index()]
    }

    /// The source `id`, to be changed.
    pub fn source_mut(&mut self, id: SourceId) -> &mut Source {
        &mut Arc::make_mut(&mut self.sources)[id.index()]
    }

    /// Every source.
    pub fn source_ids(&self) -> impl Iterator<Item = SourceId> + use<> {
        (0..self.sources.len()).map(SourceId::at)
    }

    /// For every source, in their order, the first one that shows the same disk: the same volume as another workload finds it,
    /// whose inodes have the same numbers as far as they were there before anyone prepared it ([`Disk::given`]), or the same
    /// inodes under other rules.
    ///
    /// Containers of one image begin with the same files, and each has its own.
    #[must_use]
    pub fn disks(&self) -> Vec<SourceId> {
        let mut by_name: BTreeMap<&str, SourceId> = BTreeMap::new();
        let disks = self.source_ids().map(|id| match &self.source(id).facts.disk {
            Some(disk) => *by_name.entry(&disk.name).or_insert(id),
            None => self.first_on_disk[id.index()],
        });
        disks.collect()
    }

    /// Whether two sources show the same disk.
    #[must_use]
    pub fn on_one_disk(&self, a: SourceId, b: SourceId) -> bool {
        let name = |id: SourceId| self.source(id).facts.disk.as_ref().map(|disk: &Disk| &disk.name);
        match (name(a), name(b)) {
            (Some(a), Some(b)) => a == b,
            (None, None) => self.first_on_disk[a.index()] == self.first_on_disk[b.index()],
            (Some(_), None) | (None, Some(_)) => false,
        }
    }
}
