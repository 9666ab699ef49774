//! The system call behind each verb.

mod change;
mod run;

use std::ffi::OsStr;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use mivask_model::act::{Node, Owner, Verb};
use mivask_model::mode::{FileKind, Mode as CoreMode};
use mivask_model::xattr;
use rustix::fs::{Access, AtFlags, CWD, FileType, Mode, OFlags, RenameFlags};

use crate::observe;
use crate::report::Seen;

/// How far an act goes that opens a file for writing.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Effort {
    /// It opens it.
    Open,
    /// It writes to it, too.
    Write,
}

/// Makes the call; `path` is absolute within the process's root. What an act creates, or changes in owner or mode,
/// comes back with its owner, mode and ACL, a started program with its effective ids and capabilities.
/// With `effort` beyond opening, what is open for writing gets a byte more at its end.
pub(crate) fn attempt(verb: &Verb, path: &[u8], effort: Effort) -> io::Result<Seen> {
    let path = name(path);
    let group = |gid: u32| Owner { uid: None, gid: Some(gid) };
    match verb {
        Verb::Inspects => return Ok(observe::of_stat(&rustix::fs::stat(path)?)),
        Verb::InspectsLink => return Ok(observe::of_stat(&rustix::fs::lstat(path)?)),
        Verb::MayRead => rustix::fs::access(path, Access::READ_OK)?,
        Verb::MayWrite => rustix::fs::access(path, Access::WRITE_OK)?,
        Verb::MayRun => rustix::fs::access(path, Access::EXEC_OK)?,
        Verb::Reads => open(path, OFlags::RDONLY)?,
        Verb::Writes => write(path, OFlags::WRONLY, effort)?,
        Verb::Appends => write(path, OFlags::WRONLY | OFlags::APPEND, effort)?,
        Verb::Updates => write(path, OFlags::RDWR, effort)?,
        Verb::Truncates => return emptied(path, || open(path, OFlags::WRONLY | OFlags::TRUNC)),
        Verb::Shortens => return emptied(path, || change::truncate(path)),
        Verb::Overwrites => return create_or_open(path, OFlags::WRONLY | OFlags::CREATE | OFlags::TRUNC),
        Verb::Extends => return extend(path, effort),
        Verb::Creates(mode) => {
            let file = open_file(path, OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL, *mode)?;
            return file.map_or_else(|| Ok(Seen::default()), observe::of_file);
        }
        Verb::Runs => return run::run(path),
        Verb::Lists => list(path)?,
        Verb::Enters => rustix::process::chdir(path)?,
        Verb::MakesDirectory(mode) => {
            rustix::fs::mkdir(path, raw(*mode))?;
            // Whoever could make it can look at it: that takes no more than the walk.
            return observe::of_directory(path);
        }
        Verb::MakesFifo(mode) => return make(path, FileType::Fifo, *mode, 0),
        Verb::MakesNode(node, mode) => return make_node(path, *node, *mode),
        Verb::Points(target) => {
            rustix::fs::symlink(name(target), path)?;
            return observe::of_link(path);
        }
        Verb::Links(new) => rustix::fs::link(path, name(new))?,
        Verb::LinksTarget(new) => rustix::fs::linkat(CWD, path, CWD, name(new), AtFlags::SYMLINK_FOLLOW)?,
        Verb::Renames(new) => rustix::fs::rename(path, name(new))?,
        Verb::RenamesNew(new) => rename(path, new, RenameFlags::NOREPLACE)?,
        Verb::Exchanges(new) => rename(path, new, RenameFlags::EXCHANGE)?,
        Verb::Deletes => rustix::fs::unlink(path)?,
        Verb::RemovesDirectory => rustix::fs::rmdir(path)?,
        Verb::SetsMode(wanted) => return change::set_mode(path, wanted),
        Verb::SetsOwner(owner) => return change::set_owner(path, *owner, true),
        Verb::SetsGroup(gid) => return change::set_owner(path, group(*gid), true),
        Verb::SetsLinkOwner(owner) => return change::set_owner(path, *owner, false),
        Verb::SetsLinkGroup(gid) => return change::set_owner(path, group(*gid), false),
        Verb::SetsAcl(acl) => return change::set_acl(path, acl),
        Verb::SetsDefaultAcl(acl) => return change::set_default_acl(path, acl),
        Verb::RemovesAcl => return change::remove_acl(path),
        Verb::RemovesDefaultAcl => rustix::fs::removexattr(path, xattr::DEFAULT)?,
        Verb::Stamps => change::set_times(path, rustix::fs::UTIME_NOW)?,
        Verb::Backdates => change::set_times(path, 0)?,
        Verb::Tags(name) => change::tag(path, name)?,
        Verb::ReadsTag(name) => change::read_tag(path, name)?,
    }
    Ok(Seen::default())
}

fn name(path: &[u8]) -> &Path {
    Path::new(OsStr::from_bytes(path))
}

fn raw(mode: CoreMode) -> Mode {
    Mode::from_raw_mode(u32::from(mode.bits()))
}

fn rename(path: &Path, new: &[u8], flags: RenameFlags) -> rustix::io::Result<()> {
    rustix::fs::renameat_with(CWD, path, CWD, name(new), flags)
}

fn extend(path: &Path, effort: Effort) -> io::Result<Seen> {
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::APPEND;
    if effort == Effort::Write && rustix::fs::stat(path).is_ok() {
        write(path, flags, effort)?;
        return Ok(Seen::default());
    }
    create_or_open(path, flags)
}

fn open(path: &Path, flags: OFlags) -> io::Result<()> {
    open_file(path, flags, CoreMode::default()).map(drop)
}

fn write(path: &Path, flags: OFlags, effort: Effort) -> io::Result<()> {
    let Some(file) = open_file(path, flags, CoreMode::new(0o666))? else { return Ok(()) };
    if effort == Effort::Write && FileType::from_raw_mode(rustix::fs::fstat(&file)?.st_mode).is_file() {
        rustix::fs::seek(&file, rustix::fs::SeekFrom::End(0))?;
        rustix::io::write(&file, b".")?;
    }
    Ok(())
}

/// A fifo without a partner would block; with O_NONBLOCK a writer gets ENXIO instead, which the model
/// calls allowed (the permission was there): then there is no file to give back.
fn open_file(path: &Path, flags: OFlags, mode: CoreMode) -> io::Result<Option<OwnedFd>> {
    match rustix::fs::open(path, flags | OFlags::NONBLOCK | OFlags::CLOEXEC, raw(mode)) {
        Err(rustix::io::Errno::NXIO) if is_fifo(path) => Ok(None),
        opened => Ok(Some(opened?)),
    }
}

fn is_fifo(path: &Path) -> bool {
    rustix::fs::stat(path).is_ok_and(|stat| FileType::from_raw_mode(stat.st_mode).is_fifo())
}

/// O_CREAT without O_EXCL: what it only opened is reported where its mode changed.
fn create_or_open(path: &Path, flags: OFlags) -> io::Result<Seen> {
    let before = rustix::fs::stat(path).ok();
    let Some(file) = open_file(path, flags, CoreMode::new(0o666))? else {
        return Ok(Seen::default());
    };
    let after = rustix::fs::fstat(&file)?;
    match before {
        Some(before) if before.st_mode == after.st_mode => Ok(Seen::default()),
        Some(_) | None => observe::of_file(file),
    }
}

/// Emptying a file is reported where it changed its mode.
fn emptied(path: &Path, empty: impl FnOnce() -> io::Result<()>) -> io::Result<Seen> {
    let watched = observe::watch(path, true)?;
    let before = watched.stat()?;
    empty()?;
    if before.st_mode == watched.stat()?.st_mode { Ok(Seen::default()) } else { watched.now() }
}

fn list(path: &Path) -> io::Result<()> {
    let directory =
        rustix::fs::open(path, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
    let mut entries = rustix::fs::Dir::new(directory)?;
    entries.try_for_each(|entry| entry.map(drop))?;
    Ok(())
}

fn make_node(path: &Path, node: Node, mode: CoreMode) -> io::Result<Seen> {
    let kind = match node.kind {
        FileKind::BlockDevice => FileType::BlockDevice,
        FileKind::CharDevice => FileType::CharacterDevice,
        FileKind::Socket => FileType::Socket,
        FileKind::File | FileKind::Directory | FileKind::Link | FileKind::Fifo => FileType::Fifo,
    };
    make(path, kind, mode, rustix::fs::makedev(node.device.major, node.device.minor))
}

fn make(path: &Path, kind: FileType, mode: CoreMode, device: rustix::fs::Dev) -> io::Result<Seen> {
    rustix::fs::mknodat(CWD, path, kind, raw(mode), device)?;
    observe::of_link(path)
}
