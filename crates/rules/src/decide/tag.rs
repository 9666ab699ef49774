//! setxattr(2) and getxattr(2) (`vfs_setxattr`, `xattr_permission` in fs/xattr.c, `cap_convert_nscap` in security/commoncap.c).

use mivask_model::caps::{Capability, FileCapabilities};
use mivask_model::fact::Unknown;
use mivask_model::ids::{DiskUid, InsideUid};
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::personality::{Feature, Personality};

use super::attributes::owned;
use super::feature::{refusal, supports};
use super::writable::{mapped, unlocked, writable_mount};
use crate::asked::subject;
use crate::confined::Permission;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::{MissingFact, Witness};

/// The attribute that holds file capabilities; setting it here means an empty set.
const FILE_CAPABILITIES: &[u8] = b"security.capability";
/// The attribute that holds the label.
const LABEL: &[u8] = b"security.selinux";
/// Prefixes some file system keeps attributes under.
const KEPT: [&[u8]; 3] = [b"user.", b"trusted.", b"security."];

/// What an overlay keeps its own attributes under, and names in it under another (`ovl_own_xattr_set`).
const OVERLAYS_OWN: &[u8] = b"trusted.overlay.";

/// Sets the extended attribute `name`.
pub(super) fn tag<'a, W: Witness>(view: &'a View<'a>, name: &[u8], path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    writable_mount(&mut walker, place)?;
    if name == FILE_CAPABILITIES {
        file_capabilities(&mut walker, place)?;
    }
    unlocked(&mut walker, place, true)?;
    mapped(&mut walker, place, Errno::EPERM)?;
    if name.starts_with(b"trusted.") {
        privileged(&mut walker, place)?;
    } else if !name.starts_with(b"security.") && !name.starts_with(b"system.") {
        if name.starts_with(b"user.") {
            user(&mut walker, place)?;
        }
        walker.permit(place, Access::WRITE)?;
    }
    if name == LABEL && view.confined.is_some() {
        return relabels(&mut walker, place);
    }
    if name.starts_with(b"security.") && name != FILE_CAPABILITIES {
        privileged(&mut walker, place)?;
    }
    walker.inode_has(place, Permission::Setattr)?;
    has_name(&mut walker, place, name)?;
    Ok(Effect::default())
}

/// A new label (`selinux_inode_setxattr`): the owner may, of an inode that may lose its own; which one it is to get no act
/// says.
fn relabels<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Verdict {
    owned(walker, place, "only the owner changes the label")?;
    walker.inode_has(place, Permission::Relabelfrom)?;
    let path = walker.path_text().into_owned();
    let unknown = Unknown::new(&format!("which label {path} is to get"), "no act can say it");
    let question = MissingFact::Attribute(subject(place, walker.path()));
    let describe =
        |option| format!("the policy {} the new label", if option == 0 { "permits" } else { "refuses" });
    if walker.witness().choose(question, &unknown, 2, describe) == 0 {
        return Ok(Effect::default());
    }
    Err(walker.fail(Check::Label, "a label that may not be given", place, Errno::EACCES))
}

/// getxattr(2) of `name` (`vfs_getxattr`): what may not be seen is said not to be there.
pub(super) fn read<'a, W: Witness>(view: &'a View<'a>, name: &[u8], path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    if name.starts_with(b"trusted.") {
        if !walker.fs_credentials(place).capable(Capability::SysAdmin) {
            let fact = "attributes of that prefix show only with SYS_ADMIN in the host's user namespace";
            return Err(walker.fail(Check::Capability, fact, place, Errno::ENODATA));
        }
    } else if !name.starts_with(b"security.") && !name.starts_with(b"system.") {
        let special = view.is_not(place, FileKind::File) && view.is_not(place, FileKind::Directory);
        if name.starts_with(b"user.") && special {
            let fact = "only files and directories carry user attributes";
            return Err(walker.fail(Check::Kind, fact, place, Errno::ENODATA));
        }
        walker.permit(place, Access::READ)?;
    }
    walker.inode_has(place, Permission::Getattr)?;
    has_name(&mut walker, place, name)?;
    has(&mut walker, place, name)
}

/// A prefix that the file system keeps, and something behind it.
fn has_name<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, name: &[u8]) -> Result<(), Errno> {
    let layered = walker.view().source(place).facts.personality == Personality::Overlay;
    if KEPT.contains(&name) || layered && name == OVERLAYS_OWN {
        return Err(walker.fail(Check::Feature, "nothing follows the prefix", place, Errno::EINVAL));
    }
    if !KEPT.iter().any(|prefix| name.starts_with(prefix)) {
        let support = walker.view().source(place).facts.personality.keeps_other_name(name);
        if let Some(errno) = refusal(walker, place, support, Errno::EOPNOTSUPP) {
            let fact = "this file system keeps no attributes of that prefix";
            return Err(walker.fail(Check::Feature, fact, place, errno));
        }
    }
    supports(walker, place, Feature::Attributes)
}

/// Whether the attribute is there: file capabilities are given, others are not known.
fn has<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, name: &[u8]) -> Verdict {
    let view = walker.view();
    let tree = &view.source(place).tree;
    let known = place.inode.filter(|_| name == FILE_CAPABILITIES && tree.unrecorded().capabilities.is_none());
    let there = match known {
        Some(id) => tree.capabilities(id).is_some(),
        None => {
            let path = walker.path_text().into_owned();
            let name = String::from_utf8_lossy(name).into_owned();
            let unknown = Unknown::new(&format!("whether {path} has {name}"), "no scene can supply it");
            let question = MissingFact::Attribute(subject(place, walker.path()));
            let describe = |option| format!("{path} {} {name}", if option == 0 { "has" } else { "lacks" });
            walker.witness().choose(question, &unknown, 2, describe) == 0
        }
    };
    let held = known.and_then(|id| tree.capabilities(id));
    if there && name == FILE_CAPABILITIES && !shows(view, place, held) {
        let fact = "the root user they belong to has no number in the actor's user namespace";
        return Err(walker.fail(Check::Unmapped, fact, place, Errno::EOVERFLOW));
    }
    if there {
        return Ok(Effect::default());
    }
    Err(walker.fail(Check::Feature, "it has no such attribute", place, Errno::ENODATA))
}

/// Whether file capabilities can be shown: those of a root user that the namespace has a number for, and the host's
/// (`cap_inode_getsecurity`).
fn shows(view: &View<'_>, place: Place, capabilities: Option<&FileCapabilities>) -> bool {
    let stored = DiskUid::new(capabilities.map_or(0, |file| file.root));
    let root = view.mount(place.mount).facts.ids.to_kernel_uid(stored);
    root.is_some_and(|root| root.raw() == 0 || view.who.namespace.to_inside_uid(root).is_some())
}

/// SYS_ADMIN in the initial user namespace, where the superblocks live.
fn privileged<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    if walker.fs_credentials(place).capable(Capability::SysAdmin) {
        return Ok(());
    }
    let fact = "attributes of that prefix take SYS_ADMIN in the host's user namespace";
    Err(walker.fail(Check::Capability, fact, place, Errno::EPERM))
}

/// `user.*` belongs on files and directories, in a sticky directory to its owner.
fn user<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    let view = walker.view();
    if view.is_not(place, FileKind::File) && view.is_not(place, FileKind::Directory) {
        let fact = "only files and directories carry user attributes";
        return Err(walker.fail(Check::Kind, fact, place, Errno::EPERM));
    }
    if view.is(place, FileKind::Directory) && walker.asked(place).has(Mode::STICKY, "sticky") {
        owned(walker, place, "a sticky directory takes user attributes from its owner alone")?;
    }
    Ok(())
}

/// SETFCAP for this inode, and a root user the capabilities can belong to.
fn file_capabilities<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    let view = walker.view();
    let acting = walker.fs_credentials(place);
    if !walker.asked(place).is_under(&acting, Capability::Setfcap) {
        let fact = "file capabilities are set with SETFCAP, on files whose owner and group are mapped";
        return Err(walker.fail(Check::Capability, fact, place, Errno::EPERM));
    }
    let ids = &view.mount(place.mount).facts.ids;
    if acting.capable(Capability::Setfcap) && ids.uids.is_identity() && ids.gids.is_identity() {
        return Ok(());
    }
    let root = view.who.namespace.to_kernel_uid(InsideUid::new(0)).and_then(|root| ids.to_disk_uid(root));
    if root.is_none() {
        let fact = "the namespace's root, whose capabilities they would be, has no mapping here";
        return Err(walker.fail(Check::Unmapped, fact, place, Errno::EINVAL));
    }
    Ok(())
}
