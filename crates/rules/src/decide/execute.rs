//! execve(2): what can be started (`do_open_execat` in fs/exec.c, fs/binfmt_script.c).

mod privileges;

use mivask_model::credentials::Credentials;
use mivask_model::mode::{Access, FileKind, Mode};
use mivask_model::mount::MountFlags;
use mivask_model::outcome::{Effect, Errno, RunsAs, Verdict};
use mivask_model::tree::Content;

use crate::trace::Check;
use crate::view::{Place, View};
use crate::walk::Domain;
use crate::walk::{Follow, Walker};
use crate::witness::{MissingFact, Subject, Witness};
use privileges::{privileges, without_set_id};

/// Interpreters of interpreters the kernel follows before it gives up.
const MOST_INTERPRETERS: usize = 5;

/// Starts the program at `path`.
pub(super) fn run<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    let runs_as = start(view, path, 0, w)?.and_then(|who| {
        let (uid, gid) = (who.inside_uid()?, who.inside_gid()?);
        Some(RunsAs { uid, gid, effective: who.effective, permitted: who.permitted })
    });
    Ok(Effect { imprint: None, runs_as })
}

/// What the process behind `view` is once it has started the program at `path`; `None` where that is not known.
///
/// # Errors
/// Why the kernel does not start it.
pub fn start_program<'a, W: Witness>(
    view: &'a View<'a>,
    path: &'a [u8],
    w: &mut W,
) -> Result<Option<Credentials>, Errno> {
    start(view, path, 0, w)
}

fn start<'a, W: Witness>(
    view: &'a View<'a>,
    path: &'a [u8],
    depth: usize,
    w: &mut W,
) -> Result<Option<Credentials>, Errno> {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    executable(&mut walker, place)?;
    // The label of the process follows from the first file alone, whatever its interpreter is.
    let domain = if depth == 0 { walker.exec(place)? } else { Domain::Kept };
    let Some(interpreter) = interpreter(&mut walker, place)? else {
        return privileges(&mut walker, place);
    };
    if depth == MOST_INTERPRETERS {
        return Err(walker.fail(Check::Format, "more than five interpreters in a row", place, Errno::ELOOP));
    }
    if domain == Domain::Changed {
        walker.assume(|path| {
            format!("the domain that {path} starts may use its interpreter as the one that starts it may")
        });
    }
    let started = start(view, interpreter, depth + 1, w)?;
    // Only then the interpreter opens the script, as whoever it runs as.
    let opens = match &started {
        Some(who) => Some(who.clone()),
        None => match opened_by_nobody_known(view, (interpreter, path), w)? {
            Opens::As(who) => who,
            Opens::Granted => return Ok(None),
            Opens::Refused => return Err(Errno::EACCES),
        },
    };
    let view = view.of(opens.as_ref().unwrap_or(view.who));
    let mut walker = Walker::new(&view, w);
    let place = walker.place(path, Follow::Links)?;
    walker.permit(place, Access::READ)?;
    walker.file_open(place)?;
    Ok(started)
}

/// Who opens a script.
enum Opens {
    /// Somebody known; `None` for the caller, who has no ids to speak of.
    As(Option<Credentials>),
    /// Somebody who may.
    Granted,
    /// Somebody who may not.
    Refused,
}

/// Where it is not known whom the interpreter runs as, since it may be set-id.
fn opened_by_nobody_known<W: Witness>(
    view: &View<'_>,
    (interpreter, script): (&[u8], &[u8]),
    w: &mut W,
) -> Result<Opens, Errno> {
    let mut walker = Walker::new(view, w);
    let place = walker.place(interpreter, Follow::Links)?;
    let counts = !view.who.no_new_privileges && !view.mount(place.mount).flags.has(MountFlags::NO_SUID);
    let is_set_id = counts
        && (walker.asked(place).has(Mode::SET_USER_ID, "set-user-id")
            || walker.asked(place).has(Mode::new(0o2010), "set-group-id and runs for its group"));
    if !is_set_id {
        return Ok(Opens::As(without_set_id(&walker, place)));
    }
    let unknown = view
        .doubt(place)
        .and_then(|doubt| doubt.unknown_attribute())
        .cloned()
        .unwrap_or_else(|| view.unlisted(place));
    let at = String::from_utf8_lossy(script).into_owned();
    let question = MissingFact::Grants(Subject::Path(script.to_vec()), Access::READ);
    let describe = |option| {
        let may = if option == 0 { "may" } else { "may not" };
        format!("whoever the interpreter runs as {may} read {at}")
    };
    Ok(match walker.witness().choose(question, &unknown, 2, describe) {
        0 => Opens::Granted,
        _ => Opens::Refused,
    })
}

/// Starting what is at `place`; `None` for a script, whose interpreter takes a walk of its own.
pub(super) fn run_program<W: Witness>(
    walker: &mut Walker<'_, '_, W>,
    place: Place,
) -> Option<Result<(), Errno>> {
    let checked =
        executable(walker, place).and_then(|()| walker.exec(place)).and_then(|_| interpreter(walker, place));
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
    walker.permit(place, Access::EXECUTE)?;
    walker.program_open(place)
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
