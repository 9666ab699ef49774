//! What is attached where: sources, mounts and their flags.

mod table;

use std::fmt;
use std::sync::Arc;

use crate::fact::{Provenance, Unknown};
use crate::ids::MountIds;
use crate::labels::{Labels, Relabelled};
use crate::mode::Mode;
use crate::mount_kind::MountKind;
use crate::personality::Personality;
use crate::tree::{Certainty, InodeId, Tree};
pub use table::MountTable;

/// A source of one [`Storage`](crate::storage::Storage).
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct SourceId(u32);

impl SourceId {
    pub(crate) fn at(index: usize) -> Self {
        Self(u32::try_from(index).unwrap_or(u32::MAX))
    }

    pub(crate) const fn index(self) -> usize {
        self.0 as usize
    }
}

/// A mount of one actor's [`MountTable`].
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct MountId(u32);

impl MountId {
    /// Its place in the table, from 0.
    #[must_use]
    pub const fn number(self) -> usize {
        self.0 as usize
    }

    fn at(index: usize) -> Self {
        Self(u32::try_from(index).unwrap_or(u32::MAX))
    }
}

/// A filesystem, or a part of one, that mounts show.
#[derive(Clone, Debug)]
pub struct Source {
    /// Its inodes.
    pub tree: Arc<Tree>,
    /// What holds for all of them; the same for many sources where engines make them alike.
    pub facts: Arc<SourceFacts>,
}

impl Source {
    /// A source of the inodes of `tree`.
    #[must_use]
    pub fn new(tree: Arc<Tree>, facts: SourceFacts) -> Self {
        Self { tree, facts: Arc::new(facts) }
    }

    /// With other facts.
    #[must_use]
    pub fn with(mut self, change: impl FnOnce(&mut SourceFacts)) -> Self {
        change(Arc::make_mut(&mut self.facts));
        self
    }
}

/// What holds for a source as a whole.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SourceFacts {
    /// What it is called in answers, such as `claim readings`.
    pub name: Arc<str>,
    /// The filesystem's type, such as `ext4`; `None` if not given.
    pub filesystem: Option<Arc<str>>,
    /// The disk behind it where several workloads may mount that; `None` for what is a container's or pod's own.
    pub disk: Option<Disk>,
    /// Whether the superblock is read-only (not only a mount of it).
    pub read_only: bool,
    /// Whether it keeps owners and modes itself, as ext4 does, so that local rules decide.
    pub native: Certainty,
    /// What its filesystem does differently.
    pub personality: Personality,
    /// Whether an engine makes it anew for each container, so that nothing on it is kept.
    pub anonymous: bool,
    /// What is known of its labels as a whole.
    pub labels: Labels,
}

impl SourceFacts {
    /// Those of a filesystem of a container's or pod's own that keeps owners and modes itself, as ext4 does.
    #[must_use]
    pub fn local(name: impl Into<Arc<str>>) -> Self {
        Self {
            name: name.into(),
            filesystem: None,
            disk: None,
            read_only: false,
            native: Certainty::Known,
            personality: Personality::default(),
            anonymous: false,
            labels: Labels::default(),
        }
    }
}

/// A disk that several workloads may mount.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Disk {
    /// What tells it from every other.
    pub name: Arc<str>,
    /// How many inodes it has before anyone prepares it. These have the same numbers for all; what comes behind them is
    /// what one preparation made, and has its number there alone.
    pub given: usize,
}

/// The flags of a mount, one bit each (mount(8)).
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct MountFlags(u8);

impl MountFlags {
    /// No flag at all: `rw`.
    pub const NONE: Self = Self(0);
    /// `ro`
    pub const READ_ONLY: Self = Self(1);
    /// `noexec`
    pub const NO_EXEC: Self = Self(2);
    /// `nosuid`
    pub const NO_SUID: Self = Self(4);
    /// `nodev`
    pub const NO_DEV: Self = Self(8);
    /// `nosymfollow`
    pub const NO_SYMFOLLOW: Self = Self(16);

    /// Every flag with its word in mount options.
    pub const WORDS: [(Self, &'static str); 5] = [
        (Self::READ_ONLY, "ro"),
        (Self::NO_EXEC, "noexec"),
        (Self::NO_SUID, "nosuid"),
        (Self::NO_DEV, "nodev"),
        (Self::NO_SYMFOLLOW, "nosymfollow"),
    ];

    /// Whether all flags of `other` are set.
    #[must_use]
    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }

    /// With the flags of `other` added.
    #[must_use]
    pub const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// Without the flags of `other`.
    #[must_use]
    pub const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// Only the flags that `other` has too.
    #[must_use]
    pub const fn both(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// The flag a mount option names.
    #[must_use]
    pub fn by_word(word: &str) -> Option<Self> {
        Self::WORDS.into_iter().find_map(|(flag, known)| (known == word).then_some(flag))
    }

    /// The flags as mount options; `rw` where `ro` is not set.
    #[must_use]
    pub fn words(self) -> Vec<&'static str> {
        let mut words = if self.has(Self::READ_ONLY) { vec![] } else { vec!["rw"] };
        words.extend(Self::WORDS.iter().filter(|(flag, _)| self.has(*flag)).map(|(_, word)| *word));
        words
    }
}

impl fmt::Display for MountFlags {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.words().join(","))
    }
}

/// Who put a mount there.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum MountOrigin {
    /// The container's root filesystem.
    Root,
    /// The workload's description asks for it.
    Declared,
    /// The runtime or kubelet mounts it into every container.
    Default,
    /// The runtime hides a path of `/proc` or `/sys` behind it, or keeps it from being written.
    Shield,
}

/// Owner, group and mode of a mounted root before it was prepared.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct RootFacts {
    /// Owner on the disk.
    pub uid: u32,
    /// Group on the disk.
    pub gid: u32,
    /// Permission bits.
    pub mode: Mode,
}

/// What the runtime did to a volume before the process starts.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Preparation {
    /// The root as it was before; `None` where nothing was there or no one knows.
    pub before: Option<RootFacts>,
    /// How many inodes the filesystem-group step changes.
    pub touches: usize,
    /// What was done and why, a sentence each.
    pub notes: Vec<Arc<str>>,
    /// Whether nothing was there, so that it is made.
    pub made: bool,
}

/// One possible source of a mount.
#[derive(Clone, Debug)]
pub struct Variant {
    /// What must hold for it, such as `the kubelet applies the filesystem group`.
    pub when: Arc<str>,
    /// The source in that case; all variants number their inodes alike.
    pub source: SourceId,
    /// What was done to it.
    pub preparation: Arc<Preparation>,
}

impl Variant {
    /// The only possibility, to which nothing is done.
    #[must_use]
    pub fn only(source: SourceId) -> Self {
        Self { when: Arc::default(), source, preparation: Arc::default() }
    }
}

/// One mount of an actor's view.
#[derive(Clone, Debug)]
pub struct Mount {
    /// The mount and inode it covers; `None` for the root.
    pub on: Option<(MountId, InodeId)>,
    /// The possible sources; more than one where a fact is missing.
    pub variants: Vec<Variant>,
    /// The inode that shows at the mount point; `None` if not even its kind is known: then the
    /// [tree](Tree::of_unknown_kind) has both.
    pub root: Option<InodeId>,
    /// Mount flags.
    pub flags: MountFlags,
    /// Who put it there.
    pub origin: MountOrigin,
    /// The rest, which is the same in all containers for what a runtime mounts into each of them.
    pub facts: Arc<MountFacts>,
}

impl Mount {
    /// A root that shows the whole of `source`, without flags.
    #[must_use]
    pub fn root(source: SourceId, kind: MountKind, from: Provenance) -> Self {
        Self {
            on: None,
            variants: vec![Variant::only(source)],
            root: Some(Tree::ROOT),
            flags: MountFlags::NONE,
            origin: MountOrigin::Root,
            facts: Arc::new(MountFacts::plain(b"/", kind, from)),
        }
    }

    /// Whether it is a volume of API objects, whose every mount is read-only (docs/facts/kubelet.md).
    #[must_use]
    pub fn is_written_by_kubelet(&self) -> bool {
        self.facts.kind.is_written_by_kubelet()
    }
}

/// Where a mount is, what it shows and who asked for it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct MountFacts {
    /// Its path inside, for answers.
    pub at: Arc<[u8]>,
    /// The missing fact that tells the variants apart.
    pub question: Option<Unknown>,
    /// The mount's id map.
    pub ids: MountIds,
    /// What kind of volume it is.
    pub kind: MountKind,
    /// The path of the host that shows, where it is one of a host path or bind.
    pub host_path: Option<Arc<[u8]>>,
    /// What the source is called in answers, where it is a part of one.
    pub label: Option<Arc<str>>,
    /// What the engine made of the labels below it, if anything.
    pub relabelled: Option<Relabelled>,
    /// Where the mount was asked for.
    pub from: Provenance,
}

impl MountFacts {
    /// Those of a mount that is in no doubt, is not shifted, and shows the whole of its source.
    #[must_use]
    pub fn plain(at: &[u8], kind: MountKind, from: Provenance) -> Self {
        Self {
            at: at.into(),
            question: None,
            ids: MountIds::default(),
            kind,
            host_path: None,
            label: None,
            relabelled: None,
            from,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn flags_print_as_mount_options() {
        assert_eq!(MountFlags::default().to_string(), "rw");
        assert_eq!(MountFlags::READ_ONLY.with(MountFlags::NO_EXEC).to_string(), "ro,noexec");
        assert_eq!(MountFlags::by_word("nosuid"), Some(MountFlags::NO_SUID));
        assert_eq!(MountFlags::by_word("relatime"), None);
    }
    #[test]
    fn what_every_container_has_two_dozen_of_stays_small() {
        let sizes = (size_of::<Mount>(), size_of::<Variant>(), size_of::<Source>());
        assert!(sizes.0 <= 56 && sizes.1 <= 32 && sizes.2 <= 16, "{sizes:?}");
    }
}
