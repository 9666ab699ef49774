//! chmod(2), setting an ACL, utimensat(2) (`notify_change`, `setattr_prepare` in fs/attr.c, `vfs_set_acl`).

use mivask_model::acl::AclText;
use mivask_model::ids::{DiskGid, DiskUid, InsideGid, InsideUid};
use mivask_model::mode::{Access, FileKind, Mode, ModeChange};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::{Feature, Personality};

use super::after::{After, acl_at, keeps_bit, left, unknown};
use super::feature::supports;
use super::writable::{mapped, unlocked, writable_mount};
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::Witness;

/// chmod(2): owner or FOWNER; set-group-id is dropped for outsiders of the file's group without FSETID.
pub(super) fn set_mode<'a, W: Witness>(
    view: &'a View<'a>,
    change: &ModeChange,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    writable_mount(&mut walker, place)?;
    unlocked(&mut walker, place, true)?;
    mapped(&mut walker, place, Errno::EOVERFLOW)?;
    owned(&mut walker, place, "only the owner changes the mode")?;
    supports(&mut walker, place, Feature::Modes)?;
    let directory = view.is(place, FileKind::Directory);
    let before = walker.asked(place).mode();
    // An exact mode does not rest on the one before.
    let wanted = match (before, change) {
        (Some(before), _) => Some(change.applied_to(before, directory, view.who.umask)),
        (None, ModeChange::Exact(exact)) => Some(*exact),
        (None, ModeChange::Clauses(_)) => None,
    };
    let mode = match (&view.source(place).personality, wanted, before) {
        (Personality::Fat(fat), Some(wanted), Some(before)) => {
            let kept = fat.sets_mode(wanted, before, directory);
            Some(kept.map_err(|errno| {
                walker.fail(Check::Feature, "this file system keeps no set-id or sticky bits", place, errno)
            })?)
        }
        (Personality::Fat(_), _, _) => None,
        (_, Some(wanted), _) => Some(kept(&mut walker, place, wanted)),
        (_, None, _) => None,
    };
    let acl = acl_at(&walker, place).zip(mode).map(|(acl, mode)| acl.chmod(mode));
    let (uid, gid) = stored_ids(view, place);
    Ok(left(&mut walker, place, &After { uid, gid, mode, acl }))
}

/// `mode` without a set-group-id bit the actor may not give.
pub(super) fn kept<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, mode: Mode) -> Mode {
    let acting = walker.fs_credentials(place);
    if !mode.has(Mode::SET_GROUP_ID) || keeps_bit(walker, place, &acting) {
        mode
    } else {
        mode.without(Mode::SET_GROUP_ID)
    }
}

/// Owner and group as stored, as far as they are given.
pub(super) fn stored_ids(view: &View<'_>, place: Place) -> (Option<DiskUid>, Option<DiskGid>) {
    let owner = view.owner(place).and_then(|owner| owner.value());
    (owner.map(|owner| owner.uid), owner.map(|owner| owner.gid))
}

/// setxattr(2) of the access ACL: its ids must exist in the actor's namespace (EINVAL), then the inode may be
/// written to (EPERM), then the owner alone may, then the ids must be expressed on the mount (EINVAL).
pub(super) fn set_acl<'a, W: Witness>(
    view: &'a View<'a>,
    text: &AclText,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    writable_mount(&mut walker, place)?;
    let namespace = &view.who.namespace;
    let inside = text.all(
        |uid| namespace.to_kernel_uid(InsideUid::new(uid)).is_some(),
        |gid| namespace.to_kernel_gid(InsideGid::new(gid)).is_some(),
    );
    if !inside {
        let fact = "an id in the ACL has no mapping in the actor's user namespace";
        return Err(walker.fail(Check::Unmapped, fact, place, Errno::EINVAL));
    }
    unlocked(&mut walker, place, true)?;
    mapped(&mut walker, place, Errno::EPERM)?;
    supports(&mut walker, place, Feature::Acls)?;
    owned(&mut walker, place, "only the owner changes the ACL")?;
    let ids = &view.mount(place.mount).ids;
    let before = walker.asked(place).mode();
    let acl = text.over(
        before.unwrap_or_default(),
        |uid| ids.to_disk_uid(namespace.to_kernel_uid(InsideUid::new(uid))?),
        |gid| ids.to_disk_gid(namespace.to_kernel_gid(InsideGid::new(gid))?),
    );
    let Some(acl) = acl else {
        let fact = "an id in the ACL cannot be expressed on this mount";
        return Err(walker.fail(Check::Unmapped, fact, place, Errno::EINVAL));
    };
    // Entries that are left out come from the mode, so without one neither is known.
    let Some(before) = before else {
        return Ok(unknown());
    };
    let mode = Some(kept(&mut walker, place, acl.applied_to(before)));
    let acl = (!acl.is_minimal()).then_some(acl);
    let (uid, gid) = stored_ids(view, place);
    Ok(left(&mut walker, place, &After { uid, gid, mode, acl }))
}

/// utimensat(2) to now: the owner, or whoever may write.
pub(super) fn stamp<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    writable_mount(&mut walker, place)?;
    unlocked(&mut walker, place, false)?;
    if !walker.owns(place) {
        walker.permit(place, Access::WRITE)?;
    }
    mapped(&mut walker, place, Errno::EOVERFLOW)?;
    Ok(Effect::default())
}

/// utimensat(2) to an explicit time: the owner alone.
pub(super) fn backdate<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    writable_mount(&mut walker, place)?;
    unlocked(&mut walker, place, true)?;
    mapped(&mut walker, place, Errno::EOVERFLOW)?;
    if let Personality::Fat(fat) = &view.source(place).personality {
        let shown = fat.shown();
        let acting = walker.fs_credentials(place);
        let group = view.mount(place.mount).ids.to_kernel_gid(shown.gid);
        if fat.lets_set_times(group.is_some_and(|group| acting.in_group(group))) {
            return Ok(Effect::default());
        }
    }
    owned(&mut walker, place, "only the owner sets a time other than now")?;
    Ok(Effect::default())
}

/// The actor owns `place`, or FOWNER counts (`inode_owner_or_capable`).
///
/// # Errors
/// EPERM
pub(super) fn owned<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    rule: &str,
) -> Result<(), Errno> {
    let view = walker.view();
    let name = walker.view().name;
    if walker.owns(place) {
        walker.pass(Check::Owner, || (format!("{rule}, and {name} counts as it"), view.provenance(place)));
        return Ok(());
    }
    Err(walker.fail(Check::Owner, format_args!("{rule}, and {name} is not it"), place, Errno::EPERM))
}
