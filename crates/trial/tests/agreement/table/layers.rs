//! Sources on several real file systems.

use std::sync::OnceLock;

use mivask_core::stage::Stage;
use mivask_trial::random::kind_unavailable;
use mivask_trial::scenario::Kind;

use crate::support;

/// Sources on several real file systems, where they can be had here.
fn layers() -> Option<&'static Stage> {
    static LAYERS: OnceLock<Stage> = OnceLock::new();
    let missing = [Kind::Ext4, Kind::Xfs, Kind::Overlay, Kind::Erofs].into_iter().find_map(kind_unavailable);
    if let (Some(reason), None) = (missing, mivask_kernel::unavailable()) {
        support::skipped("layers", &reason);
        return None;
    }
    Some(LAYERS.get_or_init(|| support::stage("tests/agreement/layers.yaml")))
}

macro_rules! agree_on_layers {
    ($($name:ident: $sentence:literal;)+) => {
        $(#[test] fn $name() {
            if let Some(stage) = layers() {
                support::agree(stage, stringify!($name), $sentence);
            }
        })+

        /// How many rows there are.
        pub(super) const ROWS: usize = [$(stringify!($name)),+].len();
    };
}

agree_on_layers! {
    // 6: overlay.
    a_directory_of_the_image_is_not_renamed: "owner renames /overlay/image to /overlay/moved -> denied EXDEV";
    a_directory_in_both_layers_neither: "owner renames /overlay/mixed to /overlay/moved -> denied EXDEV";
    a_new_directory_is: "owner renames /overlay/new to /overlay/moved -> allowed";
    a_file_of_the_image_is: "owner renames /overlay/file to /overlay/moved -> allowed";
    permission_comes_before_layers: "owner renames /overlay/image to /moved -> denied EXDEV";
    writing_to_the_image_copies_up: "owner truncates /overlay/file -> allowed";
    changing_the_owner_in_the_image: "root sets-owner 7102:7300 on /overlay/image/f -> leaves 7102:7300 2644";
    overlay_leaves_a_foreign_set_group_id: "both-caps sets-group 0 on /overlay/set-group -> leaves 0:0 2644";
    an_acl_the_image_does_not_have: "both-caps removes-acl /overlay/file -> denied ENODATA";
    set_group_id_of_ones_own_group_stays: "both-caps removes-acl /overlay/set-group -> denied ENODATA";
    a_foreign_set_group_id_goes_with_the_acl: "both-caps removes-acl /overlay/new -> leaves 0:0 0777";
    a_directory_of_the_image_is_not_exchanged: "owner exchanges /overlay/image with /overlay/new -> denied EXDEV";
    nor_with_a_file: "owner exchanges /overlay/file with /overlay/mixed -> denied EXDEV";
    files_of_the_image_are: "owner exchanges /overlay/file with /overlay/new -> allowed";

    // 5 and 6: groups of new files.
    without_grpid_the_process_gives_the_group: "owner creates /ext4/shared/new -> leaves 7101:7200 0644";
    grpid_gives_the_directorys: "owner creates /grpid/shared/new -> leaves 7101:7300 0644";
    grpid_passes_no_setgid_on: "owner makes-directory /grpid/setgid/new -> leaves 7101:7300 0755";
    without_grpid_setgid_is_passed_on: "owner makes-directory /ext4/setgid/new -> leaves 7101:7300 2755";
    grpid_on_xfs: "owner creates /xgrpid/shared/new -> leaves 7101:7300 0644";
    grpid_on_xfs_passes_setgid_on: "owner makes-directory /xgrpid/setgid/new -> leaves 7101:7300 2755";

    // 6: what native file systems do each their own way.
    a_full_directory_is_not_replaced: "owner renames /ext4/other to /ext4/full -> denied ENOTEMPTY";
    xfs_says_it_exists: "owner renames /xfs/other to /xfs/full -> denied EEXIST";
    ext4_locks_an_immutable_file_for_chown_of_nothing: "owner sets-owner : on /ext4/immutable -> denied EPERM";
    xfs_does_not: "owner sets-owner : on /xfs/immutable -> leaves 7101:7200 0644";
    ext4_keeps_set_id_of_append_only: "owner sets-owner : on /ext4/append-set-user -> denied EPERM";
    xfs_clears_it: "owner sets-owner : on /xfs/append-set-user -> leaves 7101:7200 0644";
    shortening_nothing_clears_set_id: "both-caps shortens /ext4/empty-set-user -> leaves 7101:7200 0666";
    xfs_does_nothing_at_all: "both-caps shortens /xfs/empty-set-user -> allowed";
    an_acl_on_ext4: "owner writes /ext4/acl -> allowed";

    // 6: images.
    an_image_is_read: "owner reads /erofs/open -> allowed";
    an_image_takes_no_write: "owner writes /erofs/open -> denied EROFS";
    an_image_takes_no_new_file: "root creates /erofs/new -> denied EROFS";
    an_acl_in_an_image: "owner reads /erofs/acl -> allowed";
    a_program_in_an_image: "owner runs /erofs/run -> allowed";
}
