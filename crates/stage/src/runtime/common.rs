//! What several runtimes share: the OCI runtimes beneath them, and the long default set of capabilities.

use mivask_model::caps::CapabilitySet;
use mivask_model::mount::MountFlags;

use super::profile::{
    Added, Both, CapabilityNames, CapabilityRules, DefaultKind as K, DefaultRow, MountPointRules, PLAIN,
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
    tmpfs_read_only_last: true,
    follows_dangling: true,
    guards_proc: true,
    rule: "runc makes a missing mount point 0:0 0755",
};

pub(super) const CRUN_MOUNT_POINTS: MountPointRules = MountPointRules {
    directory: 0o1755,
    file: 0o700,
    above_file: 0o755,
    in_read_only: false,
    tmpfs_read_only_last: false,
    follows_dangling: false,
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

/// What runc's engines hide, and what they keep from being written: a file is covered by the container's own `/dev/null`, which is
/// on its `/dev`, and a part of `/proc` keeps the flags of `/proc`.
pub(super) const SHIELDS: &[DefaultRow] = &shields(MountFlags::NO_SUID, QUIET);

/// The same under Podman, whose crun binds a `/dev/null` that cannot be written.
pub(super) const CRUN_SHIELDS: &[DefaultRow] = &shields(MountFlags::READ_ONLY, PLAIN);

const fn shields(file: MountFlags, part: MountFlags) -> [DefaultRow; 12] {
    [
        DefaultRow::new("/proc/acpi", K::Masked, PLAIN),
        DefaultRow::new("/proc/kcore", K::Masked, file),
        DefaultRow::new("/proc/keys", K::Masked, file),
        DefaultRow::new("/proc/latency_stats", K::Masked, file),
        DefaultRow::new("/proc/timer_list", K::Masked, file),
        DefaultRow::new("/proc/scsi", K::Masked, PLAIN),
        DefaultRow::new("/sys/firmware", K::Masked, PLAIN),
        DefaultRow::new("/proc/bus", K::ReadOnly, part),
        DefaultRow::new("/proc/fs", K::ReadOnly, part),
        DefaultRow::new("/proc/irq", K::ReadOnly, part),
        DefaultRow::new("/proc/sys", K::ReadOnly, part),
        DefaultRow::new("/proc/sysrq-trigger", K::ReadOnly, part),
    ]
}

/// The files that engines bind into every container.
pub(super) const FILES: &[DefaultRow] = &files(MountFlags::READ_ONLY, false);

/// The same as Podman binds them.
pub(super) const PODMAN_FILES: &[DefaultRow] = &files(MountFlags::READ_ONLY.with(QUIET), true);

const fn files(under_read_only_root: MountFlags, resolver_needs_network: bool) -> [DefaultRow; 3] {
    let of_network = false;
    let file = K::File { mode: 0o644, under_read_only_root, of_network };
    let resolver = K::File { mode: 0o644, under_read_only_root, of_network: resolver_needs_network };
    [
        DefaultRow::new("/etc/hosts", file, PLAIN),
        DefaultRow::new("/etc/hostname", file, PLAIN),
        DefaultRow::new("/etc/resolv.conf", resolver, PLAIN),
    ]
}

/// `/dev/console`, where there is a terminal, as runc binds it; crun's has no flags.
pub(super) const CONSOLE: &[DefaultRow] =
    &[DefaultRow::new("/dev/console", K::Console, MountFlags::NO_SUID.with(MountFlags::NO_EXEC))];

/// `/etc/mtab` as engines have it, unless the image has its own.
pub(super) const MOUNT_TABLE: Added = Added { path: "etc/mtab", mode: 0o777, target: Some("/proc/mounts") };
