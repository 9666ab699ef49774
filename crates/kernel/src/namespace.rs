//! A mount namespace and scratch space that no one else sees.

use std::path::{Path, PathBuf};
use std::sync::{PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use rustix::mount::{MountFlags, MountPropagationFlags};
use rustix::thread::UnshareFlags;

use crate::{Doing, KernelError};

/// A child between fork and execve holds copies of every file that other threads have open for writing; that
/// would make a program of theirs busy (ETXTBSY) and a superblock of theirs refuse to become read-only (EBUSY). So
/// no one forks while someone builds.
static BUILDING: RwLock<()> = RwLock::new(());

/// Keeps every other thread from forking until it is dropped.
pub(crate) fn nobody_forks() -> RwLockReadGuard<'static, ()> {
    BUILDING.read().unwrap_or_else(PoisonError::into_inner)
}

/// Keeps every other thread from building until it is dropped.
pub(crate) fn nobody_builds() -> RwLockWriteGuard<'static, ()> {
    BUILDING.write().unwrap_or_else(PoisonError::into_inner)
}

/// Gives the calling thread a mount namespace and a root of its own; mounts made in it reach no one.
pub(crate) fn enter() -> Result<(), KernelError> {
    // SAFETY: this thread holds no reference into the file-system state that others share: it is
    // freshly spawned, and only works with absolute paths afterwards.
    #[expect(unsafe_code, reason = "unshare changes what paths mean for this thread")]
    let unshared = unsafe { rustix::thread::unshare_unsafe(UnshareFlags::FS | UnshareFlags::NEWNS) };
    unshared.doing(|| "unshare of the mount namespace".to_owned())?;
    let private = MountPropagationFlags::PRIVATE | MountPropagationFlags::REC;
    rustix::mount::mount_change("/", private).doing(|| "making every mount private".to_owned())
}

/// Covers the folder for temporary files with a tmpfs of this namespace: nothing in it was ever on a disk, so
/// nothing is left behind however the process ends.
pub(crate) fn scratch() -> Result<PathBuf, KernelError> {
    let candidates = [std::env::temp_dir(), PathBuf::from("/tmp"), PathBuf::from("/mnt")];
    let folder = candidates.iter().find_map(|folder| coverable(folder));
    let folder =
        folder.ok_or_else(|| KernelError::Unsupported("no folder to put scratch space over".to_owned()))?;
    tmpfs(&folder, c"mode=755")?;
    Ok(folder)
}

/// `folder` by its whole path, if a tmpfs can cover it and an overlay can have its layers there: a mount does not move the working
/// directory, the root and the kernel's own file systems are needed, and `,`, `:` and `\` mean something in an overlay's options.
fn coverable(folder: &Path) -> Option<PathBuf> {
    let whole = folder.canonicalize().ok().filter(|whole| whole.is_dir())?;
    let needed =
        ["/proc", "/sys", "/dev", "/run", "/usr", "/etc"].iter().any(|needed| whole.starts_with(needed));
    let plain = whole.to_str().is_some_and(|text| !text.contains([',', ':', '\\', '"', '\n']));
    (whole != Path::new("/") && !needed && plain).then_some(whole)
}

/// Mounts a fresh tmpfs.
pub(crate) fn tmpfs(at: &Path, options: &std::ffi::CStr) -> Result<(), KernelError> {
    rustix::mount::mount("tmpfs", at, "tmpfs", MountFlags::empty(), Some(options))
        .doing(|| format!("mounting a tmpfs at {}", at.display()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn odd_folders_for_temporary_files_are_not_covered() {
        let made = tempfile::tempdir().expect("a folder");
        for name in ["a,b", "a:b", "a\\b"] {
            std::fs::create_dir(made.path().join(name)).expect("a folder");
            assert_eq!(coverable(&made.path().join(name)), None, "{name}");
        }
        for folder in ["/", "/proc", "/proc/self", "/sys", "/usr", "/no/such/folder"] {
            assert_eq!(coverable(Path::new(folder)), None, "{folder}");
        }
        let whole = made.path().canonicalize().expect("it is there");
        assert_eq!(coverable(made.path()), Some(whole));
        assert!(coverable(Path::new(".")).is_none_or(|folder| folder.is_absolute()));
    }
}
