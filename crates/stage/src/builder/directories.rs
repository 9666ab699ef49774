//! `WORKDIR`, and directories that builders make.

use mivask_model::fact::Fact;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Entry, InodeId, Spot};

use super::ground::{BuildState, Number};
use crate::identity::Knowledge;
use crate::recipe::BuildStep;
use crate::runtime::{InSetGroupId, WorkingDirectory};

impl BuildState<'_> {
    /// `WORKDIR`: made at once as root's, or later by whoever needs it.
    pub(super) fn work_in(&mut self, path: &[u8], step: &BuildStep) {
        if path.is_empty() {
            if self.rules.refuses_empty_working_directory {
                self.fail(&step.words, "it names no directory", &step.from);
            }
            return;
        }
        let path = self.absolute(path);
        self.working_directory = Some(Fact::new(path, step.from.clone()));
        self.to_make = true;
        if self.rules.working_directory != WorkingDirectory::WhenNeeded {
            self.make_working_directory(step);
        }
    }

    /// Podman's builder makes the working directory with every copy, wherever that goes.
    pub(super) fn after_copy(&mut self, step: &BuildStep) {
        if self.to_make && self.rules.working_directory == WorkingDirectory::WhenNeeded {
            self.make_working_directory(step);
        }
    }

    /// Makes the working directory with its parents where it is missing.
    pub(super) fn make_working_directory(&mut self, step: &BuildStep) {
        self.to_make = false;
        let Some(path) = self.working_directory.clone() else { return };
        let named = matches!(&self.user, Knowledge::Known(Some(user)) if !user.value.is_empty());
        let owner = match self.rules.working_directory {
            WorkingDirectory::ForRoot => (Ok(0), Ok(0)),
            WorkingDirectory::ForUser | WorkingDirectory::WhenNeeded => self.maker(),
        };
        // Where nobody is named nothing is given away, so a group comes from the directory above.
        let given = named || self.rules.working_directory == WorkingDirectory::ForRoot;
        self.ensure(&path.value, (&owner, given), &path.from, step);
    }

    /// The build's user as the owner of a directory: without an account its group is its own number.
    fn maker(&mut self) -> (Number, Number) {
        let (uid, gid) = self.runner();
        if self.rules.working_directory == WorkingDirectory::ForUser && self.nobody() {
            return (Ok(0), Ok(0));
        }
        // A number is given away as it is written, its group with it (seen with BuildKit and Podman's builder).
        if let (Some(uid), Ok(_)) = (self.lone_number(), &uid) {
            return (Ok(uid), Ok(uid));
        }
        let lone = |uid: u32| self.login_group(uid).unwrap_or(Ok(uid));
        match (&uid, &gid) {
            // A USER without a group part runs with group 0, and yet its own primary group owns what it makes.
            (Ok(uid), Ok(0)) if *uid != 0 => (Ok(*uid), lone(*uid)),
            _ => (uid, gid),
        }
    }

    /// The directory at `path`, made with its parents for `owner`; `None` if nothing is known of what is there.
    pub(super) fn ensure(
        &mut self,
        path: &[u8],
        (owner, given): (&(Number, Number), bool),
        from: &mivask_model::fact::Provenance,
        step: &BuildStep,
    ) -> Option<InodeId> {
        let entry = self.entry(FileKind::Directory, owner, 0o755, from);
        match self.tree.resolve(path, true) {
            Spot::There(id) if self.tree.inode(id).kind == FileKind::Directory => Some(id),
            Spot::There(_) | Spot::Nowhere(_) => {
                self.fail(&step.words, "ENOTDIR", &step.from);
                None
            }
            Spot::Missing { dir, names } => Some(self.lay_directories(dir, &names, (entry, given))),
            Spot::Unlisted { dir, names } => {
                let entry = self.unlisted(entry, path);
                Some(self.lay_directories(dir, &names, (entry, given)))
            }
        }
    }

    /// Directories one in the other, as a builder makes them: `given` to the owner it wants, or left with the group of the directory
    /// above.
    fn lay_directories(&mut self, dir: InodeId, names: &[Vec<u8>], (entry, given): (Entry, bool)) -> InodeId {
        let mut here = dir;
        for name in names {
            let above = *self.tree.inode(here);
            let rule = self.rules.in_set_group_id;
            let inherits = rule != InSetGroupId::Nothing && above.stored_mode().has(Mode::SET_GROUP_ID);
            let bit = if inherits { Mode::SET_GROUP_ID } else { Mode::default() };
            let mut entry = Entry { mode: entry.mode.with(bit), ..entry.clone() };
            if inherits && rule == InSetGroupId::BitAndGroup && !given {
                entry.gid = above.stored_owner().gid;
            }
            here = self.tree.add(here, name, entry).unwrap_or(here);
        }
        here
    }
}
