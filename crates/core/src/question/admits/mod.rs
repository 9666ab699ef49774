//! Whom a path lets in: the inverse of access, as minimal conditions.
//!
//! Nothing is derived from the bits here. Every identity that the inodes on the way could tell apart is put to the same
//! engine that answers acts, and the smallest ones that get in are kept.

mod condition;
mod named;

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::Verb;
use mivask_model::caps::{Capability, CapabilitySet};
use mivask_model::credentials::Credentials;
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid, KernelGid, KernelOwner, KernelUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::MountTable;
use mivask_rules::decide::{decide, decide_new_entry};
use mivask_rules::explore::{Explored, explore};
use mivask_rules::imprint::NewKind;
use mivask_rules::lookup::{Sight, look, root_credentials};
use mivask_rules::settle::{Outcome, settle};
use mivask_rules::trace::{Step, StepResult};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::facts::{PathFacts, facts_at};
use super::sweep::Column;
use super::why::Why;
use named::{MOST_GROUPS, acl_ids, subsets, unnamed};

/// Capabilities that open files, the narrow ones first.
const OPENING: [Capability; 3] = [Capability::DacReadSearch, Capability::Fowner, Capability::DacOverride];

/// Something that is enough to get in.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Condition {
    /// This user, as the actors see ids.
    pub uid: Option<InsideUid>,
    /// A member of all of these groups.
    pub groups: Vec<InsideGid>,
    /// With these capabilities in force.
    pub capabilities: Vec<Capability>,
    /// Those whom it does not mean although they meet it: an owner whose own bits say otherwise.
    pub unless: Vec<Ids>,
    /// The checks of owners, groups and ACLs that let it pass: path and fact.
    pub through: Vec<(Vec<u8>, String)>,
    /// The actors of the scene that meet it and get in.
    pub actors: Vec<String>,
}

/// A user, a member of groups, or both.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Ids {
    /// This user, as the actors see ids.
    pub uid: Option<InsideUid>,
    /// A member of all of these groups.
    pub groups: Vec<InsideGid>,
}

/// Whom one path lets in.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Admission {
    /// The path inside.
    pub path: Vec<u8>,
    /// To do what.
    pub to: Column,
    /// The volume it is on, in words; `None` where nothing is known to be there.
    pub source: Option<Arc<str>>,
    /// What is there.
    pub facts: Option<PathFacts>,
    /// The actors who see the path so.
    pub seen_by: Vec<String>,
    /// Whether everyone gets in, except those in `except`.
    pub anybody: bool,
    /// Who gets in.
    pub conditions: Vec<Condition>,
    /// Who does not, although everyone else does.
    pub except: Vec<Condition>,
    /// Why no one else gets in; for everyone where there is no condition at all.
    pub why: Option<Why>,
    /// Missing facts it depends on.
    pub depends_on: BTreeSet<String>,
    /// Whether so many groups are named on the way that only two at a time were combined.
    pub cut_short: bool,
}

/// Whom `path` lets in `to` do something; one answer for each thing that the actors see there.
#[must_use]
pub fn admissions(stage: &Stage, actors: &[&Actor], path: &[u8], to: Column) -> Vec<Admission> {
    let mut all: Vec<Admission> = Vec::new();
    for actor in actors.iter().copied().filter(|actor| !actor.credentials.is_empty()) {
        let one = Site { stage, actor, path, to }.admission();
        match all.iter_mut().find(|known| known.is_like(&one)) {
            Some(known) => known.join(one),
            None => all.push(one),
        }
    }
    all
}

impl Admission {
    /// Whether both say the same, the actors aside.
    fn is_like(&self, other: &Self) -> bool {
        // Actors that see the same inodes through different mounts get one answer; a read-only mount makes another
        // one.
        let bare = |one: &Self| {
            let mut one = one.clone();
            one.seen_by.clear();
            one.conditions.iter_mut().for_each(|condition| condition.actors.clear());
            one
        };
        bare(self) == bare(other)
    }

    fn join(&mut self, other: Self) {
        self.seen_by.extend(other.seen_by);
        for (mine, theirs) in self.conditions.iter_mut().zip(other.conditions) {
            mine.actors.extend(theirs.actors);
        }
    }
}

/// `/`, `/a`, `/a/b` of `/a/b`.
fn prefixes(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    let ends = (1..=path.len()).filter(|end| *end == path.len() || path[*end] == b'/');
    std::iter::once(&b"/"[..]).chain(ends.map(|end| &path[..end]))
}

struct Site<'a> {
    stage: &'a Stage,
    actor: &'a Actor,
    path: &'a [u8],
    to: Column,
}

/// Ids that inodes on the way name, in kernel ids.
#[derive(Default)]
struct Named {
    users: BTreeSet<u32>,
    groups: BTreeSet<u32>,
}

/// An identity to be tried.
#[derive(Clone)]
struct Trial {
    uid: u32,
    groups: Vec<u32>,
    capability: Option<Capability>,
}

impl Trial {
    /// Whether whoever it stands for meets `other`, too.
    fn is_wider(&self, other: &Self, unnamed: KernelOwner) -> bool {
        (other.uid == self.uid || other.uid == unnamed.uid.raw())
            && other.groups.iter().all(|gid| self.groups.contains(gid))
    }
}

/// An identity that was tried and counts, with what lets it pass and the wider ones that end otherwise.
struct Found {
    trial: Trial,
    steps: Vec<Step>,
    unless: Vec<Trial>,
}

/// Tries an identity.
type LetsIn<'a> = dyn FnMut(&Trial) -> (bool, Explored) + 'a;

impl Site<'_> {
    fn admission(&self) -> Admission {
        let first = self.actor;
        let (named, unnamed) = self.named();
        let mut depends_on = BTreeSet::new();
        let mut lets_in = |trial: &Trial| {
            let explored = self.explored(&self.credentials(trial, unnamed.gid.raw()));
            let (outcome, _, depends) = settle(&explored);
            depends_on.extend(depends.into_iter().map(|one| one.fact));
            (outcome == Outcome::Allowed, explored)
        };
        // Somebody no inode names stands for everyone whom only the bits for others concern.
        let nobody = Trial { uid: unnamed.uid.raw(), groups: Vec::new(), capability: None };
        let (anybody, explored) = lets_in(&nobody);
        let why = if anybody { None } else { failed(&explored.steps) };
        let (conditions, except) = self.smallest(&named, unnamed, anybody, &mut lets_in);
        // Where nothing opens it, what stops someone whom no bits stop is the reason.
        let why = if conditions.is_empty() && !anybody {
            let mightiest = self.with_every_capability(&nobody, unnamed.gid.raw());
            failed(&self.explored(&mightiest).steps).or(why)
        } else {
            why
        };
        let conditions = self.with_actors(conditions, anybody, unnamed);
        let except = except.iter().map(|found| self.condition(found, unnamed.uid.raw())).collect();
        Admission {
            path: self.path.to_vec(),
            to: self.to,
            source: self.source(),
            facts: facts_at(self.stage, first, self.path),
            seen_by: vec![first.name.to_string()],
            anybody,
            conditions,
            except,
            why,
            depends_on,
            cut_short: named.groups.len() > MOST_GROUPS,
        }
    }

    /// The smallest identities that get in, or with `anybody` those that do not.
    fn smallest(
        &self,
        named: &Named,
        unnamed: KernelOwner,
        anybody: bool,
        lets_in: &mut LetsIn<'_>,
    ) -> (Vec<Found>, Vec<Found>) {
        let groups: Vec<u32> = named.groups.iter().copied().collect();
        let users: Vec<u32> = std::iter::once(unnamed.uid.raw()).chain(named.users.iter().copied()).collect();
        let mut found: Vec<Found> = Vec::new();
        // Subsets come smallest first, so what contains one that is known says nothing new, unless it ends otherwise.
        for (uid, groups) in
            users.iter().flat_map(|uid| subsets(&groups).into_iter().map(move |set| (*uid, set)))
        {
            let trial = Trial { uid, groups, capability: None };
            let (is_in, explored) = lets_in(&trial);
            let mut wider = found.iter_mut().filter(|known| trial.is_wider(&known.trial, unnamed)).peekable();
            if is_in != anybody {
                if wider.peek().is_none() {
                    found.push(Found { trial, steps: explored.steps, unless: Vec::new() });
                }
                continue;
            }
            for known in wider {
                if !known.unless.iter().any(|other| trial.is_wider(other, unnamed)) {
                    known.unless.push(trial.clone());
                }
            }
        }
        if anybody {
            return (Vec::new(), found);
        }
        self.with_capabilities(&mut found, &users, unnamed, lets_in);
        (found, Vec::new())
    }

    /// Adds those who get in with a capability.
    fn with_capabilities(
        &self,
        conditions: &mut Vec<Found>,
        users: &[u32],
        unnamed: KernelOwner,
        lets_in: &mut LetsIn<'_>,
    ) {
        // A capability alone, or with an owner that it takes the rest of the way; the first that opens is the narrowest.
        for uid in users.iter().copied() {
            let enough =
                |known: &Trial| known.uid == uid && known.capability.is_none() && known.groups.is_empty();
            if conditions.iter().any(|known| enough(&known.trial)) {
                continue;
            }
            let held = OPENING.into_iter().take_while(|capability| {
                let any =
                    |known: &Trial| known.uid == unnamed.uid.raw() && known.capability == Some(*capability);
                !conditions.iter().any(|known| any(&known.trial))
            });
            let held: Vec<Capability> = held.collect();
            for capability in held {
                let trial = Trial { uid, groups: Vec::new(), capability: Some(capability) };
                if let (true, explored) = lets_in(&trial) {
                    conditions.push(Found { trial, steps: explored.steps, unless: Vec::new() });
                    break;
                }
            }
        }
    }

    fn source(&self) -> Option<Arc<str>> {
        let first = self.actor;
        match look(&self.stage.storage, &first.mounts, self.path, Follow::Links) {
            Ok(Sight::There(place)) => {
                let label = first.mounts.get(place.mount).facts.label.clone();
                Some(label.unwrap_or_else(|| self.stage.source(place.source).facts.name.clone()))
            }
            Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
        }
    }

    /// The ids on the way that someone in this user namespace can have, and two that no inode names.
    fn named(&self) -> (Named, KernelOwner) {
        let first = self.actor;
        let namespace = &first.credentials[0].namespace;
        let mut named = Named::default();
        let mut take = |mounts: &MountTable, path: &[u8], follow| {
            let Ok(Sight::There(place)) = look(&self.stage.storage, mounts, path, follow) else { return };
            let ids = &mounts.get(place.mount).facts.ids;
            let source = self.stage.source(place.source);
            let Some(id) = place.inode else { return };
            let inode = source.tree.inode(id);
            named.users.extend(ids.to_kernel_uid(inode.stored_owner().uid).map(KernelUid::raw));
            named.groups.extend(ids.to_kernel_gid(inode.stored_owner().gid).map(KernelGid::raw));
            if let Some(acl) = source.tree.acl(id) {
                acl_ids(acl, ids, &mut named);
            }
        };
        for prefix in prefixes(self.path) {
            take(&first.mounts, prefix, Follow::AllButLast);
        }
        // Links and interpreters lead elsewhere: what somebody meets who is let in everywhere.
        let steps = self.explored(&root_credentials()).steps;
        let met: BTreeSet<&[u8]> = steps.iter().map(|step| step.path.as_slice()).collect();
        for path in met {
            take(&first.mounts, path, Follow::Links);
        }
        // An id without an inside form can be written in no description of this actor.
        named.users.retain(|uid| namespace.to_inside_uid(KernelUid::new(*uid)).is_some());
        named.groups.retain(|gid| namespace.to_inside_gid(KernelGid::new(*gid)).is_some());
        let unnamed = unnamed(namespace, &named);
        (named, unnamed)
    }

    fn credentials(&self, trial: &Trial, group: u32) -> Credentials {
        let first = &self.actor.credentials[0];
        let held =
            trial.capability.map_or(CapabilitySet::EMPTY, |capability| CapabilitySet::EMPTY.with(capability));
        Credentials {
            real: None,
            fsuid: Held::Id(KernelUid::new(trial.uid)),
            fsgid: Held::Id(KernelGid::new(group)),
            groups: trial.groups.iter().copied().map(KernelGid::new).collect(),
            // What is asked is what opens the path, so the capability is there already, not to be raised first.
            effective: held,
            permitted: held,
            // A program with capabilities of its own needs them there, whoever runs it.
            bounding: first.bounding.union(held),
            inheritable: CapabilitySet::EMPTY,
            ambient: CapabilitySet::EMPTY,
            umask: Mode::new(0o022),
            no_new_privileges: first.no_new_privileges,
            namespace: first.namespace.clone(),
        }
    }

    fn with_every_capability(&self, trial: &Trial, group: u32) -> Credentials {
        let all = CapabilitySet::ALL;
        Credentials { effective: all, permitted: all, bounding: all, ..self.credentials(trial, group) }
    }

    fn explored(&self, who: &Credentials) -> Explored {
        let first = self.actor;
        let directory =
            facts_at(self.stage, first, self.path).is_some_and(|facts| facts.kind == FileKind::Directory);
        explore(|w| {
            let view = self.stage.view(first, who, "that uid");
            match (self.to, directory) {
                (Column::Create, true) | (Column::Write, true) => {
                    decide_new_entry(&view, NewKind::File, Mode::new(0o666), self.path, w)
                }
                (Column::Create, false) => decide(&view, &Verb::Creates(Mode::new(0o666)), self.path, w),
                (Column::Write, false) => decide(&view, &Verb::Writes, self.path, w),
                (Column::Read, false) => decide(&view, &Verb::Reads, self.path, w),
                (Column::Read | Column::List, _) => decide(&view, &Verb::Lists, self.path, w),
                (Column::Delete, true) => decide(&view, &Verb::RemovesDirectory, self.path, w),
                (Column::Delete, false) => decide(&view, &Verb::Deletes, self.path, w),
                (Column::Enter, _) => decide(&view, &Verb::Enters, self.path, w),
                (Column::Run, _) => decide(&view, &Verb::Runs, self.path, w),
            }
        })
    }
}

fn failed(steps: &[Step]) -> Option<Why> {
    let step = steps.iter().rev().find(|step| matches!(step.result, StepResult::Failed(_)))?;
    Some(Why { path: Some(step.path.clone()), fact: step.fact.clone() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn prefixes_end_at_slashes() {
        let all = |path: &'static [u8]| prefixes(path).collect::<Vec<_>>();
        assert_eq!(all(b"/a/bc"), [&b"/"[..], b"/a", b"/a/bc"]);
        assert_eq!(all(b"/"), [&b"/"[..], b"/"]);
    }
}
