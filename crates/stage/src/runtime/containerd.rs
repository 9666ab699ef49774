//! containerd behind a kubelet (docs/facts/runtimes.md, docs/facts/kubelet.md).

use super::common::{CAPABILITIES, CONSOLE, KERNEL, RUNC_MOUNT_POINTS, RUNC_TMPFS, SHIELDS};
use super::profile::{
    BindRules, DefaultRow, Entering, Forgets, IdentityRules, InNamespace, JoinRules, Listing,
    MountPointRules, PLAIN, Profile, VolumeRules,
};

const IDENTITY: IdentityRules = IdentityRules {
    listing: Listing::Always,
    empty_group_is_explicit: false,
    captures_group_names: false,
    knows_keep_groups: false,
    passes_over_empty_groups: false,
    nobody_has_group_0: false,
    image_user_gets_roots_groups: false,
    reads_mounted_accounts: false,
    refuses_large_ids: true,
    passes_over_large_memberships: false,
    refuses_group_without_user: true,
    needs_root_in_namespace: false,
};

/// docs/facts/kubelet.md section 3; what the kubelet adds comes behind.
const DEFAULTS: &[&[DefaultRow]] = &[KERNEL, CONSOLE, SHIELDS];

/// Image volumes are copied once into a directory of the container's own.
pub(super) const VOLUMES: VolumeRules = VolumeRules {
    flags: PLAIN,
    owns_root_at_first_mount: false,
    takes_options: false,
    link_gives_its_mode: false,
};

/// containerd 2.x, by its published tables.
pub(super) const CURRENT: Profile = Profile {
    identity: IDENTITY,
    capabilities: CAPABILITIES,
    mount_points: RUNC_MOUNT_POINTS,
    tmpfs: RUNC_TMPFS,
    binds: BindRules {
        makes_missing_source: true,
        forgets: Forgets::Nothing,
        maps_ids: false,
        always_along: false,
        in_namespace: InNamespace::AsAsked,
    },
    volumes: VOLUMES,
    defaults: DEFAULTS,
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

/// containerd 1.6 with runc 1.1 as measured.
pub(super) const VERSION_1_6: Profile = Profile {
    identity: IdentityRules { captures_group_names: true, image_user_gets_roots_groups: true, ..IDENTITY },
    binds: BindRules {
        makes_missing_source: true,
        forgets: Forgets::WhereAsked,
        maps_ids: false,
        always_along: false,
        in_namespace: InNamespace::AsAsked,
    },
    ..CURRENT
};

/// A container of the scene file where no runtime is named: it has the mounts it lists and no others.
pub(super) const BARE: Profile = Profile {
    defaults: &[],
    mount_points: MountPointRules { guards_proc: false, ..RUNC_MOUNT_POINTS },
    ..CURRENT
};
