//! The agreement table: each row is decided by the core and done on the running kernel as that identity.
//!
//! A row passes when prediction, kernel and the written expectation are the same, errno and imprint included.

use std::sync::OnceLock;

use mivask_core::act::Verb;
use mivask_core::stage::Stage;

use mivask_trial::random::kind_unavailable;
use mivask_trial::scenario::Kind;

use crate::support;

/// The world on a host whose settings are this machine's.
fn world() -> &'static Stage {
    static WORLD: OnceLock<Stage> = OnceLock::new();
    WORLD.get_or_init(|| support::stage("tests/agreement/worlds.yaml"))
}

/// Sources on several real file systems, where they can be had here.
fn layers() -> Option<&'static Stage> {
    static LAYERS: OnceLock<Stage> = OnceLock::new();
    let missing = [Kind::Ext4, Kind::Xfs, Kind::Overlay, Kind::Erofs].into_iter().find_map(kind_unavailable);
    if let (Some(reason), None) = (missing, mivask_kernel::unavailable()) {
        println!("skipped: layers: {reason}");
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
        const ROWS_ON_LAYERS: usize = [$(stringify!($name)),+].len();
    };
}

macro_rules! agree {
    ($($name:ident: $sentence:literal;)+) => {
        $(#[test] fn $name() { support::agree(world(), stringify!($name), $sentence); })+

        /// How many rows there are.
        const ROWS: usize = [$(stringify!($name)),+].len();
    };
}

agree! {
    // 2.4 and 2.6: one class decides, and no other.
    owner_reads_0400: "owner reads /c/owner-0400 -> allowed";
    owner_is_held_to_owner_bits: "owner writes /c/owner-0577 -> denied EACCES";
    owner_of_0000_reads_nothing: "owner reads /c/owner-0000 -> denied EACCES";
    group_reads_0040: "member reads /c/group-0040 -> allowed";
    owner_is_not_helped_by_group_bits: "owner reads /c/group-0040 -> denied EACCES";
    group_is_held_to_group_bits: "member reads /c/group-0707 -> denied EACCES";
    other_is_not_held_to_group_bits: "other reads /c/group-0707 -> allowed";
    group_writes_0020_without_reading: "member writes /c/group-0020 -> allowed";
    group_cannot_update_0020: "member updates /c/group-0020 -> denied EACCES";
    a_supplementary_group_counts: "extra updates /c/extra-0060 -> allowed";
    other_reads_0004: "other reads /c/other-0004 -> allowed";
    group_loses_what_other_has: "member reads /c/other-0004 -> denied EACCES";
    other_appends_0002: "other appends /c/other-0002 -> allowed";
    other_may_not_truncate_0004: "other truncates /c/other-0004 -> denied EACCES";

    // 2.5: ACLs.
    a_named_user_reads: "named reads /a/user-r -> allowed";
    a_named_user_gets_no_more_than_its_entry: "named writes /a/user-r -> denied EACCES";
    the_mask_limits_a_named_user: "named writes /a/user-masked -> denied EACCES";
    with_a_mask_digit_of_0_the_acl_is_not_looked_at: "named reads /a/no-mask-digit -> allowed";
    one_of_two_matching_groups_is_enough: "both updates /a/two-groups -> allowed";
    the_owning_group_alone_is_denied: "member reads /a/two-groups -> denied EACCES";
    a_matching_group_shuts_other_out: "extra reads /a/group-denies -> denied EACCES";
    no_matching_group_leaves_other: "other updates /a/group-denies -> allowed";

    // 2.7: capabilities.
    root_overrides_0000: "root updates /c/owner-0000 -> allowed";
    root_without_capabilities_obeys: "bare-root reads /c/owner-0000 -> denied EACCES";
    root_without_capabilities_owns_its_files: "bare-root updates /c/root-0600 -> allowed";
    root_runs_nothing_without_an_x_bit: "root runs /p/no-x -> denied EACCES";
    dac_read_search_reads: "searcher reads /c/owner-0000 -> allowed";
    dac_read_search_does_not_write: "searcher writes /c/owner-0000 -> denied EACCES";
    dac_read_search_does_not_update: "searcher updates /c/other-0002 -> denied EACCES";
    dac_read_search_searches: "searcher reads /d/r-only/f -> allowed";
    dac_read_search_creates_nothing: "searcher creates /d/x-only/new -> denied EACCES";
    dac_override_writes: "overrider updates /c/owner-0000 -> allowed";
    dac_override_creates: "overrider creates /d/w-no-x/new -> leaves 7900:7900 0644";
    dac_override_needs_one_x_bit: "overrider runs /p/no-x -> denied EACCES";
    dac_override_uses_any_x_bit: "overrider runs /p/owner-x -> allowed";

    // 3: walking.
    r_without_x_lists: "member lists /d/r-only -> allowed";
    r_without_x_opens_nothing: "member reads /d/r-only/f -> denied EACCES";
    r_without_x_hides_what_is_missing: "member reads /d/r-only/none -> denied EACCES";
    r_without_x_is_not_entered: "member enters /d/r-only -> denied EACCES";
    x_without_r_opens: "member reads /d/x-only/f -> allowed";
    x_without_r_does_not_list: "member lists /d/x-only -> denied EACCES";
    stat_needs_only_the_walk: "other inspects /c/owner-0000 -> allowed";
    stat_needs_the_walk: "other inspects /d/r-only/f -> denied EACCES";
    a_missing_name: "other reads /c/none -> denied ENOENT";
    a_slash_behind_a_link_to_a_file: "other inspects-link /l/rel/ -> denied ENOTDIR";
    a_slash_behind_a_link_is_followed_to_the_end: "other inspects-link /l/to-dir/ -> allowed";
    a_file_on_the_way: "other reads /c/root-0644/x -> denied ENOTDIR";
    a_slash_behind_a_file: "other reads /c/root-0644/ -> denied ENOTDIR";
    dots_on_the_way: "other reads /c/./../c/root-0644 -> allowed";
    dots_need_search_too: "member reads /d/r-only/../../c/root-0644 -> denied EACCES";
    above_the_root_is_the_root: "other reads /../../c/root-0644 -> allowed";
    an_absolute_link: "other reads /l/abs -> allowed";
    a_relative_link: "other reads /l/rel -> allowed";
    a_link_to_a_link: "other reads /l/chain -> allowed";
    a_link_on_the_way: "other reads /l/dir/x-only/f -> denied EACCES";
    a_link_above_the_root: "other reads /l/out -> allowed";
    a_link_through_a_closed_directory: "member reads /l/through-closed -> denied EACCES";
    a_dangling_link: "other reads /l/dangling -> denied ENOENT";
    a_dangling_link_is_there_itself: "other inspects-link /l/dangling -> allowed";
    a_loop: "other reads /l/loop -> denied ELOOP";
    nosymfollow: "owner reads /m/nosymfollow/link -> denied ELOOP";
    a_name_of_256_bytes: "other reads /aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa -> denied ENAMETOOLONG";
    the_covered_directory_does_not_count: "owner lists /m/ro -> allowed";
    up_from_a_mount: "other reads /m/rw/../../c/root-0644 -> allowed";
    a_mount_within_a_mount: "owner reads /m/rw/inner/f -> allowed";

    // 4: opening.
    a_directory_is_not_written: "root writes /d/open -> denied EISDIR";
    a_directory_can_be_opened_for_reading: "other reads /d/open -> allowed";
    a_read_only_mount_is_found_last: "owner writes /m/ro/open -> denied EROFS";
    permission_comes_before_a_read_only_mount: "owner writes /m/ro/closed -> denied EACCES";
    truncation_meets_a_read_only_mount_first: "owner truncates /m/ro/closed -> denied EROFS";
    root_meets_a_read_only_mount: "root writes /m/ro/closed -> denied EROFS";
    a_read_only_superblock_comes_before_permission: "owner writes /m/sb-ro/closed -> denied EROFS";
    a_fifo_on_a_read_only_superblock_takes_writes: "owner writes /m/sb-ro/fifo -> allowed";
    reading_on_a_read_only_mount: "owner reads /m/ro/open -> allowed";
    an_immutable_file: "owner writes /f/immutable -> denied EPERM";
    an_immutable_file_for_root: "root writes /f/immutable -> denied EPERM";
    an_immutable_file_is_read: "other reads /f/immutable -> allowed";
    append_only_takes_appends: "owner appends /f/append -> allowed";
    append_only_takes_no_plain_write: "owner writes /f/append -> denied EPERM";
    append_only_is_not_truncated: "owner truncates /f/append -> denied EPERM";
    append_only_is_extended: "owner extends /f/append -> allowed";
    a_fifo_obeys_its_bits: "other reads /f/fifo -> denied EACCES";
    a_fifo_is_written: "owner writes /f/fifo -> allowed";
    a_socket_is_not_opened: "other reads /f/socket -> denied ENXIO";
    a_device_is_opened: "other writes /f/null -> allowed";
    nodev: "root reads /m/nodev/null -> denied EACCES";

    // 4: creating.
    creating_in_an_open_directory: "other creates /d/open/new -> leaves 7900:7900 0644";
    creating_what_exists: "other creates /d/open/f -> denied EEXIST";
    creating_needs_w: "other creates /d/new -> denied EACCES";
    creating_needs_x_too: "member creates /d/w-no-x/new -> denied EACCES";
    creating_on_a_read_only_mount: "owner creates /m/ro/new -> denied EROFS";
    read_only_comes_before_w_of_the_directory: "other creates /m/ro/new -> denied EROFS";
    existing_comes_before_read_only: "owner creates /m/ro/open -> denied EEXIST";
    creating_with_a_slash_behind: "other creates /d/open/new/ -> denied EISDIR";
    creating_the_root: "other creates / -> denied EEXIST";
    creating_through_a_dangling_link: "other creates /l/dangling -> denied EEXIST";
    overwriting_through_a_dangling_link: "other overwrites /l/dangling -> allowed";
    creating_in_an_immutable_directory: "owner creates /d/immutable/new -> denied EPERM";
    creating_in_an_append_only_directory: "owner creates /d/append/new -> leaves 7101:7200 0644";
    sticky_does_not_matter_for_creating: "other creates /d/sticky/new -> leaves 7900:7900 0644";
    overwriting_makes_what_is_missing: "owner overwrites /d/open/new -> leaves 7101:7200 0644";
    extending_opens_what_is_there: "root extends /d/open/f -> allowed";
    overwriting_a_directory: "other overwrites /d/open -> denied EISDIR";
    overwriting_on_a_read_only_mount: "owner overwrites /m/ro/open -> denied EROFS";
    making_a_directory: "other makes-directory /d/open/new -> leaves 7900:7900 0755";
    making_one_with_a_slash_behind: "other makes-directory /d/open/new/ -> leaves 7900:7900 0755";
    making_what_exists: "other makes-directory /d/open/full -> denied EEXIST";
    making_one_on_a_read_only_mount: "owner makes-directory /m/ro/new -> denied EROFS";
    making_the_root: "other makes-directory / -> denied EEXIST";
    making_a_dangling_link: "other makes-directory /l/dangling -> denied EEXIST";

    // 5: imprint.
    umask_takes_bits: "tight creates /d/open/new -> leaves 7101:7200 0600";
    umask_takes_bits_from_directories: "tight makes-directory /d/open/new -> leaves 7101:7200 0700";
    a_mode_is_asked_for: "other creates /d/open/new mode 0640 -> leaves 7900:7900 0640";
    setgid_gives_the_group: "other creates /d/sgid/new -> leaves 7900:7300 0644";
    setgid_is_passed_on_to_directories: "other makes-directory /d/sgid/new -> leaves 7900:7300 2755";
    a_set_id_file_in_a_foreign_setgid_directory_loses_it: "other creates /d/sgid/new mode 2755 -> leaves 7900:7300 0755";
    a_member_keeps_set_group_id: "extra creates /d/sgid/new mode 2755 -> leaves 7103:7300 2755";
    root_keeps_set_group_id: "root creates /d/sgid/new mode 2755 -> leaves 0:7300 2755";
    set_group_id_without_x_is_kept: "other creates /d/sgid/new mode 2644 -> leaves 7900:7300 2644";
    mkdir_ignores_set_id_bits: "other makes-directory /d/open/new mode 6777 -> leaves 7900:7900 0755";
    mkdir_keeps_sticky: "other makes-directory /d/open/new mode 1777 -> leaves 7900:7900 1755";
    a_default_acl_replaces_the_umask: "tight creates /a/inherits/new -> leaves 7101:7200 0660";
    a_default_acl_is_masked_by_the_mode: "other creates /a/inherits/new mode 0600 -> leaves 7900:7900 0600";
    a_default_acl_on_a_directory: "other makes-directory /a/inherits/new -> leaves 7900:7900 0770";

    // 4: removing.
    deleting_needs_only_the_directory: "other deletes /d/open/f -> allowed";
    deleting_without_w: "other deletes /c/other-0002 -> denied EACCES";
    deleting_what_is_missing: "other deletes /d/open/none -> denied ENOENT";
    deleting_a_directory: "other deletes /d/open/empty -> denied EISDIR";
    deleting_with_a_slash_behind: "other deletes /d/open/f/ -> denied ENOTDIR";
    deleting_a_directory_with_a_slash_behind: "other deletes /d/open/empty/ -> denied EISDIR";
    deleting_the_root: "root deletes / -> denied EISDIR";
    deleting_on_a_read_only_mount: "owner deletes /m/ro/open -> denied EROFS";
    read_only_comes_before_missing: "owner deletes /m/ro/none -> denied EROFS";
    sticky_own_file: "owner deletes /d/sticky/mine -> allowed";
    sticky_foreign_file: "owner deletes /d/sticky/theirs -> denied EPERM";
    sticky_for_root_without_capabilities: "bare-root deletes /d/sticky/theirs -> denied EPERM";
    sticky_fowner: "janitor deletes /d/sticky/theirs -> allowed";
    fowner_alone_does_not_open_the_directory: "janitor deletes /c/root-0644 -> denied EACCES";
    deleting_an_immutable_file: "root deletes /f/immutable -> denied EPERM";
    deleting_an_append_only_file: "owner deletes /f/append -> denied EPERM";
    deleting_from_an_append_only_directory: "owner deletes /d/append/f -> denied EPERM";
    deleting_a_link_not_its_target: "other deletes /l/abs -> allowed";
    removing_an_empty_directory: "other removes-directory /d/open/empty -> allowed";
    removing_a_full_directory: "other removes-directory /d/open/full -> denied ENOTEMPTY";
    removing_a_file: "other removes-directory /d/open/f -> denied ENOTDIR";
    removing_dot: "other removes-directory /d/open/. -> denied EINVAL";
    removing_dot_dot: "other removes-directory /d/open/.. -> denied ENOTEMPTY";
    removing_the_root: "other removes-directory / -> denied EBUSY";
    removing_a_mount_point: "other removes-directory /m/rw -> denied EBUSY";

    // 4: fifos, nodes, links.
    making_a_fifo: "other makes-fifo /d/open/new -> leaves 7900:7900 0644";
    making_a_fifo_needs_w: "other makes-fifo /d/new -> denied EACCES";
    making_a_fifo_with_a_slash_behind: "other makes-fifo /d/open/new/ -> denied ENOENT";
    making_a_fifo_that_exists: "other makes-fifo /d/open/f -> denied EEXIST";
    making_a_fifo_on_a_read_only_mount: "owner makes-fifo /m/ro/new -> denied EROFS";
    making_a_socket_takes_no_capability: "other makes-node /d/open/new as socket -> leaves 7900:7900 0644";
    making_a_device_takes_mknod: "other makes-node /d/open/new -> denied EPERM";
    making_a_device_with_mknod: "maker makes-node /d/open/new as block 7:200 mode 0660 -> leaves 7900:7900 0640";
    permission_comes_before_mknod: "other makes-node /d/new -> denied EACCES";
    making_a_device_in_a_user_namespace: "inner-root makes-node /d/open/new -> denied EPERM";
    a_node_in_a_setgid_directory: "other makes-node /d/sgid/new as socket mode 2777 -> leaves 7900:7300 0755";
    pointing: "other points /d/open/new at ../nowhere -> leaves 7900:7900 0777";
    pointing_in_a_setgid_directory: "other points /d/sgid/new at x -> leaves 7900:7300 0777";
    pointing_at_nothing: "other points /d/open/new at \"\" -> denied ENOENT";
    pointing_with_a_slash_behind: "other points /d/open/new/ at x -> denied ENOENT";
    pointing_where_something_is: "other points /d/open/f at x -> denied EEXIST";
    pointing_needs_w: "other points /d/new at x -> denied EACCES";
    pointing_below_a_default_acl: "other points /a/inherits/new at x -> leaves 7900:7900 0777";

    // 4: hard links.
    linking_ones_own: "owner links /g/mine to /g/new -> allowed";
    linking_a_directory: "root links /g/dir to /g/new -> denied EPERM";
    linking_what_is_missing: "owner links /g/none to /g/new -> denied ENOENT";
    linking_onto_something: "owner links /g/mine to /g/twin -> denied EEXIST";
    linking_needs_w_there: "owner links /g/mine to /d/new -> denied EACCES";
    linking_with_a_slash_behind: "owner links /g/mine to /g/new/ -> denied ENOENT";
    linking_across_mounts: "owner links /g/mine to /m/rw/new -> denied EXDEV";
    linking_across_mounts_of_one_source: "owner links /m/rw/mine to /m/noexec/open-dir/new -> denied EXDEV";
    existing_comes_before_another_mount: "owner links /g/mine to /m/rw/open -> denied EEXIST";
    read_only_comes_before_another_mount: "owner links /g/mine to /m/ro/new -> denied EROFS";
    linking_an_immutable_file: "owner links /f/immutable to /g/new -> denied EPERM";
    linking_an_append_only_file: "owner links /f/append to /g/new -> denied EPERM";
    a_link_to_link_is_not_followed: "owner links /g/link to /g/new -> allowed";
    linking_an_unmapped_file: "root links /m/mapped/unmapped to /m/mapped/open-dir/new -> denied EOVERFLOW";

    // 4: renaming.
    renaming: "owner renames /g/mine to /g/new -> allowed";
    renaming_takes_w_on_both_sides: "owner renames /g/mine to /d/new -> denied EACCES";
    renaming_takes_w_where_it_was: "other renames /c/other-0002 to /g/new -> denied EACCES";
    renaming_what_is_missing: "owner renames /g/none to /g/new -> denied ENOENT";
    renaming_over_a_file: "owner renames /g/mine to /g/twin -> allowed";
    renaming_a_file_over_a_directory: "owner renames /g/mine to /g/dir -> denied EISDIR";
    renaming_a_directory_over_a_file: "owner renames /g/dir to /g/mine -> denied ENOTDIR";
    renaming_over_an_empty_directory: "owner renames /g/full to /g/dir/in -> allowed";
    renaming_over_a_full_directory: "owner renames /g/dir to /g/full -> denied ENOTEMPTY";
    renaming_into_itself: "owner renames /g/dir to /g/dir/in/new -> denied EINVAL";
    renaming_onto_what_holds_it: "owner renames /g/dir/in to /g/dir -> denied ENOTEMPTY";
    renaming_onto_itself: "other renames /c/root-0600 to /c/root-0600 -> allowed";
    renaming_onto_another_name_of_the_same_file: "other renames /g/twin to /g/twin2 -> allowed";
    renaming_the_root: "root renames / to /new -> denied EBUSY";
    renaming_onto_dot_dot: "root renames /g/mine to /g/.. -> denied EBUSY";
    renaming_across_mounts: "owner renames /g/mine to /m/rw/new -> denied EXDEV";
    another_mount_comes_before_read_only: "owner renames /g/mine to /m/ro/new -> denied EXDEV";
    renaming_on_a_read_only_mount: "owner renames /m/ro/open to /m/ro/new -> denied EROFS";
    read_only_comes_before_missing_for_rename: "owner renames /m/ro/none to /m/ro/new -> denied EROFS";
    renaming_a_mount_point: "root renames /m/rw to /m/new -> denied EBUSY";
    renaming_over_a_mount_point: "root renames /d/open/empty to /m/rw -> denied EBUSY";
    a_moved_directory_is_written_to: "owner renames /g/closed/sub to /g/new -> denied EACCES";
    a_directory_renamed_in_place_is_not: "owner renames /g/closed/sub to /g/closed/new -> allowed";
    sticky_holds_for_renaming: "owner renames /d/sticky/theirs to /d/sticky/new -> denied EPERM";
    sticky_holds_for_what_is_replaced: "owner renames /d/sticky/mine to /d/sticky/theirs -> denied EPERM";
    renaming_an_immutable_file: "root renames /f/immutable to /f/new -> denied EPERM";
    renaming_a_file_with_a_slash_behind: "owner renames /g/mine/ to /g/new -> denied ENOTDIR";
    renaming_to_a_name_with_a_slash_behind: "owner renames /g/mine to /g/new/ -> denied ENOTDIR";
    renaming_a_directory_with_slashes_behind: "owner renames /g/dir/ to /g/new/ -> allowed";
    renaming_does_not_follow: "owner renames /g/link to /g/new -> allowed";

    // 4: chmod.
    setting_the_mode_of_ones_own: "owner sets-mode 0600 on /g/mine -> leaves 7101:7200 0600";
    setting_anothers_mode: "member sets-mode 0600 on /g/mine -> denied EPERM";
    setting_a_mode_with_fowner: "janitor sets-mode 0600 on /g/mine -> leaves 7101:7200 0600";
    setting_a_mode_by_clauses: "owner sets-mode g+w,o= on /g/mine -> leaves 7101:7200 0660";
    setting_a_mode_follows_links: "owner sets-mode 0600 on /g/link -> leaves 7101:7200 0600";
    set_group_id_is_dropped_for_an_outsider: "owner sets-mode 2755 on /g/set-group -> leaves 7101:7300 0755";
    set_group_id_is_kept_for_a_member: "owner sets-mode 2755 on /g/mine -> leaves 7101:7200 2755";
    set_group_id_is_kept_with_fsetid: "keeper sets-mode 2755 on /g/set-group -> leaves 7101:7300 2755";
    set_group_id_of_a_directory_is_dropped_too: "owner sets-mode 2777 on /m/rw/sub -> leaves 7101:7200 2777";
    setting_a_mode_with_an_acl_sets_the_mask: "owner sets-mode 0600 on /g/with-acl -> leaves 7101:7200 0600";
    setting_the_mode_of_an_immutable_file: "owner sets-mode 0600 on /f/immutable -> denied EPERM";
    setting_the_mode_of_an_append_only_file: "owner sets-mode 0600 on /f/append -> denied EPERM";
    setting_a_mode_on_a_read_only_mount: "other sets-mode 0600 on /m/ro/open -> denied EROFS";
    setting_the_mode_of_an_unmapped_file: "root sets-mode 0600 on /m/mapped/unmapped -> denied EOVERFLOW";

    // 4: chown.
    giving_a_file_away: "owner sets-owner 7102 on /g/mine -> denied EPERM";
    giving_a_file_away_with_chown: "giver sets-owner 7102:7300 on /g/mine -> leaves 7102:7300 0644";
    naming_the_owner_it_has: "owner sets-owner 7101 on /g/mine -> leaves 7101:7200 0644";
    giving_a_file_to_ones_own_group: "owner sets-group 7200 on /g/set-group -> leaves 7101:7200 0755";
    giving_a_file_to_a_foreign_group: "owner sets-group 7300 on /g/mine -> denied EPERM";
    giving_anothers_file_to_ones_group: "member sets-group 7200 on /g/mine -> denied EPERM";
    chown_clears_set_user_id: "owner sets-owner 7101 on /g/set-user -> leaves 7101:7200 0755";
    chown_clears_for_root_too: "root sets-owner 7101 on /g/set-both -> leaves 7101:7200 0755";
    chown_of_nothing_clears_too: "owner sets-owner : on /g/set-both -> leaves 7101:7200 0755";
    clearing_counts_as_a_chmod: "giver sets-owner 7102 on /g/set-user -> denied EPERM";
    clearing_with_fowner: "both-caps sets-owner 7102 on /g/set-user -> leaves 7102:7200 0755";
    set_group_id_without_x_stays_for_a_member: "keeper sets-owner : on /g/set-group-no-x -> leaves 7101:7300 2644";
    set_group_id_without_x_goes_for_an_outsider: "owner sets-owner : on /g/set-group-no-x -> leaves 7101:7300 0644";
    a_directory_keeps_its_bits: "root sets-owner 7102 on /g/dir -> leaves 7102:7200 2775";
    chown_follows_links: "root sets-owner 7102 on /g/link -> leaves 7102:7200 0644";
    lchown_does_not: "root sets-link-owner 7102 on /g/link -> leaves 7102:7200 0777";
    the_group_of_a_link: "owner sets-link-group 7300 on /g/link -> denied EPERM";
    chown_of_an_immutable_file: "root sets-owner 7102 on /f/immutable -> denied EPERM";
    chown_on_a_read_only_mount: "other sets-owner 7102 on /m/ro/open -> denied EROFS";

    // 4: ACLs.
    setting_an_acl: "owner sets-acl user:7102:rw-,mask::r-- on /g/mine -> leaves 7101:7200 0644";
    an_acl_sets_the_group_bits: "owner sets-acl user:7102:rwx on /g/mine -> leaves 7101:7200 0674";
    setting_anothers_acl: "member sets-acl user:7102:rw- on /g/mine -> denied EPERM";
    a_minimal_acl_is_a_mode: "owner sets-acl group::rw-,other::--- on /g/mine -> leaves 7101:7200 0660";
    an_acl_takes_set_group_id_from_outsiders: "owner sets-acl group::r-x on /g/set-group -> leaves 7101:7300 0755";
    an_acl_of_an_immutable_file: "owner sets-acl user:7102:rw- on /f/immutable -> denied EPERM";
    an_acl_on_a_read_only_mount: "owner sets-acl user:7102:rw- on /m/ro/open -> denied EROFS";
    an_acl_with_an_id_nobody_has_there: "lone-root sets-acl user:5:rw- on /g/mine -> denied EINVAL";

    // 4: times and attributes.
    stamping_ones_own: "owner stamps /c/owner-0000 -> allowed";
    stamping_what_can_be_written: "other stamps /c/other-0002 -> allowed";
    stamping_what_cannot: "other stamps /c/other-0004 -> denied EACCES";
    stamping_an_append_only_file: "owner stamps /f/append -> allowed";
    stamping_an_immutable_file: "owner stamps /f/immutable -> denied EPERM";
    backdating_ones_own: "owner backdates /c/owner-0000 -> allowed";
    backdating_what_can_be_written: "other backdates /c/other-0002 -> denied EPERM";
    backdating_with_fowner: "janitor backdates /c/other-0002 -> allowed";
    backdating_an_append_only_file: "owner backdates /f/append -> denied EPERM";
    stamping_on_a_read_only_mount: "owner stamps /m/ro/open -> denied EROFS";
    tagging_what_can_be_written: "owner tags /g/mine with user.note -> allowed";
    tagging_what_cannot: "member tags /g/mine with user.note -> denied EACCES";
    tagging_a_fifo: "owner tags /f/fifo with user.note -> denied EPERM";
    tagging_a_sticky_directory: "owner tags /g/sticky with user.note -> denied EPERM";
    tagging_an_immutable_file: "owner tags /f/immutable with user.note -> denied EPERM";
    trusted_takes_sys_admin: "owner tags /g/mine with trusted.note -> denied EPERM";
    trusted_with_sys_admin: "admin tags /g/mine with trusted.note -> allowed";
    trusted_in_a_user_namespace: "inner-root tags /g/mine with trusted.note -> denied EPERM";
    security_takes_sys_admin: "owner tags /g/mine with security.note -> denied EPERM";
    file_capabilities_take_setfcap: "owner tags /g/mine with security.capability -> denied EPERM";
    file_capabilities_with_setfcap: "admin tags /g/mine with security.capability -> allowed";
    file_capabilities_in_a_user_namespace: "inner-root tags /g/mine with security.capability -> allowed";
    a_prefix_nobody_knows: "owner tags /g/mine with odd.note -> denied EOPNOTSUPP";
    a_prefix_alone: "owner tags /g/mine with user. -> denied EINVAL";

    // 4: truncating.
    shortening_clears_set_user_id: "other shortens /g/set-user-open -> leaves 7101:7200 0666";
    truncating_clears_too: "other truncates /g/set-user-open -> leaves 7101:7200 0666";
    overwriting_clears_too: "other overwrites /g/set-user-open -> leaves 7101:7200 0666";
    fsetid_keeps_it: "root shortens /g/set-user-open -> allowed";
    fsetid_in_a_user_namespace_does_not: "inner-root shortens /g/set-user-open -> leaves 7101:7200 0666";
    shortening_a_directory: "root shortens /g/dir -> denied EISDIR";
    shortening_a_fifo: "owner shortens /f/fifo -> denied EINVAL";
    shortening_an_append_only_file: "owner shortens /f/append -> denied EPERM";
    shortening_needs_w: "member shortens /g/mine -> denied EACCES";
    shortening_on_a_read_only_mount: "owner shortens /m/ro/open -> denied EROFS";
    permission_comes_before_read_only_for_shortening: "owner shortens /m/ro/closed -> denied EACCES";

    // 1.5: user namespaces.
    root_of_a_namespace_overrides_mapped_owners: "inner-root updates /c/owner-0000 -> allowed";
    root_of_a_namespace_owns_what_it_is: "lone-root updates /m/rw/mine -> allowed";
    dac_override_needs_both_ids_mapped: "lone-root reads /c/root-0600 -> denied EACCES";
    dac_override_with_both_mapped: "lone-root reads /c/owner-0000 -> allowed";
    an_unmapped_group_stops_it: "lone-root reads /c/extra-0060 -> denied EACCES";
    fowner_needs_the_owner_only: "lone-root sets-mode 0600 on /g/set-group -> leaves 0:65534 0600";
    set_group_id_needs_the_group_mapped: "lone-root sets-mode 2755 on /g/set-group -> leaves 0:65534 0755";
    chown_outside_the_map: "lone-root sets-owner 5 on /g/mine -> denied EINVAL";
    einval_comes_before_eperm: "lone-root sets-owner 5 on /c/root-0644 -> denied EINVAL";
    chown_within_the_map: "lone-root sets-owner 0:0 on /g/mine -> leaves 0:0 0644";
    creating_in_a_user_namespace: "lone-root creates /d/open/new -> leaves 0:0 0644";
    creating_in_a_foreign_setgid_directory: "lone-root creates /d/sgid/new -> leaves 0:65534 0644";
    set_id_needs_both_ids_mapped: "lone-root runs /p/set-both -> allowed";
    sticky_fowner_needs_both_ids_mapped: "lone-root deletes /d/sticky/theirs -> denied EPERM";

    // 1.5: id-mapped mounts.
    a_mapped_owner_reads: "owner reads /m/mapped/swapped -> allowed";
    the_stored_owner_does_not: "owner reads /m/mapped/mine -> denied EACCES";
    creating_on_a_mapped_mount: "owner creates /m/mapped/open-dir/new -> leaves 7101:7200 0644";
    creating_what_cannot_be_expressed: "other creates /m/mapped/open-dir/new -> denied EOVERFLOW";
    writing_to_an_unmapped_file: "root writes /m/mapped/unmapped -> denied EACCES";
    reading_an_unmapped_file: "other reads /m/mapped/unmapped -> allowed";
    deleting_an_unmapped_file: "root deletes /m/mapped/unmapped -> denied EOVERFLOW";
    entering_an_unmapped_directory: "owner enters /m/mapped/unmapped-dir -> allowed";
    creating_in_an_unmapped_directory: "owner creates /m/mapped/unmapped-dir/new -> denied EACCES";
    giving_an_unmapped_file_a_mapped_owner: "root sets-owner 7101:7200 on /m/mapped/unmapped -> leaves 7101:7200 0666";
    giving_it_a_mapped_owner_alone: "root sets-owner 7101 on /m/mapped/unmapped -> denied EOVERFLOW";
    giving_to_what_cannot_be_expressed: "root sets-owner 7900 on /m/mapped/mine -> denied EOVERFLOW";

    // 4: running.
    file_capabilities_are_gained: "other runs /p/gives-chown -> allowed";
    file_capabilities_without_the_effective_flag: "other runs /p/gives-later -> allowed";
    file_capabilities_outside_the_bounding_set: "other runs /p/gives-too-much -> denied EPERM";
    file_capabilities_outside_it_for_root_too: "root runs /p/gives-too-much -> denied EPERM";
    file_capabilities_on_nosuid: "other runs /m/nosuid/gives-chown -> allowed";
    file_capabilities_without_new_privileges: "held runs /p/gives-chown -> allowed";
    set_user_id_root_brings_the_bounding_set: "other runs /p/set-root -> allowed";
    set_user_id_root_with_file_capabilities_brings_those: "other runs /p/mixed -> allowed";
    root_without_capabilities_regains_them: "bare-root runs /p/run -> allowed";
    a_script_of_a_script: "other runs /p/script-1 -> allowed";
    running_a_program: "other runs /p/run -> allowed";
    running_needs_no_r: "other runs /p/x-only -> allowed";
    running_without_x: "other runs /p/owner-x -> denied EACCES";
    running_a_directory: "other runs /p -> denied EACCES";
    running_on_noexec: "root runs /m/noexec/run -> denied EACCES";
    running_what_is_no_program: "other runs /p/data -> denied ENOEXEC";
    running_nothing: "other runs /p/empty -> denied ENOEXEC";
    running_a_script: "other runs /p/script -> allowed";
    a_script_must_be_readable: "other runs /p/script-unreadable -> denied EACCES";
    a_script_without_its_interpreter: "other runs /p/script-lost -> denied ENOENT";
    set_user_id_changes_the_user: "other runs /p/set-user -> allowed";
    set_group_id_changes_the_group: "other runs /p/set-group -> allowed";
    both_change_both: "other runs /p/set-both -> allowed";
    set_group_id_without_group_x_changes_nothing: "other runs /p/set-group-no-x -> allowed";
    set_id_on_nosuid_changes_nothing: "other runs /m/nosuid/set-user -> allowed";
    set_id_without_new_privileges_changes_nothing: "held runs /p/set-both -> allowed";
    set_id_on_a_script_changes_nothing: "other runs /p/script-set-user -> allowed";
    set_id_on_an_interpreter_counts: "other runs /p/script-of-set-user -> allowed";
    an_interpreter_must_be_runnable: "other runs /p/script-no-x -> denied EACCES";
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

const _: () = assert!(ROWS + ROWS_ON_LAYERS >= 150, "the table only grows");

/// `fs.protected_*` decide only where they are on, so these rows expect what this host's settings say.
/// `tools/agreement-settings` runs them under each setting.
#[test]
fn protected_files_and_links_follow_the_hosts_settings() {
    for sentence in [
        "root overwrites /d/sticky/mine",
        "owner extends /d/sticky/mine",
        "owner extends /d/sticky/theirs",
        "owner writes /d/sticky/theirs",
        "owner overwrites /d/sticky/hosts-own",
        "root extends /d/sticky/fifo",
        "owner overwrites /d/sticky/socket",
        "root overwrites /d/sticky/null",
        "owner overwrites /d/sticky-group/theirs",
        "root extends /d/sticky-group/fifo",
        "owner reads /d/sticky/link",
        "root reads /d/sticky/link",
        "member reads /d/sticky/link",
        "owner reads /d/sticky/hosts-link",
        "owner inspects-link /d/sticky/link",
        "owner deletes /d/sticky/link",
        "other links /d/open/f to /g/new",
        "other links /c/root-0644 to /g/new",
        "other links /c/other-0002 to /g/new",
        "other links /g/set-user-open to /g/new",
        "other links /f/null to /g/new",
        "janitor links /c/root-0600 to /g/new",
        "searcher links /d/sticky/theirs to /g/new",
    ] {
        support::agree(world(), "protected", sentence);
    }
}

/// Every verb has at least one row.
#[test]
fn no_verb_is_left_out() {
    let table = include_str!("table.rs");
    for verb in Verb::ALL {
        assert!(table.contains(&format!(" {} ", verb.word())), "{}", verb.word());
    }
}
