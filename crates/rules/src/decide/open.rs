//! open(2) in all the forms the act language has (`path_openat`, `do_open`, `may_open` in fs/namei.c).

use mivask_model::fact::Unknown;
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::mount::MountFlags;
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::Entry;
use mivask_model::tree::{Device, Marks};

use super::feature::{nameable, takes};
use super::truncate::emptied;
use super::writable::{may_create, writable_mount};
use crate::imprint::{NewKind, imprint};
use crate::trace::Check;
use crate::usual_place::Expected;
use crate::view::Devices;
use crate::view::{Place, View};
use crate::walk::Named;
use crate::walk::{Arrival, Follow, Slash, Target, Walker};
use crate::witness::{MissingFact, Witness};

/// O_CREAT and O_EXCL.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Creation {
    /// Neither: the file must exist.
    No,
    /// O_CREAT: made where it is missing.
    IfMissing,
    /// O_CREAT|O_EXCL: must be missing.
    Always,
}

/// What happens to the content.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Content {
    Kept,
    /// O_APPEND
    Extended,
    /// O_TRUNC
    Dropped,
}

/// The flags of one open.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) struct How {
    access: Access,
    creation: Creation,
    content: Content,
    mode: Mode,
}

impl How {
    /// O_RDONLY
    pub(super) const READ: Self =
        Self { access: Access::READ, creation: Creation::No, content: Content::Kept, mode: Mode::new(0o666) };
    /// O_WRONLY
    pub(super) const WRITE: Self = Self { access: Access::WRITE, ..Self::READ };
    /// O_WRONLY|O_APPEND
    pub(super) const APPEND: Self = Self { content: Content::Extended, ..Self::WRITE };
    /// O_WRONLY|O_TRUNC
    pub(super) const TRUNCATE: Self = Self { content: Content::Dropped, ..Self::WRITE };
    /// O_RDWR
    pub(super) const UPDATE: Self = Self { access: Access::READ_WRITE, ..Self::READ };
    /// O_WRONLY|O_CREAT|O_TRUNC
    pub(super) const OVERWRITE: Self = Self { creation: Creation::IfMissing, ..Self::TRUNCATE };
    /// O_WRONLY|O_CREAT|O_APPEND
    pub(super) const EXTEND: Self = Self { creation: Creation::IfMissing, ..Self::APPEND };

    /// O_WRONLY|O_CREAT|O_EXCL
    pub(super) const fn create(mode: Mode) -> Self {
        Self { creation: Creation::Always, mode, ..Self::WRITE }
    }
}

/// open(2) with the flags of `how`.
pub(super) fn open<'a, W: Witness>(view: &'a View<'a>, how: How, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    if how.creation == Creation::Always {
        walker.expect(Expected::New);
    }
    let arrival = match how.creation {
        Creation::No => walker.arrive(path, Follow::Links)?,
        Creation::IfMissing => walker.arrive_to_create(path, Follow::Links)?,
        Creation::Always => walker.arrive_to_create(path, Follow::AllButLast)?,
    };
    match arrival.target {
        Target::There(place) => open_existing(&mut walker, how, &arrival, place),
        Target::Missing if how.creation == Creation::No => Err(walker.missing(&arrival)),
        Target::Missing => create(&mut walker, how, &arrival),
    }
}

fn create<W: Witness>(walker: &mut Walker<'_, '_, W>, how: How, arrival: &Arrival<'_>) -> Verdict {
    let directory = arrival.directory;
    nameable(walker, directory)?;
    may_create(walker, directory)?;
    walker.inode_create(directory, FileKind::File, Named::Last)?;
    takes(walker, directory, Entry::File)?;
    walker.new_file_open(directory, how.access, how.content == Content::Extended)?;
    Ok(Effect { imprint: Some(imprint(walker, directory, NewKind::File, how.mode)), runs_as: None })
}

/// The part of it that comes after the walk, for something that is there.
pub(super) fn open_existing<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    how: How,
    arrival: &Arrival<'_>,
    place: Place,
) -> Verdict {
    let view = walker.view();
    if how.creation != Creation::No {
        if how.creation == Creation::Always {
            return Err(walker.fail(
                Check::Kind,
                "something of that name is there already",
                place,
                Errno::EEXIST,
            ));
        }
        if view.is(place, FileKind::Directory) {
            return Err(walker.fail(Check::Kind, "a directory of that name is there", place, Errno::EISDIR));
        }
        protected_file(walker, arrival.directory, place)?;
    }
    if arrival.slashes == Slash::Trailing && view.is_not(place, FileKind::Directory) {
        return Err(walker.fail(
            Check::Kind,
            "a slash follows the name of a non-directory",
            place,
            Errno::ENOTDIR,
        ));
    }
    let truncating = how.content == Content::Dropped && !view.is_not(place, FileKind::File);
    if truncating {
        writable_mount(walker, place)?;
    }
    may_open(walker, place, how)?;
    let special = view.inode(place).is_some_and(|inode| {
        inode.kind.is_device() || matches!(inode.kind, FileKind::Fifo | FileKind::Socket)
    });
    if how.access.writes() && !special {
        writable_mount(walker, place)?;
    }
    walker.file_open(place)?;
    if view.is(place, FileKind::Socket) {
        return Err(walker.fail(
            Check::Kind,
            "a socket cannot be opened, only connected to",
            place,
            Errno::ENXIO,
        ));
    }
    has_driver(walker, place)?;
    Ok(if truncating { emptied(walker, place) } else { Effect::default() })
}

fn may_open<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, how: How) -> Result<(), Errno> {
    let view = walker.view();
    if view.is(place, FileKind::Link) {
        return Err(walker.fail(Check::Link, "a symbolic link that is not followed", place, Errno::ELOOP));
    }
    if how.access.writes() && view.is(place, FileKind::Directory) {
        return Err(walker.fail(
            Check::Kind,
            "a directory is never opened for writing",
            place,
            Errno::EISDIR,
        ));
    }
    let device = view.inode(place).is_some_and(|inode| inode.kind.is_device());
    if device && view.mount(place.mount).flags.has(MountFlags::NO_DEV) {
        return Err(walker.fail_mount(
            Check::NoDev,
            "nodev: devices on this mount cannot be opened",
            place,
            Errno::EACCES,
        ));
    }
    walker.permit_but_for_label(place, how.access)?;
    // The device cgroup stands between the bits and the labels (`inode_permission`).
    if device {
        device_list(walker, place)?;
    }
    walker.label_permits(place, how.access, how.content == Content::Extended)?;
    if view.has_marks(place, Marks::APPEND_ONLY) && how.access.writes() && how.content != Content::Extended {
        let fact = "the append-only attribute is set: it takes writes at its end only";
        return Err(walker.fail(Check::AppendOnly, fact, place, Errno::EPERM));
    }
    Ok(())
}

/// Major and minor numbers that every container may open: null, zero, full, random, urandom, tty, ptmx.
const OPEN_DEVICES: [Device; 7] = [
    Device { major: 1, minor: 3 },
    Device { major: 1, minor: 5 },
    Device { major: 1, minor: 7 },
    Device { major: 1, minor: 8 },
    Device { major: 1, minor: 9 },
    TERMINAL,
    Device { major: 5, minor: 2 },
];

/// `/dev/tty`, which is whatever terminal the process has.
const TERMINAL: Device = Device { major: 5, minor: 0 };

fn is_open_device<W: Witness>(walker: &Walker<'_, '_, W>, place: Place) -> bool {
    let view = walker.view();
    let device = place.inode.and_then(|id| view.source(place).tree.device(id));
    device.is_some_and(|device| OPEN_DEVICES.contains(&device))
}

fn device_list<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    if walker.view().devices == Devices::All || is_open_device(walker, place) {
        return Ok(());
    }
    if let Some(id) = place.inode.filter(|id| walker.view().source(place).tree.device(*id).is_none()) {
        let path = walker.path_text().into_owned();
        let settle = "give its `device: MAJOR:MINOR`, or a source that has it";
        let unknown = Unknown::new(&format!("the numbers of the device {path}"), settle);
        let options = ["the container's device list has it", "the container's device list leaves it out"];
        let describe = |option: usize| options[option].to_owned();
        if walker.witness().choose(MissingFact::Device(place.source, id), &unknown, 2, describe) == 0 {
            return Ok(());
        }
    }
    let fact = "the container's device list leaves this device out, for root too (only privileged containers open it)";
    Err(walker.fail(Check::DeviceList, fact, place, Errno::EPERM))
}

fn has_driver<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    let view = walker.view();
    let (Some(id), Some(inode)) = (place.inode, view.inode(place)) else { return Ok(()) };
    if !inode.kind.is_device() {
        return Ok(());
    }
    let device = view.source(place).tree.device(id);
    if device != Some(TERMINAL) && is_open_device(walker, place) {
        return Ok(());
    }
    let (fact, options) = if device == Some(TERMINAL) {
        ("whether the process has a terminal", ["it has a terminal", "it has no terminal"])
    } else {
        ("whether the host has a driver for the device", ["a driver answers", "no driver answers"])
    };
    let unknown = Unknown::new(fact, "not possible in a scene");
    let describe = |option: usize| options[option].to_owned();
    if walker.witness().choose(MissingFact::Driver(place.source, id), &unknown, 2, describe) == 0 {
        return Ok(());
    }
    Err(walker.fail(Check::Kind, "no driver answers behind this device", place, Errno::ENXIO))
}

/// `fs.protected_regular` and `fs.protected_fifos`, for root too (`may_create_in_sticky`).
fn protected_file<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    directory: Place,
    place: Place,
) -> Result<(), Errno> {
    let view = walker.view();
    let settings = view.settings();
    // What is only presumed to be there is taken for a regular file, as everywhere.
    let kind = view.inode(place).map_or(FileKind::File, |inode| inode.kind);
    let off = match kind {
        FileKind::File => settings.protected_regular == Some(0),
        FileKind::Fifo => settings.protected_fifos == Some(0),
        FileKind::Directory
        | FileKind::Link
        | FileKind::Socket
        | FileKind::CharDevice
        | FileKind::BlockDevice => false,
    };
    if off || !walker.asked_in(directory).has(Mode::STICKY, "sticky") {
        return Ok(());
    }
    let me = view.who.fsuid;
    if walker.asked(place).is_of(me) || walker.one_owner(place, directory) {
        return Ok(());
    }
    let (name, given) = match kind {
        FileKind::File => ("fs.protected_regular", settings.protected_regular),
        FileKind::Fifo => ("fs.protected_fifos", settings.protected_fifos),
        // Other kinds have no setting of their own: a world-writable directory is enough.
        FileKind::Directory
        | FileKind::Link
        | FileKind::Socket
        | FileKind::CharDevice
        | FileKind::BlockDevice => {
            if !walker.asked_in(directory).has(Mode::new(0o002), "world-writable") {
                return Ok(());
            }
            let fact = "O_CREAT on another user's special file in a sticky world-writable directory";
            return Err(walker.fail(Check::ProtectedFile, fact, place, Errno::EACCES));
        }
    };
    let needed = if walker.asked_in(directory).has(Mode::new(0o002), "world-writable") {
        1
    } else if walker.asked_in(directory).has(Mode::new(0o020), "group-writable") {
        2
    } else {
        return Ok(());
    };
    if view.setting(name, given, 2, walker.witness()) < needed {
        return Ok(());
    }
    let fact = format_args!(
        "{name}: in a sticky directory that others can write to, O_CREAT opens another user's file only if the directory's owner created it; this applies to root too"
    );
    Err(walker.fail(Check::ProtectedFile, fact, place, Errno::EACCES))
}
