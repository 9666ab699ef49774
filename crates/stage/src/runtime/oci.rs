//! runc and crun on a bundle: what its configuration says and nothing else (docs/facts/runtimes.md section 10).

use super::common::{CAPABILITIES, CONSOLE, CRUN_MOUNT_POINTS, RUNC_MOUNT_POINTS, RUNC_TMPFS};
use super::profile::{
    BindRules, Entering, Forgets, IdentityRules, InNamespace, JoinRules, Listing, PLAIN, Profile, TmpfsRules,
    VolumeRules,
};

const IDENTITY: IdentityRules = IdentityRules {
    listing: Listing::Never,
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
    needs_root_in_namespace: true,
};

/// runc 1.1.
pub(super) const RUNC: Profile = Profile {
    identity: IDENTITY,
    capabilities: CAPABILITIES,
    mount_points: RUNC_MOUNT_POINTS,
    tmpfs: TmpfsRules { flags: PLAIN, ..RUNC_TMPFS },
    binds: BindRules {
        makes_missing_source: false,
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
    defaults: &[CONSOLE],
    entering: Entering::FromTheNode,
    joins: JoinRules::ASKED,
    makes_working_directory: true,
    owns_working_directory: false,
    refuses_privileged_in_namespace: false,
    makes_accounts: false,
    added: &[],
    gives_null_away: false,
    root_directory: None,
    takes_relative_directory: false,
    caveat: None,
};

/// crun 1.8.
pub(super) const CRUN: Profile = Profile {
    identity: IdentityRules {
        captures_group_names: false,
        refuses_large_ids: false,
        needs_root_in_namespace: false,
        ..IDENTITY
    },
    mount_points: CRUN_MOUNT_POINTS,
    tmpfs: TmpfsRules {
        flags: PLAIN,
        keeps_directory_mode: false,
        copies_up: false,
        takes_owner: true,
        takes_others: true,
    },
    binds: BindRules {
        makes_missing_source: false,
        forgets: Forgets::Always,
        maps_ids: true,
        always_along: false,
        in_namespace: InNamespace::LeavesBehind,
    },
    takes_relative_directory: true,
    ..RUNC
};
