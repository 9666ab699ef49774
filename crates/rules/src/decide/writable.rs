//! What any change asks of the mount, and any creation of the directory (`mnt_want_write`, `may_create`).

use mivask_model::mode::Access;
use mivask_model::mount::MountFlags;
use mivask_model::outcome::Errno;
use mivask_model::tree::Marks;

use crate::trace::Check;
use crate::view::Place;
use crate::walk::Walker;
use crate::witness::Witness;

/// A mount that takes writes (`mnt_want_write`): neither it nor its superblock is read-only.
pub(super) fn writable_mount<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    let view = walker.view();
    if view.mount(place.mount).flags.has(MountFlags::READ_ONLY) {
        return Err(walker.fail_mount(Check::ReadOnlyMount, "the mount is read-only", place, Errno::EROFS));
    }
    if view.source(place).read_only {
        return Err(walker.fail(
            Check::ReadOnlyFilesystem,
            "the file system itself is read-only",
            place,
            Errno::EROFS,
        ));
    }
    Ok(())
}

/// What creating an entry asks of `directory`: a writable mount (EROFS), ids that can be stored
/// there (EOVERFLOW), then write and search permission (EACCES).
pub(super) fn may_create<W: Witness>(walker: &mut Walker<'_, '_, W>, directory: Place) -> Result<(), Errno> {
    creatable(walker, directory)?;
    walker.permit_in(directory, Access::WRITE_EXECUTE)
}

/// The part of it that does not look at the directory's bits.
///
/// # Errors
/// EROFS, EOVERFLOW.
pub(super) fn creatable<W: Witness>(walker: &mut Walker<'_, '_, W>, directory: Place) -> Result<(), Errno> {
    writable_mount(walker, directory)?;
    let view = walker.view();
    let ids = &view.mount(directory.mount).ids;
    if ids.to_disk_uid(view.who.fsuid).is_none() || ids.to_disk_gid(view.who.fsgid).is_none() {
        let fact = "the actor's user or group cannot be expressed on this mount";
        return Err(walker.fail(Check::Unmapped, fact, directory, Errno::EOVERFLOW));
    }
    Ok(())
}

/// Neither immutable nor, where `even_append`, append-only (`may_setattr`, `may_write_xattr`).
///
/// # Errors
/// EPERM
pub(super) fn unlocked<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    even_append: bool,
) -> Result<(), Errno> {
    let view = walker.view();
    if view.has_marks(place, Marks::IMMUTABLE) {
        return Err(walker.fail(Check::Immutable, "the immutable attribute is set", place, Errno::EPERM));
    }
    if even_append && view.has_marks(place, Marks::APPEND_ONLY) {
        return Err(walker.fail(Check::AppendOnly, "the append-only attribute is set", place, Errno::EPERM));
    }
    assume_unlocked(walker, place);
    Ok(())
}

/// Where the source does not tell of attributes, none is assumed.
pub(super) fn assume_unlocked<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) {
    if let Some(text) = &walker.view().source(place).tree.unrecorded().attributes {
        walker.witness().assume(|| text.clone());
    }
}

/// Owner and group of the inode have a mapping on its mount.
///
/// # Errors
/// `errno`, where one has none.
pub(super) fn mapped<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    errno: Errno,
) -> Result<(), Errno> {
    if !walker.asked(place).is_mapped() {
        let fact = "its owner or group has no mapping on this mount";
        return Err(walker.fail(Check::Unmapped, fact, place, errno));
    }
    Ok(())
}
