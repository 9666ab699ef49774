//! Who can do what with what someone else creates on a shared volume.

mod members;
mod trial;
mod usual;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::mode::FileKind;
use mivask_model::mount::{Mount, MountOrigin, SourceId};
use mivask_model::outcome::Imprint;
use mivask_model::path::or_root;
use mivask_model::tree::InodeId;
use mivask_model::usual::Usual;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use crate::question::Why;
use crate::question::joined::Joined;
pub(crate) use members::path_of_same;
use members::{compared, members};
use trial::Trial;
pub use usual::{may_be_usual, with_usual};

/// What a second actor may want to do with a file.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Use {
    /// Read its content.
    Read,
    /// Write to it.
    Change,
    /// Remove it.
    Delete,
    /// Rename another file over it, as editors and downloads do.
    Replace,
}

impl Use {
    /// All four, in the order they are shown.
    pub const ALL: [Self; 4] = [Self::Read, Self::Change, Self::Delete, Self::Replace];

    /// The word in answers.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Read => "read",
            Self::Change => "change",
            Self::Delete => "delete",
            Self::Replace => "replace",
        }
    }
}

/// How one use ends.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct UseOutcome {
    /// The outcome.
    pub outcome: Outcome,
    /// Why it is not allowed.
    pub why: Option<Why>,
    /// Of one that depends: how it ends where each missing fact is as usual (docs/usual.md), from [`with_usual`].
    pub usually: Option<Box<Self>>,
}

/// How each of the four uses of one file ends.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct PerUse {
    /// Reading its content.
    pub read: UseOutcome,
    /// Writing to it.
    pub change: UseOutcome,
    /// Removing it.
    pub delete: UseOutcome,
    /// Renaming another file over it.
    pub replace: UseOutcome,
}

impl PerUse {
    /// How one of them ends.
    #[must_use]
    pub const fn of(&self, wanted: Use) -> &UseOutcome {
        match wanted {
            Use::Read => &self.read,
            Use::Change => &self.change,
            Use::Delete => &self.delete,
            Use::Replace => &self.replace,
        }
    }

    /// All four, in the order of [`Use::ALL`].
    pub fn iter(&self) -> impl Iterator<Item = (Use, &UseOutcome)> {
        Use::ALL.into_iter().map(|wanted| (wanted, self.of(wanted)))
    }
}

/// What one consumer can do with what one creator made.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Consumer {
    /// The second actor.
    pub consumer: String,
    /// With a file made directly in the directory; `None` where the creator cannot make one.
    pub file: Option<PerUse>,
    /// With a file made in a new subdirectory; `None` where the creator cannot make one.
    pub nested: Option<PerUse>,
}

/// What one creator leaves, and what the others can do with it.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Creation {
    /// The first actor.
    pub creator: String,
    /// Whether it can create a file there, and why not.
    pub creates: UseOutcome,
    /// The file, asked for with 0666.
    pub file: Option<Imprint>,
    /// The subdirectory, asked for with 0777.
    pub directory: Option<Imprint>,
    /// The file in it.
    pub nested: Option<Imprint>,
    /// The same where it depends whether they can be made, and they usually can.
    pub usually: Option<UsualCreation>,
    /// The others.
    pub consumers: Vec<Consumer>,
}

/// What one creator usually leaves.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct UsualCreation {
    /// The file.
    pub file: Option<Imprint>,
    /// The subdirectory.
    pub directory: Option<Imprint>,
    /// The file in it.
    pub nested: Option<Imprint>,
}

/// One directory that several actors reach.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Handoff {
    /// The volume, in words.
    pub source: Arc<str>,
    /// The directory on it, from its root.
    pub directory: Vec<u8>,
    /// Who reaches it, and where: the path inside; of very many the first of each kind.
    pub members: Vec<(String, Vec<u8>)>,
    /// How many more reach it.
    pub left_out: LeftOut,
    /// One for each member as the creator.
    pub creations: Vec<Creation>,
    /// What was taken for granted.
    pub assumptions: BTreeSet<Arc<str>>,
    /// The facts behind what is only usual.
    pub rests_on: BTreeSet<Usual>,
}

/// How many who share a directory are compared, each with each.
pub const MOST_MEMBERS: usize = 40;

/// Those beyond [`MOST_MEMBERS`].
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct LeftOut {
    /// Those that have the users, groups, capabilities, image and path of one that is compared.
    pub alike: usize,
    /// The others.
    pub others: usize,
}

/// A directory of a source.
type Shared = (SourceId, InodeId);

/// Every directory that is the root of a mount and that at least two actors, of one workload or of several, reach through
/// mounts their description asks for; with `paths`, the directories at these paths instead, for whoever has such a path first.
#[must_use]
pub fn handoffs(stage: &Stage, paths: &[Vec<u8>]) -> Vec<Handoff> {
    let joined = Joined::new(stage);
    let stage = &joined.stage;
    let mut shared: Vec<Shared> = Vec::new();
    let mut known = BTreeSet::new();
    let mut add = |one: Shared| {
        if known.insert(one) {
            shared.push(one);
        }
    };
    let mut reach: BTreeMap<SourceId, Vec<usize>> = BTreeMap::new();
    for (number, actor) in stage.actors.iter().enumerate() {
        for (_, mount) in declared(actor) {
            let disk = joined.disk(mount.variants[0].source);
            let numbers = reach.entry(disk).or_default();
            if numbers.last() != Some(&number) {
                numbers.push(number);
            }
            if let Some(root) = mount.root.filter(|_| paths.is_empty()) {
                add((disk, root));
            }
        }
    }
    for path in paths {
        for actor in stage.actors.iter() {
            if let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, path, Follow::Links)
                && let Some(id) = place.inode
            {
                add((joined.disk(place.source), id));
            }
        }
    }
    let mut bench = Bench::new(stage);
    let shared = shared
        .into_iter()
        .filter(|(source, id)| stage.source(*source).tree.inode(*id).kind == FileKind::Directory);
    let all = shared.filter_map(|one| {
        let near = reach.get(&one.0).filter(|near| near.len() > 1)?;
        let members = members(&joined, one, near);
        (members.len() > 1).then(|| handoff(&joined, &mut bench, one, members))
    });
    all.collect()
}

/// One copy of the stage, on which everything is tried; what is changed for one directory is put back before the next.
struct Bench {
    stage: Stage,
    /// The sources of each disk.
    disks: BTreeMap<SourceId, Vec<SourceId>>,
    disk_of: BTreeMap<SourceId, SourceId>,
}

impl Bench {
    fn new(stage: &Stage) -> Self {
        let disk_of: BTreeMap<SourceId, SourceId> = stage.source_ids().zip(stage.storage.disks()).collect();
        let mut disks: BTreeMap<SourceId, Vec<SourceId>> = BTreeMap::new();
        for (source, disk) in &disk_of {
            disks.entry(*disk).or_default().push(*source);
        }
        Self { stage: stage.clone(), disks, disk_of }
    }

    fn put_back(&mut self, stage: &Stage, source: SourceId) {
        let disk = self.disk_of.get(&source).copied().unwrap_or(source);
        for one in self.disks.get(&disk).into_iter().flatten() {
            self.stage.storage.source_mut(*one).tree = stage.source(*one).tree.clone();
        }
    }
}

fn declared(actor: &Actor) -> impl Iterator<Item = (&Actor, &Mount)> {
    let mounts = actor.mounts.iter().filter(|(_, mount)| mount.origin == MountOrigin::Declared);
    mounts.map(move |(_, mount)| (actor, mount))
}

fn handoff(
    joined: &Joined,
    bench: &mut Bench,
    (source, directory): Shared,
    members: Vec<(usize, Vec<u8>)>,
) -> Handoff {
    let stage = &joined.stage;
    let (members, left_out) = compared(stage, members);
    let mut trial = Trial { stage: &mut bench.stage, members: &members, assumptions: BTreeSet::new() };
    let creations = (0..members.len()).map(|creator| trial.creation(creator)).collect();
    let mut assumptions = trial.assumptions;
    bench.put_back(stage, source);
    assumptions.extend(joined.notes.get(&source).cloned());
    let tree = &stage.source(source).tree;
    let named =
        members.iter().map(|(number, path)| (stage.actors[*number].name.to_string(), or_root(path).to_vec()));
    Handoff {
        source: stage.source(source).facts.name.clone(),
        directory: or_root(&tree.path_of(directory)).to_vec(),
        members: named.collect(),
        left_out,
        creations,
        assumptions,
        rests_on: BTreeSet::new(),
    }
}
