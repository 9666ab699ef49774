//! Docker with runc, as measured (facts/runtimes.md).

use super::common::{FOURTEEN, RUNC_MOUNT_POINTS, RUNC_TMPFS};
use super::profile::{
    BindRules, Both, CapabilityNames, CapabilityRules, DefaultKind as K, DefaultRow, Forgets, IdentityRules,
    Listing, PLAIN, Profile, QUIET, VolumeRules,
};
use crate::caps::CapabilitySet;
use crate::mount::MountFlags;

pub(super) const PROFILE: Profile = Profile {
    identity: IdentityRules {
        listing: Listing::Always,
        empty_group_is_explicit: false,
        captures_group_names: true,
        image_user_gets_roots_groups: false,
        reads_mounted_accounts: false,
        refuses_large_ids: true,
        refuses_group_without_user: false,
    },
    capabilities: CapabilityRules {
        default: FOURTEEN,
        // Up to audit_read (37) in the measured version.
        all: CapabilitySet::from_bits((1 << 38) - 1),
        names: CapabilityNames::Either,
        both: Both::Kept,
        ambient: false,
    },
    mount_points: RUNC_MOUNT_POINTS,
    tmpfs: RUNC_TMPFS,
    binds: BindRules { makes_missing_source: true, forgets: Forgets::UnderReadOnly },
    volumes: VolumeRules { flags: PLAIN, owns_root_at_first_mount: false, link_gives_its_mode: false },
    defaults: &[
        DefaultRow::new("/proc", K::Proc, QUIET),
        DefaultRow::new("/dev", K::Devices, MountFlags::NO_SUID),
        DefaultRow::new("/dev/shm", K::Shared(0o1777), QUIET),
        DefaultRow::new("/dev/mqueue", K::Shared(0o1777), QUIET),
        DefaultRow::new("/sys", K::Sys, QUIET),
        DefaultRow::new("/etc/resolv.conf", K::File { mode: 0o644, follows_root: true }, PLAIN),
        DefaultRow::new("/etc/hostname", K::File { mode: 0o644, follows_root: true }, PLAIN),
        DefaultRow::new("/etc/hosts", K::File { mode: 0o644, follows_root: true }, PLAIN),
        DefaultRow::new("/proc/asound", K::Masked, PLAIN),
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
        DefaultRow::new("/proc/sysrq-trigger", K::ReadOnly, PLAIN),
    ],
    makes_working_directory: true,
    caveat: None,
};
