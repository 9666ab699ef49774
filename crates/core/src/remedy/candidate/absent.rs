//! A directory that is not there, or not writable in any way: it is made, or a volume of its own mounted.

use mivask_model::act::{Act, Verb};
use mivask_model::mode::Mode;
use mivask_model::mount::{MountFlags, MountOrigin, MountTable};
use mivask_model::mount_kind::MountKind;
use mivask_model::path::parent;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::trace::Step;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::{Candidate, Met};
use crate::change::{Change, Process};
use crate::remedy::Side;

/// Nothing of that name is there: a directory on the way of what is to be created is made.
pub(super) fn candidates(stage: &Stage, actor: &Actor, act: &Act, step: &Step) -> Vec<Candidate> {
    let directory = parent(&act.path);
    if !act.verb.creates()
        || !mivask_model::host_mounts::is_within(directory, &step.path) && step.path != directory
    {
        return Vec::new();
    }
    let mut all = scratch(stage, actor, &act.actor, directory);
    if let Some(met) = Met::at(stage, actor, &act.actor, parent(&step.path)) {
        let made = Act {
            actor: act.actor.clone(),
            verb: Verb::MakesDirectory(Mode::new(0o755)),
            path: step.path.clone(),
            expectation: None,
        };
        let side = met.side();
        let change = if side == Side::Image { Change::Image(made) } else { Change::Files(made) };
        all.push(Candidate { changes: vec![change], side });
    }
    all
}

/// A new volume where something is to be created below a root that is read-only, whatever the image has there.
pub(super) fn below_read_only_root(actor: &Actor, name: &str, act: &Act) -> Vec<Candidate> {
    let directory = parent(&act.path);
    let root = actor.mounts.get(MountTable::ROOT);
    let mut others = actor.mounts.iter().filter(|(id, _)| *id != MountTable::ROOT);
    let elsewhere = others.any(|(_, mount)| mivask_model::host_mounts::is_within(directory, &mount.facts.at));
    if !act.verb.creates() || !root.flags.has(MountFlags::READ_ONLY) || elsewhere || directory == b"/" {
        return Vec::new();
    }
    let what = Process::Scratch(directory.to_vec());
    vec![Candidate { changes: vec![Change::Process(name.to_owned(), what)], side: Side::Mount }]
}

/// A new volume at the directory, where only the image is.
pub(super) fn scratch(stage: &Stage, actor: &Actor, name: &str, directory: &[u8]) -> Vec<Candidate> {
    let mounted = actor.mounts.iter().any(|(_, mount)| *mount.facts.at == *directory);
    let above = std::iter::successors(Some(directory), |path| (*path != b"/").then(|| parent(path)));
    let mut nearest =
        above.filter_map(|path| match look(&stage.storage, &actor.mounts, path, Follow::Links) {
            Ok(Sight::There(place)) => Some(actor.mounts.get(place.mount))
                .filter(|mount| mount.facts.kind != MountKind::Host)
                .map(|mount| mount.origin),
            Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
        });
    let on_image = nearest.next() == Some(MountOrigin::Root);
    if directory == b"/" || mounted || !on_image {
        return Vec::new();
    }
    let what = Process::Scratch(directory.to_vec());
    vec![Candidate { changes: vec![Change::Process(name.to_owned(), what)], side: Side::Mount }]
}
