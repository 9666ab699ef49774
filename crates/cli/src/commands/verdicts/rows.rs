//! The rows of one actor.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_core::mount::{Mount, SourceId};
use mivask_core::question::{Cell, Column};
use mivask_core::scene::Workload;
use mivask_core::stage::{Actor, Stage};
use mivask_core::tree::{InodeId, Tree};
use mivask_core::verdicts::{Known, Verdict, verdicts};
use mivask_disk::dataset::{self, ActorRow, Pair, VerdictRow, Volume};

use super::volumes::{Names, Volumes, declared, of_source};

/// What is before actors.
pub(super) struct Before<'a> {
    pub(super) state: &'static str,
    pub(super) part: usize,
    pub(super) input: &'a str,
    pub(super) workload: &'a Workload,
    /// What the volumes are called in the dataset, by the names of their sources.
    pub(super) names: &'a Names,
}

/// The rows of an actor before each mount of the dataset's.
pub(super) fn of_actor(
    before: &Before<'_>,
    stage: &Stage,
    actor: &Actor,
    volumes: &Volumes,
    cache: &mut Cache,
) -> Vec<ActorRow> {
    let name = |source: SourceId| of_source(before.workload, before.names, &stage.source(source).facts.name);
    let row = |volume: &str, at: &[u8]| row(before, actor, volume, volumes, at);
    let never = |reason: &str| {
        let mounts = before.workload.containers.iter().filter(|one| one.name == *actor.container);
        let mounts = mounts.flat_map(|container| &container.mounts);
        let told = mounts.filter_map(|mount| {
            let volume = declared(before.workload, before.names, &mount.volume.value)?;
            Some(ActorRow { reason: Some(reason.to_owned()), ..row(volume, &mount.at.value) })
        });
        told.collect()
    };
    if let Some(refusal) = actor.refusal() {
        return never(&refusal.reason);
    }
    let judged = verdicts(stage, actor, &|source| name(source).is_some(), &mut cache.known);
    let mounts = judged.into_iter().filter_map(|one| {
        let volume = name(one.source)?;
        let mount = actor.mounts.get(one.mount);
        let row = row(volume, &mount.facts.at);
        let read = volumes.of(volume)?;
        let shown =
            shows(stage, mount, read).ok_or("which part of the volume shows there is not in the dataset");
        let told = shown.map_err(str::to_owned).and_then(|shows| {
            let below = one.below.map_err(|error| error.to_string())?;
            Ok((shows, cache.view(volume, read, (one.root.as_ref(), &below))))
        });
        Some(match told {
            Ok((shows, view)) => ActorRow { shows, view: Some(view), ..row },
            Err(reason) => ActorRow { reason: Some(reason), ..row },
        })
    });
    mounts.collect()
}

/// A volume, where the verdicts about what is below its root are in memory, and the one about the root in words.
type Seen = (String, usize, String);

/// What is judged once, however many can do the same.
#[derive(Default)]
pub(super) struct Cache {
    known: Known,
    /// The number of each view, and its verdicts, so that no others come to be where they are.
    views: BTreeMap<Seen, (Arc<[Verdict]>, i64)>,
    rows: BTreeMap<i64, Vec<VerdictRow>>,
}

impl Cache {
    /// The number of a view, whose rows are kept.
    fn view(
        &mut self,
        volume: &str,
        read: &Volume,
        (root, below): (Option<&Verdict>, &Arc<[Verdict]>),
    ) -> i64 {
        let key = (volume.to_owned(), Arc::as_ptr(below).addr(), format!("{root:?}"));
        if let Some((_, view)) = self.views.get(&key) {
            return *view;
        }
        let mut rows: Vec<VerdictRow> =
            root.into_iter().chain(below.iter()).flat_map(|verdict| judged(read, verdict)).collect();
        rows.sort_unstable();
        let view = dataset::view(&rows);
        self.views.insert(key, (below.clone(), view));
        self.rows.entry(view).or_insert(rows);
        view
    }

    /// The rows of every view.
    pub(super) fn finish(self) -> Vec<(i64, Vec<VerdictRow>)> {
        self.rows.into_iter().filter(|(_, rows)| !rows.is_empty()).collect()
    }
}

fn row(before: &Before<'_>, actor: &Actor, volume: &str, volumes: &Volumes, at: &[u8]) -> ActorRow {
    // Whoever it may be: an id that is the same in each case is known.
    let possible = &actor.identity.possible;
    let uids: BTreeSet<_> = possible.iter().map(|(_, who)| who.uid.id().map(|uid| uid.raw())).collect();
    let gids: BTreeSet<_> = possible.iter().map(|(_, who)| who.gid.id().map(|gid| gid.raw())).collect();
    ActorRow {
        state: before.state,
        part: i64::try_from(before.part).unwrap_or(i64::MAX),
        input: before.input.to_owned(),
        namespace: before.workload.namespace.clone(),
        workload: before.workload.name.clone(),
        actor: actor.name.to_string(),
        uid: only(&uids),
        gid: only(&gids),
        volume: volume.to_owned(),
        date: volumes.of(volume).map(|volume| volume.date.clone()).unwrap_or_default(),
        at: at.to_vec(),
        shows: b"/".to_vec(),
        view: None,
        reason: None,
    }
}

/// The one that there is.
fn only(ids: &BTreeSet<Option<u32>>) -> Option<u32> {
    if ids.len() == 1 { ids.first().copied().flatten() } else { None }
}

/// The path of the volume that a mount shows.
fn shows(stage: &Stage, mount: &Mount, read: &Volume) -> Option<Vec<u8>> {
    let root = mount.root?;
    if root == Tree::ROOT {
        return Some(b"/".to_vec());
    }
    let tree = &stage.source(mount.variants[0].source).tree;
    let paths = read.regions.paths().iter().map(|path| dataset::bytes(path));
    paths.into_iter().find(|path| tree.find(path) == Some(root))
}

/// The rows about what an inode stands for.
fn judged(read: &Volume, verdict: &Verdict) -> Vec<VerdictRow> {
    let Some(pair) = pair(read, verdict.inode) else { return Vec::new() };
    let class = |inode: InodeId| read.classes.get(inode.number() as usize).copied();
    let acts = Column::ALL.into_iter().filter_map(|column| {
        let ending = verdict.endings.of(column);
        let (outcome, errno) = match ending.cell {
            Cell::Void => return None,
            Cell::Allowed => ("allowed", None),
            Cell::Denied(errno) => ("denied", Some(errno.name())),
            Cell::Open => ("depends", None),
        };
        Some(VerdictRow {
            region: read.regions.paths()[pair.region].clone(),
            way: pair.way,
            class: pair.class,
            act: column.word(),
            outcome,
            errno,
            check: ending.check.map(|check| check.code()),
            barrier: verdict.barrier.and_then(class),
        })
    });
    acts.collect()
}

/// What an inode stands for.
fn pair(read: &Volume, inode: InodeId) -> Option<&Pair> {
    let at = read.pairs.binary_search_by_key(&inode, |pair| pair.inode).ok()?;
    Some(&read.pairs[at])
}
