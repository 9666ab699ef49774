//! Creating directories, and new entries of any name.

use super::writable::{creatable, may_create};
use crate::imprint::{NewKind, imprint};
use crate::mode::{Access, FileKind, Mode};
use crate::outcome::{Effect, Errno, Verdict};
use crate::trace::Check;
use crate::view::View;
use crate::walk::{Follow, Last, Target, Walker};
use crate::witness::Witness;

/// mkdir(2).
pub(super) fn make_directory<'a, W: Witness>(
    view: &'a View<'a>,
    mode: Mode,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    // mkdir takes slashes behind the new name and never follows it.
    let (directory, last) = walker.parent_of(path)?;
    let Last::Name(name, _) = last else {
        return Err(walker.fail(Check::Kind, "`/`, `.` and `..` exist already", directory, Errno::EEXIST));
    };
    if let Target::There(place) = walker.lookup(directory, name)? {
        return Err(walker.fail(
            Check::Kind,
            "something of that name is there already",
            place,
            Errno::EEXIST,
        ));
    }
    may_create(&mut walker, directory)?;
    Ok(Effect { imprint: Some(imprint(&mut walker, directory, NewKind::Directory, mode)), runs_as: None })
}

/// Creating below the directory at `path`, under a free name.
pub(super) fn new_entry<'a, W: Witness>(
    view: &'a View<'a>,
    kind: NewKind,
    mode: Mode,
    path: &'a [u8],
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let directory = walker.place(path, Follow::Links)?;
    if view.is_not(directory, FileKind::Directory) {
        return Err(walker.fail(Check::Kind, "not a directory", directory, Errno::ENOTDIR));
    }
    walker.permit(directory, Access::EXECUTE)?;
    creatable(&mut walker, directory)?;
    walker.permit(directory, Access::WRITE_EXECUTE)?;
    Ok(Effect { imprint: Some(imprint(&mut walker, directory, kind, mode)), runs_as: None })
}
