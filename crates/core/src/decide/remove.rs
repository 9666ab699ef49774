//! unlink(2) and rmdir(2) (`do_unlinkat`, `do_rmdir`, `may_delete` in fs/namei.c).

use super::writable::writable_mount;
use crate::caps::Capability;
use crate::mode::{Access, FileKind, Mode};
use crate::outcome::{Effect, Errno, Verdict};
use crate::trace::Check;
use crate::tree::{Certainty, Marks};
use crate::view::{Place, View};
use crate::walk::{Arrival, Last, Slash, Target, Walker};
use crate::witness::{Question, Witness};

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
    let target = walker.lookup(directory, name)?;
    let Target::There(victim) = target else {
        return Err(walker.missing(&Arrival { directory, last, slashes: slash, target }));
    };
    if removal == Removal::File && slash == Slash::Trailing {
        let errno = if view.is(victim, FileKind::Directory) { Errno::EISDIR } else { Errno::ENOTDIR };
        return Err(walker.fail(Check::Kind, "a slash follows the name", victim, errno));
    }
    // The name itself, not what is mounted on it, is what goes.
    let covered = victim.mount != directory.mount;
    let entry = if covered { under(view, directory, name) } else { victim };
    may_delete(&mut walker, removal, directory, entry)?;
    if covered {
        return Err(walker.fail_mount(Check::MountPoint, "something is mounted there", victim, Errno::EBUSY));
    }
    if removal == Removal::Directory {
        is_empty(&mut walker, victim)?;
    }
    Ok(Effect::default())
}

/// The entry below a mount.
fn under(view: &View<'_>, directory: Place, name: &[u8]) -> Place {
    let tree = &view.source(directory).tree;
    let inode = directory.inode.and_then(|dir| tree.lookup(dir, name));
    Place { inode, ..directory }
}

fn may_delete<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    removal: Removal,
    directory: Place,
    victim: Place,
) -> Result<(), Errno> {
    let view = walker.view();
    let unmapped = view.inode(victim).is_some_and(|inode| {
        let (uid, gid) = view.owner(victim, inode);
        uid.is_none() || gid.is_none()
    });
    if unmapped {
        return Err(walker.fail(
            Check::Unmapped,
            "its owner or group has no mapping on this mount",
            victim,
            Errno::EOVERFLOW,
        ));
    }
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
    match removal {
        Removal::Directory if view.is_not(victim, FileKind::Directory) => {
            Err(walker.fail(Check::Kind, "not a directory", victim, Errno::ENOTDIR))
        }
        Removal::File if view.is(victim, FileKind::Directory) => {
            Err(walker.fail(Check::Kind, "a directory: unlink does not remove it", victim, Errno::EISDIR))
        }
        Removal::File | Removal::Directory => Ok(()),
    }
}

/// In a sticky directory only the entry's owner, the directory's owner and FOWNER remove (`check_sticky`).
fn sticky<W: Witness>(walker: &mut Walker<'_, '_, W>, directory: Place, victim: Place) -> Result<(), Errno> {
    let view = walker.view();
    let Some(dir) = view.inode(directory) else {
        return Ok(());
    };
    if !dir.mode.has(Mode::STICKY) {
        return Ok(());
    }
    let who = view.who;
    let (dir_owner, _) = view.owner(directory, dir);
    let Some(inode) = view.inode(victim) else {
        return presumed_owner(walker, directory, dir_owner == Some(who.fsuid));
    };
    let (owner, _) = view.owner(victim, inode);
    let mine = owner == Some(who.fsuid) || dir_owner == Some(who.fsuid);
    if mine || who.capable_for_owner(Capability::Fowner, owner) {
        return Ok(());
    }
    let fact = format_args!(
        "the directory is sticky and {} owns neither it ({}) nor the entry ({})",
        view.name, dir.uid, inode.uid
    );
    Err(walker.fail(Check::Sticky, fact, victim, Errno::EPERM))
}

fn presumed_owner<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    owns_directory: bool,
) -> Result<(), Errno> {
    let view = walker.view();
    let native = view.source(directory).native == Certainty::Known;
    if owns_directory || (native && view.who.effective.has(Capability::Fowner)) {
        return Ok(());
    }
    let Some(id) = directory.inode else {
        return Ok(());
    };
    let unknown = view.unlisted(directory);
    let name = view.name;
    let describe = |option: usize| match option {
        0 => format!("{name} owns the entry"),
        _ => "somebody else owns the entry in a sticky directory".to_owned(),
    };
    if walker.witness().choose(Question::Owner(directory.source, id), &unknown, 2, describe) == 0 {
        return Ok(());
    }
    Err(walker.fail(
        Check::Sticky,
        "the directory is sticky and the entry is somebody else's",
        directory,
        Errno::EPERM,
    ))
}

fn is_empty<W: Witness>(walker: &mut Walker<'_, '_, W>, victim: Place) -> Result<(), Errno> {
    let view = walker.view();
    let Some(id) = victim.inode else {
        return Ok(());
    };
    let tree = &view.source(victim).tree;
    if tree.children(id).next().is_some() {
        return Err(walker.fail(Check::Empty, "the directory is not empty", victim, Errno::ENOTEMPTY));
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
            let question = Question::Content(victim.source, id);
            if walker.witness().choose(question, unknown, 2, describe) == 0 {
                return Ok(());
            }
            Err(walker.fail(Check::Empty, "the directory is not empty", victim, Errno::ENOTEMPTY))
        }
    }
}
