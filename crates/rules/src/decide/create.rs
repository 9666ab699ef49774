//! Creating directories, nodes and symbolic links (`filename_create`, `vfs_mkdir`, `vfs_mknod`, `vfs_symlink`).

use mivask_model::act::Node;
use mivask_model::caps::Capability;
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::{Entry, Feature, Personality};

use super::feature::{keeps_target, nameable, supports, takes};
use super::writable::{creatable, may_create, writable_mount};
use crate::imprint::{NewKind, imprint};
use crate::trace::Check;
use crate::usual_place::Expected;
use crate::view::{Place, View};
use crate::walk::Named;
use crate::walk::{Arrival, Follow, Last, Slash, Target, Walker};
use crate::witness::Witness;

/// mkdir(2): slashes may follow the new name, and a link of that name is never followed.
pub(super) fn make_directory<'a, W: Witness>(
    view: &'a View<'a>,
    mode: Mode,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let directory = free_name(&mut walker, path, NewKind::Directory)?;
    finish(&mut walker, directory, NewKind::Directory, mode)
}

/// mkfifo(3) where `node` is none, mknod(2) else: devices need MKNOD in the initial user namespace.
pub(super) fn make_node<'a, W: Witness>(
    view: &'a View<'a>,
    node: Option<Node>,
    mode: Mode,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let directory = free_name(&mut walker, path, NewKind::Node)?;
    may_create(&mut walker, directory)?;
    let device = node.filter(|node| node.kind.is_device());
    // A character device 0:0 is an overlay's whiteout, which anyone may make.
    let whiteout = device.is_some_and(|node| {
        node.kind == FileKind::CharDevice && node.device.major == 0 && node.device.minor == 0
    });
    if device.is_some() && !whiteout && !walker.fs_credentials(directory).capable(Capability::Mknod) {
        let fact = "devices are made only with MKNOD in the host's user namespace";
        return Err(walker.fail(Check::Capability, fact, directory, Errno::EPERM));
    }
    if whiteout && view.source(directory).facts.personality == Personality::Overlay {
        let fact = "an overlay makes whiteouts itself and lets nobody else make one (ovl_mknod)";
        return Err(walker.fail(Check::Feature, fact, directory, Errno::EPERM));
    }
    let kind = node.map_or(FileKind::Fifo, |node| node.kind);
    walker.inode_create(directory, kind, Named::Last)?;
    supports(&mut walker, directory, Feature::Nodes)?;
    made(&mut walker, directory, NewKind::Node, mode)
}

/// symlink(2).
pub(super) fn make_link<'a, W: Witness>(
    view: &'a View<'a>,
    target: &[u8],
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    match target.len() {
        0 => return Err(Errno::ENOENT),
        1..4096 => {}
        _ => return Err(Errno::ENAMETOOLONG),
    }
    let mut walker = Walker::new(view, w);
    let directory = free_name(&mut walker, path, NewKind::Link)?;
    may_create(&mut walker, directory)?;
    walker.inode_create(directory, FileKind::Link, Named::Last)?;
    supports(&mut walker, directory, Feature::Links)?;
    keeps_target(&mut walker, directory, target.len())?;
    made(&mut walker, directory, NewKind::Link, Mode::new(0o777))
}

/// The directory of a name that is still free (`filename_create`): EEXIST, then ENOENT where slashes follow the
/// name of what is to be not a directory, then EROFS.
pub(super) fn free_name<'a, W: Witness>(
    walker: &mut Walker<'a, '_, W>,
    path: &'a [u8],
    kind: NewKind,
) -> Result<Place, Errno> {
    walker.expect(Expected::New);
    let (directory, last) = walker.parent_of(path)?;
    let Last::Name(name, slashes) = last else {
        return Err(walker.fail(Check::Kind, "`/`, `.` and `..` exist already", directory, Errno::EEXIST));
    };
    let target = walker.lookup(directory, name)?;
    if let Target::There(place) = target {
        return Err(walker.fail(
            Check::Kind,
            "something of that name is there already",
            place,
            Errno::EEXIST,
        ));
    }
    if slashes == Slash::Trailing && kind != NewKind::Directory {
        return Err(walker.missing(&Arrival { directory, last, slashes, target }));
    }
    nameable(walker, directory)?;
    writable_mount(walker, directory)?;
    Ok(directory)
}

/// Creating below the directory at `path`, under a free name.
pub(super) fn new_entry<'a, W: Witness>(
    view: &'a View<'a>,
    kind: NewKind,
    mode: Mode,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    walker.expect(Expected::Directory);
    let directory = walker.place(path, Follow::OnTheWay)?;
    // What was walked is the directory; nothing says the name of the new entry.
    walker.name = None;
    entry_below(&mut walker, directory, kind)?;
    made(&mut walker, directory, kind, mode)
}

/// Whether `directory` takes a new entry.
///
/// # Errors
/// The errno the kernel would give.
pub(super) fn entry_below<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    kind: NewKind,
) -> Result<(), Errno> {
    if walker.view().is_not(directory, FileKind::Directory) {
        return Err(walker.fail(Check::Kind, "not a directory", directory, Errno::ENOTDIR));
    }
    walker.permit(directory, Access::EXECUTE)?;
    nameable(walker, directory)?;
    creatable(walker, directory)?;
    walker.permit(directory, Access::WRITE_EXECUTE)?;
    walker.inode_create(directory, kind.file_kind(), Named::Nothing)?;
    takes(walker, directory, if kind == NewKind::File { Entry::File } else { Entry::Other })
}

fn finish<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    kind: NewKind,
    mode: Mode,
) -> Verdict {
    may_create(walker, directory)?;
    walker.inode_create(directory, kind.file_kind(), Named::Last)?;
    takes(walker, directory, Entry::Other)?;
    made(walker, directory, kind, mode)
}

fn made<W: Witness>(walker: &mut Walker<'_, '_, W>, directory: Place, kind: NewKind, mode: Mode) -> Verdict {
    Ok(Effect { imprint: Some(imprint(walker, directory, kind, mode)), runs_as: None })
}
