//! The rows of one actor.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use mivask_core::mount::{Mount, SourceId};
use mivask_core::question::{Cell, Endings};
use mivask_core::stage::{Actor, Stage};
use mivask_core::tree::{InodeId, Tree};
use mivask_core::verdicts::{Known, Verdict, verdicts};
use mivask_disk::dataset::{self, ActRow, ActorRow, Pair, PairRows, Volume};

use super::staged::OnStage;
use super::volumes::{Own, Volumes};

/// The rows of every actor of a workload.
pub(super) fn of_workload(one: &OnStage<'_>, volumes: &Volumes, cache: &Cache) -> Vec<ActorRow> {
    let own = Own::of(&one.workload, &one.names);
    one.stage.actors.iter().flat_map(|actor| of_actor((one, &own), actor, volumes, cache)).collect()
}

/// The rows of an actor before each mount of the dataset's.
fn of_actor(
    (one, own): (&OnStage<'_>, &Own<'_>),
    actor: &Actor,
    volumes: &Volumes,
    cache: &Cache,
) -> Vec<ActorRow> {
    let stage = &one.stage;
    let name = |source: SourceId| own.of_source(&stage.source(source).facts.name);
    let row = |volume: &str, at: &[u8]| row(one, actor, volume, volumes, at);
    let never = |reason: &str| {
        let mounts = one.workload.containers.iter().filter(|one| one.name == *actor.container);
        let mounts = mounts.flat_map(|container| &container.mounts);
        let told = mounts.filter_map(|mount| {
            let volume = own.declared(&mount.volume.value)?;
            Some(ActorRow { reason: Some(reason.to_owned()), ..row(volume, &mount.at.value) })
        });
        told.collect()
    };
    if let Some(refusal) = actor.refusal() {
        return never(&refusal.reason);
    }
    let judged = verdicts(stage, actor, &|source| name(source).is_some(), &cache.known);
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

/// Verdicts, and the number of the view that they are.
type Numbered = (Arc<[Verdict]>, i64);

/// What is judged once, however many can do the same, and whichever thread is first.
#[derive(Default)]
pub(super) struct Cache {
    known: Known,
    /// The number of each view, and its verdicts, so that no others come to be where they are.
    views: Mutex<BTreeMap<Seen, Numbered>>,
    pairs: Mutex<BTreeMap<i64, Vec<PairRows>>>,
}

impl Cache {
    /// The number of a view, whose rows are kept.
    fn view(&self, volume: &str, read: &Volume, (root, below): (Option<&Verdict>, &Arc<[Verdict]>)) -> i64 {
        let key = (volume.to_owned(), Arc::as_ptr(below).addr(), format!("{root:?}"));
        if let Some((_, view)) = lock(&self.views).get(&key) {
            return *view;
        }
        let mut acts = Acts::new();
        let verdicts = root.into_iter().chain(below.iter());
        let mut pairs: Vec<PairRows> =
            verdicts.filter_map(|verdict| judged(read, verdict, &mut acts)).collect();
        pairs.sort_unstable();
        pairs.shrink_to_fit();
        let view = dataset::view(&pairs);
        lock(&self.views).insert(key, (below.clone(), view));
        lock(&self.pairs).entry(view).or_insert(pairs);
        view
    }

    /// The rows of every view that one of `actors` has.
    pub(super) fn finish(self, actors: &[ActorRow]) -> Vec<(i64, Vec<PairRows>)> {
        let had: BTreeSet<i64> = actors.iter().filter_map(|actor| actor.view).collect();
        let pairs = self.pairs.into_inner().unwrap_or_else(PoisonError::into_inner);
        pairs.into_iter().filter(|(view, pairs)| had.contains(view) && !pairs.is_empty()).collect()
    }
}

fn lock<T>(shared: &Mutex<T>) -> MutexGuard<'_, T> {
    shared.lock().unwrap_or_else(PoisonError::into_inner)
}

fn row(one: &OnStage<'_>, actor: &Actor, volume: &str, volumes: &Volumes, at: &[u8]) -> ActorRow {
    // Whoever it may be: an id that is the same in each case is known.
    let possible = &actor.identity.possible;
    let uids: BTreeSet<_> = possible.iter().map(|(_, who)| who.uid.id().map(|uid| uid.raw())).collect();
    let gids: BTreeSet<_> = possible.iter().map(|(_, who)| who.gid.id().map(|gid| gid.raw())).collect();
    ActorRow {
        state: one.state,
        part: i64::try_from(one.part).unwrap_or(i64::MAX),
        input: one.input.to_owned(),
        namespace: one.workload.namespace.clone(),
        workload: one.workload.name.clone(),
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

/// The acts of which all end as these do.
type Acts = BTreeMap<Endings, Arc<[ActRow]>>;

/// The rows about what an inode stands for; `None` where nothing is said of it.
fn judged(read: &Volume, verdict: &Verdict, known: &mut Acts) -> Option<PairRows> {
    let pair = pair(read, verdict.inode)?;
    let class = |inode: InodeId| read.classes.get(inode.number() as usize).copied();
    let acts = known.entry(verdict.endings).or_insert_with(|| acts(&verdict.endings));
    (!acts.is_empty()).then(|| PairRows {
        region: read.regions.paths()[pair.region].clone(),
        way: pair.way,
        class: pair.class,
        acts: acts.clone(),
        barrier: verdict.barrier.and_then(class),
    })
}

/// How every act ends, sorted.
fn acts(endings: &Endings) -> Arc<[ActRow]> {
    let acts = endings.iter().filter_map(|(column, ending)| {
        let (outcome, errno) = match ending.cell {
            Cell::Void => return None,
            Cell::Allowed => ("allowed", None),
            Cell::Denied(errno) => ("denied", Some(errno.name())),
            Cell::Open => ("depends", None),
        };
        Some(ActRow { act: column.word(), outcome, errno, check: ending.check.map(|check| check.code()) })
    });
    let mut acts: Vec<ActRow> = acts.collect();
    acts.sort_unstable();
    acts.into()
}

/// What an inode stands for.
fn pair(read: &Volume, inode: InodeId) -> Option<&Pair> {
    let at = read.pairs.binary_search_by_key(&inode, |pair| pair.inode).ok()?;
    Some(&read.pairs[at])
}
