//! The volumes of a dataset, as far as descriptions mount them.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use mivask_core::scene::{Scene, VolumeKind, Workload};
use mivask_disk::dataset::{self, Apart, RegionRow, Volume, VolumeName};
use mivask_disk::error::DiskError;
use mivask_read::disk;

/// How many paths of a volume are told apart at most: each of its rows is held against them.
const MOST_APART: usize = 1024;

/// A dataset that is asked about.
pub(super) struct Dataset {
    folder: PathBuf,
    date: Option<String>,
    there: BTreeSet<VolumeName>,
    read: BTreeMap<String, Volume>,
    /// The paths of each volume that have to be told apart.
    apart: BTreeMap<String, BTreeSet<Vec<u8>>>,
    /// Volumes in which somebody may look for any name.
    open: BTreeSet<String>,
    missing: BTreeSet<String>,
}

impl Dataset {
    /// The dataset in this folder.
    pub(super) fn open(folder: &std::path::Path, date: Option<&str>) -> Result<Self, DiskError> {
        Ok(Self {
            folder: folder.to_path_buf(),
            date: date.map(str::to_owned),
            there: dataset::volumes(folder)?.into_iter().collect(),
            read: BTreeMap::new(),
            apart: BTreeMap::new(),
            open: BTreeSet::new(),
            missing: BTreeSet::new(),
        })
    }

    /// What was read of this volume.
    pub(super) fn of(&self, name: &str) -> Option<&Volume> {
        self.read.get(name)
    }

    /// Puts what the dataset has of the volumes of `workload` into the scene; `names` learns the names by those that sources have.
    pub(super) fn put(
        &mut self,
        workload: &Workload,
        scene: &mut Scene,
        names: &mut BTreeMap<String, String>,
    ) -> Result<(), DiskError> {
        for volume in &workload.volumes {
            let Some((key, source, candidates)) = called(workload, &volume.kind, &volume.name.value) else {
                continue;
            };
            let found = candidates.iter().find_map(|name| {
                let name: VolumeName = name.parse().ok()?;
                self.there.contains(&name).then_some(name)
            });
            let Some(name) = found else {
                self.missing.insert(source);
                continue;
            };
            let tree = self.volume(&name)?.tree.clone();
            let shown = format!("volume {} of {}", name.as_str(), self.folder.display());
            match scene.volumes.get_mut(key) {
                Some(facts) => facts.tree = Some(tree),
                None => {
                    scene.volumes.insert(key.to_owned(), disk::volume(&shown, tree));
                }
            }
            names.insert(source, name.as_str().to_owned());
        }
        Ok(())
    }

    fn volume(&mut self, name: &VolumeName) -> Result<&Volume, DiskError> {
        if !self.read.contains_key(name.as_str()) {
            let read = dataset::volume(&self.folder, name, self.date.as_deref(), Apart::default())?;
            self.read.insert(name.as_str().to_owned(), read);
        }
        Ok(&self.read[name.as_str()])
    }

    /// A path of a volume, from its root, that has to be told apart from the rest.
    pub(super) fn tell_apart(&mut self, name: &str, path: Vec<u8>) {
        self.apart.entry(name.to_owned()).or_default().insert(path);
    }

    /// Somebody may look for any name on this volume.
    pub(super) fn leave_open(&mut self, name: &str) {
        self.open.insert(name.to_owned());
    }

    /// Reads the volumes again, now that it is known which names matter.
    pub(super) fn settle(&mut self) -> Result<(), DiskError> {
        let names: Vec<String> = self.read.keys().cloned().collect();
        for name in names {
            let paths = self.apart.get(&name);
            let regions: Vec<Vec<u8>> = paths.into_iter().flatten().take(MOST_APART).cloned().collect();
            let all = paths.is_none_or(|paths| paths.len() == regions.len());
            let Ok(parsed) = name.parse::<VolumeName>() else { continue };
            let apart = Apart { regions: &regions, complete: all && !self.open.contains(&name) };
            let read = dataset::volume(&self.folder, &parsed, self.date.as_deref(), apart)?;
            self.read.insert(name, read);
        }
        Ok(())
    }

    /// The regions of every volume that was read.
    pub(super) fn regions(&self) -> Vec<RegionRow> {
        let rows = self.read.iter().flat_map(|(name, volume)| {
            let regions = &volume.regions;
            (0..regions.paths().len()).map(move |at| RegionRow {
                volume: name.clone(),
                date: volume.date.clone(),
                region: regions.paths()[at].clone(),
                around: regions.around(at).map(|around| regions.paths()[around].clone()),
            })
        });
        rows.collect()
    }

    /// What descriptions mount and the dataset does not have.
    pub(super) fn missing(&self) -> Vec<String> {
        self.missing.iter().cloned().collect()
    }
}

/// The name of a volume in a scene, that of its source, and those that it may have in a dataset, the best first.
type Called<'a> = (&'a str, String, Vec<String>);

/// What a volume is called; `None` of what no dataset has.
fn called<'a>(workload: &Workload, kind: &'a VolumeKind, own: &'a str) -> Option<Called<'a>> {
    match kind {
        VolumeKind::Claim { claim, .. } => {
            let names = vec![format!("{}.{claim}", workload.namespace), claim.clone()];
            Some((claim, format!("claim {claim}"), names))
        }
        VolumeKind::Stored(name) => Some((name, format!("volume {name}"), vec![name.clone()])),
        VolumeKind::Named { listed, .. } => {
            Some((own, format!("volume {own}"), vec![listed.clone(), own.to_owned()]))
        }
        VolumeKind::EmptyDir(_)
        | VolumeKind::HostPath { .. }
        | VolumeKind::Ephemeral { .. }
        | VolumeKind::Backed { .. }
        | VolumeKind::Api(_)
        | VolumeKind::Image(_)
        | VolumeKind::Anonymous
        | VolumeKind::Bind { .. }
        | VolumeKind::Tmpfs(_)
        | VolumeKind::System(_)
        | VolumeKind::Other { .. } => None,
    }
}

/// The name in the dataset of the volume that a workload declares by this name.
pub(super) fn declared<'n>(
    workload: &Workload,
    names: &'n BTreeMap<String, String>,
    volume: &str,
) -> Option<&'n str> {
    let kind = &workload.volumes.iter().find(|one| one.name.value == volume)?.kind;
    let (_, source, _) = called(workload, kind, volume)?;
    names.get(&source).map(String::as_str)
}
