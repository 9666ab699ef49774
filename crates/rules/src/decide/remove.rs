//! unlink(2) and rmdir(2) (`do_unlinkat`, `do_rmdir`, `may_delete` in fs/namei.c).

use mivask_model::caps::Capability;
use mivask_model::mode::{Access, Mode};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::Entry;
use mivask_model::tree::{Certainty, Marks};
use mivask_model::usual::UsualRule;

use super::feature::takes;
use super::writable::{assume_unlocked, mapped, writable_mount};
use crate::confined::Permission;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Arrival, Last, Slash, Target, Walker};
use crate::witness::{MissingFact, Witness};

/// Which of the two calls.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Removal {
    /// unlink: anything but a directory.
    File,
    /// rmdir: an empty directory.
    Directory,
}

/// Removes the last component; the victim's own mode never matters.
pub(super) fn remove<'a, W: Witness>(
    view: &'a View<'a>,
    removal: Removal,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let (directory, last) = walker.parent_of(path)?;
    let Last::Name(name, slash) = last else {
        let errno = match (removal, last) {
            (Removal::File, _) => Errno::EISDIR,
            (Removal::Directory, Last::DotDot) => Errno::ENOTEMPTY,
            (Removal::Directory, Last::Dot) => Errno::EINVAL,
            (Removal::Directory, Last::Root | Last::Name(..)) => Errno::EBUSY,
        };
        return Err(walker.fail(Check::Kind, "`/`, `.` and `..` cannot be removed", directory, errno));
    };
    writable_mount(&mut walker, directory)?;
    // The name itself, not what is mounted on it, is what goes.
    let target = walker.entry(directory, name)?;
    let Target::There(victim) = target else {
        return Err(walker.missing(&Arrival { directory, last, slashes: slash, target }));
    };
    if removal == Removal::File && slash == Slash::Trailing {
        let errno = if walker.is_directory(victim) { Errno::EISDIR } else { Errno::ENOTDIR };
        return Err(walker.fail(Check::Kind, "a slash follows the name", victim, errno));
    }
    remove_entry(&mut walker, removal, directory, victim)
}

/// The part of it that comes after the look-up.
pub(super) fn remove_entry<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    removal: Removal,
    directory: Place,
    victim: Place,
) -> Verdict {
    may_delete(walker, removal, directory, victim)?;
    let entry = match removal {
        Removal::File => Entry::Removed,
        Removal::Directory => Entry::DirectoryRemoved,
    };
    takes(walker, directory, entry)?;
    if walker.view().is_mount_point(victim) {
        return Err(walker.fail_mount(Check::MountPoint, "something is mounted there", victim, Errno::EBUSY));
    }
    let goes = match removal {
        Removal::File => Permission::Unlink,
        Removal::Directory => Permission::Rmdir,
    };
    walker.inode_name(directory, Permission::RemoveName, (victim, goes))?;
    if removal == Removal::Directory {
        is_empty(walker, victim, Errno::ENOTEMPTY)?;
    }
    Ok(Effect::default())
}

/// `may_delete`: mapped ids (EOVERFLOW), the directory's permission, append-only and sticky directories, the
/// victim's attributes, then its kind.
pub(super) fn may_delete<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    removal: Removal,
    directory: Place,
    victim: Place,
) -> Result<(), Errno> {
    let view = walker.view();
    mapped(walker, victim, Errno::EOVERFLOW)?;
    walker.permit_in(directory, Access::WRITE_EXECUTE)?;
    if view.has_marks(directory, Marks::APPEND_ONLY) {
        let fact = "the directory is append-only: entries can be added, not removed";
        return Err(walker.fail(Check::AppendOnly, fact, directory, Errno::EPERM));
    }
    sticky(walker, directory, victim)?;
    if view.has_marks(victim, Marks::APPEND_ONLY) {
        return Err(walker.fail(Check::AppendOnly, "the append-only attribute is set", victim, Errno::EPERM));
    }
    if view.has_marks(victim, Marks::IMMUTABLE) {
        return Err(walker.fail(Check::Immutable, "the immutable attribute is set", victim, Errno::EPERM));
    }
    assume_unlocked(walker, victim);
    match removal {
        Removal::Directory if view.inode(victim).is_some() && !walker.is_directory(victim) => {
            Err(walker.fail(Check::Kind, "not a directory", victim, Errno::ENOTDIR))
        }
        Removal::File if walker.is_directory(victim) => {
            Err(walker.fail(Check::Kind, "a directory: unlink does not remove it", victim, Errno::EISDIR))
        }
        Removal::File | Removal::Directory => Ok(()),
    }
}

/// In a sticky directory only the entry's owner, the directory's owner and FOWNER remove; FOWNER counts where
/// both owner and group of the entry are mapped (`__check_sticky`).
fn sticky<W: Witness>(walker: &mut Walker<'_, '_, W>, directory: Place, victim: Place) -> Result<(), Errno> {
    let view = walker.view();
    let acting = walker.fs_credentials(directory);
    if walker.asked(victim).is_surely_under(&acting, Capability::Fowner)
        || !walker.asked_in(directory).has(Mode::STICKY, "sticky")
        || walker.asked_in(directory).is_of(acting.uid)
        || walker.asked(victim).is_of(acting.uid)
        || walker.asked(victim).is_under(&acting, Capability::Fowner)
    {
        return Ok(());
    }
    let name = view.name;
    let so = acting.squashed_from(view.who);
    let owner = |place| view.owner(place).and_then(|owner| owner.value()).map(|owner| owner.uid);
    match (owner(directory), owner(victim)) {
        (Some(above), Some(entry)) => {
            let fact = format_args!(
                "the directory is sticky and {name} owns neither it ({above}) nor the entry ({entry}){so}"
            );
            Err(walker.fail(Check::Sticky, fact, victim, Errno::EPERM))
        }
        (_, _) => {
            let fact = format_args!("the directory is sticky and the entry is another user's{so}");
            Err(walker.fail(Check::Sticky, fact, victim, Errno::EPERM))
        }
    }
}

/// A directory without entries, as rmdir and rename over it need.
pub(super) fn is_empty<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    victim: Place,
    full: Errno,
) -> Result<(), Errno> {
    let view = walker.view();
    let Some(id) = victim.inode else {
        return Ok(());
    };
    let tree = &view.source(victim).tree;
    if tree.children(id).next().is_some() {
        return Err(walker.fail(Check::Empty, "the directory is not empty", victim, full));
    }
    match view.doubt(victim).map(|doubt| &doubt.contents) {
        None | Some(Certainty::Known) => Ok(()),
        Some(Certainty::Assumed(text)) => {
            walker.witness().assume(|| text.clone());
            Ok(())
        }
        Some(Certainty::Unknown(unknown)) => {
            let path = walker.path_text().into_owned();
            let describe = |option: usize| format!("{path} {}", ["is empty", "is not empty"][option]);
            let question = MissingFact::Content(victim.source, id);
            let new = unknown.usual.as_deref().filter(|usual| usual.rule == UsualRule::NewClaim);
            let usual = || new.map(|usual| (usual.clone(), 0));
            if walker.witness().choose_usually(question, unknown, 2, (usual, describe)) == 0 {
                return Ok(());
            }
            Err(walker.fail(Check::Empty, "the directory is not empty", victim, full))
        }
    }
}
