//! What an existing inode looks like after an act changed its owner or mode.

use mivask_model::acl::Acl;
use mivask_model::caps::Capability;
use mivask_model::fact::Provenance;
use mivask_model::ids::{DiskGid, DiskUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::outcome::{Effect, Imprint};

use crate::fs_credentials::FsCredentials;
use crate::imprint::{Stored, seen};
use crate::trace::Check;
use crate::view::Place;
use crate::walk::Walker;
use crate::witness::Witness;

/// Owner, group, mode and access ACL an inode is left with; `None` for each that is not known.
pub(super) struct After {
    pub uid: Option<DiskUid>,
    pub gid: Option<DiskGid>,
    pub mode: Option<Mode>,
    /// `None` where the mode says it all.
    pub acl: Option<Acl>,
}

/// A copy of the access ACL at `place`, as far as someone watches who wants to hear of it.
pub(super) fn acl_at<W: Witness>(walker: &Walker<'_, '_, W>, place: Place) -> Option<Acl> {
    if !W::TRACING {
        return None;
    }
    walker.view().source(place).tree.acl(place.inode?).cloned()
}

/// The effect of an act that leaves the inode at `place` so.
pub(super) fn left<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, after: &After) -> Effect {
    let view = walker.view();
    let stored = Stored { uid: after.uid, gid: after.gid, mode: after.mode };
    let imprint = seen(view, place, stored, after.acl.as_ref());
    walker.pass(Check::Imprint, || {
        let show = |id: Option<String>| id.unwrap_or_else(|| "?".to_owned());
        let uid = show(imprint.uid.map(|id| id.to_string()));
        let gid = show(imprint.gid.map(|id| id.to_string()));
        let mode = show(imprint.mode.map(|mode| mode.to_string()));
        (format!("left as {uid}:{gid} {mode}"), Provenance::rule("what the act changes"))
    });
    Effect { imprint: Some(imprint), runs_as: None }
}

/// The effect where owner and mode of the inode are not known: nothing certain.
pub(super) fn unknown() -> Effect {
    Effect { imprint: Some(Imprint::default()), runs_as: None }
}

/// The mode after a write or truncation that strips set-id bits, if it does: a process without FSETID in the
/// initial user namespace loses them (`setattr_should_drop_suidgid`).
pub(super) fn stripped<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Stripped {
    if walker.view().is_not(place, FileKind::File) {
        return Stripped::Nothing;
    }
    let acting = walker.fs_credentials(place);
    if acting.capable(Capability::Fsetid) {
        return Stripped::Nothing;
    }
    let Some(before) = walker.asked(place).mode() else { return Stripped::Unknown };
    let mut mode = before.without(Mode::SET_USER_ID);
    if before.has(Mode::SET_GROUP_ID) && drops_set_group_id(walker, place, before, &acting) {
        mode = mode.without(Mode::SET_GROUP_ID);
    }
    if mode == before { Stripped::Nothing } else { Stripped::To(mode) }
}

/// Whether losing privileges takes a set-group-id bit that is there: with group execute always, without it only from
/// outsiders (`setattr_should_drop_sgid`).
pub(super) fn drops_set_group_id<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    mode: Mode,
    acting: &FsCredentials<'_>,
) -> bool {
    mode.has(Mode::new(0o010)) || !keeps_bit(walker, place, acting)
}

/// Whether the actor is in the inode's group, or FSETID counts for it (`in_group_or_capable`).
pub(super) fn keeps_bit<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
    acting: &FsCredentials<'_>,
) -> bool {
    walker.asked(place).is_surely_under(acting, Capability::Fsetid)
        || walker.asked(place).shares_group(acting)
        || walker.asked(place).is_under(acting, Capability::Fsetid)
}

/// What stripping set-id bits does.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Stripped {
    /// The mode stays.
    Nothing,
    /// It becomes this one.
    To(Mode),
    /// The mode is not known, and with it whether there is anything to strip.
    Unknown,
}
