//! The rows of one actor.

use std::collections::BTreeMap;

use mivask_core::mount::{Mount, MountId, SourceId};
use mivask_core::question::{Cell, Column};
use mivask_core::scene::Workload;
use mivask_core::stage::{Actor, Stage};
use mivask_core::tree::{InodeId, Tree};
use mivask_core::verdicts::{Verdict, verdicts};
use mivask_disk::dataset::{self, ActorRow, Pair, VerdictRow, Volume};

use super::volumes::{Names, Volumes, declared, of_source};

/// What is before actors.
pub(super) struct Before<'a> {
    pub(super) state: &'static str,
    pub(super) input: &'a str,
    pub(super) workload: &'a Workload,
    /// What the volumes are called in the dataset, by the names of their sources.
    pub(super) names: &'a Names,
}

/// The rows of an actor before each mount of the dataset's, with the verdicts there; none where it never runs.
pub(super) fn of_actor(
    before: &Before<'_>,
    stage: &Stage,
    actor: &Actor,
    volumes: &Volumes,
) -> Vec<(ActorRow, Vec<VerdictRow>)> {
    let name = |source: SourceId| of_source(before.workload, before.names, &stage.source(source).facts.name);
    let row = |volume: &str, at: &[u8]| row(before, actor, volume, volumes, at);
    let never = |reason: &str| {
        let mounts = before.workload.containers.iter().filter(|one| one.name == *actor.container);
        let mounts = mounts.flat_map(|container| &container.mounts);
        let told = mounts.filter_map(|mount| {
            let volume = declared(before.workload, before.names, &mount.volume.value)?;
            Some((ActorRow { reason: Some(reason.to_owned()), ..row(volume, &mount.at.value) }, Vec::new()))
        });
        told.collect()
    };
    if let Some(refusal) = actor.refusal() {
        return never(&refusal.reason);
    }
    let all = match verdicts(stage, actor, &|source| name(source).is_some()) {
        Ok(all) => all,
        Err(error) => return never(&error.to_string()),
    };
    let mut by_mount: BTreeMap<MountId, Vec<&Verdict>> = BTreeMap::new();
    all.iter().for_each(|verdict| by_mount.entry(verdict.mount).or_default().push(verdict));
    let mounts = actor.mounts.iter().filter_map(|(number, mount)| {
        let volume = name(mount.variants[0].source)?;
        let row = row(volume, &mount.facts.at);
        let read = volumes.of(volume)?;
        let Some(shows) = shows(stage, mount, read) else {
            let reason = "which part of the volume shows there is not in the dataset".to_owned();
            return Some((ActorRow { reason: Some(reason), ..row }, Vec::new()));
        };
        let mut rows: Vec<VerdictRow> =
            by_mount.get(&number).into_iter().flatten().flat_map(|verdict| judged(read, verdict)).collect();
        rows.sort_unstable();
        Some((ActorRow { shows, view: Some(dataset::view(&rows)), ..row }, rows))
    });
    mounts.collect()
}

fn row(before: &Before<'_>, actor: &Actor, volume: &str, volumes: &Volumes, at: &[u8]) -> ActorRow {
    let who = match actor.identity.possible.as_slice() {
        [(_, identity)] => Some(identity),
        _ => None,
    };
    ActorRow {
        state: before.state,
        input: before.input.to_owned(),
        namespace: before.workload.namespace.clone(),
        workload: before.workload.name.clone(),
        actor: actor.name.to_string(),
        uid: who.and_then(|who| who.uid.id()).map(|uid| uid.raw()),
        gid: who.and_then(|who| who.gid.id()).map(|gid| gid.raw()),
        volume: volume.to_owned(),
        date: volumes.of(volume).map(|volume| volume.date.clone()).unwrap_or_default(),
        at: at.to_vec(),
        shows: b"/".to_vec(),
        view: None,
        reason: None,
    }
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
