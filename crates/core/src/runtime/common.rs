//! What several runtimes share: the OCI runtimes beneath them, and the long default set of capabilities.

use super::profile::{Both, CapabilityNames, CapabilityRules, MountPointRules, TmpfsRules};
use crate::caps::CapabilitySet;
use crate::mount::MountFlags;

/// 14 capabilities, measured.
pub(super) const FOURTEEN: CapabilitySet = CapabilitySet::from_bits(0xa804_25fb);

pub(super) const CAPABILITIES: CapabilityRules = CapabilityRules {
    default: FOURTEEN,
    all: CapabilitySet::ALL,
    names: CapabilityNames::Bare,
    both: Both::Dropped,
    ambient: false,
};

pub(super) const RUNC_MOUNT_POINTS: MountPointRules = MountPointRules {
    directory: 0o755,
    file: 0o755,
    above_file: 0o755,
    in_read_only: false,
    rule: "runc makes a missing mount point 0:0 0755",
};

pub(super) const CRUN_MOUNT_POINTS: MountPointRules = MountPointRules {
    directory: 0o1755,
    file: 0o700,
    above_file: 0o755,
    in_read_only: false,
    rule: "crun makes a missing mount point 0:0, a directory 1755 and a file 0700",
};

/// As engines use it; a bundle lists its own flags.
pub(super) const RUNC_TMPFS: TmpfsRules = TmpfsRules {
    flags: MountFlags::NO_SUID.with(MountFlags::NO_DEV).with(MountFlags::NO_EXEC),
    keeps_directory_mode: true,
    copies_up: false,
    takes_owner: true,
};
