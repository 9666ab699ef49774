//! Podman with crun, as measured (docs/facts/runtimes.md).

use mivask_model::caps::CapabilitySet;
use mivask_model::mount::MountFlags;

use super::common::{CRUN_MOUNT_POINTS, CRUN_SHIELDS, MOUNT_TABLE, PODMAN_FILES};
use super::profile::{
    BindRules, Both, CapabilityNames, CapabilityRules, DefaultKind as K, DefaultRow, Entering, Forgets,
    IdentityRules, InNamespace, JoinRules, Listing, MountPointRules, PLAIN, Profile, QUIET, RootDirectory,
    TmpfsRules, VolumeRules,
};

const NO_DEV_SUID: MountFlags = MountFlags::NO_SUID.with(MountFlags::NO_DEV);

pub(super) const PROFILE: Profile = Profile {
    identity: IdentityRules {
        listing: Listing::UnlessNobodyNamesAUser,
        empty_group_is_explicit: true,
        captures_group_names: false,
        knows_keep_groups: true,
        passes_over_empty_groups: true,
        nobody_has_group_0: true,
        image_user_gets_roots_groups: false,
        reads_mounted_accounts: true,
        refuses_large_ids: false,
        passes_over_large_memberships: true,
        refuses_group_without_user: false,
        needs_root_in_namespace: false,
    },
    capabilities: CapabilityRules {
        // Eleven: without net_raw, mknod and audit_write.
        default: CapabilitySet::from_bits(0x8004_05fb),
        all: CapabilitySet::ALL,
        names: CapabilityNames::Either,
        both: Both::Refused,
        ambient: true,
    },
    mount_points: MountPointRules { in_read_only: true, ..CRUN_MOUNT_POINTS },
    tmpfs: TmpfsRules {
        flags: NO_DEV_SUID,
        keeps_directory_mode: false,
        copies_up: true,
        takes_owner: false,
        takes_others: false,
    },
    binds: BindRules {
        makes_missing_source: false,
        forgets: Forgets::ReadOnly,
        maps_ids: true,
        always_along: true,
        in_namespace: InNamespace::LeavesBehind,
    },
    volumes: VolumeRules {
        flags: NO_DEV_SUID,
        owns_root_at_first_mount: true,
        takes_options: true,
        link_gives_its_mode: true,
    },
    defaults: &[
        &[
            DefaultRow::new("/proc", K::Proc, QUIET),
            DefaultRow::new("/dev", K::Devices, MountFlags::NO_SUID.with(MountFlags::NO_EXEC)),
            DefaultRow::new("/dev/pts", K::Terminals, MountFlags::NO_SUID.with(MountFlags::NO_EXEC)),
            DefaultRow::new("/dev/shm", K::Shared(0o1777), QUIET),
            DefaultRow::new("/dev/mqueue", K::Shared(0o1777), QUIET),
            DefaultRow::new("/sys", K::Sys, QUIET),
            DefaultRow::new("/tmp", K::ScratchUnderReadOnlyRoot, NO_DEV_SUID),
            DefaultRow::new("/run", K::ScratchUnderReadOnlyRoot, NO_DEV_SUID),
            DefaultRow::new("/var/tmp", K::ScratchUnderReadOnlyRoot, NO_DEV_SUID),
            DefaultRow::new("/dev/console", K::Console, PLAIN),
            DefaultRow::new("/run/.containerenv", K::Marker(0o644), PLAIN),
        ],
        PODMAN_FILES,
        CRUN_SHIELDS,
        &[
            DefaultRow::new("/sys/dev/block", K::Masked, PLAIN),
            DefaultRow::new("/proc/asound", K::ReadOnly, PLAIN),
        ],
    ],
    entering: Entering::AccountAlone,
    joins: JoinRules { ipc_by_default: true, network_files: false, host_flags: QUIET },
    makes_working_directory: false,
    owns_working_directory: false,
    refuses_privileged_in_namespace: false,
    makes_accounts: true,
    added: &[MOUNT_TABLE],
    gives_null_away: true,
    root_directory: Some(RootDirectory { mode: 0o555, of_default_storage: true }),
    takes_relative_directory: true,
    caveat: None,
};
