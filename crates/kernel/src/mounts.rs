//! Attaching a built source where an actor sees it.

use std::path::Path;

use mivask_model::ids::MountIds;
use mivask_model::mount::MountFlags;
use rustix::mount::MountFlags as RawFlags;

use crate::{Doing, KernelError, id_map};

/// Binds `from` at `at`, with these ids mapped and these flags.
pub(crate) fn attach(from: &Path, ids: &MountIds, flags: MountFlags, at: &Path) -> Result<(), KernelError> {
    if *ids == MountIds::default() {
        rustix::mount::mount_bind(from, at).doing(|| format!("binding {}", at.display()))?;
    } else {
        id_map::bind(from, at, ids)?;
    }
    rustix::mount::mount_remount(at, RawFlags::BIND | raw_flags(flags), "")
        .doing(|| format!("setting flags of {}", at.display()))
}

fn raw_flags(flags: MountFlags) -> RawFlags {
    let pairs = [
        (MountFlags::READ_ONLY, RawFlags::RDONLY),
        (MountFlags::NO_EXEC, RawFlags::NOEXEC),
        (MountFlags::NO_SUID, RawFlags::NOSUID),
        (MountFlags::NO_DEV, RawFlags::NODEV),
        // MS_NOSYMFOLLOW, which the library has no name for.
        (MountFlags::NO_SYMFOLLOW, RawFlags::from_bits_retain(256)),
    ];
    pairs.into_iter().filter(|(flag, _)| flags.has(*flag)).map(|(_, raw)| raw).collect()
}
