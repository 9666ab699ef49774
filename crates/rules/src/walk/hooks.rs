//! The hooks, one method each, named after the kernel's (security/selinux/hooks.c).

use std::sync::Arc;

use mivask_label::Context;
use mivask_model::fact::Provenance;
use mivask_model::mode::{Access, FileKind};
use mivask_model::outcome::Errno;

use super::Walker;
use crate::confined::{Confined, Permission, class_of};
use crate::label::{
    At, Meant, Needed, keeps_labels, new_labels, of_filesystem, on_any, on_inode, permission,
};
use crate::permission::by_owner;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::witness::Witness;

/// The path of the directory that holds the last component.
fn above(path: &[u8]) -> &[u8] {
    &path[..path.iter().rposition(|byte| *byte == b'/').unwrap_or(0)]
}

impl<W: Witness> Walker<'_, '_, W> {
    /// Checks `access` on `place` by all but labels, which are checked after what is between them.
    ///
    /// # Errors
    /// The first check of one inode that fails: EROFS, EPERM or EACCES.
    pub(crate) fn permit_but_for_label(&mut self, place: Place, access: Access) -> Result<(), Errno> {
        by_owner(self.view, place, access, &self.path, self.w)
    }

    /// `needed` on the inode at `place`, which the current path names.
    fn labelled(&mut self, place: Place, wanted: Access, needed: &[Permission]) -> Result<(), Errno> {
        let view: &View<'_> = self.view();
        let path = self.path().to_vec();
        on_inode(view, place, wanted, Needed::of(needed), &path, self.witness())
    }

    /// `needed` on the directory that holds the last component.
    fn labelled_in(&mut self, directory: Place, needed: &[Permission]) -> Result<(), Errno> {
        let view: &View<'_> = self.view();
        let path = above(self.path()).to_vec();
        on_inode(view, directory, Access::EXECUTE, Needed::of(needed), &path, self.witness())
    }

    /// `inode_permission` for what is opened: at the end only where `appending`.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn label_permits(
        &mut self,
        place: Place,
        access: Access,
        appending: bool,
    ) -> Result<(), Errno> {
        let view: &View<'_> = self.view();
        let path = self.path().to_vec();
        permission(view, place, (access, appending), &path, self.witness())
    }

    /// `file_open`: `open`, and what the open is for once more, which `inode_permission` has found permitted just before.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn file_open(&mut self, place: Place) -> Result<(), Errno> {
        self.inode_has(place, Permission::Open)
    }

    /// The same for a program, which is opened for reading, too (`do_open_execat`).
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn program_open(&mut self, place: Place) -> Result<(), Errno> {
        if self.view().confined.is_none() {
            return Ok(());
        }
        self.labelled(place, Access::READ, &[Permission::Open, Permission::Read])
    }

    /// `inode_create`, `inode_mkdir`, `inode_mknod` and `inode_symlink`: the directory takes a name, the new label may be
    /// made, and the file system takes it (`may_create`). `name` says whether the last component is the new name.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn inode_create(
        &mut self,
        directory: Place,
        kind: FileKind,
        name: Named,
    ) -> Result<(), Errno> {
        let view: &View<'_> = self.view();
        let Some(confined) = view.confined.filter(|_| !W::ALL_SEEING) else { return Ok(()) };
        let needed = [Permission::AddName, Permission::Search];
        match name {
            Named::Last => self.labelled_in(directory, &needed)?,
            Named::Nothing => self.labelled(directory, Access::EXECUTE, &needed)?,
        }
        let path = self.path().to_vec();
        let labels = new_labels(view, directory, (kind, name.of(self.name)), Meant::Judged);
        let at = At { path: &path, from: || Provenance::rule("the label of a new inode") };
        let made = pairs(labels.as_deref(), |label| (confined.process(), label));
        let create = (class_of(kind), Needed::of(&[Permission::Create]));
        let to = (confined, directory);
        on_any(view, to, made, create, &at, self.witness())?;
        let filesystem = of_filesystem(view, confined, directory, self.witness());
        let at = At { path: &path, from: || Provenance::rule("the label of the file system") };
        let kept = pairs(labels.as_deref(), |label| (label, &filesystem));
        on_any(view, to, kept, ("filesystem", Needed::of(&[Permission::Associate])), &at, self.witness())
    }

    /// The label of the new inode of `kind` in `directory`, in words.
    pub(crate) fn label_of_new(
        &mut self,
        directory: Place,
        kind: FileKind,
        name: Named,
    ) -> Option<(String, Arc<str>)> {
        let view: &View<'_> = self.view();
        let confined = view.confined?;
        let labels = new_labels(view, directory, (kind, name.of(self.name)), Meant::Had)?;
        match labels.as_slice() {
            [only] => only.as_ref().map(|label| (confined.text(label), confined.policy().text(label).into())),
            _ => None,
        }
    }

    /// Whether what is made in `directory` keeps a label of its own.
    pub(crate) fn keeps_labels(&mut self, directory: Place) -> bool {
        let view: &View<'_> = self.view();
        view.confined.is_some_and(|confined| keeps_labels(view, confined, directory))
    }

    /// The new file of `inode_create` is opened, too.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn new_file_open(
        &mut self,
        directory: Place,
        access: Access,
        appending: bool,
    ) -> Result<(), Errno> {
        let view: &View<'_> = self.view();
        let Some(confined) = view.confined.filter(|_| !W::ALL_SEEING) else { return Ok(()) };
        let path = self.path().to_vec();
        let labels = new_labels(view, directory, (FileKind::File, self.name), Meant::Had);
        let at = At { path: &path, from: || Provenance::rule("the label of a new inode") };
        let read = pairs(labels.as_deref(), |label| (confined.process(), label));
        let needed = opened(access, appending);
        on_any(view, (confined, directory), read, ("file", needed), &at, self.witness())
    }

    /// `inode_link`, `inode_unlink` and `inode_rmdir` (`may_link`): a name of `directory` and the inode it is of.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn inode_name(
        &mut self,
        directory: Place,
        of_directory: Permission,
        (inode, of_inode): (Place, Permission),
    ) -> Result<(), Errno> {
        if self.view().confined.is_none() {
            return Ok(());
        }
        self.labelled_in(directory, &[Permission::Search, of_directory])?;
        let wanted = if of_inode == Permission::Rmdir { Access::EXECUTE } else { Access::READ };
        self.labelled(inode, wanted, &[of_inode])
    }

    /// `inode_rename` (`may_rename`), the old side: the directory loses a name, the inode changes it, a directory that moves
    /// its parent.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn inode_rename_from(
        &mut self,
        from: Place,
        moved: Place,
        reparented: bool,
    ) -> Result<(), Errno> {
        if self.view().confined.is_none() {
            return Ok(());
        }
        let kind = if self.is_directory(moved) { Access::EXECUTE } else { Access::READ };
        self.labelled_in(from, &[Permission::RemoveName, Permission::Search])?;
        self.labelled(moved, kind, &[Permission::Rename])?;
        if reparented {
            self.labelled(moved, Access::EXECUTE, &[Permission::Reparent])?;
        }
        Ok(())
    }

    /// The new side: the directory takes a name, and what had it goes.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn inode_rename_to(&mut self, to: Place, replaced: Option<Place>) -> Result<(), Errno> {
        if self.view().confined.is_none() {
            return Ok(());
        }
        let adds = [Permission::AddName, Permission::Search, Permission::RemoveName];
        self.labelled_in(to, if replaced.is_some() { &adds } else { &adds[..2] })?;
        let Some(replaced) = replaced else { return Ok(()) };
        let directory = self.is_directory(replaced);
        let (goes, kind) =
            if directory { (Permission::Rmdir, Access::EXECUTE) } else { (Permission::Unlink, Access::READ) };
        self.labelled(replaced, kind, &[goes])
    }

    /// `inode_getattr`, `inode_setattr`, `inode_setxattr`, `inode_getxattr`, `inode_readlink` and `inode_follow_link`: one
    /// permission of the inode at `place`.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn inode_has(&mut self, place: Place, permission: Permission) -> Result<(), Errno> {
        if self.view().confined.is_none() {
            return Ok(());
        }
        self.labelled(place, Access::READ, &[permission])
    }

    pub(super) fn new_label_is_invalid(&mut self, directory: Place) -> Result<(), Errno> {
        if self.view().confined.is_none_or(Confined::is_permissive) {
            return Ok(());
        }
        let fact = "the policy does not let the parts of the new label go together";
        Err(self.fail(Check::Label, fact, directory, Errno::EACCES))
    }
}

/// Whether the last component of the walk is the name of what is made.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Named {
    /// It is.
    Last,
    /// Nothing says the name: rules for single names do not count.
    Nothing,
}

impl Named {
    fn of(self, name: Option<&[u8]>) -> Option<&[u8]> {
        if self == Self::Last { name } else { None }
    }
}

/// The permissions of an open (`open_file_to_av`).
fn opened(access: Access, appending: bool) -> Needed {
    let mut needed = Needed::of(&[Permission::Open]);
    if access.grants(Access::READ) {
        needed.add(Permission::Read);
    }
    if access.writes() {
        needed.add(if appending { Permission::Append } else { Permission::Write });
    }
    needed
}

/// Each of `labels` with what it is held against.
fn pairs<'c>(
    labels: Option<&'c [Option<Context>]>,
    with: impl Fn(&'c Context) -> (&'c Context, &'c Context),
) -> Option<Vec<Option<(&'c Context, &'c Context)>>> {
    labels.map(|all| all.iter().map(|label| label.as_ref().map(&with)).collect())
}
