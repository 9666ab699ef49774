//! Whom a started program runs as and with which capabilities (`bprm_fill_uid` in fs/exec.c,
//! `cap_bprm_creds_from_file` in security/commoncap.c).

use mivask_model::caps::{CapabilitySet, FileCapabilities};
use mivask_model::credentials::{Credentials, RealIds};
use mivask_model::held::Held;
use mivask_model::ids::{DiskUid, InsideGid, InsideUid, KernelUid};
use mivask_model::mode::Mode;
use mivask_model::mount::MountFlags;
use mivask_model::outcome::Errno;

use crate::asked::Owner;
use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::Walker;
use crate::witness::Witness;

/// User and group inside.
type Ids = (Held<InsideUid>, Held<InsideGid>);

/// What the program file at `place` makes of the process; `None` where owner and mode are not known, and with them
/// the set-id bits, or an id has no mapping.
///
/// # Errors
/// EPERM where the file's capabilities are to be in force but the bounding set lacks one.
pub(super) fn privileges<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
) -> Result<Option<Credentials>, Errno> {
    let view = walker.view();
    let who = view.who;
    let no_suid = view.mount(place.mount).flags.has(MountFlags::NO_SUID);
    let file = if no_suid { None } else { file_capabilities(view, place) };
    if let (None, false, Some(text)) = (file, no_suid, &view.source(place).tree.unrecorded().capabilities) {
        walker.witness().assume(|| text.clone());
    }
    let mut permitted = CapabilitySet::EMPTY;
    let mut effective = false;
    if let Some(file) = file {
        permitted = given(who, file);
        effective = file.effective;
        if effective && !permitted.contains(file.permitted) {
            let lacking = file.permitted.minus(permitted);
            let fact = format_args!(
                "the file's capabilities are to be in force, but the bounding set lacks {lacking}"
            );
            return Err(walker.fail(Check::FileCapabilities, fact, place, Errno::EPERM));
        }
    }
    let (Some(uid), Some(gid)) = (who.inside_uid(), who.inside_gid()) else { return Ok(None) };
    // Which bits it has, and with set-id bits whose it is, matters from here on; capabilities of its own were refused whoever
    // owns it.
    let counts = !no_suid && !who.no_new_privileges;
    let mode = walker.asked(place).mode();
    let set = match mode {
        None if counts => return Ok(None),
        Some(mode) if counts && is_set_id(mode) => {
            let Some(owner) = walker.asked(place).owner() else { return Ok(None) };
            set_ids(who, owner, mode)
        }
        Some(_) | None => None,
    };
    if mode.is_some_and(is_set_id) || file.is_some() {
        note(walker, place, set.unwrap_or((uid, gid)), file);
    }
    Ok(gained(who, (uid, gid), set, (file, permitted, effective)))
}

/// Whether the bits make a program run as its owner or its group. Set-group-id without group execute marks mandatory locking.
pub(super) const fn is_set_id(mode: Mode) -> bool {
    mode.has(Mode::SET_USER_ID) || mode.has(Mode::new(0o2010))
}

/// What the process at `ids` gains from a program that has no set-id bits, where it is not known whether it has.
pub(super) fn without_set_id<W: Witness>(walker: &Walker<'_, '_, W>, place: Place) -> Option<Credentials> {
    let view = walker.view();
    let who = view.who;
    let ids = who.inside_uid().zip(who.inside_gid())?;
    let no_suid = view.mount(place.mount).flags.has(MountFlags::NO_SUID);
    let file = if no_suid { None } else { file_capabilities(view, place) };
    let permitted = file.map_or(CapabilitySet::EMPTY, |file| given(who, file));
    gained(who, ids, None, (file, permitted, file.is_some_and(|file| file.effective)))
}

/// What a file's capabilities give to `who`.
fn given(who: &Credentials, file: &FileCapabilities) -> CapabilitySet {
    let inherited = who.inheritable.intersection(file.inheritable);
    who.bounding.intersection(file.permitted).union(inherited)
}

/// The process after execve, which acted with the ids `uid` and `gid`: with those that set-id bits give, and what the file's
/// capabilities permit and put into force; `None` where an id has no mapping.
///
/// The real ids stay, and are those that a change is measured against (`__is_setuid`, `__is_real`).
fn gained(
    who: &Credentials,
    (uid, gid): Ids,
    set: Option<Ids>,
    (file, mut permitted, mut effective): (Option<&FileCapabilities>, CapabilitySet, bool),
) -> Option<Credentials> {
    let real = (who.real_uid()?, who.real_gid()?);
    let (mut new_uid, mut new_gid) = set.unwrap_or((uid, gid));
    let root = Held::Id(InsideUid::new(0));
    // A set-user-id root program with capabilities of its own gives a stranger those only.
    let mixed = file.is_some() && new_uid == root && real.0 != root;
    if !mixed && (new_uid == root || real.0 == root) {
        permitted = who.bounding.union(who.inheritable);
        effective |= new_uid == root;
    }
    let in_group = new_gid == real.1
        || new_gid
            .id()
            .and_then(|gid| who.namespace.to_kernel_gid(gid))
            .is_some_and(|gid| who.groups.contains(&gid));
    let other_ids = new_uid != real.0 || !in_group;
    let changed = (new_uid, new_gid) != real || !who.permitted.contains(permitted);
    // Whoever becomes somebody else, or is given capabilities by the file, keeps none of its own.
    let ambient = if file.is_some() || other_ids { CapabilitySet::EMPTY } else { who.ambient };
    if changed && who.no_new_privileges {
        (new_uid, new_gid) = real;
        permitted = permitted.intersection(who.permitted);
    }
    let permitted = permitted.union(ambient);
    let fsuid = new_uid.through(|uid| who.namespace.to_kernel_uid(uid))?;
    let fsgid = new_gid.through(|gid| who.namespace.to_kernel_gid(gid))?;
    let stays = who.real.unwrap_or(RealIds { uid: who.fsuid, gid: who.fsgid });
    Some(Credentials {
        fsuid,
        fsgid,
        real: (stays != RealIds { uid: fsuid, gid: fsgid }).then_some(stays),
        permitted,
        effective: if effective { permitted } else { ambient },
        ambient,
        ..who.clone()
    })
}

/// The ids that set-id bits give; `None` where there are none or either id has no mapping in the process's
/// namespace.
fn set_ids(
    who: &Credentials,
    (owner, group): Owner,
    mode: Mode,
) -> Option<(Held<InsideUid>, Held<InsideGid>)> {
    let owner = who.namespace.to_inside_uid(owner?)?;
    let group = who.namespace.to_inside_gid(group?)?;
    let uid = if mode.has(Mode::SET_USER_ID) { Held::Id(owner) } else { who.inside_uid()? };
    // Set-group-id without group execute marks mandatory locking, not a program.
    let gid = if mode.has(Mode::new(0o2010)) { Held::Id(group) } else { who.inside_gid()? };
    Some((uid, gid))
}

/// The capabilities of the file at `place`, if their root user is one of the process's namespace or the host's
/// (`get_vfs_caps_from_disk`, `rootid_owns_currentns`).
fn file_capabilities<'a>(view: &View<'a>, place: Place) -> Option<&'a FileCapabilities> {
    let file = place.inode.and_then(|id| view.source(place).tree.capabilities(id))?;
    let root = view.mount(place.mount).facts.ids.to_kernel_uid(DiskUid::new(file.root))?;
    owns(view.who, root).then_some(file)
}

fn owns(who: &Credentials, root: KernelUid) -> bool {
    root.raw() == 0 || who.namespace.to_inside_uid(root) == Some(InsideUid::new(0))
}

fn note<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    (uid, gid): (Held<InsideUid>, Held<InsideGid>),
    file: Option<&FileCapabilities>,
) {
    let view = walker.view();
    walker.pass(Check::SetId, || {
        let who = view.who;
        let own = (who.inside_uid(), who.inside_gid()) == (Some(uid), Some(gid));
        let ids = if !own {
            format!("set-id bits make it run as {uid}:{gid}")
        } else if file.is_some() {
            String::new()
        } else {
            "its set-id bits do not count here (nosuid, no-new-privileges or an unmapped id)".to_owned()
        };
        let caps = file.map(|file| format!("file capabilities {file}"));
        let texts: Vec<String> = Some(ids).into_iter().chain(caps).filter(|text| !text.is_empty()).collect();
        (texts.join("; "), view.provenance(place))
    });
}
