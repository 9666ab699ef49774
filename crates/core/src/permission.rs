//! Permission of one inode (`inode_permission` in fs/namei.c, `posix_acl_permission` in fs/posix_acl.c).

use crate::acl::Acl;
use crate::caps::Capability;
use crate::fact::{Provenance, Unknown};
use crate::identity::Credentials;
use crate::ids::{InsideGid, InsideUid, KernelGid, KernelUid, MountIds, OVERFLOW_ID};
use crate::mode::{Access, FileKind, Mode, symbolic};
use crate::outcome::Errno;
use crate::trace::{Check, Step, StepResult};
use crate::tree::{Certainty, Inode, Marks};
use crate::view::{Place, View};
use crate::witness::{Question, Witness};

/// Whether the actor has `wanted` on the inode at `place`; `path` is for the trace.
///
/// The order is the kernel's: read-only superblock (EROFS), immutable (EPERM), unmapped ids
/// (EACCES), then owner, ACL, group or other bits, then capabilities (EACCES).
///
/// # Errors
/// The errno of the first check that fails.
pub(crate) fn permission<W: Witness>(
    view: &View<'_>,
    place: Place,
    wanted: Access,
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    let Some(inode) = view.inode(place) else {
        return presumed(view, place, wanted, path, w);
    };
    let (uid, gid) = view.owner(place, inode);
    if wanted.writes()
        && let Some((check, fact, errno)) = write_barrier(view, place, inode, uid.is_none() || gid.is_none())
    {
        w.step(|| step(path, check, fact.to_owned(), view.provenance(place), StepResult::Failed(errno)));
        return Err(errno);
    }
    if let Some(doubt) = view.doubt(place) {
        match &doubt.attributes {
            Certainty::Known => {}
            Certainty::Assumed(text) => w.assume(|| text.clone()),
            Certainty::Unknown(unknown) => {
                return doubted(view, place, inode, wanted, path, unknown, w);
            }
        }
    }
    let acl = place.inode.and_then(|id| view.source(place).tree.acl(id));
    let ids = &view.mount(place.mount).ids;
    let ruling = class(view.who, inode, acl, ids, (uid, gid), wanted);
    let judged = |result, w: &mut W| {
        w.step(|| {
            let fact = describe(view, inode, (uid, gid), &ruling, wanted);
            step(path, ruling.class.check(), fact, view.provenance(place), result)
        });
    };
    if ruling.granted.grants(wanted) {
        judged(StepResult::Passed, w);
        return Ok(());
    }
    if let Some(capability) = overriding(view.who, inode, wanted, uid, gid) {
        w.step(|| {
            let fact = format!("{} overrides the mode bits for {wanted}", capability.name());
            let from = Provenance::rule("the actor's effective capabilities");
            step(path, Check::Capability, fact, from, StepResult::Passed)
        });
        return Ok(());
    }
    judged(StepResult::Failed(Errno::EACCES), w);
    Err(Errno::EACCES)
}

/// Which class decides.
#[derive(Clone, Copy)]
enum Class {
    Owner,
    AclUser,
    AclGroup(KernelGid),
    Group(KernelGid),
    Other,
}

impl Class {
    const fn check(self) -> Check {
        match self {
            Self::Owner => Check::OwnerBits,
            Self::AclUser => Check::AclUser,
            Self::AclGroup(_) => Check::AclGroup,
            Self::Group(_) => Check::GroupBits,
            Self::Other => Check::OtherBits,
        }
    }
}

/// The class that decides and what it grants.
struct Ruling {
    class: Class,
    granted: Access,
}

/// The one class whose bits decide: owner, then the ACL, then group, then other.
fn class(
    who: &Credentials,
    inode: &Inode,
    acl: Option<&Acl>,
    ids: &MountIds,
    (uid, gid): (Option<KernelUid>, Option<KernelGid>),
    wanted: Access,
) -> Ruling {
    if uid == Some(who.fsuid) {
        return Ruling { class: Class::Owner, granted: inode.mode.owner() };
    }
    // With a mask of nothing the kernel does not look at the ACL at all.
    if let Some(acl) = acl
        && inode.mode.group() != Access::NONE
    {
        return acl_class(who, acl, ids, gid, wanted);
    }
    match gid {
        Some(gid) if who.in_group(gid) => Ruling { class: Class::Group(gid), granted: inode.mode.group() },
        Some(_) | None => Ruling { class: Class::Other, granted: inode.mode.other() },
    }
}

fn acl_class(who: &Credentials, acl: &Acl, ids: &MountIds, gid: Option<KernelGid>, wanted: Access) -> Ruling {
    let mask = acl.mask.unwrap_or(Access::ALL);
    let named = acl.users.iter().find(|(uid, _)| ids.to_kernel_uid(*uid) == Some(who.fsuid));
    if let Some((_, access)) = named {
        return Ruling { class: Class::AclUser, granted: access.masked(mask) };
    }
    let owning = gid.into_iter().map(|gid| (gid, acl.group));
    let groups = acl.groups.iter().filter_map(|(gid, access)| Some((ids.to_kernel_gid(*gid)?, *access)));
    let mut matched = None;
    for (group, access) in owning.chain(groups).filter(|(group, _)| who.in_group(*group)) {
        let ruling = Ruling { class: Class::AclGroup(group), granted: access.masked(mask) };
        if access.grants(wanted) {
            return ruling;
        }
        matched.get_or_insert(ruling);
    }
    matched.unwrap_or(Ruling { class: Class::Other, granted: acl.other })
}

/// The capability that grants `wanted` in spite of the bits (`generic_permission`).
fn overriding(
    who: &Credentials,
    inode: &Inode,
    wanted: Access,
    uid: Option<KernelUid>,
    gid: Option<KernelGid>,
) -> Option<Capability> {
    let capable = |capability| who.capable_for(capability, uid, gid).then_some(capability);
    let directory = inode.kind == FileKind::Directory;
    let search = if directory { !wanted.writes() } else { wanted == Access::READ };
    if search && let Some(capability) = capable(Capability::DacReadSearch) {
        return Some(capability);
    }
    let runnable = directory || !wanted.grants(Access::EXECUTE) || inode.mode.has_any(Mode::ANY_EXECUTE);
    if runnable { capable(Capability::DacOverride) } else { None }
}

/// What stops any write, whoever asks.
fn write_barrier(
    view: &View<'_>,
    place: Place,
    inode: &Inode,
    unmapped: bool,
) -> Option<(Check, &'static str, Errno)> {
    let kept = matches!(inode.kind, FileKind::File | FileKind::Directory | FileKind::Link);
    if view.source(place).read_only && kept {
        return Some((Check::ReadOnlyFilesystem, "the file system itself is read-only", Errno::EROFS));
    }
    if inode.marks.has(Marks::IMMUTABLE) {
        return Some((Check::Immutable, "the immutable attribute is set", Errno::EPERM));
    }
    unmapped.then_some((Check::Unmapped, "its owner or group has no mapping on this mount", Errno::EACCES))
}

/// Owner and mode are unknown: both answers are possible, unless a capability settles it.
fn doubted<W: Witness>(
    view: &View<'_>,
    place: Place,
    inode: &Inode,
    wanted: Access,
    path: &[u8],
    unknown: &Unknown,
    w: &mut W,
) -> Result<(), Errno> {
    let (uid, gid) = view.owner(place, inode);
    let any_x = inode.kind == FileKind::Directory || !wanted.grants(Access::EXECUTE);
    if any_x && overriding(view.who, inode, wanted, uid, gid).is_some() && is_native(view, place, w) {
        return Ok(());
    }
    let Some(id) = place.inode else { return Ok(()) };
    ask(view, Question::Grants(place.source, id, wanted), wanted, path, unknown, w)
}

/// Whether the filesystem is certain to let the local kernel decide.
fn is_native<W: Witness>(view: &View<'_>, place: Place, w: &mut W) -> bool {
    match &view.source(place).native {
        Certainty::Known => true,
        Certainty::Assumed(text) => {
            w.assume(|| text.clone());
            true
        }
        Certainty::Unknown(_) => false,
    }
}

/// The inode itself is only presumed to exist.
fn presumed<W: Witness>(
    view: &View<'_>,
    place: Place,
    wanted: Access,
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    let source = view.source(place);
    let unknown = view.unlisted(place);
    w.assume(|| "what nobody listed is of the kind the act needs: a file or a directory".into());
    if wanted.writes() && source.read_only {
        return Err(Errno::EROFS);
    }
    // Root passes the bits of anything but a file without an x bit.
    let any_x = !wanted.grants(Access::EXECUTE);
    if any_x && view.who.effective.has(Capability::DacOverride) && is_native(view, place, w) {
        return Ok(());
    }
    ask(view, Question::PresumedGrants(path.to_vec(), wanted), wanted, path, &unknown, w)
}

fn ask<W: Witness>(
    view: &View<'_>,
    question: Question,
    wanted: Access,
    path: &[u8],
    unknown: &Unknown,
    w: &mut W,
) -> Result<(), Errno> {
    let text = String::from_utf8_lossy(if path.is_empty() { b"/" } else { path }).into_owned();
    let chosen = w.choose(question, unknown, 2, |option| match option {
        0 => format!("owner and mode of {text} give {} {wanted}", view.name),
        _ => format!("owner and mode of {text} do not give {} {wanted}", view.name),
    });
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

fn step(path: &[u8], check: Check, fact: String, from: Provenance, result: StepResult) -> Step {
    let path = if path.is_empty() { b"/".to_vec() } else { path.to_vec() };
    Step { path, check, fact, from, result }
}

/// `drwxr-x--- 0750 7101:7200: group 7200 has r-x, needed -w-`, with ids as the actor sees them.
fn describe(
    view: &View<'_>,
    inode: &Inode,
    (uid, gid): (Option<KernelUid>, Option<KernelGid>),
    ruling: &Ruling,
    wanted: Access,
) -> String {
    let namespace = &view.who.namespace;
    let seen = |gid: KernelGid| namespace.to_inside_gid(gid).map_or(OVERFLOW_ID, InsideGid::raw);
    let owner = uid.and_then(|uid| namespace.to_inside_uid(uid)).map_or(OVERFLOW_ID, InsideUid::raw);
    let group = gid.map_or(OVERFLOW_ID, seen);
    let class = match ruling.class {
        Class::Owner => format!("the owner ({})", view.name),
        Class::AclUser => "the ACL's named user".to_owned(),
        Class::AclGroup(gid) => format!("the ACL's group {}", seen(gid)),
        Class::Group(gid) => format!("group {}", seen(gid)),
        Class::Other => "other".to_owned(),
    };
    let (letters, mode, granted) = (symbolic(inode.kind, inode.mode), inode.mode, ruling.granted);
    format!("{letters} {mode} {owner}:{group}: {class} has {granted}, needed {wanted}")
}
