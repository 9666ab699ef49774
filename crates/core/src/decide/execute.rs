//! execve(2) (`do_open_execat`, `bprm_fill_uid` in fs/exec.c, fs/binfmt_script.c).

use crate::ids::{InsideGid, InsideUid};
use crate::mode::{Access, FileKind, Mode};
use crate::mount::MountFlags;
use crate::outcome::{Effect, Errno, RunsAs, Verdict};
use crate::trace::Check;
use crate::tree::{Certainty, Content};
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::Witness;

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
        return Ok(Effect { imprint: None, runs_as: runs_as(&mut walker, place) });
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

/// Set-user-id and set-group-id, unless the mount or the process forbids them (`bprm_fill_uid`).
fn runs_as<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Option<RunsAs> {
    let view = walker.view();
    let who = view.who;
    let mut uid = who.inside_uid()?;
    let mut gid = who.inside_gid()?;
    // Where owner and mode are unknown, so are the set-id bits.
    let inode = view.inode(place)?;
    if view.doubt(place).is_some_and(|doubt| matches!(doubt.attributes, Certainty::Unknown(_))) {
        return None;
    }
    let set_user = inode.mode.has(Mode::SET_USER_ID);
    // Set-group-id without group execute marks mandatory locking, not a program.
    let set_group = inode.mode.has(Mode::new(0o2010));
    if !set_user && !set_group {
        return Some(RunsAs { uid, gid });
    }
    let (owner, group) = view.owner(place, inode);
    let inside_owner = owner.and_then(|owner| who.namespace.to_inside_uid(owner));
    let inside_group = group.and_then(|group| who.namespace.to_inside_gid(group));
    let (Some(owner), Some(group)) = (inside_owner, inside_group) else {
        return Some(RunsAs { uid, gid });
    };
    if view.mount(place.mount).flags.has(MountFlags::NO_SUID) || who.no_new_privileges {
        walker.pass(Check::SetId, || {
            ("set-id bits do not count: nosuid or no-new-privileges".to_owned(), view.provenance(place))
        });
        return Some(RunsAs { uid, gid });
    }
    if set_user {
        uid = InsideUid::new(owner.raw());
    }
    if set_group {
        gid = InsideGid::new(group.raw());
    }
    walker.pass(Check::SetId, || (format!("set-id bits make it run as {uid}:{gid}"), view.provenance(place)));
    Some(RunsAs { uid, gid })
}
