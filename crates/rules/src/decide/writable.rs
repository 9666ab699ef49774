//! What any change asks of the mount, and any creation of the directory (`mnt_want_write`, `may_create`).

use mivask_model::fact::Unknown;
use mivask_model::mode::Access;
use mivask_model::mount::MountFlags;
use mivask_model::outcome::Errno;
use mivask_model::tree::Marks;

use crate::trace::Check;
use crate::view::Place;
use crate::walk::PRESUMED_KIND;
use crate::walk::Walker;
use crate::witness::{MissingFact, Witness};

/// A mount that takes writes (`mnt_want_write`): neither it nor its superblock is read-only.
pub(super) fn writable_mount<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    let view = walker.view();
    if view.mount(place.mount).flags.has(MountFlags::READ_ONLY) {
        return Err(walker.fail_mount(Check::ReadOnlyMount, "the mount is read-only", place, Errno::EROFS));
    }
    if view.source(place).facts.read_only {
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
    let ids = &view.mount(directory.mount).facts.ids;
    let uid = view.who.fsuid.through(|uid| ids.to_disk_uid(uid));
    let gid = view.who.fsgid.through(|gid| ids.to_disk_gid(gid));
    let named = uid.is_none_or(|uid| uid.id().is_some()) && gid.is_none_or(|gid| gid.id().is_some());
    let all_mapped = ids.uids.is_identity() && ids.gids.is_identity();
    if uid.is_none() || gid.is_none() || !(named || all_mapped || is_expressible(walker, directory)) {
        let fact = "the actor's user or group cannot be expressed on this mount";
        return Err(walker.fail(Check::Unmapped, fact, directory, Errno::EOVERFLOW));
    }
    Ok(())
}

/// Whether an actor without numbers has a mapping on the id-mapped mount of `directory`.
fn is_expressible<W: Witness>(walker: &mut Walker<'_, '_, W>, directory: Place) -> bool {
    let name = walker.view().name;
    let unknown = Unknown::new(
        &format!("the numbers of {name}'s user and group"),
        "give `user` as numbers, or `accounts` for the image",
    );
    let describe = |option| {
        let have = if option == 0 { "have" } else { "lack" };
        format!("user and group of {name} {have} a mapping on the mount")
    };
    walker.witness().choose(MissingFact::ActorMapped(directory.mount), &unknown, 2, describe) == 0
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

/// Where the source does not tell of attributes, or has no tree, none is assumed.
pub(super) fn assume_unlocked<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) {
    if walker.view().is_unlisted_root(place) {
        walker.witness().assume(|| PRESUMED_KIND.into());
    }
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
