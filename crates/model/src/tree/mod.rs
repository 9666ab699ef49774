//! The on-disk facts of one source: paths, kinds, owners, modes, ACLs.
//!
//! A tree is an arena. An inode takes 24 bytes, a directory entry 12 more; names, link
//! targets, ACLs and doubts live in side tables that most inodes never touch.

mod build;
mod builder;
mod doubt;
mod edit;
mod entry;
mod facts;
mod graft;
mod resolve;
mod unrecorded;

use std::collections::BTreeMap;
use std::fmt;

pub use build::TreeError;
pub use builder::TreeBuilder;
pub use doubt::{Attribute, Certainty, Doubt, OwnerNames};
pub use entry::Entry;
pub use facts::{Content, Device, Extended, Likeness, Marks};
pub use resolve::Spot;
pub use unrecorded::Unrecorded;

use crate::acl::Acl;
use crate::caps::FileCapabilities;
use crate::fact::{Provenance, Unknown};
use crate::ids::{DiskGid, DiskOwner, DiskUid};
use crate::mode::{FileKind, Mode};

/// Stands in the table of sizes where there is none.
const NO_SIZE: u64 = u64::MAX;

/// An inode of one [`Tree`].
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct InodeId(u32);

impl InodeId {
    /// Its number: inodes are counted from 0, the root, in the order they were added.
    #[must_use]
    pub const fn number(self) -> u32 {
        self.0
    }
}

impl fmt::Debug for InodeId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "#{}", self.0)
    }
}

/// The facts of one inode that every check needs.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Inode {
    /// What it is.
    pub kind: FileKind,
    /// Attributes and side-table marks.
    pub marks: Marks,
    /// Permission bits (with an ACL, the group digit is its mask).
    pub(super) mode: Mode,
    /// Owner as stored on the disk.
    pub(super) uid: DiskUid,
    /// Group as stored on the disk.
    pub(super) gid: DiskGid,
    /// 1 + index into the table of ACLs and file capabilities, 0 for none.
    extended: u32,
    /// Per kind: directory index, link target index, content index, device index.
    extra: u32,
}

impl Inode {
    /// The permission bits that are kept for it, whether anyone gave them or not: for what copies or prints inodes together
    /// with their [doubts](Tree::doubt). A decision asks [`Tree::mode`].
    #[must_use]
    #[inline]
    pub const fn stored_mode(&self) -> Mode {
        self.mode
    }

    /// The owner that is kept for it, likewise. A decision asks [`Tree::owner`].
    #[must_use]
    #[inline]
    pub const fn stored_owner(&self) -> DiskOwner {
        DiskOwner { uid: self.uid, gid: self.gid }
    }
}

#[derive(Clone, PartialEq, Eq, Debug)]
struct Directory {
    parent: InodeId,
    children: Vec<Child>,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
struct Child {
    name_start: u32,
    name_len: u32,
    inode: InodeId,
}

/// The on-disk facts of one source.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Tree {
    inodes: Vec<Inode>,
    directories: Vec<Directory>,
    names: Vec<u8>,
    targets: Vec<Box<[u8]>>,
    contents: Vec<Content>,
    devices: Vec<Device>,
    extended: Vec<Extended>,
    /// Boxed: most trees have one or none, and a node of the map has room for eleven.
    doubts: BTreeMap<InodeId, Box<Doubt>>,
    places: BTreeMap<InodeId, Provenance>,
    /// Where the filesystem group was asked for that changed some.
    group_step: Option<Provenance>,
    /// The line of each inode in the file the tree comes from, from 1; left out where there are no lines.
    lines: Vec<u32>,
    /// Bytes of each file; left out where no one asked.
    sizes: Vec<u64>,
    unrecorded: Unrecorded,
    origin: Provenance,
}

impl Tree {
    /// The root directory.
    pub const ROOT: InodeId = InodeId(0);

    /// The facts of `id`.
    #[must_use]
    #[inline]
    pub fn inode(&self, id: InodeId) -> &Inode {
        &self.inodes[id.0 as usize]
    }

    /// Owner and group of `id` as stored on the disk, as far as they are given.
    #[must_use]
    #[inline]
    pub fn owner(&self, id: InodeId) -> Attribute<'_, DiskOwner> {
        let inode = self.inode(id);
        let owner = inode.stored_owner();
        if !inode.marks.has(Marks::DOUBTED) {
            return Attribute::Known(owner);
        }
        self.doubt(id).map_or(Attribute::Known(owner), |doubt| Attribute::new(owner, &doubt.owner))
    }

    /// The permission bits of `id` (with an ACL, the group digit is its mask), as far as they are given.
    #[must_use]
    #[inline]
    pub fn mode(&self, id: InodeId) -> Attribute<'_, Mode> {
        let inode = self.inode(id);
        if !inode.marks.has(Marks::DOUBTED) {
            return Attribute::Known(inode.mode);
        }
        self.doubt(id).map_or(Attribute::Known(inode.mode), |doubt| Attribute::new(inode.mode, &doubt.mode))
    }

    /// How many inodes there are, the root included.
    #[must_use]
    pub fn len(&self) -> usize {
        self.inodes.len()
    }

    /// Whether there is nothing but the root.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.inodes.len() == 1
    }

    /// What decides about `id`; equal for inodes of this tree that no check can tell apart, names aside.
    #[must_use]
    #[inline]
    pub fn likeness(&self, id: InodeId) -> Likeness {
        Likeness::new(self.inode(id))
    }

    /// The inode of this number, as [`InodeId::number`] counts.
    #[must_use]
    pub fn numbered(&self, number: u32) -> Option<InodeId> {
        ((number as usize) < self.inodes.len()).then_some(InodeId(number))
    }

    /// How many directories there are, and how many bytes all names have together.
    #[must_use]
    pub const fn extent(&self) -> (usize, usize) {
        (self.directories.len(), self.names.len())
    }

    /// Whether the sizes of files are kept.
    #[must_use]
    pub const fn has_sizes(&self) -> bool {
        !self.sizes.is_empty()
    }

    /// Every inode, the root first.
    pub fn ids(&self) -> impl Iterator<Item = InodeId> + use<> {
        (0..u32::try_from(self.inodes.len()).unwrap_or(u32::MAX)).map(InodeId)
    }

    /// Where the facts of `id` came from: what changed it, its own line, or the source of the whole tree.
    #[must_use]
    pub fn place(&self, id: InodeId) -> Provenance {
        if let Some(place) = self.places.get(&id) {
            return place.clone();
        }
        if let (true, Some(step)) = (self.inode(id).marks.has(Marks::GROUP_STEP), &self.group_step) {
            return step.clone();
        }
        match (&self.origin, self.lines.get(id.0 as usize)) {
            (Provenance::Source(file), Some(line)) if *line > 0 => {
                Provenance::Line { file: file.clone(), line: *line as usize }
            }
            (origin, _) => origin.clone(),
        }
    }

    /// How many bytes the file has, where its source was asked for that.
    #[must_use]
    pub fn size(&self, id: InodeId) -> Option<u64> {
        self.sizes.get(id.0 as usize).copied().filter(|size| *size != NO_SIZE)
    }

    /// What is taken for granted about every inode, because the source does not tell of it.
    #[must_use]
    pub const fn unrecorded(&self) -> &Unrecorded {
        &self.unrecorded
    }

    /// Says what the source does not tell of.
    pub fn set_unrecorded(&mut self, unrecorded: Unrecorded) {
        self.unrecorded = unrecorded;
    }

    /// Where the tree as a whole came from.
    #[must_use]
    pub const fn origin(&self) -> &Provenance {
        &self.origin
    }

    /// The entry `name` of directory `dir`.
    #[must_use]
    #[inline]
    pub fn lookup(&self, dir: InodeId, name: &[u8]) -> Option<InodeId> {
        let children = self.directory(dir)?.children.as_slice();
        // Trees mostly grow in order, and whoever adds a name looks for it first.
        if self.name(*children.last()?) < name {
            return None;
        }
        let found = children.binary_search_by(|child| self.name(*child).cmp(name)).ok()?;
        Some(children[found].inode)
    }

    /// The entries of `dir`, sorted by name; nothing where it is not a directory.
    pub fn children(&self, dir: InodeId) -> impl Iterator<Item = (&[u8], InodeId)> {
        let children = self.directory(dir).map_or(&[][..], |dir| dir.children.as_slice());
        children.iter().map(|child| (self.name(*child), child.inode))
    }

    /// How many entries `dir` has; none where it is not a directory.
    #[must_use]
    #[inline]
    pub fn child_count(&self, dir: InodeId) -> usize {
        self.directory(dir).map_or(0, |dir| dir.children.len())
    }

    /// The entry number `index` of `dir`, in the order of names.
    #[must_use]
    #[inline]
    pub fn child(&self, dir: InodeId, index: usize) -> Option<(&[u8], InodeId)> {
        let child = *self.directory(dir)?.children.get(index)?;
        Some((self.name(child), child.inode))
    }

    /// The directory above `dir`; the root's is itself, and so is that of a non-directory.
    #[must_use]
    pub fn parent(&self, dir: InodeId) -> InodeId {
        self.directory(dir).map_or(dir, |dir| dir.parent)
    }

    /// The inode at a literal path: no links followed, empty components and `.` skipped.
    #[must_use]
    pub fn find(&self, path: &[u8]) -> Option<InodeId> {
        let parts = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".");
        parts.into_iter().try_fold(Self::ROOT, |dir, part| self.lookup(dir, part))
    }

    /// The access ACL of `id`, if it says more than its mode.
    #[must_use]
    pub fn acl(&self, id: InodeId) -> Option<&Acl> {
        self.extended(id)?.access.as_ref()
    }

    /// The default ACL of directory `id`.
    #[must_use]
    pub fn default_acl(&self, id: InodeId) -> Option<&Acl> {
        self.extended(id)?.default.as_ref()
    }

    /// What running `id` adds to the process.
    #[must_use]
    pub fn capabilities(&self, id: InodeId) -> Option<&FileCapabilities> {
        self.extended(id)?.capabilities.as_ref()
    }

    /// Whether `id` is `ancestor` or is below it.
    #[must_use]
    #[inline]
    pub fn is_within(&self, id: InodeId, ancestor: InodeId) -> bool {
        let mut here = id;
        while here != ancestor {
            let above = self.parent(here);
            if above == here {
                return false;
            }
            here = above;
        }
        true
    }

    /// What a link points at; `None` where `id` is not a link.
    #[must_use]
    pub fn target(&self, id: InodeId) -> Option<&[u8]> {
        let inode = self.inode(id);
        (inode.kind == FileKind::Link).then(|| &*self.targets[inode.extra as usize])
    }

    /// What execve meets in `id`.
    #[must_use]
    pub fn content(&self, id: InodeId) -> &Content {
        let inode = self.inode(id);
        match inode.kind {
            FileKind::File => &self.contents[inode.extra as usize],
            FileKind::Directory
            | FileKind::Link
            | FileKind::Fifo
            | FileKind::Socket
            | FileKind::CharDevice
            | FileKind::BlockDevice => &Content::Unknown,
        }
    }

    /// The device numbers of `id`; `None` if it is not a device, or if they are not given.
    #[must_use]
    pub fn device(&self, id: InodeId) -> Option<Device> {
        let inode = self.inode(id);
        let index = inode.extra.checked_sub(1)?;
        inode.kind.is_device().then(|| self.devices[index as usize])
    }

    /// What is not certain about `id`.
    #[must_use]
    pub fn doubt(&self, id: InodeId) -> Option<&Doubt> {
        if !self.inode(id).marks.has(Marks::DOUBTED) {
            return None;
        }
        self.doubts.get(&id).map(Box::as_ref)
    }

    /// The missing facts about single inodes, in the order of their numbers.
    pub fn missing_facts(&self) -> impl Iterator<Item = &Unknown> {
        self.doubts.values().filter_map(|doubt| doubt.unknown_attribute().or(doubt.contents.unknown()))
    }

    /// Every label that an inode has, each once for each set of other attributes beside it.
    pub fn labels(&self) -> impl Iterator<Item = &str> {
        self.extended.iter().filter_map(|extended| extended.label.as_deref())
    }

    /// ACLs, file capabilities and label of `id`, where it has any.
    #[must_use]
    pub fn extended(&self, id: InodeId) -> Option<&Extended> {
        let index = self.inode(id).extended.checked_sub(1)?;
        Some(&self.extended[index as usize])
    }

    #[inline]
    fn directory(&self, id: InodeId) -> Option<&Directory> {
        let inode = self.inode(id);
        (inode.kind == FileKind::Directory).then(|| &self.directories[inode.extra as usize])
    }

    #[inline]
    fn name(&self, child: Child) -> &[u8] {
        let start = child.name_start as usize;
        &self.names[start..start + child.name_len as usize]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_inode_stays_small() {
        assert!(size_of::<Inode>() <= 24, "{}", size_of::<Inode>());
        assert!(size_of::<Child>() <= 12);
    }
}
