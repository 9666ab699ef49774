//! The volumes of a dataset, as far as descriptions mount them.

use std::collections::{BTreeMap, BTreeSet};

use mivask_core::scene::{Scene, Workload};
use mivask_disk::dataset::{Apart, RegionRow, Volume, VolumeName};
use mivask_disk::error::DiskError;

use crate::dataset::{Dataset, Wanted, called, put};
use crate::workers;

/// How many paths of a volume are told apart at most: each of its rows is held against them.
const MOST_APART: usize = 1024;

/// What the volumes of a description are called in the dataset, by namespace and the names of their sources.
pub(super) type Names = BTreeMap<(String, String), String>;

/// The volumes that are asked about.
pub(super) struct Volumes {
    dataset: Dataset,
    read: BTreeMap<VolumeName, Volume>,
    /// The paths of each volume that have to be told apart.
    apart: BTreeMap<String, BTreeSet<Vec<u8>>>,
    /// Volumes in which somebody may look for any name.
    open: BTreeSet<String>,
    /// Volumes of the dataset that somebody mounts and `--disk` tells of.
    told: BTreeSet<VolumeName>,
    missing: BTreeSet<String>,
}

impl Volumes {
    /// Those of this dataset.
    pub(super) fn new(dataset: Dataset) -> Self {
        Self {
            dataset,
            read: BTreeMap::default(),
            apart: BTreeMap::default(),
            open: BTreeSet::default(),
            told: BTreeSet::default(),
            missing: BTreeSet::default(),
        }
    }

    /// What was read of this volume.
    pub(super) fn of(&self, name: &str) -> Option<&Volume> {
        self.read.get(&name.parse().ok()?)
    }

    /// Reads those that are wanted and were not yet, on all processors.
    pub(super) fn read(&mut self, wanted: &Wanted) -> Result<(), DiskError> {
        let mut unread: BTreeSet<VolumeName> = BTreeSet::new();
        for one in &wanted.0 {
            let name = self.dataset.volume(one);
            match name {
                Some(name) if self.dataset.is_told(one) => drop(self.told.insert(name)),
                Some(name) if !self.read.contains_key(&name) => drop(unread.insert(name)),
                None if !self.dataset.is_told(one) => drop(self.missing.insert(one.source.clone())),
                Some(_) | None => {}
            }
        }
        let unread: Vec<VolumeName> = unread.into_iter().collect();
        let read = workers::on_each(&unread, |name| self.dataset.pairs(name, Apart::default()));
        for (name, read) in unread.into_iter().zip(read) {
            self.read.insert(name, read?);
        }
        Ok(())
    }

    /// Puts what the dataset has of those that are wanted into a scene, and gives what they are called there.
    pub(super) fn put(&self, wanted: &Wanted, scene: &mut Scene) -> Names {
        let there = wanted.0.iter().filter(|one| !self.dataset.is_told(one));
        let there = there.filter_map(|one| {
            let name = self.dataset.volume(one)?;
            put(scene, one, &self.dataset.shown(&name), self.read.get(&name)?.tree.clone());
            Some(((one.namespace.clone(), one.source.clone()), name.as_str().to_owned()))
        });
        there.collect()
    }

    /// A path of a volume, from its root, that has to be told apart from the rest.
    pub(super) fn tell_apart(&mut self, name: &str, path: Vec<u8>) {
        self.apart.entry(name.to_owned()).or_default().insert(path);
    }

    /// Somebody may look for any name on this volume.
    pub(super) fn leave_open(&mut self, name: &str) {
        self.open.insert(name.to_owned());
    }

    /// Reads volumes again of which it is known now that some names matter.
    pub(super) fn settle(&mut self) -> Result<(), DiskError> {
        let mut again: Vec<(VolumeName, Vec<Vec<u8>>, bool)> = Vec::new();
        for (name, read) in &mut self.read {
            let paths = self.apart.get(name.as_str());
            let regions: Vec<Vec<u8>> = paths.into_iter().flatten().take(MOST_APART).cloned().collect();
            let all = paths.is_none_or(|paths| paths.len() == regions.len());
            let complete = all && !self.open.contains(name.as_str());
            if !regions.is_empty() {
                again.push((name.clone(), regions, complete));
            } else if complete {
                read.settle();
            }
        }
        let read = workers::on_each(&again, |(name, regions, complete)| {
            self.dataset.pairs(name, Apart { regions, complete: *complete })
        });
        for ((name, ..), read) in again.into_iter().zip(read) {
            self.read.insert(name, read?);
        }
        Ok(())
    }

    /// The regions of every volume that was read.
    pub(super) fn regions(&self) -> Vec<RegionRow> {
        let rows = self.read.iter().flat_map(|(name, volume)| {
            let regions = &volume.regions;
            (0..regions.paths().len()).map(move |at| RegionRow {
                volume: name.as_str().to_owned(),
                date: volume.date.clone(),
                region: regions.paths()[at].clone(),
                around: regions.around(at).map(|around| regions.paths()[around].clone()),
            })
        });
        rows.collect()
    }

    /// What the dataset has and nobody mounts.
    pub(super) fn unmounted(&self) -> Vec<String> {
        let mounted = |name: &VolumeName| self.read.contains_key(name) || self.told.contains(name);
        self.dataset.names().filter(|name| !mounted(name)).map(|name| name.as_str().to_owned()).collect()
    }

    /// What descriptions mount and the dataset does not have.
    pub(super) fn missing(&self) -> Vec<String> {
        self.missing.iter().cloned().collect()
    }
}

/// The name in the dataset of the volume that a workload declares by this name.
pub(super) fn declared<'n>(workload: &Workload, names: &'n Names, volume: &str) -> Option<&'n str> {
    let volume = workload.volumes.iter().find(|one| one.name.value == volume)?;
    let source = called(workload, volume)?.source;
    of_source(workload, names, &source)
}

/// The name in the dataset of the source that is called so.
pub(super) fn of_source<'n>(workload: &Workload, names: &'n Names, source: &str) -> Option<&'n str> {
    names.get(&(workload.namespace.clone(), source.to_owned())).map(String::as_str)
}
