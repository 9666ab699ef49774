//! The sources behind the mounts of a host, and the kernel settings that decide about all of them.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::mount::{Disk, Source, SourceId};
use crate::tree::Tree;

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
    sources: Vec<Source>,
    /// The host's kernel settings.
    pub settings: Settings,
}

impl Storage {
    /// Adds a source.
    pub fn add_source(&mut self, source: Source) -> SourceId {
        self.sources.push(source);
        SourceId(self.sources.len() - 1)
    }

    /// The source `id`.
    #[must_use]
    pub fn source(&self, id: SourceId) -> &Source {
        &self.sources[id.0]
    }

    /// The source `id`, to be changed.
    pub fn source_mut(&mut self, id: SourceId) -> &mut Source {
        &mut self.sources[id.0]
    }

    /// Every source.
    pub fn source_ids(&self) -> impl Iterator<Item = SourceId> + use<> {
        (0..self.sources.len()).map(SourceId)
    }

    /// [`disk_of`](Self::disk_of) of every source, in their order, in one pass.
    #[must_use]
    pub fn disks(&self) -> Vec<SourceId> {
        let mut by_name: BTreeMap<&str, usize> = BTreeMap::new();
        let mut by_tree: BTreeMap<(*const Tree, bool), usize> = BTreeMap::new();
        let mut disks = Vec::with_capacity(self.sources.len());
        for (at, source) in self.sources.iter().enumerate() {
            let tree = (Arc::as_ptr(&source.tree), source.disk.is_some());
            let alike = *by_tree.entry(tree).or_insert(at);
            let named = source.disk.as_ref().map(|disk| *by_name.entry(&disk.name).or_insert(at));
            disks.push(SourceId(named.map_or(alike, |named| named.min(alike))));
        }
        disks
    }

    /// The first source that shows the same disk as `id`: the same inodes, or the same volume as another workload finds it,
    /// whose inodes have the same numbers as far as they were there before anyone prepared it ([`Disk::given`]).
    #[must_use]
    pub fn disk_of(&self, id: SourceId) -> SourceId {
        let source = self.source(id);
        let same = |other: &SourceId| {
            let other = self.source(*other);
            let name = |source: &Source| source.disk.as_ref().map(|disk: &Disk| disk.name.clone());
            let given = source.disk.is_some() && name(source) == name(other);
            given || Arc::ptr_eq(&source.tree, &other.tree) && source.disk.is_some() == other.disk.is_some()
        };
        self.source_ids().find(same).unwrap_or(id)
    }
}
