//! chmod(2), setting an ACL, utimensat(2) (`notify_change`, `setattr_prepare` in fs/attr.c, `vfs_set_acl`).

use mivask_model::acl::AclText;
use mivask_model::ids::{InsideGid, InsideUid};
use mivask_model::mode::{Access, FileKind, Mode, ModeChange};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::{Feature, Personality};

use super::after::{After, acl_at, left, unknown};
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
    let Some(inode) = view.known_inode(place) else {
        return Ok(unknown());
    };
    let wanted = change.applied_to(inode.mode, inode.kind == FileKind::Directory, view.who.umask);
    let mode = if let Personality::Fat(fat) = &view.source(place).personality {
        let directory = inode.kind == FileKind::Directory;
        fat.sets_mode(wanted, inode.mode, directory).map_err(|errno| {
            walker.fail(Check::Feature, "this file system keeps no set-id or sticky bits", place, errno)
        })?
    } else {
        kept(&mut walker, place, wanted)
    };
    let acl = acl_at(&walker, place).map(|acl| acl.chmod(mode));
    Ok(left(&mut walker, place, &After { uid: inode.uid, gid: inode.gid, mode, acl }))
}

/// `mode` without a set-group-id bit the actor may not give.
fn kept<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, mode: Mode) -> Mode {
    let view = walker.view();
    let acting = walker.fs_credentials(place);
    let owner = view.inode(place).map_or((None, None), |inode| view.owner(place, inode));
    if acting.keeps_set_group_id(owner.1, owner.0, owner.1) { mode } else { mode.without(Mode::SET_GROUP_ID) }
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
    let acl = text.over(
        view.mode(place),
        |uid| ids.to_disk_uid(namespace.to_kernel_uid(InsideUid::new(uid))?),
        |gid| ids.to_disk_gid(namespace.to_kernel_gid(InsideGid::new(gid))?),
    );
    let Some(acl) = acl else {
        let fact = "an id in the ACL cannot be expressed on this mount";
        return Err(walker.fail(Check::Unmapped, fact, place, Errno::EINVAL));
    };
    let Some(inode) = view.known_inode(place) else {
        return Ok(unknown());
    };
    let mode = kept(&mut walker, place, acl.applied_to(inode.mode));
    let acl = (!acl.is_minimal()).then_some(acl);
    Ok(left(&mut walker, place, &After { uid: inode.uid, gid: inode.gid, mode, acl }))
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
