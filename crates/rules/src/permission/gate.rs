//! Who has a say besides the bits: the mounter of a FUSE filesystem, a server behind a mount.

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::outcome::Errno;
use mivask_model::personality::Personality;

use super::step;
use crate::trace::{Check, StepResult};
use crate::view::{Place, View};
use crate::witness::{MissingFact, Witness};

/// What comes next.
pub(super) enum Gate {
    /// The bits decide.
    Bits,
    /// It is decided already, and allowed.
    Open,
}

/// The check before the bits.
///
/// # Errors
/// EACCES
pub(super) fn gate<W: Witness>(
    view: &View<'_>,
    place: Place,
    wanted: Access,
    path: &[u8],
    w: &mut W,
) -> Result<Gate, Errno> {
    match &view.source(place).facts.personality {
        Personality::Fuse(fuse) => {
            enters(view, place, path, w)?;
            if fuse.goes_by_bits() {
                return Ok(Gate::Bits);
            }
            // The kernel itself only asks a program for some x bit (`fuse_permission`).
            let bare = !fuse.overrides
                && view.is(place, FileKind::File)
                && view
                    .mode(place)
                    .is_some_and(|mode| mode.is_some_and(|mode| !mode.has_any(Mode::ANY_EXECUTE)));
            if wanted.grants(Access::EXECUTE) && bare {
                let fact = "no x bit at all is set".to_owned();
                let from = view.provenance(place);
                w.step(|| step(path, Check::OtherBits, fact, from, StepResult::Failed(Errno::EACCES)));
                return Err(Errno::EACCES);
            }
            ask(view, place, path, w).map(|()| Gate::Open)
        }
        Personality::Cifs(cifs) if cifs.unchecked => ask(view, place, path, w).map(|()| Gate::Open),
        Personality::Native(_)
        | Personality::Tmpfs(_)
        | Personality::Overlay
        | Personality::Image
        | Personality::Fat(_)
        | Personality::Ntfs(_)
        | Personality::Cifs(_)
        | Personality::Nfs(_)
        | Personality::Kernel(_)
        | Personality::Remote(_) => Ok(Gate::Bits),
    }
}

/// Whether a FUSE mount lets the actor in at all; root and capabilities do not help
/// (`fuse_allow_current_process`).
///
/// # Errors
/// EACCES
pub(crate) fn enters<W: Witness>(view: &View<'_>, place: Place, path: &[u8], w: &mut W) -> Result<(), Errno> {
    let Personality::Fuse(fuse) = &view.source(place).facts.personality else {
        return Ok(());
    };
    if fuse.allow_other || (view.who.fsuid.is(fuse.uid) && view.who.fsgid.is(fuse.gid)) {
        return Ok(());
    }
    w.step(|| {
        let fact = format!(
            "a FUSE mount without allow_other lets in {}:{} alone, its mounter; root too stays outside",
            fuse.uid, fuse.gid
        );
        let from = view.mount(place.mount).facts.from.clone();
        step(path, Check::Fuse, fact, from, StepResult::Failed(Errno::EACCES))
    });
    Err(Errno::EACCES)
}

/// The server behind the mount, where it may still refuse what the bits gave.
///
/// # Errors
/// EACCES where it is taken to refuse.
pub(super) fn server<W: Witness>(view: &View<'_>, place: Place, path: &[u8], w: &mut W) -> Result<(), Errno> {
    if view.source(place).facts.personality.has_server() { ask(view, place, path, w) } else { Ok(()) }
}

/// Whether a FUSE program, and not the kernel, decides who changes owner, mode and times of `place`: its answer, taken both ways.
/// Without default_permissions the kernel leaves even the owner's check out (`fuse_do_setattr`, ATTR_FORCE).
///
/// # Errors
/// EACCES
pub(crate) fn program_decides<W: Witness>(
    view: &View<'_>,
    place: Place,
    path: &[u8],
    w: &mut W,
) -> Option<Result<(), Errno>> {
    let Personality::Fuse(fuse) = &view.source(place).facts.personality else { return None };
    (!fuse.goes_by_bits()).then(|| ask(view, place, path, w))
}

fn ask<W: Witness>(view: &View<'_>, place: Place, path: &[u8], w: &mut W) -> Result<(), Errno> {
    let source = view.source(place);
    let name = &source.facts.name;
    let unknown = Unknown::new(
        &format!("what the server behind {name} allows"),
        "no scene can supply it: look at the server's own rules",
    );
    let describe = |option: usize| match option {
        0 => format!("the server behind {name} allows it"),
        _ => format!("the server behind {name} refuses it"),
    };
    let allows = w.choose(MissingFact::Server(place.source), &unknown, 2, describe) == 0;
    let result = if allows { StepResult::Passed } else { StepResult::Failed(Errno::EACCES) };
    w.step(|| {
        let fact = format!("the server decides; taken to {}", if allows { "allow it" } else { "refuse it" });
        step(path, Check::Server, fact, Provenance::Unknown(unknown.fact.clone()), result)
    });
    if allows { Ok(()) } else { Err(Errno::EACCES) }
}
