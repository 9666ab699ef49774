//! Who can do what with what someone else creates on a shared volume.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::{Act, Verb};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{Mount, MountOrigin, SourceId};
use mivask_model::outcome::Imprint;
use mivask_model::path::{or_root, trimmed};
use mivask_model::tree::{InodeId, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::Outcome;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use crate::carry::{Carried, perform};
use crate::question::Why;
use crate::question::joined::Joined;
use crate::question::why;
use crate::question::{Answer, ask};

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
    /// The others.
    pub consumers: Vec<Consumer>,
}

/// One directory that several actors reach.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Handoff {
    /// The volume, in words.
    pub source: Arc<str>,
    /// The directory on it, from its root.
    pub directory: Vec<u8>,
    /// Who reaches it, and where: the path inside.
    pub members: Vec<(String, Vec<u8>)>,
    /// One for each member as the creator.
    pub creations: Vec<Creation>,
    /// What was taken for granted.
    pub assumptions: BTreeSet<Arc<str>>,
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
    let mut add = |one: Shared| {
        if !shared.contains(&one) {
            shared.push(one);
        }
    };
    if paths.is_empty() {
        for (_, mount) in stage.actors.iter().flat_map(declared) {
            if let Some(root) = mount.root {
                add((joined.disk(mount.variants[0].source), root));
            }
        }
    }
    for path in paths {
        for actor in &stage.actors {
            if let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, path, Follow::Links)
                && let Some(id) = place.inode
            {
                add((joined.disk(place.source), id));
            }
        }
    }
    let shared = shared
        .into_iter()
        .filter(|(source, id)| stage.source(*source).tree.inode(*id).kind == FileKind::Directory);
    let all = shared.filter_map(|one| {
        let members = members(&joined, one);
        (members.len() > 1).then(|| handoff(&joined, one, members))
    });
    all.collect()
}

fn declared(actor: &Actor) -> impl Iterator<Item = (&Actor, &Mount)> {
    let mounts = actor.mounts.iter().filter(|(_, mount)| mount.origin == MountOrigin::Declared);
    mounts.map(move |(_, mount)| (actor, mount))
}

/// Who reaches a directory, each by its shortest path.
fn members(joined: &Joined, (source, directory): Shared) -> Vec<(usize, Vec<u8>)> {
    let stage = &joined.stage;
    let tree = &stage.source(source).tree;
    let mut all = Vec::new();
    for (number, actor) in stage.actors.iter().enumerate() {
        let paths = declared(actor).filter_map(|(_, mount)| {
            if joined.disk(mount.variants[0].source) != source {
                return None;
            }
            let root = mount.root?;
            let below = below(tree, root, directory)?;
            let path = [trimmed(&mount.at), &below].concat();
            // Something else may be mounted on the way.
            let seen = look(&stage.storage, &actor.mounts, or_root(&path), Follow::Links);
            let same = matches!(seen, Ok(Sight::There(place))
                if place.inode == Some(directory) && joined.disk(place.source) == source);
            same.then_some(path)
        });
        all.extend(paths.min_by_key(Vec::len).map(|path| (number, path)));
    }
    all
}

/// The path of `directory` from `root`; `None` where it is not below `root`.
fn below(tree: &Tree, root: InodeId, directory: InodeId) -> Option<Vec<u8>> {
    if !tree.is_within(directory, root) {
        return None;
    }
    let whole = tree.path_of(directory);
    let start = tree.path_of(root);
    Some(whole[start.len()..].to_vec())
}

fn handoff(joined: &Joined, (source, directory): Shared, members: Vec<(usize, Vec<u8>)>) -> Handoff {
    let stage = &joined.stage;
    let mut trial = Trial { stage: stage.clone(), members: &members, assumptions: BTreeSet::new() };
    let creations = (0..members.len()).map(|creator| trial.creation(creator)).collect();
    let mut assumptions = trial.assumptions;
    assumptions.extend(joined.notes.get(&source).cloned());
    let tree = &stage.source(source).tree;
    let named =
        members.iter().map(|(number, path)| (stage.actors[*number].name.to_string(), or_root(path).to_vec()));
    Handoff {
        source: stage.source(source).name.clone(),
        directory: or_root(&tree.path_of(directory)).to_vec(),
        members: named.collect(),
        creations,
        assumptions,
    }
}

/// Everything is tried on one copy, each creator's files under names of their own.
struct Trial<'a> {
    stage: Stage,
    members: &'a [(usize, Vec<u8>)],
    assumptions: BTreeSet<Arc<str>>,
}

impl Trial<'_> {
    fn creation(&mut self, creator: usize) -> Creation {
        let name = self.name(creator);
        let label = self.free(&format!("new-of-{name}"));
        let nested_label = self.free(&format!("dir-of-{name}"));
        let inner = [nested_label.as_slice(), b"/file"].concat();
        let (creates, file) = self.make(creator, &label, Verb::Creates(Mode::new(0o666)));
        let (made, directory) = self.make(creator, &nested_label, Verb::MakesDirectory(Mode::new(0o777)));
        let nested = if made.outcome == Outcome::Allowed {
            self.make(creator, &inner, Verb::Creates(Mode::new(0o666)))
        } else {
            (made, None)
        };
        let others: Vec<usize> = (0..self.members.len()).filter(|other| *other != creator).collect();
        let mut consumers = Vec::new();
        for consumer in others {
            let file = self.uses(consumer, &label, &creates);
            let nested = self.uses(consumer, &inner, &nested.0);
            consumers.push(Consumer { consumer: self.name(consumer), file, nested });
        }
        Creation { creator: name, creates, file, directory, nested: nested.1, consumers }
    }

    fn name(&self, member: usize) -> String {
        self.stage.actors[self.members[member].0].name.to_string()
    }

    /// A name that nothing in the directory has.
    fn free(&self, wanted: &str) -> Vec<u8> {
        let plain = wanted.replace('/', "-");
        let taken = |name: &str| {
            self.members.iter().any(|(number, path)| {
                let path = [path.as_slice(), b"/", name.as_bytes()].concat();
                let table = &self.stage.actors[*number].mounts;
                matches!(look(&self.stage.storage, table, &path, Follow::AllButLast), Ok(Sight::There(_)))
            })
        };
        let numbered = (2..).map(|number| format!("{plain}-{number}"));
        let mut names = std::iter::once(plain.clone()).chain(numbered);
        names.find(|name| !taken(name)).unwrap_or(plain).into_bytes()
    }

    fn act(&self, member: usize, name: &[u8], verb: Verb) -> Act {
        let (number, directory) = &self.members[member];
        let path = [directory.as_slice(), b"/", name].concat();
        let actor = &self.stage.actors[*number];
        // The full name is never ambiguous, unless two workloads have one name.
        Act { actor: actor.name.to_string(), verb, path, expectation: None }
    }

    fn make(&mut self, member: usize, name: &[u8], verb: Verb) -> (UseOutcome, Option<Imprint>) {
        let act = self.act(member, name, verb);
        let Ok(performed) = perform(&mut self.stage, &act) else {
            return (ambiguous(), None);
        };
        self.assumptions.extend(performed.answer.assumptions.iter().cloned());
        let mut done = done(&performed.answer);
        if let Carried::Open(reason) = performed.carried
            && done.outcome == Outcome::Allowed
        {
            done = UseOutcome { outcome: Outcome::Depends, why: Some(Why::new(&reason)) };
        }
        (done, performed.answer.effect.imprint)
    }

    /// What `consumer` can do with what the creator made under `name`.
    fn uses(&mut self, consumer: usize, name: &[u8], made: &UseOutcome) -> Option<PerUse> {
        if made.outcome != Outcome::Allowed {
            return None;
        }
        Some(PerUse {
            read: self.ask(consumer, name, Verb::Reads),
            change: self.ask(consumer, name, Verb::Writes),
            delete: self.ask(consumer, name, Verb::Deletes),
            replace: self.replace(consumer, name),
        })
    }

    fn ask(&mut self, member: usize, name: &[u8], verb: Verb) -> UseOutcome {
        let act = self.act(member, name, verb);
        match ask(&self.stage, &act) {
            Ok(answer) => {
                self.assumptions.extend(answer.assumptions.iter().cloned());
                done(&answer)
            }
            Err(_) => ambiguous(),
        }
    }

    fn replace(&mut self, member: usize, name: &[u8]) -> UseOutcome {
        let own = [name, b".by-", self.name(member).replace('/', "-").as_bytes()].concat();
        let (made, _) = self.make(member, &own, Verb::Creates(Mode::new(0o666)));
        if made.outcome != Outcome::Allowed {
            return made;
        }
        let new = self.act(member, name, Verb::Reads).path;
        self.ask(member, &own, Verb::Renames(new))
    }
}

/// Two workloads of one name: no one can be asked.
fn ambiguous() -> UseOutcome {
    UseOutcome { outcome: Outcome::Depends, why: Some(Why::new("its name is not its own")) }
}

fn done(answer: &Answer) -> UseOutcome {
    UseOutcome { outcome: answer.outcome.clone(), why: why(answer) }
}
