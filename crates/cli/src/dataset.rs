//! `--dataset`: what is on volumes, from the surveys of a fleet.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::sync::Arc;

use mivask_core::scene::{self, Scene, VolumeKind, Workload};
use mivask_core::tree::Tree;
use mivask_disk::dataset::{self, Apart, Reader, Volume, VolumeName};
use mivask_disk::error::DiskError;
use mivask_read::disk;
use mivask_read::outline::Outline;
use mivask_show::text;

use crate::end::{CommandError, Failure};
use crate::options::Facts;

/// Why a dataset cannot be asked.
#[derive(Debug, thiserror::Error)]
enum CannotAsk {
    /// This build reads none.
    #[error("this build reads no datasets: build it with --features parquet, or take a package")]
    NotBuiltIn,
    /// A day that is none.
    #[error("`{0}` is not a date: write it as 2026-12-01")]
    Date(String),
    /// A volume that is not there.
    #[error("the dataset has no volume {name}: it has {known}")]
    Volume {
        /// As it was written.
        name: String,
        /// Those there are.
        known: String,
    },
}

impl CommandError for CannotAsk {}

/// Volumes that are shown where one is not there.
const MOST_SHOWN: usize = 10;

/// A dataset that is there.
pub(crate) struct Dataset {
    reader: Reader,
    date: Option<String>,
    volumes: BTreeSet<VolumeName>,
    /// Volumes of which `--disk` tells.
    told: BTreeSet<String>,
}

impl Dataset {
    /// The one that was named, if any.
    pub(crate) fn of(facts: &Facts) -> Result<Option<Self>, Failure> {
        let Some(folder) = &facts.dataset else { return Ok(None) };
        if !dataset::is_built_in() {
            return Err(CannotAsk::NotBuiltIn.into());
        }
        if let Some(date) = facts.date.as_ref().filter(|date| !dataset::is_date(date)) {
            return Err(CannotAsk::Date(date.clone()).into());
        }
        let mut volumes: BTreeSet<VolumeName> =
            dataset::volumes(folder).map_err(Failure::Disk)?.into_iter().collect();
        let known = |name: &str| volumes.iter().any(|volume| volume.as_str() == name);
        if let Some(name) = facts.only_volume.iter().find(|name| !known(name)) {
            let shown: Vec<&str> = volumes.iter().take(MOST_SHOWN).map(VolumeName::as_str).collect();
            let more = if volumes.len() > MOST_SHOWN { ", ..." } else { "" };
            let known = format!("{}{more}", shown.join(", "));
            return Err(CannotAsk::Volume { name: name.clone(), known }.into());
        }
        volumes.retain(|name| {
            facts.only_volume.is_empty() || facts.only_volume.iter().any(|only| only == name.as_str())
        });
        let reader = Reader::open(folder).map_err(Failure::Disk)?;
        let told = facts.disk.iter().map(|disk| disk.name.clone()).collect();
        Ok(Some(Self { reader, date: facts.date.clone(), volumes, told }))
    }

    /// A volume of it, on the day that was asked for.
    pub(crate) fn pairs(&self, name: &VolumeName, apart: Apart<'_>) -> Result<Volume, DiskError> {
        self.reader.volume(name, self.date.as_deref(), apart)
    }

    /// How a volume of it is named in answers.
    pub(crate) fn shown(&self, name: &VolumeName) -> String {
        format!("volume {} of {}", name.as_str(), self.reader.folder().display())
    }

    /// The names of its volumes that were asked for, in order.
    pub(crate) fn names(&self) -> impl Iterator<Item = &VolumeName> {
        self.volumes.iter()
    }

    /// The volume that is this one, if it has it.
    pub(crate) fn volume(&self, one: &Called) -> Option<VolumeName> {
        one.names.iter().find_map(|name| name.parse().ok().filter(|name| self.volumes.contains(name)))
    }

    /// Whether something else tells what is on it.
    pub(crate) fn is_told(&self, one: &Called) -> bool {
        let names = one.names.iter().map(String::as_str);
        names.chain([&*one.key, plain(one)]).any(|name| self.told.contains(name))
    }
}

/// What a volume is called.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(crate) struct Called {
    /// Its key among the volumes of a scene.
    pub(crate) key: String,
    /// What its source is called in answers.
    pub(crate) source: String,
    /// The names that it may have in a dataset, the best first.
    pub(crate) names: Vec<String>,
    /// The namespace of the workloads that mount it.
    pub(crate) namespace: String,
}

/// What a volume of workloads of this namespace is called; `None` of what no dataset has, such as a volume that the pod describes itself.
pub(crate) fn called(namespace: &str, volume: &scene::Volume) -> Option<Called> {
    let key = volume.key()?;
    let namespace = namespace.to_owned();
    if let VolumeKind::Claim { claim, .. } = &volume.kind {
        return Some(Called {
            key: format!("{namespace}/{claim}"),
            source: format!("claim {claim}"),
            names: vec![format!("{namespace}.{claim}"), claim.clone()],
            namespace,
        });
    }
    if matches!(volume.kind, VolumeKind::Backed { .. }) {
        return None;
    }
    let listed =
        if let VolumeKind::Named { listed, .. } = &volume.kind { Some(listed.clone()) } else { None };
    let names = listed.into_iter().chain([key.to_owned()]).collect();
    Some(Called { key: key.to_owned(), source: format!("volume {key}"), names, namespace })
}

/// Adds what a dataset has of the volumes of a scene's workloads, where one is named.
pub(crate) fn of_scene(scene: &mut Scene, facts: &Facts, err: &mut dyn Write) -> Result<(), Failure> {
    let Some(dataset) = Dataset::of(facts)? else { return Ok(()) };
    let mut wanted = Wanted::default();
    scene.workloads.iter().for_each(|workload| wanted.take(workload));
    wanted.add(scene, &dataset, err)
}

/// The same where the workloads are apart.
pub(crate) fn of_outline(outline: &mut Outline, facts: &Facts, err: &mut dyn Write) -> Result<(), Failure> {
    let Some(dataset) = Dataset::of(facts)? else { return Ok(()) };
    Wanted::of(outline).add(&mut outline.scene, &dataset, err)
}

/// The volumes that workloads mount, as far as a dataset may have them.
#[derive(Default)]
pub(crate) struct Wanted(pub(crate) BTreeSet<Called>);

impl Wanted {
    /// Those of every workload, as they are described.
    pub(crate) fn of(outline: &Outline) -> Self {
        Self(outline.volumes.iter().filter_map(|(namespace, volume)| called(namespace, volume)).collect())
    }

    /// Adds those of a workload.
    pub(crate) fn take(&mut self, workload: &Workload) {
        self.0.extend(workload.volumes.iter().filter_map(|volume| called(&workload.namespace, volume)));
    }

    /// Puts what the dataset has of them into a scene, whole.
    fn add(self, scene: &mut Scene, dataset: &Dataset, err: &mut dyn Write) -> Result<(), Failure> {
        let mut read: BTreeMap<VolumeName, Arc<Tree>> = BTreeMap::new();
        let mut missing = BTreeSet::new();
        for one in self.0 {
            if dataset.is_told(&one) {
                continue;
            }
            let Some(name) = dataset.volume(&one) else {
                let told = scene.volumes.get(&one.key).or_else(|| scene.volumes.get(plain(&one)));
                if told.is_none_or(|facts| facts.tree.is_none()) {
                    missing.insert(one.source);
                }
                continue;
            };
            let tree = match read.get(&name) {
                Some(known) => known.clone(),
                None => {
                    let tree = dataset.reader.tree(&name, dataset.date.as_deref()).map_err(Failure::Disk)?;
                    read.entry(name.clone()).or_insert(Arc::new(tree)).clone()
                }
            };
            put(scene, &one, &dataset.shown(&name), tree);
        }
        let missing: Vec<String> = missing.into_iter().collect();
        Ok(text::not_in_dataset(err, &missing)?)
    }
}

/// The name of a claim without its namespace.
fn plain(one: &Called) -> &str {
    one.key.split_once('/').map_or(&one.key, |(_, name)| name)
}

/// Gives a volume of a scene these files, whatever else is said of it.
pub(crate) fn put(scene: &mut Scene, one: &Called, shown: &str, tree: Arc<Tree>) {
    let told = scene.volumes.get(&one.key).or_else(|| scene.volumes.get(plain(one)));
    let mut facts = told.cloned().unwrap_or_else(|| disk::volume(shown, tree.clone()));
    facts.tree = Some(tree);
    scene.volumes.insert(one.key.clone(), facts);
}
