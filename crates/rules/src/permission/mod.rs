//! Permission of one inode (`inode_permission` in fs/namei.c, `posix_acl_permission` in fs/posix_acl.c).

mod class;
mod gate;
mod unknown_attributes;

use mivask_model::fact::Provenance;
use mivask_model::mode::{Access, FileKind};
use mivask_model::outcome::Errno;
use mivask_model::tree::{Inode, Marks};

use crate::asked::Asked;
use crate::label;
use crate::trace::{Check, Step, StepResult};
use crate::view::{Place, View};
use crate::witness::Witness;

pub(crate) use gate::{enters, program_decides};

/// Whether the actor has `wanted` on the inode at `place`; `path` is for the trace.
///
/// The order is the kernel's: read-only superblock (EROFS), immutable (EPERM), unmapped ids
/// (EACCES), who may enter a FUSE mount (EACCES), then owner, ACL, group or other bits, then
/// capabilities (EACCES), then a server behind the mount, then labels (EACCES).
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
    by_owner(view, place, wanted, path, w)?;
    label::permission(view, place, (wanted, false), path, w)
}

/// The same but for labels.
///
/// # Errors
/// The errno of the first check that fails.
pub(crate) fn by_owner<W: Witness>(
    view: &View<'_>,
    place: Place,
    wanted: Access,
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    if W::ALL_SEEING {
        return Ok(());
    }
    let Some(inode) = view.inode(place) else {
        return unknown_attributes::presumed(view, place, wanted, path, w);
    };
    if wanted.writes()
        && let Some((check, fact, errno)) = write_barrier(view, place, inode, path, w)
    {
        w.step(|| step(path, check, fact.to_owned(), view.provenance(place), StepResult::Failed(errno)));
        return Err(errno);
    }
    if !view.source(place).facts.personality.is_local() {
        match gate::gate(view, place, wanted, path, w)? {
            gate::Gate::Bits => {}
            gate::Gate::Open => return Ok(()),
        }
    }
    let owner = Asked::new(view, place, path, w).owner();
    let mode = Asked::new(view, place, path, w).mode();
    match (owner, mode) {
        (Some(owner), Some(mode)) => {
            class::decide(view, place, class::Bare { inode, owner, mode }, wanted, path, w)?
        }
        (owner, mode) => {
            let partly = unknown_attributes::Partly { inode, owner, mode };
            unknown_attributes::doubted(view, place, partly, wanted, path, w)?
        }
    }
    if wanted.writes()
        && let Some(text) = &view.source(place).tree.unrecorded().attributes
    {
        w.assume(|| text.clone());
    }
    gate::server(view, place, path, w)
}

/// What stops any write, whoever asks.
fn write_barrier<W: Witness>(
    view: &View<'_>,
    place: Place,
    inode: &Inode,
    path: &[u8],
    w: &mut W,
) -> Option<(Check, &'static str, Errno)> {
    let kept = matches!(inode.kind, FileKind::File | FileKind::Directory | FileKind::Link);
    if view.source(place).facts.read_only && kept {
        return Some((Check::ReadOnlyFilesystem, "the file system itself is read-only", Errno::EROFS));
    }
    if inode.marks.has(Marks::IMMUTABLE) {
        return Some((Check::Immutable, "the immutable attribute is set", Errno::EPERM));
    }
    let unmapped = !Asked::new(view, place, path, w).is_mapped();
    unmapped.then_some((Check::Unmapped, "its owner or group has no mapping on this mount", Errno::EACCES))
}

fn step(path: &[u8], check: Check, fact: String, from: Provenance, result: StepResult) -> Step {
    let path = if path.is_empty() { b"/".to_vec() } else { path.to_vec() };
    Step { path, check, fact, from, result, bits: None }
}
