//! Docker with runc, as measured (docs/facts/runtimes.md).

use mivask_model::caps::CapabilitySet;

use super::common::{CONSOLE, FILES, FOURTEEN, KERNEL, MOUNT_TABLE, RUNC_MOUNT_POINTS, RUNC_TMPFS, SHIELDS};
use super::profile::{
    Added, BindRules, Both, CapabilityNames, CapabilityRules, DefaultKind as K, DefaultRow, Entering,
    Forgets, IdentityRules, InNamespace, JoinRules, Listing, PLAIN, Profile, RootDirectory, VolumeRules,
};

pub(super) const PROFILE: Profile = Profile {
    identity: IdentityRules {
        listing: Listing::Always,
        empty_group_is_explicit: false,
        captures_group_names: true,
        knows_keep_groups: false,
        passes_over_empty_groups: false,
        nobody_has_group_0: false,
        image_user_gets_roots_groups: false,
        reads_mounted_accounts: false,
        refuses_large_ids: true,
        passes_over_large_memberships: false,
        refuses_group_without_user: false,
        needs_root_in_namespace: false,
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
    binds: BindRules {
        makes_missing_source: true,
        forgets: Forgets::WhereAsked,
        maps_ids: false,
        always_along: false,
        in_namespace: InNamespace::CannotLeave,
    },
    volumes: VolumeRules {
        flags: PLAIN,
        owns_root_at_first_mount: false,
        takes_options: false,
        link_gives_its_mode: false,
    },
    defaults: &[KERNEL, CONSOLE, FILES, SHIELDS, &[DefaultRow::new("/proc/asound", K::Masked, PLAIN)]],
    entering: Entering::LikeAtStart,
    joins: JoinRules::ASKED,
    makes_working_directory: true,
    owns_working_directory: true,
    refuses_privileged_in_namespace: true,
    makes_accounts: false,
    added: &[Added { path: ".dockerenv", mode: 0o755, target: None }, MOUNT_TABLE],
    gives_null_away: false,
    root_directory: Some(RootDirectory { mode: 0o755, of_default_storage: false }),
    takes_relative_directory: false,
    caveat: None,
};
