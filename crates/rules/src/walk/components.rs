//! Going through the components of a path, `.` and `..` among them (`link_path_walk`, `follow_dotdot`).

use mivask_model::mode::{Access, FileKind};
use mivask_model::outcome::Errno;
use mivask_model::tree::Tree;

use super::{Last, Slash, Target, Walker};
use crate::trace::Check;
use crate::usual_place::Expected;
use crate::view::Place;
use crate::witness::Witness;

/// Longest path the kernel takes, without the final NUL (PATH_MAX - 1).
const LONGEST_PATH: usize = 4095;

impl<'a, W: Witness> Walker<'a, '_, W> {
    /// Walks all components but the last. Every directory needs search permission, the one that
    /// holds the last component included (`link_path_walk`).
    pub(super) fn parent(&mut self, start: Place, path: &'a [u8]) -> Result<(Place, Last<'a>), Errno> {
        if path.is_empty() {
            return Err(Errno::ENOENT);
        }
        if path.len() > LONGEST_PATH {
            return Err(Errno::ENAMETOOLONG);
        }
        let mut here = start;
        if path[0] == b'/' {
            here = self.root();
            self.path.clear();
        }
        self.presumed = (None, 0);
        let mut rest = skip_slashes(path);
        if rest.is_empty() {
            return Ok((here, Last::Root));
        }
        loop {
            self.permit(here, Access::EXECUTE)?;
            let end = rest.iter().position(|byte| *byte == b'/').unwrap_or(rest.len());
            let (name, after) = rest.split_at(end);
            rest = skip_slashes(after);
            if rest.is_empty() {
                let slash = if after.is_empty() { Slash::Absent } else { Slash::Trailing };
                let last = match name {
                    b"." => Last::Dot,
                    b".." => Last::DotDot,
                    _ => Last::Name(name, slash),
                };
                self.name = if let Last::Name(name, _) = last { Some(name) } else { None };
                return Ok((here, last));
            }
            here = self.through(here, name)?;
        }
    }

    /// One component that others follow.
    fn through(&mut self, here: Place, name: &'a [u8]) -> Result<Place, Errno> {
        let mut next = match name {
            b"." => here,
            b".." => self.up(here),
            _ => match self.lookup_on_the_way(here, name)? {
                Target::There(place) => place,
                Target::Missing => {
                    return Err(self.fail(Check::Lookup, "no such entry", here, Errno::ENOENT));
                }
            },
        };
        if self.view.is(next, FileKind::Link) {
            let target = self.follow(next, None)?;
            self.leave_last();
            next = self.nested(here, target)?;
        }
        if self.view.is_not(next, FileKind::Directory) {
            return Err(self.fail(
                Check::Kind,
                "not a directory, but the path goes on below it",
                next,
                Errno::ENOTDIR,
            ));
        }
        Ok(next)
    }

    fn lookup_on_the_way(&mut self, here: Place, name: &[u8]) -> Result<Target, Errno> {
        let last = std::mem::replace(&mut self.last, Expected::Directory);
        let target = self.lookup(here, name);
        self.last = last;
        target
    }

    pub(super) fn dots(&mut self, directory: Place, last: Last<'_>) -> Place {
        match last {
            Last::DotDot => self.up(directory),
            Last::Dot | Last::Root | Last::Name(..) => directory,
        }
    }

    /// `..`: never above the actor's root; out of a mount onto what it covers (`follow_dotdot`).
    fn up(&mut self, here: Place) -> Place {
        self.leave_last();
        if let (Some(above), count @ 1..) = self.presumed {
            self.presumed.1 = count - 1;
            return if count == 1 { above } else { here };
        }
        let (mut mount, mut inode) = (here.mount, here.inode);
        loop {
            let facts = self.view.mount(mount);
            // What a mount shows of a tree that is not given is the root of that tree.
            let root = facts.root.or(inode.filter(|inode| *inode == Tree::ROOT));
            if inode != root {
                break;
            }
            match facts.on {
                None => return self.root(),
                Some((below, covered)) => (mount, inode) = (below, Some(covered)),
            }
        }
        let Some(inode) = inode else { return here };
        let place = if mount == here.mount { here } else { self.view.root_of(mount, self.w) };
        let parent = self.view.source(place).tree.parent(inode);
        self.view.cross(Place { inode: Some(parent), ..place }, self.w)
    }
}

fn skip_slashes(path: &[u8]) -> &[u8] {
    let start = path.iter().position(|byte| *byte != b'/').unwrap_or(path.len());
    &path[start..]
}
