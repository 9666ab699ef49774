//! Who watches a decision being made: no one, a recorder of steps, or an explorer of possibilities.

use std::sync::Arc;

use mivask_model::fact::Unknown;
use mivask_model::held::Held;
use mivask_model::ids::{DiskGid, DiskUid, KernelGid, KernelUid};
use mivask_model::mode::{Access, Mode};
use mivask_model::mount::{MountId, SourceId};
use mivask_model::tree::InodeId;
use mivask_model::usual::Usual;

use crate::trace::Step;

/// An inode that a question is about.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Subject {
    /// One that is listed.
    Inode(SourceId, InodeId),
    /// One that is only presumed to exist, by its path inside.
    Path(Vec<u8>),
}

/// Something a decision may have to ask because a fact is missing.
///
/// The same question gets the same answer within one run.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum MissingFact {
    /// Which of an actor's possible identities it has.
    Identity,
    /// Which of a mount's possible sources it shows.
    Variant(MountId),
    /// Whether a source is a directory or a file.
    Kind(SourceId),
    /// Whether the bits of an inode grant this access.
    Grants(Subject, Access),
    /// Whether a path exists below a directory whose entries are unknown.
    Exists(Vec<u8>),
    /// Whether an inode is this user's.
    Owner(Subject, Held<KernelUid>),
    /// Whether an inode is of this group.
    Group(Subject, KernelGid),
    /// Whether the actor is in the group of an inode.
    Member(Subject),
    /// Whether the user of this name in a source has this number there.
    UserNamed(SourceId, Arc<[u8]>, DiskUid),
    /// Whether the group of this name in a source has this number there.
    GroupNamed(SourceId, Arc<[u8]>, DiskGid),
    /// Whether the actor is in the group of this name in a source.
    MemberNamed(SourceId, Arc<[u8]>),
    /// Whether two inodes have one owner.
    SameOwner(Subject, Subject),
    /// Whether owner and group of an inode have a mapping on its mount.
    Mapped(Subject),
    /// Which of owner and group of an inode have no mapping on its mount, where not both have one.
    Lost(Subject),
    /// Whether the actor's user and group, whose numbers are not given, have a mapping on a mount.
    ActorMapped(MountId),
    /// Whether owner and group of an inode are mapped in the actor's user namespace.
    Inside(Subject),
    /// Whether an inode has all of these bits.
    Bits(Subject, Mode),
    /// Which ids an NFS server replaces.
    Squash(SourceId),
    /// Whether the server of a source lets the actor do it.
    Server(SourceId),
    /// Whether the filesystem of a source can do what the words say.
    Support(SourceId, &'static str),
    /// The value of a kernel setting.
    Setting(&'static str),
    /// What execve finds in a file.
    Content(SourceId, InodeId),
    /// Whether a device whose numbers are not given is in the container's device list.
    Device(SourceId, InodeId),
    /// Whether a device has a driver.
    Driver(SourceId, InodeId),
    /// Whether an inode has the extended attribute that is asked for.
    Attribute(Subject),
    /// Whether the labels of a source, which are not given, permit these accesses.
    Labels(SourceId),
    /// Whether the host's policy, which is not given, permits what the words say.
    Policy(String),
    /// What is not known of an engine's profile, in words.
    Profile(&'static str),
    /// What the thing of this number does, among those that no rule here follows.
    Unmodelled(usize),
}

/// Watches a decision and answers its questions about unknown facts.
pub trait Witness {
    /// Whether steps are wanted; where not, none is ever built.
    const TRACING: bool;
    /// Whether every permission is taken to be given, as for someone who only wants to know what is there.
    const ALL_SEEING: bool = false;

    /// Whether only the check and the result of a step are looked at: then no words are made for it.
    const BRIEF: bool = false;

    /// A check was made.
    fn step(&mut self, step: impl FnOnce() -> Step);

    /// The decision rests on an assumption.
    fn assume(&mut self, text: impl FnOnce() -> Arc<str>);

    /// Whether the first possibility was taken for a question of this kind before.
    fn took_first(&self, _is: impl Fn(&MissingFact) -> bool) -> bool {
        false
    }

    /// Whether missing facts are followed as they usually are (docs/usual.md).
    fn is_as_usual(&self) -> bool {
        false
    }

    /// A fact is missing: which of `count` possibilities shall hold?
    fn choose(
        &mut self,
        question: MissingFact,
        unknown: &Unknown,
        count: usize,
        describe: impl Fn(usize) -> String,
    ) -> usize {
        self.choose_usually(question, unknown, count, (|| None, describe))
    }

    /// The same, where one possibility may be the usual one.
    fn choose_usually(
        &mut self,
        question: MissingFact,
        unknown: &Unknown,
        count: usize,
        words: (impl FnOnce() -> Option<(Usual, usize)>, impl Fn(usize) -> String),
    ) -> usize;
}

/// Watches nothing; remembers only that a fact was missing.
///
/// With it a decision allocates nothing as long as everything it needs is known.
#[derive(Debug, Default)]
pub struct Unwatched {
    /// Whether a missing fact was met; the verdict is then only one of several.
    pub met_unknown: bool,
    /// Whether something was taken for granted.
    pub assumed: bool,
}

impl Witness for Unwatched {
    const TRACING: bool = false;

    fn step(&mut self, _: impl FnOnce() -> Step) {}

    fn assume(&mut self, _: impl FnOnce() -> Arc<str>) {
        self.assumed = true;
    }

    fn choose_usually(
        &mut self,
        _: MissingFact,
        _: &Unknown,
        _: usize,
        _: (impl FnOnce() -> Option<(Usual, usize)>, impl Fn(usize) -> String),
    ) -> usize {
        self.met_unknown = true;
        0
    }
}
