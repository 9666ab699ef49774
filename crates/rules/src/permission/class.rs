//! The one class whose bits decide, and the capability that may override them (`acl_permission_check`,
//! `generic_permission`).

use mivask_model::acl::Acl;
use mivask_model::caps::Capability;
use mivask_model::fact::Provenance;
use mivask_model::ids::{InsideGid, InsideUid, KernelGid, MountIds, OVERFLOW_ID};
use mivask_model::mode::{Access, FileKind, Mode, symbolic};
use mivask_model::outcome::Errno;
use mivask_model::tree::Inode;

use super::step;
use crate::asked::Owner;
use crate::fs_credentials::FsCredentials;
use crate::trace::{Bits, Check, Step, StepResult};
use crate::view::{Place, View};
use crate::witness::Witness;

/// An inode whose owner and mode are given.
#[derive(Clone, Copy)]
pub(super) struct Bare<'a> {
    pub inode: &'a Inode,
    pub owner: Owner,
    pub mode: Mode,
}

/// Whether the bits, or a capability in spite of them, give `wanted`.
pub(super) fn decide<W: Witness>(
    view: &View<'_>,
    place: Place,
    bare: Bare<'_>,
    wanted: Access,
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    let Bare { inode, owner, mode } = bare;
    let acting = view.fs_credentials(place, w);
    let acl = place.inode.and_then(|id| view.source(place).tree.acl(id));
    let ids = &view.mount(place.mount).facts.ids;
    let ruling = class(&acting, mode, acl, ids, owner, wanted);
    if acl.is_none()
        && !owner.0.is_some_and(|owner| acting.uid.is(owner))
        && mode.group() != Access::NONE
        && let Some(text) = &view.source(place).tree.unrecorded().acls
    {
        w.assume(|| text.clone());
    }
    let judged = |check, result, w: &mut W| {
        w.step(|| {
            if W::BRIEF {
                return Step::brief(check, result);
            }
            let bits = compared(view, mode, owner, &ruling, wanted);
            let mut fact =
                describe(view, (inode.kind, owner), &bits, &ruling) + &acting.squashed_from(view.who);
            if check == Check::UnmappedOwner {
                fact.push_str("; nobody's here, so no capability counts");
            }
            let judged = step(path, check, fact, view.provenance(place), result);
            Step { bits: Some(bits), ..judged }
        });
    };
    if ruling.granted.grants(wanted) {
        judged(ruling.class.check(), StepResult::Passed, w);
        return Ok(());
    }
    let counts = |capability| acting.capable_for(capability, owner.0, owner.1);
    if let Some(capability) = overriding(inode.kind, mode, wanted, counts) {
        w.step(|| {
            if W::BRIEF {
                return Step::brief(Check::Capability, StepResult::Passed);
            }
            let fact = format!("{} overrides the mode bits for {wanted}", capability.name());
            let from = Provenance::rule("the actor's effective capabilities");
            step(path, Check::Capability, fact, from, StepResult::Passed)
        });
        return Ok(());
    }
    let in_vain = overriding(inode.kind, mode, wanted, |capability| acting.has(capability)).is_some();
    let check = if in_vain { Check::UnmappedOwner } else { ruling.class.check() };
    judged(check, StepResult::Failed(Errno::EACCES), w);
    Err(Errno::EACCES)
}

/// Whether plain bits without an ACL give `wanted`, capabilities included.
pub(super) fn grants(
    acting: &FsCredentials<'_>,
    kind: FileKind,
    mode: Mode,
    owner: Owner,
    wanted: Access,
) -> bool {
    let ruling = class(acting, mode, None, &MountIds::default(), owner, wanted);
    let counts = |capability| acting.capable_for(capability, owner.0, owner.1);
    ruling.granted.grants(wanted) || overriding(kind, mode, wanted, counts).is_some()
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
    /// What the ACL's entry has, where its mask takes some of that.
    cut: Option<Access>,
}

impl Ruling {
    const fn of(class: Class, granted: Access) -> Self {
        Self { class, granted, cut: None }
    }

    /// An entry of an ACL as far as its mask lets it through.
    fn masked(class: Class, entry: Access, mask: Access) -> Self {
        let granted = entry.masked(mask);
        Self { class, granted, cut: Some(entry).filter(|entry| *entry != granted) }
    }
}

/// The one class whose bits decide: owner, then the ACL, then group, then other.
fn class(
    acting: &FsCredentials<'_>,
    mode: Mode,
    acl: Option<&Acl>,
    ids: &MountIds,
    (uid, gid): Owner,
    wanted: Access,
) -> Ruling {
    if uid.is_some_and(|uid| acting.uid.is(uid)) {
        return Ruling::of(Class::Owner, mode.owner());
    }
    // With a mask of nothing the kernel does not look at the ACL at all.
    if let Some(acl) = acl
        && mode.group() != Access::NONE
    {
        return acl_class(acting, acl, ids, gid, wanted);
    }
    match gid {
        Some(gid) if acting.in_group(gid) => Ruling::of(Class::Group(gid), mode.group()),
        Some(_) | None => Ruling::of(Class::Other, mode.other()),
    }
}

fn acl_class(
    acting: &FsCredentials<'_>,
    acl: &Acl,
    ids: &MountIds,
    gid: Option<KernelGid>,
    wanted: Access,
) -> Ruling {
    let mask = acl.mask.unwrap_or(Access::ALL);
    let named =
        acl.users.iter().find(|(uid, _)| ids.to_kernel_uid(*uid).is_some_and(|uid| acting.uid.is(uid)));
    if let Some((_, access)) = named {
        return Ruling::masked(Class::AclUser, *access, mask);
    }
    let owning = gid.into_iter().map(|gid| (gid, acl.group));
    let groups = acl.groups.iter().filter_map(|(gid, access)| Some((ids.to_kernel_gid(*gid)?, *access)));
    let mut matched = None;
    for (group, access) in owning.chain(groups).filter(|(group, _)| acting.in_group(*group)) {
        let ruling = Ruling::masked(Class::AclGroup(group), access, mask);
        if access.grants(wanted) {
            return ruling;
        }
        matched.get_or_insert(ruling);
    }
    matched.unwrap_or(Ruling::of(Class::Other, acl.other))
}

/// What the named user of an ACL gets, where `acting` is one: it does not depend on who owns the inode.
pub(super) fn named_user(acting: &FsCredentials<'_>, acl: &Acl, ids: &MountIds) -> Option<Access> {
    let mask = acl.mask.unwrap_or(Access::ALL);
    let named =
        acl.users.iter().find(|(uid, _)| ids.to_kernel_uid(*uid).is_some_and(|uid| acting.uid.is(uid)));
    named.map(|(_, access)| access.masked(mask))
}

/// Whether one of the named groups that `acting` is in has all of `wanted`; `None` where it is in none.
pub(super) fn named_groups(
    acting: &FsCredentials<'_>,
    acl: &Acl,
    ids: &MountIds,
    wanted: Access,
) -> Option<bool> {
    let entries = acl.groups.iter().filter_map(|(gid, access)| Some((ids.to_kernel_gid(*gid)?, *access)));
    let mine = entries.filter(|(gid, _)| acting.in_group(*gid));
    mine.map(|(_, access)| access.grants(wanted)).reduce(|a, b| a || b)
}

/// The capability that grants `wanted` in spite of the bits (`generic_permission`).
pub(super) fn overriding(
    kind: FileKind,
    mode: Mode,
    wanted: Access,
    counts: impl Fn(Capability) -> bool,
) -> Option<Capability> {
    let capable = |capability| counts(capability).then_some(capability);
    let directory = kind == FileKind::Directory;
    let search = if directory { !wanted.writes() } else { wanted == Access::READ };
    if search && let Some(capability) = capable(Capability::DacReadSearch) {
        return Some(capability);
    }
    let runnable = directory || !wanted.grants(Access::EXECUTE) || mode.has_any(Mode::ANY_EXECUTE);
    if runnable { capable(Capability::DacOverride) } else { None }
}

/// What was compared, with ids as the actor sees them.
fn compared(view: &View<'_>, mode: Mode, (uid, gid): Owner, ruling: &Ruling, needed: Access) -> Bits {
    let namespace = &view.who.namespace;
    let unmapped = (InsideUid::new(OVERFLOW_ID), InsideGid::new(OVERFLOW_ID));
    Bits {
        needed,
        granted: ruling.granted,
        owner: uid.and_then(|uid| namespace.to_inside_uid(uid)).unwrap_or(unmapped.0),
        group: gid.and_then(|gid| namespace.to_inside_gid(gid)).unwrap_or(unmapped.1),
        mode,
    }
}

/// `drwxr-x--- 0750 7101:7200: group 7200 has r-x, needed -w-`; an owner without a mapping with what the host calls it.
fn describe(view: &View<'_>, (kind, at): (FileKind, Owner), bits: &Bits, ruling: &Ruling) -> String {
    let seen = |gid| view.who.namespace.to_inside_gid(gid).map_or(OVERFLOW_ID, InsideGid::raw);
    let class = match ruling.class {
        Class::Owner => format!("the owner ({})", view.name),
        Class::AclUser => "the ACL's named user".to_owned(),
        Class::AclGroup(gid) => format!("the ACL's group {}", seen(gid)),
        Class::Group(gid) => format!("group {}", seen(gid)),
        Class::Other => "other".to_owned(),
    };
    let Bits { needed, granted, owner, group, mode } = bits;
    let letters = symbolic(kind, *mode);
    // The mask is the middle digit of the mode, and a chmod of that is what narrows it.
    let granted = match ruling.cut {
        Some(entry) => format!("{entry}, of which the mask leaves {granted}"),
        None => granted.to_string(),
    };
    let outside = outside(view, at);
    format!(
        "{letters} {mode} {}:{}{outside}: {class} has {granted}, needed {needed}",
        owner.raw(),
        group.raw()
    )
}

/// ` (owner 1001 of the host is not mapped)`, where that is so.
fn outside(view: &View<'_>, (uid, gid): Owner) -> String {
    let namespace = &view.who.namespace;
    let uid = uid.filter(|uid| namespace.to_inside_uid(*uid).is_none());
    let gid = gid.filter(|gid| namespace.to_inside_gid(*gid).is_none());
    match (uid, gid) {
        (None, None) => String::new(),
        (Some(uid), None) => format!(" (owner {uid} of the host is not mapped)"),
        (None, Some(gid)) => format!(" (group {gid} of the host is not mapped)"),
        (Some(uid), Some(gid)) => format!(" ({uid}:{gid} of the host are not mapped)"),
    }
}
