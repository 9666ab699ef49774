//! Building and changing a tree.

use std::collections::BTreeMap;

use super::{
    Certainty, Child, Content, Directory, Doubt, Extended, Inode, InodeId, Marks, NO_SIZE, Tree, Unrecorded,
};
use crate::fact::{Provenance, Unknown};
use crate::ids::DiskGid;
use crate::mode::{FileKind, Mode};
use crate::personality::Shown;
use crate::tree::{Device, Entry};

/// Why an entry cannot be added.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TreeError {
    /// The parent is not a directory.
    #[error("the entry is below something that is not a directory")]
    NotDirectory,
    /// The name is taken.
    #[error("the path is listed twice")]
    Twice,
    /// Names, inodes or a table would exceed four billion.
    #[error("the tree is too large")]
    TooLarge,
    /// A component is empty, `.` or `..`, too long, or holds a NUL byte.
    #[error("the path is not plain: no `..`, no NUL byte, names of at most 255 bytes")]
    Name,
}

impl Tree {
    /// A tree that holds only `root`, a directory.
    ///
    /// # Panics
    /// Never: an empty table has room for one.
    #[must_use]
    pub fn new(root: Entry, origin: Provenance) -> Self {
        let mut tree = Self {
            inodes: Vec::new(),
            directories: Vec::new(),
            names: Vec::new(),
            targets: Vec::new(),
            contents: vec![Content::Unknown],
            devices: Vec::new(),
            extended: Vec::new(),
            doubts: BTreeMap::new(),
            places: BTreeMap::new(),
            group_step: None,
            lines: Vec::new(),
            sizes: Vec::new(),
            unrecorded: Unrecorded::default(),
            origin,
        };
        let root = Entry { kind: FileKind::Directory, ..root };
        tree.push(root, Self::ROOT).expect("an empty table has room for one inode");
        tree
    }

    /// A tree of which nothing is known, not even its root's owner and mode.
    #[must_use]
    pub fn unknown(unknown: &Unknown) -> Self {
        Self::unlisted(Certainty::Unknown(unknown.clone()), unknown)
    }

    /// A tree of which not even its kind is known: its root, and [something else](Self::file_instead) of kind `instead` that
    /// may be there in its place; a device has `device` as its numbers, where those are known.
    ///
    /// # Panics
    /// Never: a table of one has room for another.
    #[must_use]
    pub fn of_unknown_kind(unknown: &Unknown, instead: FileKind, device: Option<Device>) -> Self {
        let mut tree = Self::unknown(unknown);
        let doubt = Doubt::new(Certainty::Unknown(unknown.clone()), Certainty::Known);
        let instead = Entry { device, ..Entry::new(instead, 0, 0, Mode::new(0)).doubting(doubt) };
        tree.push(instead, Self::ROOT).expect("a table of one has room for another");
        tree
    }

    /// What may be in the place of the root, where nobody knows which of the two is.
    #[must_use]
    pub fn file_instead(&self) -> Option<InodeId> {
        let alone = self.inodes.len() == 2 && self.child_count(Self::ROOT) == 0;
        (alone && self.inode(InodeId(1)).kind != FileKind::Directory).then_some(InodeId(1))
    }

    /// A tree that holds what is not listed, below a root that is 0:0 0755 as far as `attributes` says.
    #[must_use]
    pub fn unlisted(attributes: Certainty, unknown: &Unknown) -> Self {
        let doubt = Doubt::new(attributes, Certainty::Unknown(unknown.clone()));
        let root = Entry::directory(0, 0, 0o755).doubting(doubt);
        Self::new(root, Provenance::Unknown(unknown.fact.clone()))
    }

    /// Adds `entry` as `name` below `dir`.
    ///
    /// # Errors
    /// `dir` is not a directory, the name is taken or impossible, or a table is full.
    pub fn add(&mut self, dir: InodeId, name: &[u8], entry: Entry) -> Result<InodeId, TreeError> {
        let slot = self.free_slot(dir, name)?;
        let id = self.push(entry, dir)?;
        self.insert(dir, slot, name, id)?;
        Ok(id)
    }

    /// Adds `name` below `dir` with the same facts as `model`, which is neither a directory nor a link: the cheap way
    /// for the many inodes of a disk that are all alike. Doubts and places are not taken along.
    ///
    /// # Errors
    /// As for [`Self::add`]; [`TreeError::NotDirectory`] for a model that cannot be copied.
    pub fn add_like(&mut self, dir: InodeId, name: &[u8], model: InodeId) -> Result<InodeId, TreeError> {
        let mut inode = *self.inode(model);
        if matches!(inode.kind, FileKind::Directory | FileKind::Link) {
            return Err(TreeError::NotDirectory);
        }
        inode.marks = Marks::of_told(inode.marks.given());
        let slot = self.free_slot(dir, name)?;
        let id = InodeId(size(self.inodes.len())?);
        self.inodes.push(inode);
        self.insert(dir, slot, name, id)?;
        Ok(id)
    }

    /// Says how many bytes the file `id` has.
    pub fn set_size(&mut self, id: InodeId, bytes: u64) {
        let at = id.0 as usize;
        if self.sizes.len() <= at {
            self.sizes.resize(at + 1, NO_SIZE);
        }
        self.sizes[at] = bytes;
    }

    /// Makes room for `count` entries of `dir`, so that none is wasted while they are added.
    pub fn expect_entries(&mut self, dir: InodeId, count: usize) {
        let inode = self.inode(dir);
        if inode.kind == FileKind::Directory {
            let index = inode.extra as usize;
            self.directories[index].children.reserve_exact(count);
        }
    }

    /// Makes room for a tree of this size.
    pub fn expect(&mut self, inodes: usize, directories: usize, name_bytes: usize) {
        self.inodes.reserve_exact(inodes);
        self.directories.reserve_exact(directories);
        self.names.reserve_exact(name_bytes);
    }

    /// Adds `name` below `dir` as a further name of `inode` (a hard link).
    ///
    /// # Errors
    /// As for [`Self::add`]; directories cannot be linked.
    pub fn link(&mut self, dir: InodeId, name: &[u8], inode: InodeId) -> Result<(), TreeError> {
        if self.inode(inode).kind == FileKind::Directory {
            return Err(TreeError::NotDirectory);
        }
        self.name_again(dir, name, inode)
    }

    /// The same for any inode; a directory must have lost its other name.
    pub(super) fn name_again(&mut self, dir: InodeId, name: &[u8], inode: InodeId) -> Result<(), TreeError> {
        let slot = self.free_slot(dir, name)?;
        self.insert(dir, slot, name, inode)
    }

    /// Changes group and mode of `id`, as the filesystem-group step does, and remembers that it did.
    pub fn regroup(&mut self, id: InodeId, gid: DiskGid, mode: Mode, place: Option<Provenance>) {
        let inode = &mut self.inodes[id.0 as usize];
        inode.gid = gid;
        inode.marks = inode.marks.with(Marks::GROUP_STEP);
        self.change_mode(id, mode);
        let Some(place) = place else { return };
        // Nearly always one step changes a tree, so its place is kept once.
        if *self.group_step.get_or_insert_with(|| place.clone()) == place {
            self.places.remove(&id);
        } else {
            self.places.insert(id, place);
        }
    }

    /// chmod: on an inode with an ACL it sets the mask, not the owning group's entry (`posix_acl_chmod`).
    pub(super) fn change_mode(&mut self, id: InodeId, mode: Mode) {
        let inode = &mut self.inodes[id.0 as usize];
        inode.mode = mode;
        let index = inode.extended;
        if let Some(pair) = index.checked_sub(1).map(|index| self.extended[index as usize].clone())
            && let Some(access) = pair.access.clone()
        {
            let access = Some(access.chmod(mode));
            self.extended.push(Extended { access, ..pair });
            self.inodes[id.0 as usize].extended = u32::try_from(self.extended.len()).unwrap_or(u32::MAX);
        }
    }

    /// Gives every inode the owner and mode that a filesystem without owners shows; a file without any w bit
    /// keeps none, since that much is stored.
    pub fn show_as(&mut self, shown: &Shown) {
        let unsaid = |id: &InodeId| self.doubts.get(id).is_some_and(|doubt| doubt.mode.unknown().is_some());
        let unsaid: Vec<bool> = self.ids().map(|id| unsaid(&id)).collect();
        for (inode, unsaid) in self.inodes.iter_mut().zip(unsaid) {
            let stored = !unsaid && inode.kind != FileKind::Directory;
            let read_only = stored && !inode.mode.has_any(Mode::new(0o222));
            let mode = shown.mode(inode.kind);
            inode.mode = if read_only { mode.without(Mode::new(0o222)) } else { mode };
            inode.uid = shown.uid;
            inode.gid = shown.gid;
            inode.extended = 0;
        }
        for doubt in self.doubts.values_mut() {
            doubt.owner = Certainty::Known;
            doubt.mode = Certainty::Known;
        }
    }

    /// Marks every inode that is not given to be in the upper layer as one of a lower layer.
    pub fn lower(&mut self) {
        for inode in self.inodes.iter_mut().filter(|inode| !inode.marks.has(Marks::UPPER)) {
            inode.marks = inode.marks.with(Marks::LOWER);
        }
    }

    /// The directory at a literal path, made as needed: each missing one is `make(its path)`.
    ///
    /// # Errors
    /// A component is not a directory or no plain name, or a table is full.
    pub fn ensure(
        &mut self,
        path: &[u8],
        mut make: impl FnMut(&Self, InodeId) -> Entry,
    ) -> Result<InodeId, TreeError> {
        let mut dir = Self::ROOT;
        for part in path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".") {
            dir = match self.lookup(dir, part) {
                Some(found) => found,
                None => {
                    let entry = make(self, dir);
                    self.add(dir, part, entry)?
                }
            };
        }
        Ok(dir)
    }

    fn free_slot(&self, dir: InodeId, name: &[u8]) -> Result<usize, TreeError> {
        if name.is_empty()
            || name == b"."
            || name == b".."
            || name.len() > 255
            || name.contains(&0)
            || name.contains(&b'/')
        {
            return Err(TreeError::Name);
        }
        let directory = self.directory(dir).ok_or(TreeError::NotDirectory)?;
        // Sources mostly list in order, so the end is tried before the search.
        if directory.children.last().is_none_or(|last| self.name(*last) < name) {
            return Ok(directory.children.len());
        }
        match directory.children.binary_search_by(|child| self.name(*child).cmp(name)) {
            Ok(_) => Err(TreeError::Twice),
            Err(slot) => Ok(slot),
        }
    }

    fn insert(&mut self, dir: InodeId, slot: usize, name: &[u8], inode: InodeId) -> Result<(), TreeError> {
        let name_start = size(self.names.len())?;
        size(self.names.len() + name.len())?;
        self.names.extend_from_slice(name);
        let child = Child { name_start, name_len: size(name.len())?, inode };
        let index = self.inode(dir).extra as usize;
        self.directories[index].children.insert(slot, child);
        Ok(())
    }

    fn push(&mut self, entry: Entry, parent: InodeId) -> Result<InodeId, TreeError> {
        let id = InodeId(size(self.inodes.len())?);
        let extra = self.extra(&entry, parent)?;
        let mode = entry.extended.access.as_ref().map_or(entry.mode, |acl| acl.applied_to(entry.mode));
        let access = entry.extended.access.filter(|acl| !acl.is_minimal());
        let extended = self.intern(Extended { access, ..entry.extended })?;
        let mut marks = entry.marks;
        if let Some(doubt) = entry.doubt.filter(|doubt| *doubt != Doubt::default()) {
            marks = marks.with(Marks::DOUBTED);
            self.doubts.insert(id, Box::new(doubt));
        }
        if let Some(place) = entry.place {
            self.places.insert(id, place);
        }
        if entry.line > 0 {
            self.lines.resize(self.inodes.len(), 0);
            self.lines.push(entry.line);
        }
        if let Some(size) = entry.size {
            self.sizes.resize(self.inodes.len(), NO_SIZE);
            self.sizes.push(size);
        }
        self.inodes.push(Inode {
            kind: entry.kind,
            marks,
            mode,
            uid: entry.uid,
            gid: entry.gid,
            extended,
            extra,
        });
        Ok(id)
    }

    pub(super) fn extra(&mut self, entry: &Entry, parent: InodeId) -> Result<u32, TreeError> {
        match entry.kind {
            FileKind::Directory => {
                self.directories.push(Directory { parent, children: Vec::new() });
                size(self.directories.len() - 1)
            }
            FileKind::Link => {
                self.targets.push(entry.target.clone());
                size(self.targets.len() - 1)
            }
            FileKind::File => match self.contents.iter().position(|content| *content == entry.content) {
                Some(index) => size(index),
                None => {
                    self.contents.push(entry.content.clone());
                    size(self.contents.len() - 1)
                }
            },
            FileKind::CharDevice | FileKind::BlockDevice => match entry.device {
                Some(device) => {
                    self.devices.push(device);
                    size(self.devices.len())
                }
                None => Ok(0),
            },
            FileKind::Fifo | FileKind::Socket => Ok(0),
        }
    }

    pub(super) fn intern(&mut self, pair: Extended) -> Result<u32, TreeError> {
        if pair == Extended::default() {
            return Ok(0);
        }
        // Disks repeat few ACLs; the last ones are the likely ones.
        let recent = self.extended.iter().enumerate().rev().take(64).find(|(_, known)| **known == pair);
        if let Some((index, _)) = recent {
            return size(index + 1);
        }
        self.extended.push(pair);
        size(self.extended.len())
    }
}

fn size(count: usize) -> Result<u32, TreeError> {
    u32::try_from(count).map_err(|_| TreeError::TooLarge)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::acl::Acl;

    fn origin() -> Provenance {
        Provenance::rule("test")
    }

    #[test]
    fn regrouping_an_inode_with_an_acl_sets_its_mask() {
        let mut tree = Tree::new(Entry::directory(0, 0, 0o755), origin());
        let mut entry = Entry::file(0, 0, 0o600);
        entry.extended.access = Some(Acl::parse("user:1000:r--", Mode::new(0o600)).unwrap());
        let file = tree.add(Tree::ROOT, b"f", entry).unwrap();
        tree.regroup(file, DiskGid::new(7000), Mode::new(0o660), None);
        let acl = tree.acl(file).unwrap();
        assert_eq!(acl.to_string(), "user::rw-,user:1000:r--,group::---,mask::rw-,other::---");
        // Two local volumes on one host have steps of their own.
        let other = tree.add(Tree::ROOT, b"g", Entry::file(0, 0, 0o600)).unwrap();
        for (id, step) in [(file, "first"), (other, "second")] {
            tree.regroup(id, DiskGid::new(7000), Mode::new(0o660), Some(Provenance::rule(step)));
        }
        assert_eq!(
            (tree.place(file), tree.place(other)),
            (Provenance::rule("first"), Provenance::rule("second"))
        );
    }
}
