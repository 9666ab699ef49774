//! containerd behind a kubelet (facts/runtimes.md, facts/kubelet.md).

use super::common::{CAPABILITIES, RUNC_MOUNT_POINTS, RUNC_TMPFS};
use super::profile::{
    BindRules, DefaultKind as K, DefaultRow, Forgets, IdentityRules, Listing, PLAIN, Profile, QUIET,
    VolumeRules,
};
use crate::mount::MountFlags;

const IDENTITY: IdentityRules = IdentityRules {
    listing: Listing::Always,
    empty_group_is_explicit: false,
    captures_group_names: false,
    image_user_gets_roots_groups: false,
    reads_mounted_accounts: false,
    refuses_large_ids: true,
    refuses_group_without_user: true,
};

/// facts/kubelet.md section 3; what the kubelet adds comes behind.
pub(super) const DEFAULTS: &[DefaultRow] = &[
    DefaultRow::new("/proc", K::Proc, QUIET),
    DefaultRow::new("/dev", K::Devices, MountFlags::NO_SUID),
    DefaultRow::new("/dev/shm", K::Shared(0o1777), QUIET),
    DefaultRow::new("/dev/mqueue", K::Shared(0o1777), QUIET),
    DefaultRow::new("/sys", K::Sys, QUIET),
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

/// Image volumes are copied once into a directory of the container's own.
pub(super) const VOLUMES: VolumeRules =
    VolumeRules { flags: PLAIN, owns_root_at_first_mount: false, link_gives_its_mode: false };

/// containerd 2.x, by its published tables.
pub(super) const CURRENT: Profile = Profile {
    identity: IDENTITY,
    capabilities: CAPABILITIES,
    mount_points: RUNC_MOUNT_POINTS,
    tmpfs: RUNC_TMPFS,
    binds: BindRules { makes_missing_source: true, forgets: Forgets::Nothing },
    volumes: VOLUMES,
    defaults: DEFAULTS,
    makes_working_directory: true,
    caveat: None,
};

/// containerd 1.6 with runc 1.1 as measured.
pub(super) const VERSION_1_6: Profile = Profile {
    identity: IdentityRules { captures_group_names: true, image_user_gets_roots_groups: true, ..IDENTITY },
    binds: BindRules { makes_missing_source: true, forgets: Forgets::UnderReadOnly },
    ..CURRENT
};

/// A container of the scene file where no runtime is named: it has the mounts it lists and no others.
pub(super) const BARE: Profile = Profile { defaults: &[], ..CURRENT };
