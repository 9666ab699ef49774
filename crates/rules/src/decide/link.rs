//! link(2) (`do_linkat`, `may_linkat`, `vfs_link` in fs/namei.c).

use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::Feature;

use super::create::free_name;
use super::feature::supports;
use super::writable::{mapped, may_create, unlocked};
use crate::confined::Permission;
use crate::imprint::NewKind;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::Witness;

/// Gives what is at `path` the further name `new`; a symbolic link at the end is followed as `follow` says.
pub(super) fn link<'a, W: Witness>(
    view: &'a View<'a>,
    (path, follow): (&'a [u8], Follow),
    new: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let old = walker.place(path, follow)?;
    let old_path = walker.restart();
    let directory = free_name(&mut walker, new, NewKind::File)?;
    if old.mount != directory.mount {
        let fact = "the two names are on different mounts (two mounts of one file system count too)";
        return Err(walker.fail_mount(Check::OneMount, fact, directory, Errno::EXDEV));
    }
    let new_path = walker.turn_to(old_path);
    may_link(&mut walker, old)?;
    let old_path = walker.turn_to(new_path);
    may_create(&mut walker, directory)?;
    let new_path = walker.turn_to(old_path);
    unlocked(&mut walker, old, true)?;
    supports(&mut walker, old, Feature::HardLinks)?;
    if view.is(old, FileKind::Directory) {
        let fact = "directories have one name only";
        return Err(walker.fail(Check::Kind, fact, old, Errno::EPERM));
    }
    // The path of the trace is the new one: its directory takes the name.
    walker.turn_to(new_path);
    walker.inode_name(directory, Permission::AddName, (old, Permission::Link))?;
    Ok(Effect::default())
}

/// Mapped ids (EOVERFLOW), then `fs.protected_hardlinks`: the owner links everything, others plain files they may
/// read and write.
fn may_link<W: Witness>(walker: &mut Walker<'_, '_, W>, old: Place) -> Result<(), Errno> {
    mapped(walker, old, Errno::EOVERFLOW)?;
    let view = walker.view();
    let given = view.settings().protected_hardlinks;
    let acting = walker.fs_credentials(old);
    if walker.asked(old).is_surely_owned(&acting)
        || view.setting("fs.protected_hardlinks", given, 1, walker.witness()) == 0
        || is_safe(walker, old)
        || walker.owns(old)
    {
        return Ok(());
    }
    let fact = "fs.protected_hardlinks: only its owner links a file that is special, set-id, or not both readable and writable";
    Err(walker.fail(Check::ProtectedHardlink, fact, old, Errno::EPERM))
}

/// `safe_hardlink_source`
fn is_safe<W: Witness>(walker: &mut Walker<'_, '_, W>, old: Place) -> bool {
    let view = walker.view();
    if view.is_not(old, FileKind::File) {
        return false;
    }
    if walker.asked(old).has(Mode::SET_USER_ID, "set-user-id")
        || walker.asked(old).has(Mode::new(0o2010), "set-group-id and runs for its group")
    {
        return false;
    }
    walker.permit(old, Access::READ_WRITE).is_ok()
}
