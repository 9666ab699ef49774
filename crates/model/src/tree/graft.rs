//! Copying a part of one tree into another, as an engine fills a new volume from an image.

use std::collections::BTreeMap;

use super::{Doubt, Entry, Extended, InodeId, Marks, Tree, TreeError};
use crate::fact::Provenance;
use crate::ids::DiskOwner;
use crate::mode::{FileKind, Mode};

/// What the copies' owners become: stored ids of the source to stored ids of the copy.
pub(crate) type Renumber<'a> = &'a dyn Fn(DiskOwner) -> DiskOwner;

impl Tree {
    /// Copies everything below `at` of `from` below `onto`: owners by `renumber`, modes, links, hard links and
    /// ACLs. Attributes (immutable, append-only) and layers are left behind.
    ///
    /// # Errors
    /// A name is taken, or a table is full.
    pub fn graft(
        &mut self,
        onto: InodeId,
        from: &Self,
        at: InodeId,
        renumber: Renumber<'_>,
    ) -> Result<(), TreeError> {
        self.copy(onto, from, at, renumber, Marks::default())
    }

    /// Adds what `from` has behind the first `given` inodes, which both have alike, and tells what became of it. What has
    /// the same path here is the same.
    ///
    /// # Errors
    /// Something of another kind is in the way, or a table is full.
    pub fn take_in(&mut self, from: &Self, given: usize) -> Result<BTreeMap<InodeId, InodeId>, TreeError> {
        let is_given = |id: InodeId| usize::try_from(id.number()).is_ok_and(|number| number < given);
        let mut became = BTreeMap::new();
        // What is made has a higher number than the directory it is made in.
        for directory in from.ids().filter(|id| from.inode(*id).kind == FileKind::Directory) {
            let Some(here) =
                is_given(directory).then_some(directory).or_else(|| became.get(&directory).copied())
            else {
                continue;
            };
            for (name, child) in from.children(directory).filter(|(_, child)| !is_given(*child)) {
                let there = match self.lookup(here, name) {
                    Some(known) if self.inode(known).kind != from.inode(child).kind => {
                        return Err(TreeError::Twice);
                    }
                    Some(known) => known,
                    None => self.add(here, name, from.entry(child, &|owner| owner))?,
                };
                became.insert(child, there);
            }
        }
        Ok(became)
    }

    /// The same, with those of `marks` that an inode has.
    fn copy(
        &mut self,
        onto: InodeId,
        from: &Self,
        at: InodeId,
        renumber: Renumber<'_>,
        marks: Marks,
    ) -> Result<(), TreeError> {
        let mut copied: BTreeMap<InodeId, InodeId> = BTreeMap::new();
        let mut pending = vec![(onto, at)];
        while let Some((here, there)) = pending.pop() {
            for (name, child) in from.children(there) {
                if let Some(first) = copied.get(&child) {
                    self.link(here, name, *first)?;
                    continue;
                }
                let mut entry = from.entry(child, renumber);
                entry.marks = from.inode(child).marks.among(marks);
                let own = from.places.contains_key(&child);
                if !own && self.origin == from.origin {
                    (entry.place, entry.line) =
                        (None, from.lines.get(child.0 as usize).copied().unwrap_or(0));
                }
                let id = self.add(here, name, entry)?;
                if from.inode(child).kind == FileKind::Directory {
                    pending.push((id, child));
                } else {
                    copied.insert(child, id);
                }
            }
        }
        Ok(())
    }

    /// `part` put at `path` of `whole`, or of a tree of which nothing else is known; `what` is for words. Whatever
    /// `whole` said of that path gives way.
    ///
    /// # Errors
    /// `whole` says that something other than a directory is on the way, or a table is full.
    pub fn planted(whole: Option<&Self>, path: &[u8], part: &Self, what: &str) -> Result<Self, TreeError> {
        let implied = super::builder::implied(what);
        let mut tree = match whole {
            Some(whole) => whole.clone(),
            None => Self::new(implied.clone(), part.origin().clone()),
        };
        let at = tree.ensure(path, |_, _| implied.clone())?;
        if tree.inode(at).kind != FileKind::Directory {
            return Err(TreeError::NotDirectory);
        }
        let index = tree.inode(at).extra as usize;
        tree.directories[index].children.clear();
        let same = |owner: DiskOwner| owner;
        tree.take_after(at, part, Self::ROOT, &same);
        tree.set_doubt(at, part.doubt(Self::ROOT).cloned().unwrap_or_default());
        tree.inodes[at.0 as usize].marks = part.inode(Self::ROOT).marks.with(Marks::DOUBTED);
        tree.unrecorded = tree.unrecorded.or(&part.unrecorded);
        tree.copy(at, part, Self::ROOT, &same, Marks::EVERY)?;
        Ok(if whole.is_some() { tree.compacted() } else { tree })
    }

    /// The same tree without inodes that have no name any more, in the order of paths.
    ///
    /// # Panics
    /// Never: a part of a tree fits where the whole did.
    #[must_use]
    pub fn compacted(&self) -> Self {
        let same = |owner: DiskOwner| owner;
        let mut tree = Self::new(self.entry(Self::ROOT, &same), self.origin.clone());
        tree.inodes[0].marks = self.inodes[0].marks;
        tree.unrecorded = self.unrecorded.clone();
        tree.group_step = self.group_step.clone();
        tree.copy(Self::ROOT, self, Self::ROOT, &same, Marks::EVERY)
            .expect("a part fits where the whole did");
        tree
    }

    /// The facts of `id`, to be added to another tree.
    #[must_use]
    pub fn facts_of(&self, id: InodeId) -> Entry {
        self.entry(id, &|owner| owner)
    }

    fn entry(&self, id: InodeId, renumber: Renumber<'_>) -> Entry {
        let inode = self.inode(id);
        let owner = renumber(DiskOwner { uid: inode.uid, gid: inode.gid });
        let extended = self.extended(id).cloned().unwrap_or_default();
        Entry {
            target: self.target(id).unwrap_or_default().into(),
            content: self.content(id).clone(),
            device: self.device(id),
            place: Some(self.place(id)),
            doubt: self.doubt(id).cloned(),
            size: self.size(id),
            extended,
            ..Entry::new(inode.kind, owner.uid.raw(), owner.gid.raw(), inode.mode)
        }
    }

    /// Gives `id` the owner, mode, ACLs and provenance of `model` in `from`.
    pub fn take_after(&mut self, id: InodeId, from: &Self, model: InodeId, renumber: Renumber<'_>) {
        let entry = from.entry(model, renumber);
        let place = from.place(model);
        self.own(id, DiskOwner { uid: entry.uid, gid: entry.gid }, entry.mode, place);
        let index = if entry.extended == Extended::default() {
            0
        } else {
            self.extended.push(entry.extended);
            u32::try_from(self.extended.len()).unwrap_or(u32::MAX)
        };
        self.inodes[id.0 as usize].extended = index;
        if let Some(doubt) = entry.doubt {
            self.doubt_owner_and_mode(id, doubt.owner, doubt.mode);
        }
    }

    /// Gives `id` another owner and mode.
    pub fn own(&mut self, id: InodeId, owner: DiskOwner, mode: Mode, place: Provenance) {
        let inode = &mut self.inodes[id.0 as usize];
        inode.uid = owner.uid;
        inode.gid = owner.gid;
        inode.mode = mode;
        self.places.insert(id, place);
    }

    /// Puts `top` and everything below it back to what they were in `earlier`, of which this tree is a later state.
    pub fn put_back(&mut self, earlier: &Self, top: InodeId) {
        for id in earlier.below(top) {
            let inode = *earlier.inode(id);
            self.inodes[id.0 as usize] = inode;
            if inode.kind == FileKind::Directory {
                self.directories[inode.extra as usize] = earlier.directories[inode.extra as usize].clone();
            }
            match earlier.doubts.get(&id) {
                Some(doubt) => self.doubts.insert(id, doubt.clone()),
                None => self.doubts.remove(&id),
            };
            self.places.insert(id, earlier.place(id));
        }
    }

    /// Gives the directory `id` the owner, mode, ACLs and attributes of `entry`, and keeps what is in it.
    pub fn become_like(&mut self, id: InodeId, entry: &Entry) {
        let extended = self.intern(entry.extended.clone()).unwrap_or(0);
        let inode = &mut self.inodes[id.0 as usize];
        inode.uid = entry.uid;
        inode.gid = entry.gid;
        inode.mode = entry.mode;
        inode.extended = extended;
        inode.marks = entry.marks;
        self.places.remove(&id);
        self.doubts.remove(&id);
        if let Some(doubt) = entry.doubt.clone().filter(|doubt| *doubt != Doubt::default()) {
            self.set_doubt(id, doubt);
        }
        if entry.line > 0 {
            let at = id.0 as usize;
            self.lines.resize(self.lines.len().max(at + 1), 0);
            self.lines[at] = entry.line;
        }
    }

    /// Says that `id`, which is in `parent` and was taken for a file, is a directory, and forgets what was assumed about that.
    ///
    /// # Errors
    /// A table is full.
    pub fn turn_into_directory(&mut self, id: InodeId, parent: InodeId) -> Result<(), TreeError> {
        let extra = self.extra(&Entry::directory(0, 0, 0), parent)?;
        let inode = &mut self.inodes[id.0 as usize];
        inode.kind = FileKind::Directory;
        inode.extra = extra;
        if self.doubt(id).is_some_and(|doubt| doubt.assumed_attribute().is_some()) {
            self.set_doubt(id, Doubt::default());
        }
        Ok(())
    }

    /// `top` and everything below it, each inode once.
    pub fn below(&self, top: InodeId) -> Vec<InodeId> {
        if top == Self::ROOT {
            return self.ids().collect();
        }
        let mut all = vec![top];
        let mut next = 0;
        while let Some(here) = all.get(next).copied() {
            next += 1;
            all.extend(self.children(here).map(|(_, child)| child));
        }
        all.sort_unstable();
        all.dedup();
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_is_put_in_its_place() {
        let mut part = Tree::new(Entry::directory(7101, 7200, 0o2770), Provenance::Source("a.survey".into()));
        let mut entry = Entry::file(7101, 7200, 0o640);
        entry.marks = Marks::IMMUTABLE;
        entry.line = 12;
        entry.size = Some(5);
        let file = part.add(Tree::ROOT, b"level", entry).unwrap();
        part.link(Tree::ROOT, b"other", file).unwrap();
        let alone = Tree::planted(None, b"/srv/tides", &part, "the host").unwrap();
        let file = alone.find(b"srv/tides/other").unwrap();
        assert_eq!(Some(file), alone.find(b"srv/tides/level"));
        assert!(alone.inode(file).marks.has(Marks::IMMUTABLE));
        assert_eq!((alone.place(file).to_string().as_str(), alone.size(file)), ("a.survey:12", Some(5)));
        assert!(matches!(
            alone.doubt(alone.find(b"srv").unwrap()).unwrap().owner,
            crate::tree::Certainty::Assumed(_)
        ));
        let dir = alone.find(b"srv/tides").unwrap();
        assert_eq!((alone.inode(dir).mode, alone.inode(dir).uid.raw()), (Mode::new(0o2770), 7101));
        assert!(!alone.is_unlisted(dir));

        let mut whole = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("host"));
        let srv = whole.add(Tree::ROOT, b"srv", Entry::directory(0, 0, 0o711)).unwrap();
        let tides = whole.add(srv, b"tides", Entry::directory(0, 0, 0o700)).unwrap();
        whole.add(tides, b"stale", Entry::file(0, 0, 0o600)).unwrap();
        let both = Tree::planted(Some(&whole), b"/srv/tides", &part, "the host").unwrap();
        assert_eq!(both.find(b"srv/tides/stale"), None);
        assert_eq!((both.len(), both.inode(both.find(b"srv").unwrap()).mode), (4, Mode::new(0o711)));
        assert_eq!(
            Tree::planted(Some(&both), b"/srv/tides/level", &part, "x").unwrap_err(),
            TreeError::NotDirectory
        );
    }

    #[test]
    fn a_copy_has_the_same_names_owners_and_hard_links() {
        let mut from = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("image"));
        let data = from.add(Tree::ROOT, b"data", Entry::directory(405, 1001, 0o2750)).unwrap();
        let mut kept = Entry::file(405, 50, 0o4755);
        kept.marks = Marks::IMMUTABLE;
        let file = from.add(data, b"a", kept).unwrap();
        from.link(data, b"b", file).unwrap();
        from.lower();
        let mut volume = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("volume"));
        let shift = |owner: DiskOwner| DiskOwner::new(owner.uid.raw() + 100_000, owner.gid.raw() + 100_000);
        volume.graft(Tree::ROOT, &from, data, &shift).unwrap();
        volume.take_after(Tree::ROOT, &from, data, &shift);
        let root = volume.inode(Tree::ROOT);
        assert_eq!((root.uid.raw(), root.gid.raw(), root.mode), (100_405, 101_001, Mode::new(0o2750)));
        let a = volume.find(b"a").unwrap();
        let b = volume.find(b"b").unwrap();
        assert_eq!(a, b);
        assert_eq!((volume.inode(a).gid.raw(), volume.inode(a).mode), (100_050, Mode::new(0o4755)));
        assert!(!volume.inode(a).marks.has(Marks::IMMUTABLE) && !volume.inode(a).marks.has(Marks::LOWER));
    }
}
