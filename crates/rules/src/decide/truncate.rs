//! truncate(2) (`vfs_truncate` in fs/open.c).

use mivask_model::mode::{Access, FileKind};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::tree::{Content, Marks};

use super::after::{After, Stripped, acl_at, left, stripped, unknown};
use super::writable::writable_mount;
use crate::confined::Permission;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::Witness;

/// Cuts a file to no bytes.
pub(super) fn shorten<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    if view.is(place, FileKind::Directory) {
        return Err(walker.fail(Check::Kind, "a directory has no length to set", place, Errno::EISDIR));
    }
    if view.is_not(place, FileKind::File) {
        return Err(walker.fail(Check::Kind, "only regular files have a length", place, Errno::EINVAL));
    }
    walker.permit(place, Access::WRITE)?;
    writable_mount(&mut walker, place)?;
    if view.has_marks(place, Marks::APPEND_ONLY) {
        let fact = "the append-only attribute is set: it takes writes at its end only";
        return Err(walker.fail(Check::AppendOnly, fact, place, Errno::EPERM));
    }
    // `inode_setattr` of a size, by path: writing and opening (`selinux_inode_setattr`).
    walker.inode_has(place, Permission::Write)?;
    walker.inode_has(place, Permission::Open)?;
    let content = place.inode.map(|id| view.source(place).tree.content(id));
    let skips = view.source(place).facts.personality.skips_empty();
    if content == Some(&Content::Empty) && skips {
        return Ok(Effect::default());
    }
    let effect = emptied(&mut walker, place);
    // Whether there is anything to cut is not known, and where there is not, nothing is stripped.
    let open =
        skips && effect.imprint.is_some() && content.is_none_or(|content| *content == Content::Unknown);
    Ok(if open { unknown() } else { effect })
}

/// What the first byte written to the file at `path` leaves of it, by whoever has it open: set-id bits may go
/// (`file_remove_privs`).
pub(super) fn written<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    if view.is_not(place, FileKind::File) {
        return Ok(Effect::default());
    }
    Ok(emptied(&mut walker, place))
}

/// What emptying a file leaves: set-id bits may go (`do_truncate`).
pub(super) fn emptied<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Effect {
    let mode = match stripped(walker, place) {
        Stripped::Nothing => return Effect::default(),
        Stripped::To(mode) => Some(mode),
        Stripped::Unknown => return unknown(),
    };
    let owner = walker.view().owner(place).and_then(|owner| owner.value());
    let (uid, gid) = (owner.map(|owner| owner.uid), owner.map(|owner| owner.gid));
    let acl = acl_at(walker, place);
    left(walker, place, &After { uid, gid, mode, acl })
}
