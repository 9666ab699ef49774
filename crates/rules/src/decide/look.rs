//! Looking without opening for data: stat, lstat, chdir, opendir.

use mivask_model::mode::{Access, FileKind};
use mivask_model::outcome::{Effect, Errno, Imprint, Verdict};
use mivask_model::personality::Personality;

use crate::confined::Permission;
use crate::imprint::{Stored, seen};
use crate::trace::Check;
use crate::usual_place::Expected;
use crate::view::{Place, View};
use crate::walk::{Follow, Walker};
use crate::witness::Witness;

/// stat(2), lstat(2): only the walk matters, except that FUSE may let no one look (`fuse_getattr`).
pub(super) fn inspect<'a, W: Witness>(
    view: &'a View<'a>,
    path: &'a [u8],
    follow: Follow,
    w: &mut W,
) -> Verdict {
    let mut walker = Walker::new(view, w);
    let place = walker.place(path, follow)?;
    walker.enters(place)?;
    walker.inode_has(place, Permission::Getattr)?;
    Ok(shown(&mut walker, place))
}

/// Owner, group and mode as `stat` shows them, as far as they are given.
fn shown<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place) -> Effect {
    let view = walker.view();
    let personality = &view.source(place).facts.personality;
    let overridden = matches!(personality, Personality::Fuse(fuse) if fuse.overrides);
    if overridden || view.inode(place).is_none() {
        return Effect { imprint: Some(Imprint::default()), runs_as: None };
    }
    let owner = view.owner(place).and_then(|owner| owner.value());
    let mode = walker.asked(place).mode();
    let stored = Stored { uid: owner.map(|owner| owner.uid), gid: owner.map(|owner| owner.gid), mode };
    let stored = match personality.shown() {
        Some(shown) => Stored { uid: Some(shown.uid), gid: Some(shown.gid), ..stored },
        None => stored,
    };
    Effect { imprint: Some(seen(view, place, stored, None)), runs_as: None }
}

/// chdir(2): a directory, and search permission on it.
pub(super) fn enter<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    walker.expect(Expected::Directory);
    let place = walker.place(path, Follow::Links)?;
    directory(&mut walker, place, Access::EXECUTE)
}

/// opendir(3) and readdir(3): a directory, and read permission on it.
pub(super) fn list<'a, W: Witness>(view: &'a View<'a>, path: &'a [u8], w: &mut W) -> Verdict {
    let mut walker = Walker::new(view, w);
    walker.expect(Expected::Directory);
    let place = walker.place(path, Follow::Links)?;
    directory(&mut walker, place, Access::READ)
}

/// The part of both that comes after the walk.
pub(super) fn directory<W: Witness>(walker: &mut Walker<'_, '_, W>, place: Place, access: Access) -> Verdict {
    if walker.view().is_not(place, FileKind::Directory) {
        return Err(walker.fail(Check::Kind, "not a directory", place, Errno::ENOTDIR));
    }
    walker.permit(place, access)?;
    if access.grants(Access::READ) {
        walker.file_open(place)?;
    }
    Ok(Effect::default())
}
