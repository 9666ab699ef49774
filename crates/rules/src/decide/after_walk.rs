//! The checks behind a walk, for someone who has walked already: the sweep over whole trees.

use mivask_model::mode::Access;
use mivask_model::outcome::Errno;

use super::writable::writable_mount;
use super::{create, execute, look, open, remove};
use crate::imprint::NewKind;
use crate::view::Place;
use crate::walk::{Arrival, Last, Slash, Target, Walker};
use crate::witness::Witness;

/// An entry of a directory that may be searched.
#[derive(Clone, Copy, Debug)]
pub struct Found<'n> {
    /// The directory.
    pub directory: Place,
    /// The entry's name.
    pub name: &'n [u8],
    /// The entry itself.
    pub place: Place,
    /// What shows there: the entry, or what is mounted on it.
    pub there: Place,
}

/// Whether the file can be opened to read.
///
/// # Errors
/// What the kernel answers instead.
pub fn reads<W: Witness>(walker: &mut Walker<'_, '_, W>, found: Found<'_>) -> Result<(), Errno> {
    opens(walker, found, open::How::READ)
}

/// Whether the file can be opened to write.
///
/// # Errors
/// What the kernel answers instead.
pub fn writes<W: Witness>(walker: &mut Walker<'_, '_, W>, found: Found<'_>) -> Result<(), Errno> {
    opens(walker, found, open::How::WRITE)
}

fn opens<W: Witness>(walker: &mut Walker<'_, '_, W>, found: Found<'_>, how: open::How) -> Result<(), Errno> {
    let last = Last::Name(found.name, Slash::Absent);
    let directory = found.directory;
    let target = Target::There(found.there);
    let arrival = Arrival { directory, last, slashes: Slash::Absent, target };
    open::open_existing(walker, how, &arrival, found.there).map(drop)
}

/// Whether the entry can be removed: unlink, or rmdir for a directory.
///
/// # Errors
/// What the kernel answers instead.
pub fn deletes<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    found: Found<'_>,
    directory: bool,
) -> Result<(), Errno> {
    writable_mount(walker, found.directory)?;
    let removal = if directory { remove::Removal::Directory } else { remove::Removal::File };
    remove::remove_entry(walker, removal, found.directory, found.place).map(drop)
}

/// Whether the directory can be listed.
///
/// # Errors
/// What the kernel answers instead.
pub fn lists<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    look::directory(walker, place, Access::READ).map(drop)
}

/// Whether the directory can be entered.
///
/// # Errors
/// What the kernel answers instead.
pub fn enters<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    look::directory(walker, place, Access::EXECUTE).map(drop)
}

/// Whether something can be created in the directory.
///
/// # Errors
/// What the kernel answers instead.
pub fn creates<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    create::entry_below(walker, place, NewKind::File)
}

/// Whether the file can be run, as long as it is not a script; `None` for a script, whose interpreter is elsewhere.
pub fn runs<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Option<Result<(), Errno>> {
    execute::run_program(walker, place)
}
