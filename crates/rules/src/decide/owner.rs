//! chown(2) and lchown(2) (`chown_common` in fs/open.c, `notify_change`, `chown_ok`, `chgrp_ok` in fs/attr.c).

use mivask_model::act::Owner;
use mivask_model::caps::Capability;
use mivask_model::ids::{DiskGid, DiskUid, InsideGid, InsideUid, KernelGid, KernelUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::outcome::{Errno, Verdict};
use mivask_model::personality::{Feature, Personality};
use mivask_model::tree::Inode;

use super::after::{After, acl_at, drops_set_group_id, left, unknown};
use super::attributes::owned;
use super::feature::supports;
use super::writable::{mapped, unlocked, writable_mount};
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
    let ids = &view.mount(place.mount).ids;
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
    if view.source(place).personality.locks_all() {
        unlocked(&mut walker, place, false)?;
    }
    let given = view.known_inode(place);
    let Some(inode) = given else {
        untold(&mut walker, place, owner)?;
        keeps(&mut walker, place, uid.flatten(), gid.flatten())?;
        return Ok(unknown());
    };
    gives(&mut walker, place, inode, wanted)?;
    let mode = mode_after(&mut walker, place, inode, wanted)?;
    if mode != inode.mode && view.source(place).personality.locks_all() {
        unlocked(&mut walker, place, true)?;
    }
    keeps(&mut walker, place, uid.flatten(), gid.flatten())?;
    let acl = acl_at(&walker, place);
    let shown = view.source(place).personality.shown();
    let (uid, gid) = match shown {
        Some(shown) => (shown.uid, shown.gid),
        None => (uid.flatten().unwrap_or(inode.uid), gid.flatten().unwrap_or(inode.gid)),
    };
    Ok(left(&mut walker, place, &After { uid, gid, mode, acl }))
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
    let view = walker.view();
    let Some(inode) = view.inode(place) else { return Ok(()) };
    let (uid, gid) = view.owner(place, inode);
    let lost = (wanted.uid.is_none() && uid.is_none()) || (wanted.gid.is_none() && gid.is_none());
    if lost { mapped(walker, place, Errno::EOVERFLOW) } else { Ok(()) }
}

/// `chown_ok` and `chgrp_ok`.
fn gives<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    inode: &Inode,
    wanted: Chown,
) -> Result<(), Errno> {
    let view = walker.view();
    let acting = walker.fs_credentials(place);
    let (uid, gid) = view.owner(place, inode);
    let chown = acting.capable_for(Capability::Chown, uid, gid);
    let mine = uid == Some(acting.uid);
    // An owner without mapping is changed by whoever has CHOWN where the superblock lives.
    let rescue = acting.capable(Capability::Chown);
    if let Some(new) = wanted.uid {
        let same = mine && uid == Some(new);
        let may = same || chown || (uid.is_none() && rescue);
        if !may {
            let fact = "giving a file to another user takes CHOWN";
            return Err(walker.fail(Check::GivingAway, fact, place, Errno::EPERM));
        }
    }
    if let Some(new) = wanted.gid {
        let own = mine && (gid == Some(new) || acting.in_group(new));
        let may = own || chown || (gid.is_none() && rescue);
        if !may {
            let fact = "giving a file to a group takes its owner, in that group, or CHOWN";
            return Err(walker.fail(Check::GivingAway, fact, place, Errno::EPERM));
        }
    }
    Ok(())
}

/// Set-id bits that go, on anything but directories; taking one away counts as a chmod.
fn mode_after<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    inode: &Inode,
    wanted: Chown,
) -> Result<Mode, Errno> {
    if inode.kind == FileKind::Directory {
        return Ok(inode.mode);
    }
    let view = walker.view();
    let acting = walker.fs_credentials(place);
    let (uid, gid) = view.owner(place, inode);
    let mut mode = inode.mode.without(Mode::SET_USER_ID);
    if drops_set_group_id(inode.mode, acting.keeps_set_group_id(gid, uid, gid)) {
        mode = mode.without(Mode::SET_GROUP_ID);
    }
    if mode == inode.mode {
        return Ok(mode);
    }
    owned(walker, place, "clearing set-id bits counts as a change of mode, which only the owner may make")?;
    if view.source(place).personality.clears_once() {
        return Ok(mode);
    }
    let group = wanted.gid.or(gid);
    Ok(if acting.keeps_set_group_id(group, uid, gid) { mode } else { mode.without(Mode::SET_GROUP_ID) })
}

/// Whether the file system keeps these ids at all.
fn keeps<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    uid: Option<DiskUid>,
    gid: Option<DiskGid>,
) -> Result<(), Errno> {
    let view = walker.view();
    if let Personality::Fat(fat) = &view.source(place).personality {
        let refused = |errno| walker.fail(Check::Feature, "this file system keeps no owners", place, errno);
        return fat.sets_owner(uid, gid).map_err(refused);
    }
    supports(walker, place, Feature::Owners)
}

/// Whether the actor may give away what has no known owner.
fn untold<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, owner: Owner) -> Result<(), Errno> {
    let view = walker.view();
    let acting = walker.fs_credentials(place);
    let anyones = acting.capable(Capability::Chown);
    if anyones && view.source(place).personality.is_local() {
        return Ok(());
    }
    if owner.uid.is_none() && owner.gid.is_none() {
        return Ok(());
    }
    let own_group = owner.gid.is_none_or(|gid| {
        let gid = view.who.namespace.to_kernel_gid(InsideGid::new(gid));
        gid.is_some_and(|gid| acting.in_group(gid))
    });
    let own_user =
        owner.uid.is_none_or(|uid| view.who.namespace.to_kernel_uid(InsideUid::new(uid)) == Some(acting.uid));
    if own_group && own_user && walker.owns(place) {
        return Ok(());
    }
    let fact = "giving a file away takes CHOWN, or its owner in that group";
    Err(walker.fail(Check::GivingAway, fact, place, Errno::EPERM))
}
