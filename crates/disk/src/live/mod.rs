//! A directory of this machine, read by several threads.
//!
//! Each thread lists whole directories, with a working directory of its own; what they found is put together in the
//! order of paths, so that the same directory gives the same tree whoever was first. Links are never followed, and
//! other file systems are left alone unless they are asked for.

mod assemble;
mod finished;
mod lister;
mod listing;
mod look;
mod pool;
#[cfg(feature = "parquet")]
mod stream;
mod thread;

use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use mivask_model::fact::Provenance;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Entry, InodeId, Tree, TreeError, Unrecorded};
use rustix::fs::{AtFlags, Mode as OpenMode, OFlags, ResolveFlags, StatxFlags};

#[cfg(feature = "parquet")]
use crate::dataset::Writer;
use crate::dataset::{Target, Written};
use crate::error::DiskError;
use crate::gathered::{AccountFiles, Gathered, Holes};
use crate::image::Choice;
use crate::survey::{Recorded, Recording};
use finished::{Bringer, Finished};
use lister::Lister;
pub(crate) use lister::join;
use listing::Listing;
use pool::Pool;

/// What is read of a directory.
#[derive(Clone, Debug)]
pub struct Options {
    /// Whether files are asked for ACLs and capabilities; else none are assumed.
    pub acls: bool,
    /// Whether file systems mounted below are read too.
    pub across_mounts: bool,
    /// Whether the sizes of files are kept.
    pub sizes: bool,
    /// Which image of several is meant.
    pub choice: Choice,
    /// How many threads; as many as there are processors if not given.
    pub threads: Option<usize>,
    /// Entries at most: a server may make a directory that never ends.
    pub most_entries: u64,
    /// Directories that are not looked into, by their paths from the root: what is in them is unknown.
    pub leave_out: Vec<Vec<u8>>,
    /// Told of a directory that has not answered for `patience`, by its path from the root.
    pub stalled: Option<fn(&[u8])>,
    /// How long that is; [`PATIENCE`] where no one says.
    pub patience: Duration,
}

/// Entries that are read where no one says how many: ten times what a large disk has.
pub const MOST_ENTRIES: u64 = 100_000_000;

/// How long a directory may take to be listed before someone is told.
pub const PATIENCE: Duration = Duration::from_secs(10);

impl Default for Options {
    fn default() -> Self {
        Self {
            acls: true,
            across_mounts: false,
            sizes: false,
            choice: Choice::default(),
            threads: None,
            most_entries: MOST_ENTRIES,
            leave_out: Vec::new(),
            stalled: None,
            patience: PATIENCE,
        }
    }
}

/// Told how many further entries were read.
pub type Watch<'a> = dyn Fn(u64) + Sync + 'a;

/// Reads the directory `root`.
///
/// # Errors
/// The root itself cannot be looked at, no thread can be started, or there are more than four billion inodes.
pub fn gather(root: &Path, options: &Options, watch: &Watch<'_>) -> Result<Gathered, DiskError> {
    put_together(root, options, watch, &mut |_, _| ())
}

/// The same with the survey of it, which is made while it is read.
///
/// # Errors
/// As for [`gather`], or the survey cannot be made.
pub fn gather_recorded(
    root: &Path,
    options: &Options,
    watch: &Watch<'_>,
) -> Result<(Gathered, Recorded), DiskError> {
    let mut recording: Option<io::Result<Recording>> = None;
    let gathered = put_together(root, options, watch, &mut |tree, dir| {
        let so_far = recording.take().unwrap_or_else(|| Recording::begin(tree, options.sizes));
        recording = Some(so_far.and_then(|mut one| one.directory(tree, dir).map(|()| one)));
    })?;
    let recording = recording.unwrap_or_else(|| Recording::begin(&gathered.tree, options.sizes));
    let recorded = recording.and_then(|recording| recording.finish(&gathered.tree));
    let recorded = recorded.map_err(|error| DiskError::io(&root.display().to_string(), &error))?;
    Ok((gathered, recorded))
}

fn put_together(
    root: &Path,
    options: &Options,
    watch: &Watch<'_>,
    whole: &mut dyn FnMut(&Tree, InodeId),
) -> Result<Gathered, DiskError> {
    let shown = root.display().to_string();
    let failed = |error: io::Error| DiskError::io(&shown, &error);
    let Begun { open, entry, device } = begin(root, options).map_err(failed)?;
    let name = root.as_os_str().as_bytes();
    let pool = Pool::new(options.most_entries);
    let origin = Provenance::Source(Arc::from(shown.as_str()));
    let lister = || Lister::new(&open, device, name, options, watch, &pool);
    let assemble = |finished: &Finished| assemble::assemble(entry, finished, origin, options.sizes, whole);
    let (mut tree, holes) = list(&lister, &pool, (options, usize::MAX), assemble)
        .map_err(failed)?
        .map_err(|error: TreeError| DiskError::whole(&shown, error.to_string()))?;
    not_over(&pool, options, &shown)?;
    tree.set_unrecorded(unrecorded(options));
    Ok(Gathered { accounts: Some(accounts(&open)), ..Gathered::new(tree, holes) })
}

/// What a survey with these options does not tell of.
fn unrecorded(options: &Options) -> Unrecorded {
    let why = "the survey did not ask for them";
    if options.acls { Unrecorded::default() } else { Unrecorded::on_extended(why) }
}

/// A directory that is to be read.
struct Begun {
    open: OwnedFd,
    entry: Entry,
    device: u64,
}

fn begin(root: &Path, options: &Options) -> io::Result<Begun> {
    let how = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let open = rustix::fs::open(root, how, OpenMode::empty())?;
    let facts = rustix::fs::statx(&open, c"", AtFlags::EMPTY_PATH, StatxFlags::BASIC_STATS)?;
    let mut entry = Entry::new(FileKind::Directory, facts.stx_uid, facts.stx_gid, look::mode(&facts));
    entry.marks = look::marks(&facts);
    let device = look::device(&facts);
    if options.acls {
        entry.extended = look::Attributes::new().of_open(&open, device)?;
    }
    Ok(Begun { open, entry, device })
}

/// That there were no more entries than there may be.
fn not_over(pool: &Pool, options: &Options, shown: &str) -> Result<(), DiskError> {
    if !pool.is_over() {
        return Ok(());
    }
    let what = format!("there are more than {} entries", options.most_entries);
    let help = "take a survey of a part of it, or say with --most-entries how many there may be";
    Err(DiskError::whole(shown, what).with_help(help))
}

/// Writes the directory `root` into a dataset, without keeping it in memory: of hundreds of millions of entries about a million
/// are held at a time.
///
/// # Errors
/// As for [`gather`], or the dataset cannot be written.
#[cfg(feature = "parquet")]
fn stream(
    root: &Path,
    options: &Options,
    watch: &Watch<'_>,
    writer: &mut Writer,
) -> Result<Holes, DiskError> {
    let shown = root.display().to_string();
    let failed = |error: io::Error| DiskError::io(&shown, &error);
    let Begun { open, entry, device } = begin(root, options).map_err(failed)?;
    let name = root.as_os_str().as_bytes();
    let pool = Pool::new(options.most_entries);
    let lister = || Lister::new(&open, device, name, options, watch, &pool);
    let rows = |finished: &Finished| stream::rows(&entry, device, finished, writer);
    let holes = list(&lister, &pool, (options, stream::MOST_KEPT), rows).map_err(failed)?.map_err(failed)?;
    not_over(&pool, options, &shown)?;
    Ok(holes)
}

/// The account files below a directory, in case it is the root of an image.
fn accounts(root: &OwnedFd) -> AccountFiles {
    let mut files = AccountFiles::default();
    for path in ["etc/passwd", "etc/group"] {
        let how = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let opened = rustix::fs::openat2(root, path, how, OpenMode::empty(), ResolveFlags::IN_ROOT);
        if let Ok(file) = opened {
            // One that cannot be read is as good as none.
            let _ = files.keep(path.as_bytes(), &mut std::fs::File::from(file));
        }
    }
    files
}

/// The entries of one directory below `root`, whose path holds no link. The calling thread's working directory becomes
/// that directory, so it must be its own ([`on_own_thread`]).
pub(crate) fn list_one(root: &OwnedFd, path: &[u8]) -> Result<Vec<(Vec<u8>, Entry)>, rustix::io::Errno> {
    let options = Options { across_mounts: true, ..Options::default() };
    let pool = Pool::new(MOST_ENTRIES);
    let watch = |_: u64| ();
    let mut listing = Listing::default();
    let job = pool::Job { number: 0, anchor: None, path: path.to_vec() };
    Lister::new(root, 0, b"", &options, &watch, &pool).list(&job, &mut listing, &mut Vec::new())?;
    let entry = |found| (listing.name(found).to_vec(), assemble::entry(&listing, found, false));
    Ok(listing.entries.iter().map(entry).collect())
}

/// Runs `work` on a thread with a working directory of its own.
pub(crate) fn on_own_thread<T: Send>(work: impl FnOnce() -> T + Send) -> io::Result<T> {
    std::thread::scope(|scope| {
        let run = || -> io::Result<T> {
            thread::own_working_directory()?;
            Ok(work())
        };
        let thread = std::thread::Builder::new().spawn_scoped(scope, run)?;
        thread.join().map_err(|_| io::Error::other("a thread failed"))?
    })
}

/// The facts of a directory that is open.
pub(crate) fn of_open(directory: &OwnedFd) -> rustix::io::Result<Entry> {
    let facts = rustix::fs::statx(directory, c"", AtFlags::EMPTY_PATH, StatxFlags::BASIC_STATS)?;
    let mut entry = Entry::new(FileKind::Directory, facts.stx_uid, facts.stx_gid, look::mode(&facts));
    entry.marks = look::marks(&facts);
    entry.extended = look::Attributes::new().of_open(directory, look::device(&facts))?;
    Ok(entry)
}

/// Starts threads that list all directories, and `assemble`s what they bring while they do.
fn list<'a, T>(
    lister: &(dyn Fn() -> Lister<'a> + Sync),
    pool: &Pool,
    (options, most_kept): (&Options, usize),
    assemble: impl FnOnce(&Finished) -> T,
) -> io::Result<T> {
    let threads = options.threads.or_else(|| std::thread::available_parallelism().ok().map(Into::into));
    let finished = Finished::new(most_kept);
    let work = |bringer: Bringer<'_>| -> rustix::io::Result<()> {
        thread::own_working_directory().inspect_err(|_| pool.stop())?;
        lister().run(&bringer);
        Ok(())
    };
    std::thread::scope(|scope| -> io::Result<T> {
        let start = |_| {
            let bringer = finished.begin();
            std::thread::Builder::new().spawn_scoped(scope, move || work(bringer))
        };
        let started = (0..threads.unwrap_or(1).max(1))
            .map(start)
            .collect::<io::Result<Vec<_>>>()
            .inspect_err(|_| pool.stop())?;
        if let Some(tell) = options.stalled {
            scope.spawn(move || pool.watch_over(options.patience, tell));
        }
        let assembled = assemble(&finished);
        finished.close();
        // Where it failed, no one needs the rest.
        pool.stop();
        for thread in started {
            thread.join().map_err(|_| io::Error::other("a thread of the survey failed"))??;
        }
        Ok(assembled)
    })
}

/// Reads the directory `root` of this machine and writes it into the dataset while it is read, in memory that does not grow with it.
///
/// # Errors
/// As for [`gather`]; a file cannot be written, or this build cannot write any.
pub fn record(
    target: &Target,
    root: &Path,
    options: &Options,
    watch: &Watch<'_>,
) -> Result<(Written, Holes), DiskError> {
    let failed = |error: io::Error| {
        DiskError::whole(&target.folder.display().to_string(), format!("cannot be written: {error}"))
    };
    #[cfg(feature = "parquet")]
    {
        let mut writer = Writer::new(target.clone()).map_err(failed)?;
        let holes = stream(root, options, watch, &mut writer)?;
        Ok((writer.finish(&unrecorded(options)).map_err(failed)?, holes))
    }
    #[cfg(not(feature = "parquet"))]
    {
        let _ = (root, options, watch);
        Err(failed(io::ErrorKind::Unsupported.into()))
    }
}
