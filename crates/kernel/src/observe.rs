//! Owner, mode and ACL of what an act created or changed.

use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::Path;

use mivask_model::acl::Acl;
use mivask_model::ids::{DiskGid, DiskUid, InsideGid, InsideUid};
use mivask_model::mode::Mode;
use mivask_model::observed::UNSEEN_ACL;
use mivask_model::outcome::Imprint;
use mivask_model::xattr;
use rustix::fs::{OFlags, Stat};

use crate::report::{Node, Seen};

/// Of an open file.
pub(crate) fn of_file(file: impl AsFd) -> io::Result<Seen> {
    let mut buffer = [0; 4096];
    let acl = rustix::fs::fgetxattr(&file, xattr::ACCESS, &mut buffer[..]).ok();
    let acl = acl.and_then(|length| xattr::decode(&buffer[..length]));
    Ok(seen(&rustix::fs::fstat(&file)?, acl.as_ref()))
}

/// Of a path that the act just made, links not followed.
pub(crate) fn of_link(path: &Path) -> io::Result<Seen> {
    let acl = acl_at(path, false);
    Ok(seen(&rustix::fs::lstat(path)?, acl.flatten().as_ref()))
}

/// The same of a new directory, with the default ACL it has inherited.
pub(crate) fn of_directory(path: &Path) -> io::Result<Seen> {
    let mut seen = of_link(path)?;
    seen.set_default_acl(default_acl_at(path));
    Ok(seen)
}

/// What a `stat` shows.
pub(crate) fn of_stat(stat: &Stat) -> Seen {
    seen(stat, None)
}

/// The default ACL at a path, as text; `None` where there is none, or no way there.
pub(crate) fn default_acl_at(path: &Path) -> Option<String> {
    let mut buffer = [0; 4096];
    let length = rustix::fs::getxattr(path, xattr::DEFAULT, &mut buffer[..]).ok()?;
    xattr::decode(&buffer[..length]).as_ref().map(shown)
}

/// Something that is there already, held so that it can be looked at whatever an act does to the way there.
pub(crate) struct Watched<'p> {
    file: OwnedFd,
    path: &'p Path,
    follow: bool,
}

/// Takes hold of what is at `path`, which takes no more than the walk.
pub(crate) fn watch(path: &Path, follow: bool) -> io::Result<Watched<'_>> {
    let flags = OFlags::PATH | OFlags::CLOEXEC;
    let flags = if follow { flags } else { flags | OFlags::NOFOLLOW };
    Ok(Watched { file: rustix::fs::open(path, flags, rustix::fs::Mode::empty())?, path, follow })
}

impl Watched<'_> {
    /// Its `stat` now.
    pub(crate) fn stat(&self) -> io::Result<Stat> {
        Ok(rustix::fs::fstat(&self.file)?)
    }

    /// Its owner, mode and ACL now; the ACL only as far as the way there is still open.
    pub(crate) fn now(&self) -> io::Result<Seen> {
        let mut seen = seen(&self.stat()?, None);
        if let Some((imprint, _)) = &mut seen.left {
            imprint.acl = match acl_at(self.path, self.follow) {
                Some(acl) => acl.as_ref().map(shown),
                None => Some(UNSEEN_ACL.to_owned()),
            };
        }
        Ok(seen)
    }
}

/// The access ACL at a path, the inner `None` where it has none; nothing where the way is closed.
#[expect(clippy::option_option, reason = "no ACL and no sight of it differ")]
pub(crate) fn acl_at(path: &Path, follow: bool) -> Option<Option<Acl>> {
    let mut buffer = [0; 4096];
    let got = if follow {
        rustix::fs::getxattr(path, xattr::ACCESS, &mut buffer[..])
    } else {
        rustix::fs::lgetxattr(path, xattr::ACCESS, &mut buffer[..])
    };
    match got {
        Ok(length) => Some(xattr::decode(&buffer[..length])),
        Err(rustix::io::Errno::NODATA | rustix::io::Errno::NOTSUP) => Some(None),
        Err(_) => None,
    }
}

/// The permission bits in a `stat`.
pub(crate) fn mode(stat: &Stat) -> Mode {
    Mode::new(u16::try_from(stat.st_mode & 0o7777).unwrap_or_default())
}

fn seen(stat: &Stat, acl: Option<&Acl>) -> Seen {
    let uid = InsideUid::new(stat.st_uid);
    let gid = InsideGid::new(stat.st_gid);
    let imprint = Imprint::new(uid, gid, mode(stat), DiskUid::new(stat.st_uid), DiskGid::new(stat.st_gid));
    let acl = acl.map(shown);
    let node = Node { device: stat.st_dev, inode: stat.st_ino };
    Seen { left: Some((Imprint { acl, ..imprint }, node)), runs_as: None }
}

/// An ACL in the order that predictions print it.
fn shown(acl: &Acl) -> String {
    acl.seen(|uid| Some(uid.raw()), |gid| Some(gid.raw())).to_string()
}
