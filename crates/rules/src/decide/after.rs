//! What an existing inode looks like after an act changed its owner or mode.

use mivask_model::acl::Acl;
use mivask_model::fact::Provenance;
use mivask_model::ids::{DiskGid, DiskUid};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::outcome::{Effect, Imprint};

use crate::imprint::seen;
use crate::trace::Check;
use crate::view::Place;
use crate::walk::Walker;
use crate::witness::Witness;

/// Owner, group, mode and access ACL an inode is left with.
pub(super) struct After {
    pub uid: DiskUid,
    pub gid: DiskGid,
    pub mode: Mode,
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
    let imprint = seen(view, place, after.uid, after.gid, after.mode, after.acl.as_ref());
    walker.pass(Check::Imprint, || {
        let show = |id: Option<String>| id.unwrap_or_else(|| "?".to_owned());
        let uid = show(imprint.uid.map(|id| id.to_string()));
        let gid = show(imprint.gid.map(|id| id.to_string()));
        (format!("left as {uid}:{gid} {}", after.mode), Provenance::rule("what the act changes"))
    });
    Effect { imprint: Some(imprint), runs_as: None }
}

/// The effect where owner and mode of the inode are not known: nothing certain.
pub(super) fn unknown() -> Effect {
    Effect { imprint: Some(Imprint::default()), runs_as: None }
}

/// The mode after a write or truncation that strips set-id bits, if it does: a process without FSETID in the
/// initial user namespace loses them (`setattr_should_drop_suidgid`).
pub(super) fn stripped<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Option<Mode> {
    let view = walker.view();
    let inode = view.inode(place).filter(|inode| inode.kind == FileKind::File && view.is_known(place))?;
    let acting = walker.fs_credentials(place);
    if acting.capable(mivask_model::caps::Capability::Fsetid) {
        return None;
    }
    let owner = view.owner(place, inode);
    let mut mode = inode.mode.without(Mode::SET_USER_ID);
    if drops_set_group_id(inode.mode, acting.keeps_set_group_id(owner.1, owner.0, owner.1)) {
        mode = mode.without(Mode::SET_GROUP_ID);
    }
    (mode != inode.mode).then_some(mode)
}

/// Whether losing privileges takes the set-group-id bit of `mode` too: with group execute always, without it
/// only from outsiders (`setattr_should_drop_sgid`).
pub(super) const fn drops_set_group_id(mode: Mode, keeps: bool) -> bool {
    mode.has(Mode::SET_GROUP_ID) && (mode.has(Mode::new(0o010)) || !keeps)
}
