//! What workloads share: the filesystem groups of the pods on one claim, and who writes to a volume. Known before the first
//! of them is prepared.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::fact::Fact;
use mivask_model::host_mounts::is_within;
use mivask_model::labels::Relabelled;

use crate::scene::{Container, Relabel, Volume, VolumeKind, VolumeMount, Workload};

/// A pod that mounts a claim so that its filesystem group may reach it.
#[derive(Clone, Debug)]
pub struct Mounting {
    /// The pod's name.
    pub pod: String,
    /// Its `fsGroup`.
    pub group: Option<Fact<u32>>,
    /// Whether `fsGroupChangePolicy` is OnRootMismatch.
    pub on_root_mismatch: bool,
}

/// A volume that more than one workload may mount.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum Shared {
    /// A claim, by namespace and name.
    Claim(String, String),
    /// A directory or file of the host.
    Host(Vec<u8>),
    /// A volume of an engine or of the scene, by its name.
    Named(String),
}

impl Shared {
    fn new(workload: &Workload, volume: &Volume) -> Option<Self> {
        match &volume.kind {
            VolumeKind::Claim { claim, .. } => Some(Self::Claim(workload.namespace.clone(), claim.clone())),
            VolumeKind::HostPath { path, .. } | VolumeKind::Bind { path, .. } => {
                Some(Self::Host(path.clone()))
            }
            VolumeKind::Named { .. } => Some(Self::Named(volume.name.value.clone())),
            VolumeKind::Stored(name) => Some(Self::Named(name.clone())),
            VolumeKind::EmptyDir(_)
            | VolumeKind::Ephemeral { .. }
            | VolumeKind::Backed { .. }
            | VolumeKind::Api(_)
            | VolumeKind::Image(_)
            | VolumeKind::Anonymous
            | VolumeKind::Tmpfs(_)
            | VolumeKind::System(_)
            | VolumeKind::Other { .. } => None,
        }
    }

    /// Whether what is written to one may show in the other.
    fn meets(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Host(a), Self::Host(b)) => is_within(a, b) || is_within(b, a),
            (a, b) => a == b,
        }
    }
}

/// The pods on each claim, one for each group, and the workloads that write to what others may mount.
#[derive(Clone, Debug, Default)]
pub struct Sharing {
    by_claim: BTreeMap<(String, String), Vec<Mounting>>,
    writers: BTreeMap<Shared, Writers>,
    /// How many workloads there are.
    taken: usize,
    labelled: Vec<Labelling>,
    /// The levels and labels that containers ask for.
    levels: BTreeSet<String>,
    /// How many workloads have a volume of each claim.
    on_claim: BTreeMap<(String, String), usize>,
}

/// The first two workloads that write to a volume, each with its place among all: whoever asks wants one that is not itself.
#[derive(Clone, Debug, Default)]
struct Writers(Vec<(usize, String)>);

impl Writers {
    fn take(&mut self, place: usize, workload: &str) {
        let another = self.0.first().is_none_or(|(_, first)| first != workload);
        if another && self.0.len() < 2 {
            self.0.push((place, workload.to_owned()));
        }
    }

    fn beside(&self, workload: &str) -> Option<&(usize, String)> {
        self.0.iter().find(|(_, name)| *name != workload)
    }
}

/// A container that has something labelled anew (`z`, `Z`).
#[derive(Clone, Debug)]
struct Labelling {
    workload: String,
    container: String,
    what: Shared,
    how: Relabel,
    /// The level that it asks for; one that is drawn is its own.
    level: Option<String>,
}

impl Sharing {
    /// Those of `workloads`.
    #[must_use]
    pub fn of(workloads: &[Arc<Workload>]) -> Self {
        let mut all = Self::default();
        workloads.iter().for_each(|workload| all.take(workload));
        all
    }

    /// Adds what `workload` mounts. Of pods with one group, the first stands for all.
    pub fn take(&mut self, workload: &Workload) {
        let mounts = workload.containers.iter().flat_map(|container| &container.mounts);
        let written: BTreeSet<&str> =
            mounts.filter(|mount| !mount.read_only).map(|mount| mount.volume.value.as_str()).collect();
        for volume in &workload.volumes {
            if let Some(shared) = Shared::new(workload, volume)
                && written.contains(volume.name.value.as_str())
            {
                self.writers.entry(shared).or_default().take(self.taken, &workload.name);
            }
        }
        self.taken += 1;
        self.take_labels(workload);
        for volume in &workload.volumes {
            let VolumeKind::Claim { claim, read_only: false } = &volume.kind else { continue };
            let on_claim = self.by_claim.entry((workload.namespace.clone(), claim.clone())).or_default();
            let group = &workload.security.fs_group;
            let value = |group: &Option<Fact<u32>>| group.as_ref().map(|group| group.value);
            if !on_claim.iter().any(|other| value(&other.group) == value(group)) {
                let on_root_mismatch =
                    workload.security.on_root_mismatch.as_ref().is_some_and(|fact| fact.value);
                on_claim.push(Mounting {
                    pod: workload.name.clone(),
                    group: group.clone(),
                    on_root_mismatch,
                });
            }
        }
    }

    /// Who may make something in `volume` of `workload` besides `container`: a container of it, or another workload.
    #[must_use]
    pub fn other_writer(&self, workload: &Workload, container: &str, volume: &str) -> Option<String> {
        let mut beside = workload.containers.iter().filter(|other| other.name != container);
        let beside = beside.find(|other| writes(std::slice::from_ref(*other), volume));
        if let Some(other) = beside {
            return Some(other.name.clone());
        }
        let volume = workload.volumes.iter().find(|given| given.name.value == volume)?;
        let shared = Shared::new(workload, volume)?;
        let beside = |writers: &Writers| writers.beside(&workload.name).cloned();
        if !matches!(shared, Shared::Host(_)) {
            return self.writers.get(&shared).and_then(beside).map(|(_, name)| name);
        }
        // What is above a path and what is below it, too.
        let there = self.writers.iter().filter(|(other, _)| shared.meets(other));
        there.filter_map(|(_, writers)| beside(writers)).min().map(|(_, name)| name)
    }

    fn take_labels(&mut self, workload: &Workload) {
        for volume in &workload.volumes {
            if let VolumeKind::Claim { claim, .. } = &volume.kind {
                *self.on_claim.entry((workload.namespace.clone(), claim.clone())).or_default() += 1;
            }
        }
        for container in &workload.containers {
            let asked = &container.label;
            let told = asked.level.iter().chain(&asked.whole).chain(&asked.files);
            self.levels.extend(told.map(|fact| fact.value.clone()));
            for mount in &container.mounts {
                let Some(how) = mount.engine.relabel.as_ref().map(|asked| asked.value) else { continue };
                let Some(what) = behind(workload, mount) else { continue };
                let level = level(container).map(ToOwned::to_owned);
                let (workload, container) = (workload.name.clone(), container.name.clone());
                self.labelled.push(Labelling { workload, container, what, how, level });
            }
        }
    }

    /// What the labels below `mount` of `container` are, where any container has them labelled anew.
    #[must_use]
    pub fn relabelled(
        &self,
        workload: &Workload,
        container: &Container,
        mount: &VolumeMount,
    ) -> Option<Relabelled> {
        let own = mount.engine.relabel.as_ref().map(|asked| asked.value);
        if own.is_none() && self.labelled.is_empty() {
            return None;
        }
        let mine = behind(workload, mount);
        let others = self.labelled.iter().filter(|one| {
            let same = one.workload == workload.name && one.container == container.name;
            !same && mine.as_ref().is_some_and(|mine| one.what.meets(mine))
        });
        let others: Vec<&Labelling> = others.collect();
        let level = level(container);
        // With one level for all each labels it as the others do.
        let alike = |one: &&Labelling| {
            one.how == Relabel::Private && level.is_some() && one.level.as_deref() == level
        };
        match own {
            Some(Relabel::Shared) if others.iter().all(|one| one.how == Relabel::Shared) => {
                Some(Relabelled::Shared)
            }
            Some(Relabel::Private) if others.iter().all(alike) => Some(Relabelled::Private),
            None if others.is_empty() => None,
            Some(Relabel::Shared | Relabel::Private) | None => Some(Relabelled::Contested),
        }
    }

    /// The levels and labels that containers ask for, each once.
    pub fn levels(&self) -> impl Iterator<Item = &str> {
        self.levels.iter().map(String::as_str)
    }

    /// How many workloads have `claim` of `namespace`.
    #[must_use]
    pub fn workloads_on(&self, namespace: &str, claim: &str) -> usize {
        self.on_claim.get(&(namespace.to_owned(), claim.to_owned())).copied().unwrap_or(0)
    }

    /// The pods on `claim` of `namespace`.
    #[must_use]
    pub fn on(&self, namespace: &str, claim: &str) -> &[Mounting] {
        let key = (namespace.to_owned(), claim.to_owned());
        self.by_claim.get(&key).map_or(&[], Vec::as_slice)
    }
}

/// The level that a container's label is told to have.
fn level(container: &Container) -> Option<&str> {
    container.label.level.as_ref().map(|level| level.value.as_str())
}

/// What is behind `mount`, as far as others may mount it.
fn behind(workload: &Workload, mount: &VolumeMount) -> Option<Shared> {
    let volume = workload.volumes.iter().find(|volume| volume.name.value == mount.volume.value)?;
    Shared::new(workload, volume)
}

/// Whether one of `containers` mounts `volume` writable.
fn writes(containers: &[Container], volume: &str) -> bool {
    let mut mounts = containers.iter().flat_map(|container| &container.mounts);
    mounts.any(|mount| mount.volume.value == volume && !mount.read_only)
}
