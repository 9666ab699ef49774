//! Permission where owner and mode, or the inode itself, are not known.

use mivask_model::acl::Acl;
use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::MountIds;
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::outcome::Errno;
use mivask_model::tree::Inode;

use super::class::{self, grants};
use super::{gate, step};
use crate::asked::{Asked, Owner, subject};
use crate::fs_credentials::FsCredentials;
use crate::trace::{Check, StepResult};
use crate::usual_place;
use crate::view::{Place, View};
use crate::witness::{MissingFact, Witness};

/// Owner or mode are unknown. Where the mode is given, what decides is who the actor is to the inode; where it is not, both
/// answers are possible, unless a capability settles it.
pub(super) fn doubted<W: Witness>(
    view: &View<'_>,
    place: Place,
    partly: Partly<'_>,
    wanted: Access,
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    let acting = view.fs_credentials(place, w);
    if settled_by_capability(&acting, &partly, wanted, &mut Asked::new(view, place, path, w)) {
        return Ok(());
    }
    let (None, Some(mode)) = (partly.owner, partly.mode) else {
        let unknown = match (view.doubt(place), partly.owner) {
            (Some(doubt), Some(_)) => doubt.mode.unknown(),
            (Some(doubt), None) => doubt.unknown_attribute(),
            (None, _) => None,
        };
        return unknown.map_or(Ok(()), |unknown| ask(view, (place, &acting), wanted, path, unknown, w));
    };
    let acl = place.inode.and_then(|id| view.source(place).tree.acl(id));
    let bits = Bits { mode, acl, ids: &view.mount(place.mount).facts.ids };
    let granted = by_bits(&acting, &bits, wanted, &mut Asked::new(view, place, path, w))
        || overridden(&acting, (partly.inode.kind, mode), wanted, &mut Asked::new(view, place, path, w));
    let result = if granted { StepResult::Passed } else { StepResult::Failed(Errno::EACCES) };
    w.step(|| {
        let give = if granted { "give" } else { "refuse" };
        let fact = format!("the owner is not known; the bits {mode} are taken to {give} {wanted}");
        let from = view.doubt(place).and_then(|doubt| doubt.owner.unknown());
        let from = from.map_or_else(|| view.provenance(place), |one| Provenance::Unknown(one.fact.clone()));
        step(path, Check::Unknown, fact, from, result)
    });
    if granted { Ok(()) } else { Err(Errno::EACCES) }
}

/// An inode of which the owner, the mode or both are not given.
#[derive(Clone, Copy)]
pub(super) struct Partly<'a> {
    pub inode: &'a Inode,
    pub owner: Option<Owner>,
    pub mode: Option<Mode>,
}

/// Whether a capability gives `wanted` whoever owns it and whatever its mode.
fn settled_by_capability<W: Witness>(
    acting: &FsCredentials<'_>,
    partly: &Partly<'_>,
    wanted: Access,
    asked: &mut Asked<'_, '_, W>,
) -> bool {
    if partly.owner.is_none() && !(acting.maps_all() && asked.is_surely_mapped()) {
        return false;
    }
    let counts = |capability| match partly.owner {
        Some((uid, gid)) => acting.capable_for(capability, uid, gid),
        // Where everybody is mapped, the owner is, too.
        None => acting.has(capability),
    };
    // Any mode will do for a capability, except that running a file takes some x bit.
    let mode = partly.mode.unwrap_or_default();
    class::overriding(partly.inode.kind, mode, wanted, counts).is_some() && asked.is_native()
}

/// Bits whose owner is not known.
struct Bits<'a> {
    mode: Mode,
    acl: Option<&'a Acl>,
    ids: &'a MountIds,
}

/// What the bits give whoever may own the inode: who the actor is to it is asked in the kernel's order, as far as it matters.
fn by_bits<W: Witness>(
    acting: &FsCredentials<'_>,
    bits: &Bits<'_>,
    wanted: Access,
    asked: &mut Asked<'_, '_, W>,
) -> bool {
    let Bits { mode, acl, ids } = *bits;
    let owners = mode.owner().grants(wanted);
    let groups = mode.group().grants(wanted);
    let all_others = mode.other().grants(wanted);
    // With a mask of nothing the kernel does not look at the ACL at all.
    let acl = if mode.group() == Access::NONE { None } else { acl };
    // What everybody but the owner gets, where the group does not matter.
    let others = match acl {
        None if groups == all_others => Some(groups),
        None => None,
        Some(acl) => class::named_user(acting, acl, ids).map(|access| access.grants(wanted)),
    };
    if others == Some(owners) {
        return owners;
    }
    if asked.is_of(acting.uid) {
        return owners;
    }
    match (others, acl) {
        (Some(given), _) => given,
        (None, Some(acl)) => by_groups(acting, acl, ids, wanted, asked),
        (None, None) if asked.shares_group(acting) => groups,
        (None, None) => all_others,
    }
}

/// What the group entries of an ACL give where the owning group is not known.
fn by_groups<W: Witness>(
    acting: &FsCredentials<'_>,
    acl: &Acl,
    ids: &MountIds,
    wanted: Access,
    asked: &mut Asked<'_, '_, W>,
) -> bool {
    let masked = acl.mask.unwrap_or(Access::ALL).grants(wanted);
    // One group that has all of it is enough; where the actor is in one that has not, nobody's bits are looked at any more.
    match class::named_groups(acting, acl, ids, wanted) {
        Some(true) => masked,
        Some(false) => acl.group.grants(wanted) && asked.shares_group(acting) && masked,
        None if asked.shares_group(acting) => acl.group.grants(wanted) && masked,
        None => acl.other.grants(wanted),
    }
}

/// Whether a capability gives it in spite of the bits, as far as it counts for whoever owns it.
fn overridden<W: Witness>(
    acting: &FsCredentials<'_>,
    (kind, mode): (FileKind, Mode),
    wanted: Access,
    asked: &mut Asked<'_, '_, W>,
) -> bool {
    let counts = |capability| acting.has(capability);
    class::overriding(kind, mode, wanted, counts).is_some_and(|one| asked.is_under(acting, one))
}

/// The inode itself is only presumed to exist.
pub(super) fn presumed<W: Witness>(
    view: &View<'_>,
    place: Place,
    wanted: Access,
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    let source = view.source(place);
    let unknown = view.unlisted(place);
    if wanted.writes() && source.facts.read_only {
        return Err(Errno::EROFS);
    }
    if let gate::Gate::Open = gate::gate(view, place, wanted, path, w)? {
        return Ok(());
    }
    if let Some(granted) = by_what_shows(view, place, wanted, w) {
        let result = if granted { StepResult::Passed } else { StepResult::Failed(Errno::EACCES) };
        w.step(|| {
            let fact = "everything on this file system shows one owner and mode".to_owned();
            step(path, Check::OtherBits, fact, view.provenance(place), result)
        });
        return if granted { gate::server(view, place, path, w) } else { Err(Errno::EACCES) };
    }
    // Root passes the bits of anything but a file without an x bit.
    let acting = view.fs_credentials(place, w);
    let counts = |capability| acting.has(capability);
    let overridden = class::overriding(FileKind::File, Mode::default(), wanted, counts).is_some();
    if overridden && acting.maps_all() && view.is_native(place, w) {
        return Ok(());
    }
    ask(view, (place, &acting), wanted, path, &unknown, w)
}

/// What the one owner and mode of such a filesystem give, where file and directory agree.
fn by_what_shows<W: Witness>(view: &View<'_>, place: Place, wanted: Access, w: &mut W) -> Option<bool> {
    let shown = view.source(place).facts.personality.shown()?;
    let ids = &view.mount(place.mount).facts.ids;
    let owner = (ids.to_kernel_uid(shown.uid), ids.to_kernel_gid(shown.gid));
    let acting: FsCredentials<'_> = view.fs_credentials(place, w);
    let file = grants(&acting, FileKind::File, shown.file, owner, wanted);
    let directory = grants(&acting, FileKind::Directory, shown.directory, owner, wanted);
    (file == directory).then_some(file)
}

fn ask<W: Witness>(
    view: &View<'_>,
    (place, acting): (Place, &FsCredentials<'_>),
    wanted: Access,
    path: &[u8],
    unknown: &Unknown,
    w: &mut W,
) -> Result<(), Errno> {
    let text = String::from_utf8_lossy(if path.is_empty() { b"/" } else { path }).into_owned();
    let question = MissingFact::Grants(subject(place, path), wanted);
    let describe = |option| match option {
        0 => format!("owner and mode of {text} give {} {wanted}", view.name),
        _ => format!("owner and mode of {text} do not give {} {wanted}", view.name),
    };
    let usual = || {
        let (usual, owner, mode) = usual_place::attributes(view, place, path, unknown)?;
        let granted = grants(acting, FileKind::Directory, mode, owner, wanted);
        Some((usual, usize::from(!granted)))
    };
    let chosen = w.choose_usually(question, unknown, 2, (usual, describe));
    let result = if chosen == 0 { StepResult::Passed } else { StepResult::Failed(Errno::EACCES) };
    w.step(|| {
        let fact = format!(
            "owner and mode are not known; taken to {} {wanted}",
            if chosen == 0 { "give" } else { "refuse" }
        );
        step(path, Check::Unknown, fact, Provenance::Unknown(unknown.fact.clone()), result)
    });
    if chosen == 0 { Ok(()) } else { Err(Errno::EACCES) }
}
