//! access(2) (`do_faccessat` in fs/open.c).

use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::{Credentials, RealIds};
use mivask_model::fact::Provenance;
use mivask_model::ids::InsideUid;
use mivask_model::mode::{Access, FileKind};
use mivask_model::mount::MountFlags;
use mivask_model::outcome::{Effect, Errno, Verdict};

use super::writable::writable_mount;
use crate::trace::Check;
use crate::view::View;
use crate::walk::{Follow, Walker};
use crate::witness::Witness;

/// Whether the real user may do that: with all that it is permitted to put in force for root, with nothing for anybody else
/// (`access_override_creds`).
pub(super) fn may<'a, W: Witness>(view: &'a View<'a>, wanted: Access, path: &'a [u8], w: &mut W) -> Verdict {
    let root = view.who.real_uid().is_some_and(|uid| uid.is(InsideUid::new(0)));
    let effective = if root { view.who.permitted } else { CapabilitySet::EMPTY };
    let real = view.who.real.unwrap_or(RealIds { uid: view.who.fsuid, gid: view.who.fsgid });
    let who = Credentials { fsuid: real.uid, fsgid: real.gid, effective, ..view.who.clone() };
    let view = view.of(&who);
    let mut walker = Walker::new(&view, w);
    if !root {
        let fact = "access(2) asks for the real ids, and counts no capabilities but root's";
        walker.pass(Check::Capability, || (fact.to_owned(), Provenance::rule("access(2)")));
    }
    let place = walker.place(path, Follow::Links)?;
    let runs = wanted == Access::EXECUTE && view.is(place, FileKind::File);
    if runs && view.mount(place.mount).flags.has(MountFlags::NO_EXEC) {
        let fact = "noexec: nothing on this mount can be run";
        return Err(walker.fail_mount(Check::NoExec, fact, place, Errno::EACCES));
    }
    walker.permit(place, wanted)?;
    let special = view.inode(place).is_some_and(|inode| {
        inode.kind.is_device() || matches!(inode.kind, FileKind::Fifo | FileKind::Socket)
    });
    // What is written to a device goes nowhere on the mount.
    if wanted.writes() && !special {
        writable_mount(&mut walker, place)?;
    }
    Ok(Effect::default())
}
