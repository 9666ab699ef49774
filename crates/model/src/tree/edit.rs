//! Single inodes changed in place, as carried-out acts and preparations change them.

use std::sync::Arc;

use super::{Certainty, Content, Doubt, Entry, Extended, InodeId, Marks, Tree, TreeError};
use crate::acl::Acl;
use crate::caps::FileCapabilities;
use crate::fact::Provenance;
use crate::ids::DiskOwner;
use crate::mode::{FileKind, Mode};

impl Tree {
    /// Takes the name `name` from `dir`, with everything below it. The inodes stay as orphans until the tree is
    /// [compacted](Self::compacted).
    pub fn forget(&mut self, dir: InodeId, name: &[u8]) {
        let inode = self.inode(dir);
        if inode.kind != FileKind::Directory {
            return;
        }
        let index = inode.extra as usize;
        let found = self.directories[index].children.binary_search_by(|child| self.name(*child).cmp(name));
        if let Ok(slot) = found {
            self.directories[index].children.remove(slot);
        }
    }

    /// Takes every name from `dir`.
    pub fn forget_all(&mut self, dir: InodeId) {
        let inode = self.inode(dir);
        if inode.kind == FileKind::Directory {
            let index = inode.extra as usize;
            self.directories[index].children.clear();
        }
    }

    /// Puts another file in the place of `id`, under every name it has.
    pub fn replace(&mut self, id: InodeId, entry: Entry) {
        let Ok(extra) = self.extra(&entry, id) else { return };
        let inode = &mut self.inodes[id.0 as usize];
        inode.uid = entry.uid;
        inode.gid = entry.gid;
        inode.mode = entry.mode;
        inode.kind = entry.kind;
        inode.extra = extra;
        inode.extended = 0;
        self.set_doubt(id, entry.doubt.unwrap_or_default());
        self.places.extend(entry.place.map(|place| (id, place)));
    }

    /// chown: of what is not a directory it takes the set-id bits and file capabilities (`chown_common`).
    pub fn chown(&mut self, id: InodeId, uid: u32, gid: u32, place: Provenance) {
        let inode = *self.inode(id);
        let mut mode = inode.mode;
        if inode.kind != FileKind::Directory {
            mode = mode.without(Mode::SET_USER_ID);
            if mode.has(Mode::new(0o010)) {
                mode = mode.without(Mode::SET_GROUP_ID);
            }
        }
        self.own(id, DiskOwner::new(uid, gid), mode, place);
        if inode.kind != FileKind::Directory {
            self.drop_capabilities(id);
        }
    }

    /// Gives `id` another mode, and its ACL the bits that chmod gives it.
    pub fn set_mode(&mut self, id: InodeId, mode: Mode, place: Provenance) {
        self.change_mode(id, mode);
        self.places.insert(id, place);
    }

    /// Gives `id` an access ACL and the mode that goes with it.
    pub fn set_access_acl(&mut self, id: InodeId, acl: Option<Acl>, mode: Mode, place: Provenance) {
        let access = acl.filter(|acl| !acl.is_minimal());
        let extended = self.extended(id).cloned().unwrap_or_default();
        let index = self.intern(Extended { access, ..extended }).unwrap_or(0);
        let inode = &mut self.inodes[id.0 as usize];
        inode.extended = index;
        inode.mode = mode;
        self.places.insert(id, place);
    }

    /// Takes what running `id` would add, as every change of its content or owner does
    /// (`security_inode_need_killpriv`).
    pub fn drop_capabilities(&mut self, id: InodeId) {
        let capable = self.extended(id).filter(|extended| extended.capabilities.is_some()).cloned();
        if let Some(extended) = capable {
            let index = self.intern(Extended { capabilities: None, ..extended }).unwrap_or(0);
            self.inodes[id.0 as usize].extended = index;
        }
    }

    /// Gives an inode another label; `None` where it is not known which. `since` says whether that is after an engine labelled
    /// what it mounts.
    pub fn set_label(&mut self, id: InodeId, label: Option<Arc<str>>, since: bool) {
        let extended = self.extended(id).cloned().unwrap_or_default();
        if let Ok(index) = self.intern(Extended { label, labelled_since: since, ..extended }) {
            self.inodes[id.0 as usize].extended = index;
        }
    }

    /// Gives each of two entries the other's name and place; nothing where one of them is not there.
    ///
    /// # Errors
    /// Either is not in a directory, or a table is full.
    pub fn exchange(
        &mut self,
        (dir, name): (InodeId, &[u8]),
        (to, new): (InodeId, &[u8]),
    ) -> Result<(), TreeError> {
        let (Some(one), Some(other)) = (self.lookup(dir, name), self.lookup(to, new)) else { return Ok(()) };
        if one == other {
            return Ok(());
        }
        self.forget(dir, name);
        self.forget(to, new);
        self.name_again(dir, name, other)?;
        self.name_again(to, new, one)?;
        self.adopt(other, dir);
        self.adopt(one, to);
        Ok(())
    }

    /// Makes `parent` what `..` of `id` is, if that is a directory.
    fn adopt(&mut self, id: InodeId, parent: InodeId) {
        let inode = self.inode(id);
        if inode.kind == FileKind::Directory {
            let index = inode.extra as usize;
            self.directories[index].parent = parent;
        }
    }

    /// Notes that what came from a lower layer is in the upper one too, as after every change of it (`ovl_copy_up`).
    pub fn copy_up(&mut self, id: InodeId) {
        let inode = &mut self.inodes[id.0 as usize];
        if inode.marks.has(Marks::LOWER) {
            inode.marks = inode.marks.with(Marks::MERGED);
        }
    }

    /// Gives the directory `id` a default ACL, or takes it away.
    pub fn set_default_acl(&mut self, id: InodeId, default: Option<Acl>) {
        let extended = self.extended(id).cloned().unwrap_or_default();
        let index = self.intern(Extended { default, ..extended }).unwrap_or(0);
        self.inodes[id.0 as usize].extended = index;
    }

    /// Gives `id` file capabilities, in place of those it has.
    pub fn set_capabilities(&mut self, id: InodeId, capabilities: FileCapabilities) {
        let before = self.extended(id).cloned().unwrap_or_default();
        let index = self.intern(Extended { capabilities: Some(capabilities), ..before }).unwrap_or(0);
        self.inodes[id.0 as usize].extended = index;
    }

    /// Gives the regular file `id` bytes, if it has none.
    pub fn fill(&mut self, id: InodeId) {
        let entry = Entry { content: Content::Data, ..Entry::new(FileKind::File, 0, 0, Mode::default()) };
        if self.inode(id).kind == FileKind::File
            && *self.content(id) == Content::Empty
            && let Ok(extra) = self.extra(&entry, id)
        {
            self.inodes[id.0 as usize].extra = extra;
        }
    }

    /// Gives the regular file `id` no bytes.
    pub fn empty(&mut self, id: InodeId) {
        let entry = Entry { content: Content::Empty, ..Entry::new(FileKind::File, 0, 0, Mode::default()) };
        if self.inode(id).kind == FileKind::File
            && let Ok(extra) = self.extra(&entry, id)
        {
            self.inodes[id.0 as usize].extra = extra;
            self.drop_capabilities(id);
        }
    }

    /// Moves the entry `name` of `from` to `new` in `to`, over what is there.
    ///
    /// # Errors
    /// Either is not a directory, or a table is full.
    pub fn move_entry(
        &mut self,
        (from, name): (InodeId, &[u8]),
        (to, new): (InodeId, &[u8]),
    ) -> Result<(), TreeError> {
        let Some(moved) = self.lookup(from, name) else { return Ok(()) };
        if self.lookup(to, new) == Some(moved) {
            return Ok(());
        }
        self.forget(from, name);
        self.forget(to, new);
        self.name_again(to, new, moved)?;
        self.adopt(moved, to);
        Ok(())
    }

    /// Says how sure owner and mode of `id` are.
    pub fn doubt_attributes(&mut self, id: InodeId, attributes: Certainty) {
        self.doubt_owner_and_mode(id, attributes.clone(), attributes);
    }

    /// Says how sure the owner of `id` is, and how sure its mode.
    pub fn doubt_owner_and_mode(&mut self, id: InodeId, owner: Certainty, mode: Certainty) {
        let before = self.doubt(id).cloned().unwrap_or_default();
        // Another owner is not the one that was named.
        let names = before.names.filter(|_| owner == before.owner);
        self.set_doubt(id, Doubt { owner, mode, names, contents: before.contents, kind: before.kind });
    }

    /// Says how sure it is that the entries of `id` are all.
    pub fn doubt_contents(&mut self, id: InodeId, contents: Certainty) {
        let before = self.doubt(id).cloned().unwrap_or_default();
        self.set_doubt(id, Doubt { contents, ..before });
    }

    /// Says what is not certain about `id`.
    pub fn set_doubt(&mut self, id: InodeId, doubt: Doubt) {
        let inode = &mut self.inodes[id.0 as usize];
        inode.marks = inode.marks.with(Marks::DOUBTED);
        self.doubts.insert(id, Box::new(doubt));
    }
}
