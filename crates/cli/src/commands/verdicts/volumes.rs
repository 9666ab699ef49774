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
pub(super) type Names = BTreeMap<String, BTreeMap<String, String>>;

/// What there is to know of volumes before they are judged.
#[derive(Default)]
pub(super) struct Noted {
    /// Paths, from the root, that have to be told apart from the rest, by volume.
    pub(super) apart: BTreeMap<String, BTreeSet<Vec<u8>>>,
    /// Volumes in which somebody may look for any name.
    pub(super) open: BTreeSet<String>,
    /// Something may have to be told apart that shows only where nothing is taken of any name.
    pub(super) unsure: bool,
}

impl Noted {
    /// Whether there is anything.
    pub(super) fn is_empty(&self) -> bool {
        self.apart.is_empty() && self.open.is_empty() && !self.unsure
    }

    /// A path has to be told apart.
    pub(super) fn tell_apart(&mut self, name: &str, path: Vec<u8>) {
        self.apart.entry(name.to_owned()).or_default().insert(path);
    }
}

/// What the volumes of one workload are called in the dataset.
pub(super) struct Own<'n> {
    by_volume: BTreeMap<&'n str, &'n str>,
    by_source: Option<&'n BTreeMap<String, String>>,
}

impl<'n> Own<'n> {
    /// Those of `workload`.
    pub(super) fn of(workload: &'n Workload, names: &'n Names) -> Self {
        let by_source = names.get(&workload.namespace);
        let name = |volume| Some(by_source?.get(&called(&workload.namespace, volume)?.source)?.as_str());
        let all = workload.volumes.iter();
        let by_volume = all.filter_map(|volume| Some((volume.name.value.as_str(), name(volume)?)));
        Self { by_volume: by_volume.collect(), by_source }
    }

    /// The one that is declared by this name.
    pub(super) fn declared(&self, volume: &str) -> Option<&'n str> {
        self.by_volume.get(volume).copied()
    }

    /// All that are declared.
    pub(super) fn all(&self) -> impl Iterator<Item = &'n str> {
        self.by_volume.values().copied()
    }

    /// The one that is the source of this name.
    pub(super) fn of_source(&self, source: &str) -> Option<&'n str> {
        self.by_source?.get(source).map(String::as_str)
    }
}

/// The volumes that are asked about.
pub(super) struct Volumes {
    dataset: Dataset,
    read: BTreeMap<VolumeName, Volume>,
    noted: Noted,
    /// Those of which it was taken that no name matters.
    settled: BTreeSet<VolumeName>,
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
            noted: Noted::default(),
            settled: BTreeSet::default(),
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
        self.read_all(unread.into_iter().collect())
    }

    fn read_all(&mut self, names: Vec<VolumeName>) -> Result<(), DiskError> {
        let read = workers::on_each(&names, |name| self.dataset.pairs(name, Apart::default()));
        for (name, read) in names.into_iter().zip(read) {
            self.read.insert(name, read?);
        }
        Ok(())
    }

    /// Reads all of them again, and takes nothing of any name.
    pub(super) fn unsettle(&mut self) -> Result<(), DiskError> {
        self.settled.clear();
        self.read_all(self.read.keys().cloned().collect())
    }

    /// Puts what the dataset has of those that are wanted into a scene, and gives what they are called there.
    pub(super) fn put(&self, wanted: &Wanted, scene: &mut Scene) -> Names {
        let mut names = Names::new();
        for one in wanted.0.iter().filter(|one| !self.dataset.is_told(one)) {
            let Some(name) = self.dataset.volume(one) else { continue };
            let Some(read) = self.read.get(&name) else { continue };
            put(scene, one, &self.dataset.shown(&name), read.tree.clone());
            let of_namespace = names.entry(one.namespace.clone()).or_default();
            of_namespace.insert(one.source.clone(), name.as_str().to_owned());
        }
        names
    }

    /// Adds what was noted of one workload.
    pub(super) fn note(&mut self, noted: Noted) {
        for (name, paths) in noted.apart {
            self.noted.apart.entry(name).or_default().extend(paths);
        }
        self.noted.open.extend(noted.open);
    }

    /// Takes it that no name matters in any of them, unless a script is somewhere: then nobody knows yet where its interpreter is.
    pub(super) fn settle_for_now(&mut self) -> bool {
        let known = self.read.values().all(|volume| volume.interpreters.is_empty());
        if known {
            for (name, read) in &mut self.read {
                read.settle();
                self.settled.insert(name.clone());
            }
        }
        known
    }

    /// Reads volumes again of which it is known now that some names matter, and tells which.
    pub(super) fn settle(&mut self) -> Result<BTreeSet<String>, DiskError> {
        let mut again: Vec<(VolumeName, Vec<Vec<u8>>, bool)> = Vec::new();
        for (name, read) in &mut self.read {
            let paths = self.noted.apart.get(name.as_str());
            let regions: Vec<Vec<u8>> = paths.into_iter().flatten().take(MOST_APART).cloned().collect();
            let all = paths.is_none_or(|paths| paths.len() == regions.len());
            let complete = all && !self.noted.open.contains(name.as_str());
            if !regions.is_empty() {
                again.push((name.clone(), regions, complete));
            } else if complete && self.settled.insert(name.clone()) {
                read.settle();
            }
        }
        let read = workers::on_each(&again, |(name, regions, complete)| {
            self.dataset.pairs(name, Apart { regions, complete: *complete })
        });
        let mut names = BTreeSet::new();
        for ((name, ..), read) in again.into_iter().zip(read) {
            names.insert(name.as_str().to_owned());
            self.read.insert(name, read?);
        }
        Ok(names)
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
