//! Looking without opening for data: stat, lstat, chdir, opendir.

use crate::act::Verb;
use crate::mode::{Access, FileKind};
use crate::outcome::{Effect, Errno, Verdict};
use crate::trace::Check;
use crate::view::View;
use crate::walk::{Follow, Walker};
use crate::witness::Witness;

/// stat(2), lstat(2): only the walk matters.
pub(super) fn inspect<'a, W: Witness>(view: &'a View<'a>, verb: Verb, path: &'a [u8], w: &mut W) -> Verdict {
    let follow = if verb == Verb::InspectsLink { Follow::AllButLast } else { Follow::Links };
    Walker::new(view, w).place(path, follow)?;
    Ok(Effect::default())
}

/// chdir(2): a directory, and search permission on it.
pub(super) fn enter<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    directory(view, path, Access::EXECUTE, w)
}

/// opendir(3) and readdir(3): a directory, and read permission on it.
pub(super) fn list<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    directory(view, path, Access::READ, w)
}

fn directory<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], access: Access, w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, Follow::Links)?;
    if view.is_not(place, FileKind::Directory) {
        return Err(walker.fail(Check::Kind, "not a directory", place, Errno::ENOTDIR));
    }
    walker.permit(place, access)?;
    Ok(Effect::default())
}
