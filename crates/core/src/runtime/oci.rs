//! runc and crun on a bundle: what its configuration says and nothing else (facts/runtimes.md section 10).

use super::containerd;
use super::profile::{
    BindRules, Forgets, IdentityRules, Listing, MountPointRules, PLAIN, Profile, TmpfsRules, VolumeRules,
};
use crate::mount::MountFlags;

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

const IDENTITY: IdentityRules = IdentityRules {
    listing: Listing::Never,
    empty_group_is_explicit: false,
    captures_group_names: true,
    image_user_gets_roots_groups: false,
    reads_mounted_accounts: false,
    refuses_large_ids: true,
    refuses_group_without_user: false,
};

/// runc 1.1.
pub(super) const RUNC: Profile = Profile {
    identity: IDENTITY,
    capabilities: containerd::CAPABILITIES,
    mount_points: RUNC_MOUNT_POINTS,
    tmpfs: TmpfsRules { flags: PLAIN, ..RUNC_TMPFS },
    binds: BindRules { makes_missing_source: false, forgets: Forgets::UnderReadOnly },
    volumes: VolumeRules { flags: PLAIN, owns_root_at_first_mount: false, link_gives_its_mode: false },
    defaults: &[],
    makes_working_directory: true,
    caveat: None,
};

/// crun 1.8.
pub(super) const CRUN: Profile = Profile {
    identity: IdentityRules { captures_group_names: false, refuses_large_ids: false, ..IDENTITY },
    mount_points: CRUN_MOUNT_POINTS,
    tmpfs: TmpfsRules { flags: PLAIN, keeps_directory_mode: false, copies_up: false, takes_owner: true },
    binds: BindRules { makes_missing_source: false, forgets: Forgets::Nothing },
    ..RUNC
};
