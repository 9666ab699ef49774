//! What several runtimes share: the OCI runtimes beneath them, and the long default set of capabilities.

use mivask_model::caps::CapabilitySet;
use mivask_model::mount::MountFlags;

use super::profile::{
    Both, BuildRules, CapabilityNames, CapabilityRules, DefaultKind as K, DefaultRow, MountPointRules, PLAIN,
    QUIET, TmpfsRules,
};

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
    guards_proc: true,
    rule: "runc makes a missing mount point 0:0 0755",
};

pub(super) const CRUN_MOUNT_POINTS: MountPointRules = MountPointRules {
    directory: 0o1755,
    file: 0o700,
    above_file: 0o755,
    in_read_only: false,
    guards_proc: false,
    rule: "crun makes a missing mount point 0:0, a directory 1755 and a file 0700",
};

/// As engines use it; a bundle lists its own flags.
pub(super) const RUNC_TMPFS: TmpfsRules = TmpfsRules {
    flags: MountFlags::NO_SUID.with(MountFlags::NO_DEV).with(MountFlags::NO_EXEC),
    keeps_directory_mode: true,
    copies_up: false,
    takes_owner: true,
    takes_others: true,
};

/// What runc's engines mount first.
pub(super) const KERNEL: &[DefaultRow] = &[
    DefaultRow::new("/proc", K::Proc, QUIET),
    DefaultRow::new("/dev", K::Devices, MountFlags::NO_SUID),
    DefaultRow::new("/dev/pts", K::Terminals, MountFlags::NO_SUID.with(MountFlags::NO_EXEC)),
    DefaultRow::new("/dev/shm", K::Shared(0o1777), QUIET),
    DefaultRow::new("/dev/mqueue", K::Shared(0o1777), QUIET),
    DefaultRow::new("/sys", K::Sys, QUIET),
];

/// What every engine hides, and what it keeps from being written.
pub(super) const SHIELDS: &[DefaultRow] = &[
    DefaultRow::new("/proc/acpi", K::Masked, PLAIN),
    DefaultRow::new("/proc/kcore", K::Masked, PLAIN),
    DefaultRow::new("/proc/keys", K::Masked, PLAIN),
    DefaultRow::new("/proc/latency_stats", K::Masked, PLAIN),
    DefaultRow::new("/proc/timer_list", K::Masked, PLAIN),
    DefaultRow::new("/proc/scsi", K::Masked, PLAIN),
    DefaultRow::new("/sys/firmware", K::Masked, PLAIN),
    DefaultRow::new("/proc/bus", K::ReadOnly, PLAIN),
    DefaultRow::new("/proc/fs", K::ReadOnly, PLAIN),
    DefaultRow::new("/proc/irq", K::ReadOnly, PLAIN),
    DefaultRow::new("/proc/sys", K::ReadOnly, PLAIN),
];

/// The files that engines bind into every container.
pub(super) const FILES: &[DefaultRow] = &[
    DefaultRow::new("/etc/hosts", K::File { mode: 0o644, follows_root: true }, PLAIN),
    DefaultRow::new("/etc/hostname", K::File { mode: 0o644, follows_root: true }, PLAIN),
    DefaultRow::new("/etc/resolv.conf", K::File { mode: 0o644, follows_root: true }, PLAIN),
];

/// The builder of Docker's daemon, as measured without its newer back end.
pub(super) const DOCKER_BUILD: BuildRules = BuildRules {
    makes_working_directory: true,
    owner_needs_group_of_its_name: true,
    group_alone: false,
    owns_parents_of_directories: false,
    copies_inherit_set_group_id: true,
    directories_keep_special_bits: true,
    mode_spares_directories: false,
};

/// Podman's builder.
pub(super) const PODMAN_BUILD: BuildRules = BuildRules {
    makes_working_directory: false,
    owner_needs_group_of_its_name: false,
    group_alone: true,
    owns_parents_of_directories: true,
    copies_inherit_set_group_id: false,
    directories_keep_special_bits: false,
    mode_spares_directories: true,
};
