//! rename(2) (`do_renameat2`, `vfs_rename` in fs/namei.c).

use mivask_model::mode::{Access, FileKind};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::{Entry, Personality};
use mivask_model::tree::Marks;

use super::feature::{nameable, refusal, takes};
use super::remove::{Removal, is_empty, may_delete};
use super::writable::{may_create, writable_mount};
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Arrival, Last, Slash, Target, Walker};
use crate::witness::Witness;

/// What becomes of something that is at the new name.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Rename {
    /// It is replaced.
    Over,
    /// It is left, and nothing is renamed (RENAME_NOREPLACE).
    New,
    /// It gets the old name (RENAME_EXCHANGE).
    Exchange,
}

/// What is moved from where to where.
struct Move {
    how: Rename,
    from: Side,
    to: Side,
    moved: Place,
    /// Whether that is a directory.
    directory: bool,
}

/// One side: the directory, the entry, and the path for the trace.
struct Side {
    directory: Place,
    target: Target,
    slashes: Slash,
    path: Vec<u8>,
}

/// Moves the entry at `path` to `new`; links at the end are not followed.
pub(super) fn rename<'a, W: Witness>(
    view: &'a View<'a>,
    how: Rename,
    path: &'a [u8],
    new: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let (old_directory, old_last) = walker.parent_of(path)?;
    let old_path = walker.restart();
    let (new_directory, new_last) = walker.parent_of(new)?;
    if old_directory.mount != new_directory.mount {
        let fact = "the two names are on different mounts (two mounts of one file system count too): tools copy instead";
        return Err(walker.fail_mount(Check::OneMount, fact, new_directory, Errno::EXDEV));
    }
    let (Last::Name(old_name, _), Last::Name(new_name, _)) = (old_last, new_last) else {
        let is_there = how == Rename::New && matches!(old_last, Last::Name(..));
        let errno = if is_there { Errno::EEXIST } else { Errno::EBUSY };
        return Err(walker.fail(Check::Kind, "`/`, `.` and `..` keep their names", new_directory, errno));
    };
    writable_mount(&mut walker, old_directory)?;
    let new_path = walker.turn_to(old_path);
    let from = side(&mut walker, old_directory, old_last, old_name)?;
    let Target::There(moved) = from.target else {
        let slashes = from.slashes;
        return Err(walker.missing(&Arrival {
            directory: old_directory,
            last: old_last,
            slashes,
            target: from.target,
        }));
    };
    walker.turn_to(new_path);
    let to = side(&mut walker, new_directory, new_last, new_name)?;
    if let Target::Missing = to.target {
        nameable(&mut walker, new_directory)?;
    }
    let directory = walker.is_directory(moved);
    let plan = Move { how, from, to, moved, directory };
    new_name_fits(&mut walker, &plan, new_directory)?;
    slashes_and_ancestors(&mut walker, &plan)?;
    if let Target::There(replaced) = plan.to.target
        && replaced == moved
        && moved.inode.is_some()
    {
        walker.pass(Check::Kind, || {
            ("both names are the same file: nothing to do".to_owned(), view.provenance(moved))
        });
        return Ok(Effect::default());
    }
    both_directories(&mut walker, &plan)?;
    moves(&mut walker, &plan)
}

fn side<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    last: Last<'_>,
    name: &[u8],
) -> Result<Side, Errno> {
    let target = walker.entry(directory, name)?;
    let slashes = if let Last::Name(_, slashes) = last { slashes } else { Slash::Absent };
    Ok(Side { directory, target, slashes, path: walker.path().to_vec() })
}

/// What the flags of renameat2(2) ask of the new name: that nothing is there, or that something is.
fn new_name_fits<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    plan: &Move,
    new_directory: Place,
) -> Result<(), Errno> {
    match (plan.how, plan.to.target) {
        (Rename::New, Target::There(place)) => {
            Err(walker.fail(Check::Kind, "something of that name is there already", place, Errno::EEXIST))
        }
        (Rename::Exchange, Target::Missing) => {
            Err(walker.fail(Check::Lookup, "no such entry", new_directory, Errno::ENOENT))
        }
        (Rename::Exchange, Target::There(place)) => {
            let slashes = plan.to.slashes == Slash::Trailing;
            if slashes && walker.view().inode(place).is_some() && !walker.is_directory(place) {
                let fact = "a slash follows the name of a non-directory";
                return Err(walker.fail(Check::Kind, fact, place, Errno::ENOTDIR));
            }
            Ok(())
        }
        (Rename::Over | Rename::New, _) => Ok(()),
    }
}

/// Whether the filesystem knows the flags at all (`vfs_rename` leaves that to it).
fn knows_flags<W: Witness>(walker: &mut Walker<'_, '_, W>, plan: &Move) -> Result<(), Errno> {
    if plan.how == Rename::Over {
        return Ok(());
    }
    let place = plan.from.directory;
    let source = walker.view().source(place);
    let support = source.facts.personality.renames_so(plan.how == Rename::Exchange);
    let Some(errno) = refusal(walker, place, support, Errno::EINVAL) else { return Ok(()) };
    let kind = source.facts.filesystem.as_deref().unwrap_or("this file system");
    Err(walker.fail(Check::Feature, format_args!("{kind} does not rename so"), place, errno))
}

/// Slashes behind the name of a non-directory (ENOTDIR), a directory moved into itself (EINVAL) or onto one it
/// is in (ENOTEMPTY).
fn slashes_and_ancestors<W: Witness>(walker: &mut Walker<'_, '_, W>, plan: &Move) -> Result<(), Errno> {
    let Move { how, from, to, moved, directory } = plan;
    let moved = *moved;
    let directory = *directory;
    let view = walker.view();
    let exchange = *how == Rename::Exchange;
    let slashes = from.slashes == Slash::Trailing || !exchange && to.slashes == Slash::Trailing;
    if view.inode(moved).is_some() && !directory && slashes {
        let fact = "a slash follows the name of a non-directory";
        return Err(walker.fail(Check::Kind, fact, moved, Errno::ENOTDIR));
    }
    let tree = &view.source(moved).tree;
    let within = |inner: Place, outer: Place| match (inner.inode, outer.inode) {
        (Some(inner), Some(outer)) => tree.is_within(inner, outer),
        _ => false,
    };
    if directory && within(to.directory, moved) {
        let fact = "a directory cannot be moved into itself";
        return Err(walker.fail(Check::Kind, fact, moved, Errno::EINVAL));
    }
    if let Target::There(replaced) = to.target
        && view.is(replaced, FileKind::Directory)
        && within(from.directory, replaced)
    {
        let fact = "the directory to replace holds what is moved";
        let errno = if exchange { Errno::EINVAL } else { Errno::ENOTEMPTY };
        return Err(walker.fail(Check::Empty, fact, replaced, errno));
    }
    Ok(())
}

/// What both directories ask: removing here, creating or replacing there.
fn both_directories<W: Witness>(walker: &mut Walker<'_, '_, W>, plan: &Move) -> Result<(), Errno> {
    let Move { how, from, to, moved, directory } = plan;
    let moved = *moved;
    let directory = *directory;
    let removal = if directory { Removal::Directory } else { Removal::File };
    let new_path = walker.turn_to(from.path.clone());
    may_delete(walker, removal, from.directory, moved)?;
    walker.turn_to(new_path);
    match to.target {
        Target::Missing => may_create(walker, to.directory),
        Target::There(replaced) => {
            let own = *how == Rename::Exchange && !walker.is_directory(replaced);
            let removal = match (*how, own) {
                (Rename::Over | Rename::New, _) => removal,
                (Rename::Exchange, true) => Removal::File,
                (Rename::Exchange, false) => Removal::Directory,
            };
            may_delete(walker, removal, to.directory, replaced)
        }
    }?;
    takes(walker, from.directory, Entry::Renamed)?;
    // Its `..` changes, so a directory itself is written to.
    if directory && from.directory.inode != to.directory.inode {
        let new_path = walker.turn_to(from.path.clone());
        walker.permit(moved, Access::WRITE)?;
        walker.turn_to(new_path);
    }
    if let (Rename::Exchange, Target::There(other)) = (*how, to.target)
        && walker.is_directory(other)
        && from.directory.inode != to.directory.inode
    {
        walker.permit(other, Access::WRITE)?;
    }
    Ok(())
}

/// The hook `inode_rename`, which an exchange asks for both ways, the other way first (`security_inode_rename`).
fn labels<W: Witness>(walker: &mut Walker<'_, '_, W>, plan: &Move) -> Result<(), Errno> {
    let Move { how, from, to, moved, directory } = plan;
    let replaced = if let Target::There(replaced) = to.target { Some(replaced) } else { None };
    let apart = from.directory.inode != to.directory.inode;
    let kept = walker.turn_to(to.path.clone());
    if let (Rename::Exchange, Some(other)) = (*how, replaced) {
        let reparented = apart && walker.is_directory(other);
        walker.inode_rename_from(to.directory, other, reparented)?;
        walker.turn_to(from.path.clone());
        walker.inode_rename_to(from.directory, Some(*moved))?;
    }
    walker.turn_to(from.path.clone());
    walker.inode_rename_from(from.directory, *moved, apart && *directory)?;
    walker.turn_to(to.path.clone());
    walker.inode_rename_to(to.directory, replaced)?;
    walker.turn_to(kept);
    Ok(())
}

/// What the filesystem says when everything is permitted.
fn moves<W: Witness>(walker: &mut Walker<'_, '_, W>, plan: &Move) -> Verdict {
    let Move { how, from, to, moved, directory } = plan;
    let moved = *moved;
    let directory = *directory;
    let view = walker.view();
    let replaced = if let Target::There(replaced) = to.target { Some(replaced) } else { None };
    labels(walker, plan)?;
    let busy = "something is mounted there";
    if let Some(replaced) = replaced.filter(|place| view.is_mount_point(*place)) {
        return Err(walker.fail_mount(Check::MountPoint, busy, replaced, Errno::EBUSY));
    }
    let new_path = walker.turn_to(from.path.clone());
    if view.is_mount_point(moved) {
        return Err(walker.fail_mount(Check::MountPoint, busy, moved, Errno::EBUSY));
    }
    let layered = view.source(moved).facts.personality == Personality::Overlay;
    if directory && layered && view.has_marks(moved, Marks::LOWER) {
        walker.assume(|_| "overlay mounts are made without redirect_dir, as runtimes do".to_owned());
        let fact = "a directory of a lower layer (the image) cannot be renamed: tools copy instead";
        return Err(walker.fail(Check::Feature, fact, moved, Errno::EXDEV));
    }
    walker.turn_to(new_path);
    knows_flags(walker, plan)?;
    if *how == Rename::Exchange {
        let other = replaced.filter(|other| walker.is_directory(*other));
        if let Some(other) = other
            && layered
            && view.has_marks(other, Marks::LOWER)
        {
            let fact = "a directory of a lower layer (the image) cannot be renamed: tools copy instead";
            return Err(walker.fail(Check::Feature, fact, other, Errno::EXDEV));
        }
        return Ok(Effect::default());
    }
    if directory && let Some(replaced) = replaced {
        is_empty(walker, replaced, view.source(replaced).facts.personality.full_directory())?;
    }
    Ok(Effect::default())
}
