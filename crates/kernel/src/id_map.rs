//! User namespaces that hold nothing but id maps, for id-mapped mounts and for actors.

use std::fs::{self, File};
use std::io::{Read, Write};
use std::os::fd::{AsRawFd, OwnedFd};
use std::path::Path;

use mivask_model::ids::{IdMap, MountIds};

use crate::{Doing, KernelError, namespace, process};

/// The lines of a map as `/proc/PID/uid_map` takes them.
fn lines(map: &IdMap) -> String {
    if map.is_identity() {
        return "0 0 4294967295\n".to_owned();
    }
    let line = |extent: &mivask_model::ids::Extent| {
        format!("{} {} {}\n", extent.inside, extent.outside, extent.count)
    };
    map.extents().iter().map(line).collect()
}

/// Writes the maps of the user namespace that the process `pid` lives in.
pub(crate) fn write(pid: i32, uids: &IdMap, gids: &IdMap) -> Result<(), KernelError> {
    fs::write(format!("/proc/{pid}/uid_map"), lines(uids))
        .doing(|| "writing a map of user ids".to_owned())?;
    fs::write(format!("/proc/{pid}/gid_map"), lines(gids)).doing(|| "writing a map of group ids".to_owned())
}

/// A user namespace with the maps of a mount.
fn namespace_of(ids: &MountIds) -> Result<OwnedFd, KernelError> {
    let (mut hear, say) = std::io::pipe().doing(|| "making a pipe".to_owned())?;
    let (hold, mut go) = std::io::pipe().doing(|| "making a pipe".to_owned())?;
    let alone = namespace::nobody_builds();
    let pid = process::fork(|| {
        process::keep_only(&[say.as_raw_fd(), hold.as_raw_fd()]);
        let entered = process::enter_user_namespace();
        let _ = (&say).write_all(&[u8::from(entered.is_ok())]);
        let _ = (&hold).read(&mut [0]);
    })?;
    drop((say, hold));
    let mut ready = [0];
    let heard = hear.read_exact(&mut ready);
    drop(alone);
    let opened = heard
        .doing(|| "waiting for a user namespace".to_owned())
        .and_then(|()| write(pid, &ids.uids, &ids.gids))
        .and_then(|()| {
            File::open(format!("/proc/{pid}/ns/user")).doing(|| "opening a user namespace".to_owned())
        });
    let _ = go.write_all(b"!");
    process::wait(pid)?;
    Ok(opened?.into())
}

/// Mounts a copy of what is at `from` at `at`, with ids mapped.
pub(crate) fn bind(from: &Path, at: &Path, ids: &MountIds) -> Result<(), KernelError> {
    use rustix::mount::{MoveMountFlags, OpenTreeFlags};
    let flags = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC;
    let tree = rustix::mount::open_tree(rustix::fs::CWD, from, flags)
        .doing(|| format!("taking a copy of the mount at {}", from.display()))?;
    let namespace = namespace_of(ids)?;
    set(&tree, &namespace)?;
    rustix::mount::move_mount(&tree, "", rustix::fs::CWD, at, MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH)
        .doing(|| format!("attaching an id-mapped mount at {}", at.display()))
}

/// mount_setattr(2) with MOUNT_ATTR_IDMAP, which the library has no name for.
#[expect(unsafe_code, reason = "no safe function makes this call")]
fn set(tree: &OwnedFd, namespace: &OwnedFd) -> Result<(), KernelError> {
    let attributes = libc::mount_attr {
        attr_set: libc::MOUNT_ATTR_IDMAP,
        attr_clr: 0,
        propagation: 0,
        userns_fd: u64::try_from(namespace.as_raw_fd()).unwrap_or_default(),
    };
    // SAFETY: both descriptors are open, the path is a literal, and the size is that of the struct.
    let result = unsafe {
        libc::syscall(
            libc::SYS_mount_setattr,
            tree.as_raw_fd(),
            c"".as_ptr(),
            libc::AT_EMPTY_PATH,
            &raw const attributes,
            size_of::<libc::mount_attr>(),
        )
    };
    if result == 0 {
        return Ok(());
    }
    let error = std::io::Error::last_os_error();
    if error.raw_os_error() == Some(libc::EINVAL) {
        return Err(KernelError::Unsupported("a file system takes no id-mapped mounts".to_owned()));
    }
    Err(error).doing(|| "mapping the ids of a mount".to_owned())
}

#[cfg(test)]
mod tests {
    use mivask_model::ids::Extent;

    use super::*;

    #[test]
    fn lines_are_those_of_proc() {
        let map = IdMap::new(vec![
            Extent { inside: 0, outside: 100_000, count: 10 },
            Extent { inside: 10, outside: 7101, count: 1 },
        ]);
        assert_eq!(lines(&map), "0 100000 10\n10 7101 1\n");
        assert_eq!(lines(&IdMap::identity()), "0 0 4294967295\n", "nothing mapped would be nobody");
    }

    #[test]
    fn a_mount_shows_mapped_ids() {
        if let Some(reason) = crate::unavailable() {
            println!("skipped: a_mount_shows_mapped_ids: {reason}");
            return;
        }
        use std::os::unix::fs::MetadataExt;
        let shown = std::thread::spawn(|| {
            namespace::enter().unwrap();
            let scratch = namespace::scratch().unwrap();
            let from = scratch.join("from");
            let at = scratch.join("at");
            fs::create_dir(&from).unwrap();
            fs::create_dir(&at).unwrap();
            let extent = |outside| IdMap::new(vec![Extent { inside: 0, outside, count: 1 }]);
            bind(&from, &at, &MountIds { uids: extent(7101), gids: extent(7200) }).unwrap();
            let facts = fs::metadata(&at).unwrap();
            (facts.uid(), facts.gid())
        });
        assert_eq!(shown.join().unwrap(), (7101, 7200));
    }
}
