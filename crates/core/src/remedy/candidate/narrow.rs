//! A path that is wider than a strict program takes it.

use mivask_model::act::{Owner, Verb};
use mivask_model::mode::{Mode, ModeChange};
use mivask_model::mount::MountOrigin;
use mivask_model::mount_kind::MountKind;
use mivask_rules::walk::Follow;
use mivask_stage::runtime::Flavour;
use mivask_stage::scene::Scene;
use mivask_stage::stage::{Actor, Stage};

use super::{Candidate, Met, process};
use crate::change::{GroupStep, Process};
use crate::exposure::Limit;
use crate::remedy::wish::widened_again;

/// Fewer bits, the right owner, and what keeps the filesystem group from widening it again.
pub(crate) fn candidates(
    scene: &Scene,
    stage: &Stage,
    (actor, name): (&Actor, &str),
    limit: &Limit,
) -> Vec<Candidate> {
    let Some(met) = Met::found(stage, actor, name, &limit.path, Follow::Links) else { return Vec::new() };
    let mode = met.inode.stored_mode();
    let extra = mode.without(limit.mode);
    let workload = scene.workloads.iter().find(|workload| *workload.name == *actor.workload);
    let pod = workload.filter(|workload| workload.flavour == Flavour::Pod);
    let grouped = pod.is_some_and(|workload| workload.security.fs_group.is_some());
    let reached = met.mount.origin == MountOrigin::Declared
        && !matches!(met.mount.facts.kind, MountKind::HostPath | MountKind::Nfs);
    let mut all = Vec::new();
    if grouped && reached {
        all.push(process(name, Process::FilesystemGroup(GroupStep::Off)));
        if widened_again(scene, stage, &met.act(Verb::Inspects)) {
            all.push(process(name, Process::FilesystemGroup(GroupStep::OnRootMismatch)));
        }
    }
    if met.mount.is_written_by_kubelet() {
        // What the kubelet writes is root's, and has one mode for all that says none of its own.
        let option = format!("mode={}", mode.masked(limit.mode).masked(Mode::new(0o777)));
        all.push(process(name, Process::Mounts(met.mount.facts.at.to_vec(), vec![option])));
        return all;
    }
    let mut verbs = Vec::new();
    let wrong = |given: Option<u32>, found: Option<u32>| given.filter(|given| Some(*given) != found);
    let owner = limit.owner.map(|owner| (wrong(owner.uid, met.uid), wrong(owner.gid, met.gid)));
    match owner {
        Some((None, Some(gid))) => verbs.push(Verb::SetsGroup(gid)),
        Some((uid @ Some(_), gid)) => verbs.push(Verb::SetsOwner(Owner { uid, gid })),
        Some((None, None)) | None => {}
    }
    verbs.extend(taking(extra).map(Verb::SetsMode));
    if !verbs.is_empty() {
        all.push(met.file(verbs));
    }
    all
}

/// The change that takes exactly these bits: a number would keep the set-group-ID bit of a directory with common tools.
fn taking(bits: Mode) -> Option<ModeChange> {
    let classes = [("u", 6, 0o4000), ("g", 3, 0o2000), ("o", 0, 0o1000)];
    let clauses: Vec<String> = classes
        .into_iter()
        .filter_map(|(who, shift, special)| {
            let letters: String = [("r", 4), ("w", 2), ("x", 1)]
                .into_iter()
                .filter(|(_, bit)| bits.has(Mode::new(bit << shift)))
                .map(|(letter, _)| letter)
                .chain(bits.has(Mode::new(special)).then_some(if who == "o" { "t" } else { "s" }))
                .collect();
            (!letters.is_empty()).then(|| format!("{who}-{letters}"))
        })
        .collect();
    clauses.join(",").parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn exactly_the_bits_that_are_too_many() {
        for (bits, change) in [(0o077, "g-rwx,o-rwx"), (0o2050, "g-rxs"), (0o5002, "u-s,o-wt"), (0o4, "o-r")]
        {
            assert_eq!(taking(Mode::new(bits)).map(|change| change.to_string()).as_deref(), Some(change));
        }
        assert_eq!(taking(Mode::default()), None);
    }
}
