//! Path resolution across directories, links and mounts (fs/namei.c, path_resolution(7)).

mod components;
mod exec;
mod hooks;
mod links;
mod report;

use mivask_model::devices::{Guess, guess};
use mivask_model::fact::Unknown;
use mivask_model::mode::{Access, FileKind};
use mivask_model::mount::MountTable;
use mivask_model::outcome::Errno;
use mivask_model::tree::{Certainty, Marks};

pub(crate) use exec::Domain;
pub(crate) use hooks::Named;

use crate::asked::Asked;
use crate::fs_credentials::FsCredentials;
use crate::permission::{enters, permission, program_decides};
use crate::trace::Check;
use crate::usual_place::{self, Expected};
use crate::view::{Place, View};
use crate::witness::{MissingFact, Witness};

/// What is assumed of everything that is only presumed to be there.
pub(crate) const PRESUMED_KIND: &str = "what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only";

/// Longest name of one component.
const LONGEST_NAME: usize = 255;

/// Whether the last component is followed if it is a symbolic link.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Follow {
    /// To its end.
    Links,
    /// To its end, as in front of a further name: what protects links at the end of a path does not count.
    OnTheWay,
    /// The link itself is meant.
    AllButLast,
}

/// What the last component of a path is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Last<'p> {
    /// An ordinary name, and whether slashes follow it.
    Name(&'p [u8], Slash),
    /// Nothing but slashes: the root itself.
    Root,
    /// `.`
    Dot,
    /// `..`
    DotDot,
}

/// Whether slashes follow the last name.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Slash {
    /// None.
    Absent,
    /// At least one: only a directory will do.
    Trailing,
}

/// What is at the last component.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Target {
    /// Something, mounts on top of it included.
    There(Place),
    /// Nothing; the directory is known.
    Missing,
}

/// The end of a walk: a directory, the last name in it, and what is there.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Arrival<'p> {
    /// The directory that holds the last component.
    pub directory: Place,
    /// The last component.
    pub last: Last<'p>,
    /// Whether slashes followed its name, or that of a link that led here: then only a directory will do.
    pub slashes: Slash,
    /// What is there.
    pub target: Target,
}

/// What a walk is for.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Purpose {
    Find,
    Create,
}

/// One walk: it counts the links it follows and remembers the path for the trace.
#[derive(Debug)]
pub struct Walker<'a, 'w, W> {
    view: &'a View<'a>,
    w: &'w mut W,
    links: u32,
    path: Vec<u8>,
    /// The last directory before the names that are only presumed, and how many of these there are.
    presumed: (Option<Place>, u32),
    /// What the last name is expected to be.
    pub(crate) last: Expected,
    /// The last component of the path that was walked last, where it is a name.
    pub(crate) name: Option<&'a [u8]>,
}

impl<'a, 'w, W: Witness> Walker<'a, 'w, W> {
    /// A walker at the actor's root.
    pub fn new(view: &'a View<'a>, w: &'w mut W) -> Self {
        Self {
            view,
            w,
            links: 0,
            path: Vec::new(),
            presumed: (None, 0),
            last: Expected::Anything,
            name: None,
        }
    }

    /// The place `path` leads to.
    ///
    /// # Errors
    /// Any error of the walk, ENOENT where nothing is there, ENOTDIR where slashes follow a non-directory.
    pub fn place(&mut self, path: &'a [u8], follow: Follow) -> Result<Place, Errno> {
        let arrival = self.arrive(path, follow)?;
        let Target::There(place) = arrival.target else {
            return Err(self.missing(&arrival));
        };
        if arrival.slashes == Slash::Trailing && self.view.is_not(place, FileKind::Directory) {
            return Err(self.fail(
                Check::Kind,
                "a slash follows the name of a non-directory",
                place,
                Errno::ENOTDIR,
            ));
        }
        Ok(place)
    }

    /// Walks to the last component and looks it up, following it as `follow` and slashes say.
    ///
    /// # Errors
    /// Any error of the walk; that nothing is there is no error here.
    pub fn arrive(&mut self, path: &'a [u8], follow: Follow) -> Result<Arrival<'a>, Errno> {
        self.go(path, follow, Purpose::Find)
    }

    /// The same for an open with O_CREAT: slashes behind the last name, or behind that of a link on
    /// the way to it, are EISDIR before anything is looked up.
    ///
    /// # Errors
    /// EISDIR, and any error of the walk.
    pub fn arrive_to_create(&mut self, path: &'a [u8], follow: Follow) -> Result<Arrival<'a>, Errno> {
        self.go(path, follow, Purpose::Create)
    }

    /// Says what the last name of the next path is expected to be.
    pub(crate) const fn expect(&mut self, last: Expected) {
        self.last = last;
    }

    fn go(&mut self, path: &'a [u8], follow: Follow, purpose: Purpose) -> Result<Arrival<'a>, Errno> {
        let mut start = self.root();
        let mut path = path;
        let mut slashes = Slash::Absent;
        loop {
            let (directory, last) = self.parent(start, path)?;
            let Last::Name(name, slash) = last else {
                let place = self.dots(directory, last);
                return Ok(Arrival { directory, last, slashes, target: Target::There(place) });
            };
            if slash == Slash::Trailing {
                slashes = slash;
                if purpose == Purpose::Create {
                    let fact = "a slash follows the name of a file to create";
                    return Err(self.fail(Check::Kind, fact, directory, Errno::EISDIR));
                }
            }
            let target = self.lookup(directory, name)?;
            let arrival = Arrival { directory, last, slashes, target };
            let Target::There(place) = target else {
                return Ok(arrival);
            };
            // Once slashes were seen, every further link is followed too.
            let followed = follow != Follow::AllButLast || slashes == Slash::Trailing;
            if !followed || !self.view.is(place, FileKind::Link) {
                return Ok(arrival);
            }
            path = self.follow(place, (follow != Follow::OnTheWay).then_some(directory))?;
            start = directory;
            self.leave_last();
        }
    }

    /// The parent of the last component and that component; the parent is not yet looked into.
    ///
    /// # Errors
    /// Any error of the walk up to the parent.
    pub fn parent_of(&mut self, path: &'a [u8]) -> Result<(Place, Last<'a>), Errno> {
        let start = self.root();
        self.parent(start, path)
    }

    /// Looks `name` up in `directory`, which the walk has searched already.
    ///
    /// # Errors
    /// ENAMETOOLONG.
    pub fn lookup(&mut self, directory: Place, name: &[u8]) -> Result<Target, Errno> {
        self.enter_name(name);
        if name.len() > LONGEST_NAME {
            return Err(self.fail(
                Check::Lookup,
                "a name of more than 255 bytes",
                directory,
                Errno::ENAMETOOLONG,
            ));
        }
        let tree = &self.view.source(directory).tree;
        let Some(dir) = directory.inode else {
            let unknown = self.view.unlisted(directory);
            return Ok(self.presume(directory, &unknown));
        };
        if let Some(found) = tree.lookup(dir, name) {
            let place = Place { inode: Some(found), ..directory };
            let crossed = self.view.cross(place, self.w);
            if crossed.mount != directory.mount {
                self.note_mount(crossed);
            } else if !W::ALL_SEEING && self.view.is_of_unknown_kind(crossed) {
                return Ok(Target::There(self.presumed_in(directory)));
            }
            return Ok(Target::There(crossed));
        }
        match self.view.doubt(directory).map(|doubt| &doubt.contents) {
            None | Some(Certainty::Known) => Ok(Target::Missing),
            Some(Certainty::Assumed(text)) => {
                self.w.assume(|| text.clone());
                Ok(Target::Missing)
            }
            Some(Certainty::Unknown(_))
                if self.view.has_marks(directory, Marks::DEVICES) && guess(name) == Guess::Nothing =>
            {
                self.assume(|path| format!("no device of the host is called {path}"));
                Ok(Target::Missing)
            }
            Some(Certainty::Unknown(unknown)) => Ok(self.presume(directory, unknown)),
        }
    }

    /// The entry `name` of `directory` itself, not what is mounted on it.
    ///
    /// # Errors
    /// ENAMETOOLONG.
    pub fn entry(&mut self, directory: Place, name: &[u8]) -> Result<Target, Errno> {
        let found = self.lookup(directory, name)?;
        let Target::There(place) = found else {
            return Ok(found);
        };
        if place.mount == directory.mount {
            return Ok(found);
        }
        let inode = directory.inode.and_then(|dir| self.view.source(directory).tree.lookup(dir, name));
        Ok(Target::There(Place { inode, ..directory }))
    }

    /// Whether the inode at `place` is a directory. A mount point of which that is not known is what is mounted on it.
    pub fn is_directory(&mut self, place: Place) -> bool {
        let seen = if self.view.is_of_unknown_kind(place) { self.view.cross(place, self.w) } else { place };
        self.view.is(seen, FileKind::Directory)
    }

    /// Starts a second walk, with a count of links of its own; gives the path of the first back.
    pub fn restart(&mut self) -> Vec<u8> {
        self.links = 0;
        std::mem::take(&mut self.path)
    }

    /// Lets further checks speak of another path; gives the current one back.
    pub fn turn_to(&mut self, path: Vec<u8>) -> Vec<u8> {
        std::mem::replace(&mut self.path, path)
    }

    /// The current path may or may not be there.
    fn presume(&mut self, directory: Place, unknown: &Unknown) -> Target {
        let path = self.path_text().into_owned();
        let describe = |option| match option {
            0 => format!("{path} is there"),
            _ => format!("{path} is missing"),
        };
        let usual = || usual_place::existence(self.view, directory, &self.path, unknown, self.last);
        let question = MissingFact::Exists(self.path.clone());
        let chosen = self.w.choose_usually(question, unknown, 2, (usual, describe));
        if chosen != 0 {
            return Target::Missing;
        }
        Target::There(self.presumed_in(directory))
    }

    /// What is presumed to be in `directory`.
    fn presumed_in(&mut self, directory: Place) -> Place {
        self.w.assume(|| PRESUMED_KIND.into());
        let (above, count) = self.presumed;
        self.presumed = if count == 0 { (Some(directory), 1) } else { (above, count + 1) };
        Place { inode: None, ..directory }
    }

    /// Checks `access` on `place`, with the current path in the trace.
    ///
    /// # Errors
    /// The first check of one inode that fails: EROFS, EPERM or EACCES.
    pub fn permit(&mut self, place: Place, access: Access) -> Result<(), Errno> {
        permission(self.view, place, access, &self.path, self.w)
    }

    /// Checks `access` on the directory that holds the last component, whose path is one shorter.
    ///
    /// # Errors
    /// The first check of one inode that fails: EROFS, EPERM or EACCES.
    pub fn permit_in(&mut self, directory: Place, access: Access) -> Result<(), Errno> {
        let end = self.path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
        permission(self.view, directory, access, &self.path[..end], self.w)
    }

    /// Questions about owner and mode of `place`, which the current path names.
    pub(crate) fn asked(&mut self, place: Place) -> Asked<'a, '_, W> {
        Asked::new(self.view, place, &self.path, self.w)
    }

    /// The same about the directory that holds the last component.
    pub(crate) fn asked_in(&mut self, directory: Place) -> Asked<'a, '_, W> {
        let end = self.path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
        Asked::new(self.view, directory, &self.path[..end], self.w)
    }

    /// Whether the entry at the current path and the directory that holds it have one owner.
    pub(crate) fn one_owner(&mut self, place: Place, directory: Place) -> bool {
        let end = self.path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
        Asked::new(self.view, place, &self.path, self.w).is_of_owner_of(directory, &self.path[..end])
    }

    /// Whether the actor owns `place` or counts as its owner; asks where the owner is not known.
    pub(crate) fn owns(&mut self, place: Place) -> bool {
        let acting = self.fs_credentials(place);
        self.asked(place).is_owned(&acting)
    }

    /// What a FUSE program answers, where it decides and not the kernel.
    pub(crate) fn program_decides(&mut self, place: Place) -> Option<Result<(), Errno>> {
        program_decides(self.view, place, &self.path, self.w)
    }

    /// Whether a FUSE mount at `place` lets the actor in at all.
    ///
    /// # Errors
    /// EACCES
    pub(crate) fn enters(&mut self, place: Place) -> Result<(), Errno> {
        enters(self.view, place, &self.path, self.w)
    }

    /// Who acts on the filesystem of `place`.
    pub(crate) fn fs_credentials(&mut self, place: Place) -> FsCredentials<'a> {
        self.view.fs_credentials(place, self.w)
    }

    /// The witness of the walk.
    pub fn witness(&mut self) -> &mut W {
        self.w
    }

    /// What is walked over.
    pub fn view(&self) -> &'a View<'a> {
        self.view
    }

    fn root(&mut self) -> Place {
        let root = self.view.root_of(MountTable::ROOT, self.w);
        self.view.cross(root, self.w)
    }

    fn enter_name(&mut self, name: &[u8]) {
        if W::TRACING {
            self.path.push(b'/');
            self.path.extend_from_slice(name);
        }
    }

    fn leave_last(&mut self) {
        let end = self.path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
        self.path.truncate(end);
    }
}
