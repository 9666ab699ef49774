//! chmod(2), utimensat(2) (`notify_change`, `setattr_prepare` in fs/attr.c).

use mivask_model::ids::{DiskGid, DiskUid};
use mivask_model::mode::{Access, FileKind, Mode, ModeChange};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::{Feature, Personality};

use super::after::{After, acl_at, keeps_bit, left};
use super::feature::supports;
use super::writable::{mapped, unlocked, writable_mount};
use crate::confined::Permission;
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
    // Before the owner: file systems ask for that themselves, behind the hook (`notify_change`).
    walker.inode_has(place, Permission::Setattr)?;
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
    let mode = match (&view.source(place).facts.personality, wanted, before) {
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
    walker.inode_has(place, Permission::Write)?;
    Ok(Effect::default())
}

/// utimensat(2) to an explicit time: the owner alone.
pub(super) fn backdate<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    writable_mount(&mut walker, place)?;
    unlocked(&mut walker, place, true)?;
    mapped(&mut walker, place, Errno::EOVERFLOW)?;
    walker.inode_has(place, Permission::Setattr)?;
    if let Personality::Fat(fat) = &view.source(place).facts.personality {
        let shown = fat.shown();
        let acting = walker.fs_credentials(place);
        let group = view.mount(place.mount).facts.ids.to_kernel_gid(shown.gid);
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
    if let Some(decided) = walker.program_decides(place) {
        return decided;
    }
    if walker.owns(place) {
        walker.pass(Check::Owner, || (format!("{rule}, and {name} counts as it"), view.provenance(place)));
        return Ok(());
    }
    let so = walker.fs_credentials(place).squashed_from(view.who);
    Err(walker.fail(Check::Owner, format_args!("{rule}, and {name} is not it{so}"), place, Errno::EPERM))
}
