//! Permission where owner and mode, or the inode itself, are not known.

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::outcome::Errno;
use mivask_model::tree::{Certainty, Inode};

use super::class::{self, grants};
use super::{gate, step};
use crate::fs_credentials::FsCredentials;
use crate::trace::{Check, StepResult};
use crate::view::{Place, View};
use crate::witness::{MissingFact, Witness};

/// Owner and mode are unknown: both answers are possible, unless a capability settles it.
pub(super) fn doubted<W: Witness>(
    view: &View<'_>,
    place: Place,
    inode: &Inode,
    wanted: Access,
    path: &[u8],
    unknown: &Unknown,
    w: &mut W,
) -> Result<(), Errno> {
    let owner = view.owner(place, inode);
    let acting = view.fs_credentials(place, w);
    // Any mode will do for a capability, except that running a file takes some x bit.
    let any_mode = Mode::default();
    let overridden = class::overriding(&acting, inode.kind, any_mode, wanted, owner).is_some();
    if overridden && acting.maps_all() && is_native(view, place, w) {
        return Ok(());
    }
    let Some(id) = place.inode else { return Ok(()) };
    ask(view, MissingFact::Grants(place.source, id, wanted), wanted, path, unknown, w)
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
pub(super) fn presumed<W: Witness>(
    view: &View<'_>,
    place: Place,
    wanted: Access,
    path: &[u8],
    w: &mut W,
) -> Result<(), Errno> {
    let source = view.source(place);
    let unknown = view.unlisted(place);
    w.assume(|| "what is not listed is of the kind the act needs: a file or a directory".into());
    if wanted.writes() && source.read_only {
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
    let root = (Some(acting.uid), Some(acting.gid));
    let overridden = class::overriding(&acting, FileKind::File, Mode::default(), wanted, root).is_some();
    if overridden && acting.maps_all() && is_native(view, place, w) {
        return Ok(());
    }
    ask(view, MissingFact::PresumedGrants(path.to_vec(), wanted), wanted, path, &unknown, w)
}

/// What the one owner and mode of such a filesystem give, where file and directory agree.
fn by_what_shows<W: Witness>(view: &View<'_>, place: Place, wanted: Access, w: &mut W) -> Option<bool> {
    let shown = view.source(place).personality.shown()?;
    let ids = &view.mount(place.mount).ids;
    let owner = (ids.to_kernel_uid(shown.uid), ids.to_kernel_gid(shown.gid));
    let acting: FsCredentials<'_> = view.fs_credentials(place, w);
    let file = grants(&acting, FileKind::File, shown.file, owner, wanted);
    let directory = grants(&acting, FileKind::Directory, shown.directory, owner, wanted);
    (file == directory).then_some(file)
}

fn ask<W: Witness>(
    view: &View<'_>,
    question: MissingFact,
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

/// Whether the actor owns the inode at `place` or counts as its owner; asks where the owner is not known.
pub(crate) fn may_own<W: Witness>(view: &View<'_>, place: Place, path: &[u8], w: &mut W) -> bool {
    let acting = view.fs_credentials(place, w);
    let given = view.known_inode(place);
    if let Some(inode) = given {
        if let Some(Certainty::Assumed(text)) = view.doubt(place).map(|doubt| &doubt.attributes) {
            w.assume(|| text.clone());
        }
        return acting.owns(view.owner(place, inode).0);
    }
    if let Some(shown) = view.source(place).personality.shown() {
        return acting.owns(view.mount(place.mount).ids.to_kernel_uid(shown.uid));
    }
    // FOWNER counts for every owner in the actor's own namespace; only the initial one maps every id.
    if acting.capable(mivask_model::caps::Capability::Fowner) && is_native(view, place, w) {
        return true;
    }
    let (question, unknown) = match (place.inode, view.doubt(place).map(|doubt| &doubt.attributes)) {
        (Some(id), Some(Certainty::Unknown(unknown))) => {
            (MissingFact::Owner(place.source, id), unknown.clone())
        }
        _ => (MissingFact::PresumedOwner(path.to_vec()), view.unlisted(place)),
    };
    let name = view.name;
    let text = String::from_utf8_lossy(path).into_owned();
    w.choose(question, &unknown, 2, |option| match option {
        0 => format!("{name} owns {text}"),
        _ => format!("somebody else owns {text}"),
    }) == 0
}
