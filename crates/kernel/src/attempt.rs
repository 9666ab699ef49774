//! The system call behind each verb.

use std::ffi::{CStr, CString, OsStr};
use std::io::{self, Read};
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use mivask_core::act::Verb;
use mivask_core::mode::Mode as CoreMode;
use mivask_core::outcome::Effect;
use rustix::fs::{Mode, OFlags};

use crate::observe;

/// Makes the call; `path` is absolute within the thread's root. Verbs that may create something come back
/// with its owner, mode and ACL, started programs with their effective ids.
pub(crate) fn attempt(verb: Verb, path: &[u8]) -> io::Result<Effect> {
    let path = Path::new(OsStr::from_bytes(path));
    match verb {
        Verb::Inspects => rustix::fs::stat(path).map(drop)?,
        Verb::InspectsLink => rustix::fs::lstat(path).map(drop)?,
        Verb::Reads => open(path, OFlags::RDONLY, CoreMode::default())?,
        Verb::Writes => open(path, OFlags::WRONLY, CoreMode::default())?,
        Verb::Appends => open(path, OFlags::WRONLY | OFlags::APPEND, CoreMode::default())?,
        Verb::Truncates => open(path, OFlags::WRONLY | OFlags::TRUNC, CoreMode::default())?,
        Verb::Updates => open(path, OFlags::RDWR, CoreMode::default())?,
        Verb::Overwrites => {
            return create(path, OFlags::WRONLY | OFlags::CREATE | OFlags::TRUNC, CoreMode::new(0o666));
        }
        Verb::Extends => {
            return create(path, OFlags::WRONLY | OFlags::CREATE | OFlags::APPEND, CoreMode::new(0o666));
        }
        Verb::Creates(mode) => {
            return create(path, OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL, mode);
        }
        Verb::Runs => return run(path),
        Verb::Lists => list(path)?,
        Verb::Enters => rustix::process::chdir(path)?,
        Verb::MakesDirectory(mode) => {
            rustix::fs::mkdir(path, raw(mode))?;
            // Whoever could make it can look at it: that takes no more than the walk.
            return Ok(Effect { imprint: Some(observe::of_path(path)?), runs_as: None });
        }
        Verb::Deletes => rustix::fs::unlink(path)?,
        Verb::RemovesDirectory => rustix::fs::rmdir(path)?,
    }
    Ok(Effect::default())
}

fn create(path: &Path, flags: OFlags, mode: CoreMode) -> io::Result<Effect> {
    let imprint = open_file(path, flags, mode)?.map(observe::of_file).transpose()?;
    Ok(Effect { imprint, runs_as: None })
}

fn raw(mode: CoreMode) -> Mode {
    Mode::from_raw_mode(u32::from(mode.bits()))
}

fn open(path: &Path, flags: OFlags, mode: CoreMode) -> io::Result<()> {
    open_file(path, flags, mode).map(drop)
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
    rustix::fs::stat(path).is_ok_and(|stat| rustix::fs::FileType::from_raw_mode(stat.st_mode).is_fifo())
}

fn list(path: &Path) -> io::Result<()> {
    let directory =
        rustix::fs::open(path, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
    let mut entries = rustix::fs::Dir::new(directory)?;
    entries.try_for_each(|entry| entry.map(drop))?;
    Ok(())
}

/// execve in a child; then, for a script, what its interpreter would do: open it.
fn run(path: &Path) -> io::Result<Effect> {
    let program = CString::new(path.as_os_str().as_bytes())?;
    let written = execute(&program)?;
    match std::fs::read(path).map(|bytes| bytes.starts_with(b"#!")) {
        Err(error) if !crate::program::is_program_by_size(path) => return Err(error),
        Ok(_) | Err(_) => {}
    }
    Ok(Effect { imprint: None, runs_as: crate::program::effective_ids(&written) })
}

/// What the program wrote. The library's own way of starting programs tries a shell on ENOEXEC, so this is
/// the bare call.
#[expect(unsafe_code, reason = "no safe function makes a bare execve in a child")]
fn execute(program: &CStr) -> io::Result<Vec<u8>> {
    let arguments = [program.as_ptr(), std::ptr::null()];
    let environment = [std::ptr::null()];
    let (mut reader, writer) = io::pipe()?;
    let output = writer.as_raw_fd();
    let _alone = crate::build::nobody_builds();
    // SAFETY: between fork and _exit the child makes nothing but async-signal-safe calls (dup2, execve, reading
    // errno, _exit), as a child of a process with several threads must; all pointers were made before.
    let child = unsafe {
        match libc::fork() {
            0 => {
                libc::dup2(output, libc::STDOUT_FILENO);
                libc::execve(program.as_ptr(), arguments.as_ptr(), environment.as_ptr());
                libc::_exit(*libc::__errno_location());
            }
            child => child,
        }
    };
    if child < 0 {
        return Err(io::Error::last_os_error());
    }
    drop(writer);
    let mut written = Vec::new();
    reader.read_to_end(&mut written)?;
    let mut status = 0;
    // SAFETY: `status` outlives the call, and the child is this thread's own.
    if unsafe { libc::waitpid(child, &raw mut status, 0) } != child {
        return Err(io::Error::last_os_error());
    }
    // The program ends with 0; the child that could not become it ends with the errno.
    match libc::WIFEXITED(status).then(|| libc::WEXITSTATUS(status)) {
        Some(0) => Ok(written),
        Some(errno) => Err(io::Error::from_raw_os_error(errno)),
        None => Err(io::Error::other("the program was killed")),
    }
}
