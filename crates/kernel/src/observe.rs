//! Owner, mode and ACL of what an act created.

use std::io;
use std::os::fd::AsFd;
use std::path::Path;

use mivask_core::acl::Acl;
use mivask_core::ids::{DiskGid, DiskUid, InsideGid, InsideUid};
use mivask_core::mode::Mode;
use mivask_core::outcome::Imprint;
use rustix::fs::Stat;

use crate::xattr;

/// Of an open file.
pub(crate) fn of_file(file: impl AsFd) -> io::Result<Imprint> {
    let mut buffer = [0; 4096];
    let acl = rustix::fs::fgetxattr(&file, xattr::ACCESS, &mut buffer[..]).ok();
    let acl = acl.and_then(|length| xattr::decode(&buffer[..length]));
    Ok(imprint(rustix::fs::fstat(&file)?, acl))
}

/// Of a path, links not followed.
pub(crate) fn of_path(path: &Path) -> io::Result<Imprint> {
    let mut buffer = [0; 4096];
    let acl = rustix::fs::lgetxattr(path, xattr::ACCESS, &mut buffer[..]).ok();
    let acl = acl.and_then(|length| xattr::decode(&buffer[..length]));
    Ok(imprint(rustix::fs::lstat(path)?, acl))
}

fn imprint(stat: Stat, acl: Option<Acl>) -> Imprint {
    let mode = Mode::new(u16::try_from(stat.st_mode & 0o7777).unwrap_or_default());
    let (uid, gid) = (InsideUid::new(stat.st_uid), InsideGid::new(stat.st_gid));
    let imprint = Imprint::new(uid, gid, mode, DiskUid::new(stat.st_uid), DiskGid::new(stat.st_gid));
    Imprint { acl: acl.map(|acl| acl.to_string()), ..imprint }
}
