//! Candidates where a security label refuses.

use mivask_model::host_mounts::is_within;
use mivask_model::labels::{Labels, Relabelled};
use mivask_model::mount::{Mount, MountOrigin};
use mivask_model::mount_kind::MountKind;
use mivask_rules::lookup::obstacle;
use mivask_stage::runtime::Runtime;
use mivask_stage::stage::{Actor, Role};

use super::{Candidate, Met, process};
use crate::change::{Change, Process, Security};
use crate::question::labels::take_it_from_each_other;
use crate::remedy::Side;
use crate::remedy::made::Made;

/// What engines label for their containers, in every policy that has any.
const CONTAINER_FILES: &str = "container_file_t";

/// Containers that are given another option together at most.
const MOST_TOGETHER: usize = 8;

/// Folders of the host in which nothing is labelled for containers.
const OF_THE_HOST: [&[u8]; 13] = [
    b"/bin",
    b"/boot",
    b"/dev",
    b"/etc",
    b"/lib",
    b"/lib64",
    b"/proc",
    b"/root",
    b"/run",
    b"/sbin",
    b"/sys",
    b"/usr",
    b"/var/lib/containers",
];

impl Met<'_> {
    /// What engines label, the level of the process, a label that lasts, and booleans of the policy. Never is a container left
    /// without a label of its own.
    pub(super) fn labelled(&self, made: Option<&Made>) -> Vec<Candidate> {
        if self.actor.role == Role::Person {
            return Vec::new();
        }
        let who = self.actor.credentials.first();
        let obstacle =
            who.and_then(|who| obstacle(&self.stage.view(self.actor, who, &self.actor.name), self.place));
        let obstacle = obstacle.unwrap_or_default();
        let mut all = self.by_engine();
        if let Some(level) = &obstacle.level {
            all.push(process(self.name, Process::Level(level.clone())));
        }
        if let Some(made) = made.filter(|_| obstacle.drawn) {
            all.push(one_level(self.name, made.maker()));
        }
        all.extend(self.lasting());
        let set = |(name, on): (String, bool)| {
            let change = Change::Security(Security::Boolean(name, on));
            Candidate { changes: vec![change], side: Side::Host }
        };
        all.extend(obstacle.booleans.into_iter().map(set));
        all
    }

    /// What Docker and Podman label, for this container alone or for all that have it.
    fn by_engine(&self) -> Vec<Candidate> {
        if !by_engine(self.actor, self.mount) {
            return Vec::new();
        }
        if self.mount.facts.relabelled == Some(Relabelled::Contested) {
            return self.for_all();
        }
        let mut all = self.remounted("Z");
        all.extend(self.remounted("z"));
        all
    }

    /// `z` in every container that has it labelled, where each takes it from the others.
    pub(super) fn for_all(&self) -> Vec<Candidate> {
        if self.mount.facts.relabelled != Some(Relabelled::Contested) {
            return Vec::new();
        }
        let same = |mount: &&Mount| take_it_from_each_other(self.mount, mount);
        let mut changes: Vec<Change> = Vec::new();
        for actor in self.stage.actors.iter().filter(|actor| actor.role != Role::Person && !actor.guest) {
            let mounts = actor.mounts.iter().map(|(_, mount)| mount).filter(same);
            for mount in mounts.filter(|mount| by_engine(actor, mount)) {
                let what = Process::Mounts(mount.facts.at.to_vec(), vec!["z".to_owned()]);
                changes.push(Change::Process(actor.name.to_string(), what));
            }
        }
        let few = (1..=MOST_TOGETHER).contains(&changes.len());
        if few { vec![Candidate { changes, side: Side::Mount }] } else { Vec::new() }
    }

    /// What the host's own rules say of the folder that is mounted, and of all below it.
    fn lasting(&self) -> Option<Candidate> {
        let stored = matches!(self.stage.source(self.place.source).facts.labels, Labels::Stored(_));
        let path = self.mount.facts.host_path.as_ref().filter(|_| stored)?;
        let path = std::str::from_utf8(path).ok()?.trim_end_matches('/').as_bytes();
        let deep = path.iter().filter(|byte| **byte == b'/').count() > 1;
        let homes = is_within(path, b"/home") && path.iter().filter(|byte| **byte == b'/').count() < 3;
        let of_the_host = OF_THE_HOST.iter().any(|folder| is_within(path, folder));
        if !deep || homes || of_the_host {
            return None;
        }
        let change = Change::Security(Security::Labels(path.to_vec(), CONTAINER_FILES.to_owned()));
        Some(Candidate { changes: vec![change], side: Side::Host })
    }
}

/// Whether the engine labels the mount where it is told to.
fn by_engine(actor: &Actor, mount: &Mount) -> bool {
    let given = matches!(mount.facts.kind, MountKind::Bind | MountKind::Volume)
        && mount.origin == MountOrigin::Declared;
    given && matches!(actor.runtime, Runtime::Docker | Runtime::Podman)
}

/// One level for both.
fn one_level(one: &str, other: &str) -> Candidate {
    let mut names = [one, other];
    names.sort_unstable();
    let letters = names.iter().flat_map(|name| name.bytes());
    // FNV-1a: the same names have the same level, whoever asks.
    let mixed =
        letters.fold(0x811c_9dc5_u32, |mixed, letter| (mixed ^ u32::from(letter)).wrapping_mul(0x0100_0193));
    let level = format!("s0:c{},c{}", 100 + mixed % 400, 500 + mixed / 400 % 400);
    let change = |name: &str| Change::Process(name.to_owned(), Process::Level(level.clone()));
    Candidate { changes: vec![change(one), change(other)], side: Side::Process }
}
