//! One thread that lists directories.

use std::ffi::CStr;
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::Unknown;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Content, Device, Doubt, Extended, Marks};
use rustix::fs::{Mode as OpenMode, OFlags, RawDir, RawDirEntry, ResolveFlags, Statx};
use rustix::io::Errno;

use super::finished::Bringer;
use super::listing::{Found, Listing, Rare};
use super::look::{self, Attributes};
use super::pool::{Anchor, Job, Pool};
use super::{Options, Watch};
use crate::gathered::Holes;

/// The longest path one call takes; longer ones are opened piece by piece (`PATH_MAX` is 4,096).
const LONGEST: usize = 4000;

/// Entries of a directory after which it is plain that it answers.
const MANY: usize = 1 << 14;

/// Bytes of a path from which on a directory becomes the anchor of those in it.
const FAR: usize = 512;

pub(super) struct Lister<'a> {
    pub root: &'a OwnedFd,
    pub root_device: u64,
    /// The path of the root, for words.
    pub shown: &'a [u8],
    pub options: &'a Options,
    pub watch: &'a Watch<'a>,
    pub pool: &'a Pool,
    attributes: Attributes,
    buffer: Box<[MaybeUninit<u8>]>,
}

impl<'a> Lister<'a> {
    pub(super) fn new(
        root: &'a OwnedFd,
        root_device: u64,
        shown: &'a [u8],
        options: &'a Options,
        watch: &'a Watch<'a>,
        pool: &'a Pool,
    ) -> Self {
        let buffer = vec![MaybeUninit::uninit(); 1 << 16].into_boxed_slice();
        Self { root, root_device, shown, options, watch, pool, attributes: Attributes::new(), buffer }
    }

    /// Lists until nothing is left.
    pub(super) fn run(&mut self, bringer: &Bringer<'_>) {
        while let Some(job) = self.pool.take() {
            let mut listing = Listing::default();
            let mut found = Vec::new();
            let mut anchor = job.anchor.clone();
            match self.list(&job, &mut listing, &mut found) {
                Ok(Some(open)) => {
                    let (above, path) = (job.anchor.clone(), job.path.clone());
                    anchor = Some(Arc::new(Anchor { open, above, path }));
                }
                Ok(None) => {}
                Err(error) => self.unlisted(&job, error, &mut listing),
            }
            listing.sort();
            (self.watch)(listing.entries.len() as u64);
            let directories = || listing.entries.iter().filter_map(|entry| entry.directory);
            // Sorted as their names are: whoever puts the tree together asks for them in that order.
            let paths = directories().map(|place| std::mem::take(&mut found[place as usize])).collect();
            let numbers = self.pool.done((job.number, listing.entries.len()), anchor.as_ref(), paths);
            for (entry, number) in
                listing.entries.iter_mut().filter(|one| one.directory.is_some()).zip(numbers)
            {
                // Until now it was the place among the directories found here.
                entry.directory = Some(number);
            }
            bringer.bring(job.number, listing);
        }
    }

    /// Lists one directory; `found` gets the directories in it. Gives it back open where they are to be found from it.
    pub(super) fn list(
        &mut self,
        job: &Job,
        listing: &mut Listing,
        found: &mut Vec<Vec<u8>>,
    ) -> rustix::io::Result<Option<OwnedFd>> {
        let from = job.anchor.as_ref().map_or(self.root, |anchor| &anchor.open);
        let directory = open_below(from, &job.path)?;
        let far = job.path.len() >= FAR;
        let searchable = match rustix::process::fchdir(&directory) {
            // Its names may be read, and nothing else.
            Err(Errno::ACCESS) => false,
            other => other.map(|()| true)?,
        };
        let mut buffer = std::mem::take(&mut self.buffer);
        let mut entries = RawDir::new(&directory, &mut buffer[..]);
        let mut result = Ok(());
        while let Some(entry) = entries.next() {
            match entry {
                Ok(_) if self.pool.is_too_much(listing.entries.len() + 1) => break,
                Ok(entry) => {
                    self.entry(&entry, (job, searchable), listing, found);
                    if listing.entries.len().is_multiple_of(MANY) {
                        self.pool.answers(job.number);
                    }
                }
                Err(error) => {
                    result = Err(error);
                    break;
                }
            }
        }
        self.buffer = buffer;
        if far && result.is_ok() {
            found.iter_mut().for_each(|path| *path = path.split_off(job.path.len() + 1));
        }
        result.map(|()| far.then_some(directory))
    }

    fn entry(
        &mut self,
        entry: &RawDirEntry<'_>,
        (above, searchable): (&Job, bool),
        listing: &mut Listing,
        found: &mut Vec<Vec<u8>>,
    ) {
        let name = entry.file_name();
        if matches!(name.to_bytes(), b"." | b"..") {
            return;
        }
        let Some((name_start, name_length)) = listing.push_name(name.to_bytes()) else {
            listing.holes.failed += 1;
            return;
        };
        let mut one = Found {
            name_start,
            name_length,
            kind: FileKind::File,
            marks: Marks::default(),
            mode: 0,
            uid: 0,
            gid: 0,
            directory: None,
            rare: 0,
            size: 0,
            empty: false,
        };
        let leaves_out = || join(&above.whole_path(), name.to_bytes());
        if !self.options.leave_out.is_empty() && self.options.leave_out.contains(&leaves_out()) {
            one.kind = FileKind::Directory;
            let of = |what: &str| format!("{what} {}, which was left out", self.path(above, name.to_bytes()));
            let unknown = |what: &str| Certainty::Unknown(Unknown::new(&of(what), "take it along"));
            let doubt = Doubt::new(unknown("owner and mode of"), unknown("what is in"));
            one.rare = listing.rare(Rare { doubt: Some(doubt), ..Rare::default() });
            listing.entries.push(one);
            return;
        }
        match if searchable { look::look(name) } else { Err(Errno::ACCESS) } {
            Ok(facts) => self.known(name, &facts, above, &mut one, listing, found),
            Err(error) => {
                let fact = format!("owner and mode of {}", self.path(above, name.to_bytes()));
                let attributes = unknown(&fact, error, &mut listing.holes);
                // A kind no one tells is taken for a file: what is not known of it covers the rest.
                one.kind = look::kind_of(entry.file_type()).unwrap_or(FileKind::File);
                let contents = match one.kind {
                    FileKind::Directory => attributes.clone(),
                    FileKind::File
                    | FileKind::Link
                    | FileKind::Fifo
                    | FileKind::Socket
                    | FileKind::CharDevice
                    | FileKind::BlockDevice => Certainty::Known,
                };
                one.rare =
                    listing.rare(Rare { doubt: Some(Doubt::new(attributes, contents)), ..Rare::default() });
            }
        }
        listing.entries.push(one);
    }

    fn known(
        &mut self,
        name: &CStr,
        facts: &Statx,
        above: &Job,
        one: &mut Found,
        listing: &mut Listing,
        found: &mut Vec<Vec<u8>>,
    ) {
        one.kind = look::kind(facts);
        one.marks = look::marks(facts);
        one.mode = look::mode(facts).bits();
        one.uid = facts.stx_uid;
        one.gid = facts.stx_gid;
        one.size = facts.stx_size;
        let mut rare = Rare::default();
        let mut special = false;
        if one.kind != FileKind::Link && self.options.acls {
            special = self.extended(name, facts, above, &mut rare, listing);
        }
        match one.kind {
            FileKind::Directory => {
                let crossed = look::device(facts) != self.root_device || look::is_mount_root(facts);
                if crossed && !self.options.across_mounts {
                    listing.holes.boundaries += 1;
                    let fact = format!("what is mounted at {}", self.path(above, name.to_bytes()));
                    let unlisted =
                        Unknown::new(&fact, "take a survey of it, or take it along with --across-mounts");
                    let before = rare.doubt.take().unwrap_or_default();
                    rare.doubt = Some(Doubt { contents: Certainty::Unknown(unlisted), ..before });
                    special = true;
                } else {
                    one.directory = u32::try_from(found.len()).ok();
                    found.push(join(&above.path, name.to_bytes()));
                }
            }
            FileKind::Link => {
                let target = rustix::fs::readlink(name, Vec::new()).unwrap_or_default();
                rare.target = target.into_bytes().into();
                special = true;
            }
            FileKind::CharDevice | FileKind::BlockDevice => {
                let major = facts.stx_rdev_major;
                let minor = facts.stx_rdev_minor;
                rare.device = Some(Device { major, minor });
                special = true;
            }
            FileKind::File => match look::content(name, facts) {
                Content::Unknown => {}
                Content::Empty => one.empty = true,
                given @ (Content::Program | Content::Data | Content::Script(_)) => {
                    rare.content = Some(given);
                    special = true;
                }
            },
            FileKind::Fifo | FileKind::Socket => {}
        }
        if facts.stx_nlink > 1 && one.kind != FileKind::Directory {
            rare.shared = Some(look::identity(facts));
            special = true;
        }
        if special {
            one.rare = listing.rare(rare);
        }
    }

    /// ACLs and file capabilities, or the doubt about them; whether there is either.
    fn extended(
        &mut self,
        name: &CStr,
        facts: &Statx,
        above: &Job,
        rare: &mut Rare,
        listing: &mut Listing,
    ) -> bool {
        match self.attributes.of(name, look::device(facts)) {
            Ok(extended) => {
                rare.extended = extended;
                rare.extended != Extended::default()
            }
            Err(error) => {
                let fact = format!("the ACL of {}", self.path(above, name.to_bytes()));
                let attributes = unknown(&fact, error, &mut listing.holes);
                rare.doubt = Some(Doubt { mode: attributes, ..Doubt::default() });
                true
            }
        }
    }

    /// The directory itself could not be listed, or not to its end.
    fn unlisted(&self, job: &Job, error: Errno, listing: &mut Listing) {
        let fact = format!("what is in {}", self.path(job, b""));
        let contents = unknown(&fact, error, &mut listing.holes);
        listing.unlisted = Some(Doubt::new(Certainty::Known, contents));
    }

    fn path(&self, above: &Job, name: &[u8]) -> String {
        quoted(&join(&join(self.shown, &above.whole_path()), name)).to_string()
    }
}

/// Why a fact is missing, counted.
fn unknown(fact: &str, error: Errno, holes: &mut Holes) -> Certainty {
    let (count, settle) = match error {
        Errno::NOENT => (&mut holes.vanished, "it went away while it was looked at; take the survey again"),
        Errno::ACCESS | Errno::PERM => {
            (&mut holes.denied, "take the survey as a user with the right to look, such as root")
        }
        _ => (&mut holes.failed, "take the survey again"),
    };
    *count += 1;
    let text = std::io::Error::from(error);
    Certainty::Unknown(Unknown::new(&format!("{fact} ({text})"), settle))
}

/// The path of `name` in `above`; either may be empty.
pub(crate) fn join(above: &[u8], name: &[u8]) -> Vec<u8> {
    match (above, name) {
        ([], name) => name.to_vec(),
        (above, []) => above.to_vec(),
        ([.., b'/'], name) => [above, name].concat(),
        (above, name) => [above, b"/", name].concat(),
    }
}

/// Opens a directory below `root`, following no link: what was a directory when it was found must still be one.
fn open_below(root: &OwnedFd, path: &[u8]) -> rustix::io::Result<OwnedFd> {
    let mut rest = if path.is_empty() { b"." } else { path };
    let mut here: Option<OwnedFd> = None;
    while rest.len() > LONGEST {
        let cut = rest[..LONGEST].iter().rposition(|byte| *byte == b'/').ok_or(Errno::NAMETOOLONG)?;
        let from = here.as_ref().unwrap_or(root);
        here = Some(open(from, &rest[..cut], OFlags::PATH)?);
        rest = &rest[cut + 1..];
    }
    open(here.as_ref().unwrap_or(root), rest, OFlags::RDONLY)
}

fn open(from: impl AsFd, path: &[u8], how: OFlags) -> rustix::io::Result<OwnedFd> {
    let how = how | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let path = std::ffi::OsStr::from_bytes(path);
    match rustix::fs::openat2(&from, path, how, OpenMode::empty(), ResolveFlags::NO_SYMLINKS) {
        // Before Linux 5.6, or where a filter of system calls does not know it.
        Err(Errno::NOSYS | Errno::PERM) => rustix::fs::openat(from, path, how, OpenMode::empty()),
        other => other,
    }
}
