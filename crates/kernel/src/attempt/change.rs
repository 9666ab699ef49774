//! Changing what is there: mode, owner, ACL, times, attributes, length.

use std::ffi::{CString, OsStr};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use mivask_model::acl::AclText;
use mivask_model::act::Owner;
use mivask_model::ids::{DiskGid, DiskUid};
use mivask_model::mode::{Mode as CoreMode, ModeChange};
use mivask_model::xattr;
use rustix::fs::{AtFlags, CWD, FileType, Mode, Timespec, Timestamps, XattrFlags};
use rustix::process::{Gid, Uid};

use crate::observe;
use crate::report::Seen;

/// chmod(2); a symbolic change looks at the mode first, as people's tools do.
pub(super) fn set_mode(path: &Path, change: &ModeChange) -> io::Result<Seen> {
    let watched = observe::watch(path, true)?;
    let stat = watched.stat()?;
    let directory = FileType::from_raw_mode(stat.st_mode).is_dir();
    let mode = change.applied_to(observe::mode(&stat), directory, umask());
    rustix::fs::chmodat(CWD, path, Mode::from_raw_mode(u32::from(mode.bits())), AtFlags::empty())?;
    watched.now()
}

/// The process's umask; there is no way to read it but to set it.
fn umask() -> CoreMode {
    let current = rustix::process::umask(Mode::empty());
    rustix::process::umask(current);
    CoreMode::new(u16::try_from(current.bits() & 0o777).unwrap_or_default())
}

/// chown(2) or lchown(2).
pub(super) fn set_owner(path: &Path, owner: Owner, follow: bool) -> io::Result<Seen> {
    let watched = observe::watch(path, follow)?;
    let flags = if follow { AtFlags::empty() } else { AtFlags::SYMLINK_NOFOLLOW };
    rustix::fs::chownat(CWD, path, owner.uid.map(Uid::from_raw), owner.gid.map(Gid::from_raw), flags)?;
    watched.now()
}

/// setxattr(2) of the access ACL; what the text leaves out is taken from the mode.
pub(super) fn set_acl(path: &Path, text: &AclText) -> io::Result<Seen> {
    let watched = observe::watch(path, true)?;
    let mode = observe::mode(&watched.stat()?);
    let acl = text.over(mode, |uid| Some(DiskUid::new(uid)), |gid| Some(DiskGid::new(gid)));
    let value = acl.map(|acl| xattr::encode(&acl)).unwrap_or_default();
    rustix::fs::setxattr(path, xattr::ACCESS, &value, XattrFlags::empty())?;
    watched.now()
}

/// removexattr(2) of the access ACL.
pub(super) fn remove_acl(path: &Path) -> io::Result<Seen> {
    let watched = observe::watch(path, true)?;
    rustix::fs::removexattr(path, xattr::ACCESS)?;
    watched.now()
}

/// setxattr(2) of the default ACL; what is not named comes from the mode.
pub(super) fn set_default_acl(path: &Path, text: &AclText) -> io::Result<Seen> {
    let watched = observe::watch(path, true)?;
    let mode = observe::mode(&watched.stat()?);
    let acl = text.over(mode, |uid| Some(DiskUid::new(uid)), |gid| Some(DiskGid::new(gid)));
    let value = acl.map(|acl| xattr::encode(&acl)).unwrap_or_default();
    rustix::fs::setxattr(path, xattr::DEFAULT, &value, XattrFlags::empty())?;
    let mut seen = observe::of_stat(&watched.stat()?);
    seen.set_default_acl(observe::default_acl_at(path));
    Ok(seen)
}

/// utimensat(2) with both times alike: nanoseconds may be `UTIME_NOW`.
pub(super) fn set_times(path: &Path, nanoseconds: i64) -> io::Result<()> {
    let time = Timespec { tv_sec: 1_000_000_000, tv_nsec: nanoseconds };
    let times = Timestamps { last_access: time, last_modification: time };
    Ok(rustix::fs::utimensat(CWD, path, &times, AtFlags::empty())?)
}

/// setxattr(2); file capabilities are an empty set, others a few letters.
pub(super) fn tag(path: &Path, name: &[u8]) -> io::Result<()> {
    let empty = xattr::encode_capabilities(None);
    let value: &[u8] = if name == b"security.capability" { &empty } else { b"mivask" };
    Ok(rustix::fs::setxattr(path, OsStr::from_bytes(name), value, XattrFlags::empty())?)
}

/// getxattr(2).
pub(super) fn read_tag(path: &Path, name: &[u8]) -> io::Result<()> {
    rustix::fs::getxattr(path, OsStr::from_bytes(name), &mut [0_u8; 256])?;
    Ok(())
}

/// truncate(2) to nothing.
#[expect(unsafe_code, reason = "the library has no truncate by path")]
pub(super) fn truncate(path: &Path) -> io::Result<()> {
    let path = CString::new(path.as_os_str().as_bytes())?;
    // SAFETY: the path is a terminated string.
    if unsafe { libc::truncate(path.as_ptr(), 0) } == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}
