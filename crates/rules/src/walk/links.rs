//! Following symbolic links (`pick_link`, `may_follow_link` in fs/namei.c).

use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::MountFlags;
use mivask_model::outcome::Errno;

use super::{Last, Target, Walker};
use crate::confined::Permission;
use crate::trace::Check;
use crate::view::Place;
use crate::witness::Witness;

/// Links followed in one walk before the kernel gives up (MAXSYMLINKS).
const MOST_LINKS: u32 = 40;

/// What a directory is where links in it are protected.
const SHARED: &str = "sticky and world-writable";

impl<'a, W: Witness> Walker<'a, '_, W> {
    /// The whole of a link's target in the middle of a path.
    pub(super) fn nested(&mut self, start: Place, target: &'a [u8]) -> Result<Place, Errno> {
        let (directory, last) = self.parent(start, target)?;
        let Last::Name(name, _) = last else {
            return Ok(self.dots(directory, last));
        };
        let Target::There(place) = self.lookup(directory, name)? else {
            return Err(self.fail(Check::Lookup, "the link points at nothing", directory, Errno::ENOENT));
        };
        if !self.view.is(place, FileKind::Link) {
            return Ok(place);
        }
        let target = self.follow(place, None)?;
        self.leave_last();
        self.nested(directory, target)
    }

    /// The target of a link, if the walk may follow it. `shared` is the directory that holds it
    /// where it is the last component of the whole path.
    pub(super) fn follow(&mut self, link: Place, shared: Option<Place>) -> Result<&'a [u8], Errno> {
        self.links += 1;
        if self.links > MOST_LINKS {
            return Err(self.fail(Check::Link, "more than 40 symbolic links on the way", link, Errno::ELOOP));
        }
        if let Some(directory) = shared {
            self.may_follow(link, directory)?;
        }
        if self.view.mount(link.mount).flags.has(MountFlags::NO_SYMFOLLOW) {
            return Err(self.fail_mount(
                Check::Link,
                "nosymfollow: links on this mount are not followed",
                link,
                Errno::ELOOP,
            ));
        }
        self.inode_has(link, Permission::Read)?;
        let view = self.view;
        let target = link.inode.and_then(|id| view.source(link).tree.target(id)).unwrap_or_default();
        self.pass(Check::Link, || {
            (format!("a symbolic link to {}", String::from_utf8_lossy(target)), view.provenance(link))
        });
        Ok(target)
    }

    /// `fs.protected_symlinks` (`may_follow_link`).
    fn may_follow(&mut self, link: Place, directory: Place) -> Result<(), Errno> {
        // Who only wants to know what is there is stopped by no protection of others.
        if W::ALL_SEEING {
            return Ok(());
        }
        let given = self.view.settings().protected_symlinks;
        if given == Some(0) || !self.asked_in(directory).has(Mode::new(0o1002), SHARED) {
            return Ok(());
        }
        let me = self.view.who.fsuid;
        if self.asked(link).is_of(me) || self.one_owner(link, directory) {
            return Ok(());
        }
        if self.view.setting("fs.protected_symlinks", given, 1, self.w) == 0 {
            return Ok(());
        }
        let fact = "fs.protected_symlinks: a link in a sticky world-writable directory is followed only for its owner or if the directory's owner made it";
        Err(self.fail(Check::ProtectedSymlink, fact, link, Errno::EACCES))
    }
}
