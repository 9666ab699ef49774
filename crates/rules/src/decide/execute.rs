//! execve(2): what can be started (`do_open_execat` in fs/exec.c, fs/binfmt_script.c).

mod privileges;

use mivask_model::mode::{Access, FileKind};
use mivask_model::mount::MountFlags;
use mivask_model::outcome::{Effect, Errno, Verdict};
use mivask_model::tree::Content;

use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::Witness;
use privileges::privileges;

/// Interpreters of interpreters the kernel follows before it gives up.
const MOST_INTERPRETERS: usize = 5;

/// Starts the program at `path`.
pub(super) fn run<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    start(view, path, 0, w)
}

fn start<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], depth: usize, w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    executable(&mut walker, place)?;
    let Some(interpreter) = interpreter(&mut walker, place)? else {
        return Ok(Effect { imprint: None, runs_as: privileges(&mut walker, place)? });
    };
    if depth == MOST_INTERPRETERS {
        return Err(walker.fail(Check::Format, "more than five interpreters in a row", place, Errno::ELOOP));
    }
    let effect = start(view, interpreter, depth + 1, w)?;
    // Only then the interpreter opens the script, as the same identity.
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    walker.permit(place, Access::READ)?;
    Ok(effect)
}

/// Starting what is at `place`; `None` for a script, whose interpreter takes a walk of its own.
pub(super) fn run_program<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
) -> Option<Result<(), Errno>> {
    let checked = executable(walker, place).and_then(|()| interpreter(walker, place));
    match checked {
        Err(errno) => Some(Err(errno)),
        Ok(Some(_)) => None,
        Ok(None) => Some(privileges(walker, place).map(drop)),
    }
}

fn executable<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Result<(), Errno> {
    let view = walker.view();
    if view.is_not(place, FileKind::File) {
        return Err(walker.fail(Check::Kind, "only regular files can be run", place, Errno::EACCES));
    }
    if view.mount(place.mount).flags.has(MountFlags::NO_EXEC) {
        return Err(walker.fail_mount(
            Check::NoExec,
            "noexec: nothing on this mount can be run",
            place,
            Errno::EACCES,
        ));
    }
    walker.permit(place, Access::EXECUTE)
}

/// The interpreter of a script, `None` for a program.
fn interpreter<'a, W: Witness>(
    walker: &mut Walker<'a, '_, W>,
    place: Place,
) -> Result<Option<&'a [u8]>, Errno> {
    let view: &'a View<'a> = walker.view();
    let content = place.inode.map_or(&Content::Unknown, |id| view.source(place).tree.content(id));
    match content {
        Content::Program => Ok(None),
        Content::Script(interpreter) => Ok(Some(interpreter)),
        Content::Data | Content::Empty => {
            Err(walker.fail(Check::Format, "no format the kernel can run", place, Errno::ENOEXEC))
        }
        Content::Unknown => {
            // What the bytes are is rarely in doubt where an x bit is set, so this is an assumption.
            walker.assume(|path| format!("{path} is a program the kernel can run"));
            Ok(None)
        }
    }
}
