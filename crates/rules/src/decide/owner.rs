//! chown(2) and lchown(2) (`chown_common` in fs/open.c, `notify_change`, `chown_ok`, `chgrp_ok` in fs/attr.c).

use mivask_model::act::Owner;
use mivask_model::caps::Capability;
use mivask_model::ids::{DiskGid, DiskUid, InsideGid, InsideUid, KernelGid, KernelUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::outcome::{Errno, Verdict};
use mivask_model::personality::{Feature, Personality};

use super::after::{After, acl_at, keeps_bit, left};
use super::attributes::owned;
use super::feature::supports;
use super::writable::{unlocked, writable_mount};
use crate::confined::Permission;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::Witness;

/// The ids asked for, as the kernel compares them.
#[derive(Clone, Copy)]
struct Chown {
    uid: Option<KernelUid>,
    gid: Option<KernelGid>,
}

/// Gives what is at `path` to another owner, group or both.
pub(super) fn set_owner<'a, W: Witness>(
    view: &'a View<'a>,
    owner: Owner,
    path: &'a [u8],
    follow: Follow,
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, follow)?;
    writable_mount(&mut walker, place)?;
    let wanted = inside(&mut walker, place, owner)?;
    if owner != Owner::default() {
        unlocked(&mut walker, place, true)?;
    }
    let ids = &view.mount(place.mount).facts.ids;
    let uid = wanted.uid.map(|uid| ids.to_disk_uid(uid));
    let gid = wanted.gid.map(|gid| ids.to_disk_gid(gid));
    if uid == Some(None) || gid == Some(None) {
        let fact = "the id cannot be expressed on this mount";
        return Err(walker.fail(Check::Unmapped, fact, place, Errno::EOVERFLOW));
    }
    if uid.is_none() || gid.is_none() {
        still_mapped(&mut walker, place, wanted)?;
    }
    // A chown that names no id passes by that check; some file systems make it once more for themselves.
    if view.source(place).facts.personality.locks_all() {
        unlocked(&mut walker, place, false)?;
    }
    // Before who may give it away: file systems ask for that themselves, behind the hook (`notify_change`).
    if owner != Owner::default() {
        walker.inode_has(place, Permission::Setattr)?;
    }
    gives(&mut walker, place, wanted)?;
    let mode = mode_after(&mut walker, place, wanted)?;
    if mode.changes && view.source(place).facts.personality.locks_all() {
        unlocked(&mut walker, place, true)?;
    }
    keeps(&mut walker, place, uid.flatten(), gid.flatten())?;
    let acl = acl_at(&walker, place);
    let (uid, gid) = match view.source(place).facts.personality.shown() {
        Some(shown) => (Some(shown.uid), Some(shown.gid)),
        None => {
            let before = view.owner(place).and_then(|owner| owner.value());
            let uid = uid.flatten().or(before.map(|owner| owner.uid));
            let gid = gid.flatten().or(before.map(|owner| owner.gid));
            (uid, gid)
        }
    };
    Ok(left(&mut walker, place, &After { uid, gid, mode: mode.bits, acl }))
}

/// The actor's ids in the kernel's; an id outside its map is EINVAL (`make_kuid`).
fn inside<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, owner: Owner) -> Result<Chown, Errno> {
    let namespace = &walker.view().who.namespace;
    let uid = owner.uid.map(|uid| namespace.to_kernel_uid(InsideUid::new(uid)));
    let gid = owner.gid.map(|gid| namespace.to_kernel_gid(InsideGid::new(gid)));
    if uid == Some(None) || gid == Some(None) {
        let fact = "the id has no mapping in the actor's user namespace";
        return Err(walker.fail(Check::Unmapped, fact, place, Errno::EINVAL));
    }
    Ok(Chown { uid: uid.flatten(), gid: gid.flatten() })
}

/// What is not replaced must be mapped, or could not be written back (`notify_change`).
fn still_mapped<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    wanted: Chown,
) -> Result<(), Errno> {
    let lost = walker.asked(place).lost();
    if !(wanted.uid.is_none() && lost.owner || wanted.gid.is_none() && lost.group) {
        return Ok(());
    }
    let fact = "its owner or group has no mapping on this mount";
    Err(walker.fail(Check::Unmapped, fact, place, Errno::EOVERFLOW))
}

/// `chown_ok` and `chgrp_ok`.
fn gives<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, wanted: Chown) -> Result<(), Errno> {
    if let Some(decided) = walker.program_decides(place) {
        return decided;
    }
    let acting = walker.fs_credentials(place);
    if walker.asked(place).is_surely_under(&acting, Capability::Chown) {
        return Ok(());
    }
    // An id without a mapping is replaced by whoever has CHOWN where the superblock lives; the other one is not.
    let everywhere = acting.capable(Capability::Chown) && walker.asked(place).is_native();
    if let Some(new) = wanted.uid {
        let may = acting.uid.is(new) && walker.asked(place).is_of(acting.uid)
            || walker.asked(place).is_under(&acting, Capability::Chown)
            || everywhere && walker.asked(place).lost().owner;
        if !may {
            let so = acting.squashed_from(walker.view().who);
            let fact = format_args!("giving a file to another user takes CHOWN{so}");
            return Err(walker.fail(Check::GivingAway, fact, place, Errno::EPERM));
        }
    }
    if let Some(new) = wanted.gid {
        let takes = acting.in_group(new) || walker.asked(place).is_of_group(new);
        let may = takes && walker.asked(place).is_of(acting.uid)
            || walker.asked(place).is_under(&acting, Capability::Chown)
            || everywhere && walker.asked(place).lost().group;
        if !may {
            let so = acting.squashed_from(walker.view().who);
            let fact = format_args!("giving a file to a group takes its owner, in that group, or CHOWN{so}");
            return Err(walker.fail(Check::GivingAway, fact, place, Errno::EPERM));
        }
    }
    Ok(())
}

/// What a chown makes of the mode.
struct ModeAfter {
    /// The bits that are left; `None` where they are not known.
    bits: Option<Mode>,
    /// Whether that is another mode, which counts as a chmod.
    changes: bool,
}

/// Set-id bits that go, on anything but directories; taking one away counts as a chmod.
fn mode_after<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    wanted: Chown,
) -> Result<ModeAfter, Errno> {
    let view = walker.view();
    let before = walker.asked(place).mode();
    if view.is(place, FileKind::Directory) {
        return Ok(ModeAfter { bits: before, changes: false });
    }
    let acting = walker.fs_credentials(place);
    // Nothing stops the owner, and what is left is not known either way.
    if before.is_none()
        && !view.source(place).facts.personality.locks_all()
        && walker.asked(place).is_surely_owned(&acting)
    {
        return Ok(ModeAfter { bits: None, changes: false });
    }
    let mut bits = before.map(|mode| mode.without(Mode::SET_USER_ID));
    let mut changes = walker.asked(place).has(Mode::SET_USER_ID, "set-user-id");
    if walker.asked(place).has(Mode::SET_GROUP_ID, "set-group-id")
        && (walker.asked(place).has(Mode::new(0o010), "runnable for its group")
            || !keeps_bit(walker, place, &acting))
    {
        bits = bits.map(|mode| mode.without(Mode::SET_GROUP_ID));
        changes = true;
    }
    if !changes {
        return Ok(ModeAfter { bits, changes });
    }
    owned(walker, place, "clearing set-id bits counts as a change of mode, which only the owner may make")?;
    if view.source(place).facts.personality.clears_once() {
        return Ok(ModeAfter { bits, changes });
    }
    let stays = match wanted.gid {
        Some(gid) => acting.in_group(gid) || walker.asked(place).is_under(&acting, Capability::Fsetid),
        None => keeps_bit(walker, place, &acting),
    };
    let bits = if stays { bits } else { bits.map(|mode| mode.without(Mode::SET_GROUP_ID)) };
    Ok(ModeAfter { bits, changes })
}

/// Whether the file system keeps these ids at all.
fn keeps<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    uid: Option<DiskUid>,
    gid: Option<DiskGid>,
) -> Result<(), Errno> {
    let view = walker.view();
    if let Personality::Fat(fat) = &view.source(place).facts.personality {
        let refused = |errno| walker.fail(Check::Feature, "this file system keeps no owners", place, errno);
        return fat.sets_owner(uid, gid).map_err(refused);
    }
    supports(walker, place, Feature::Owners)
}
