//! The agreement table: each row is decided by the core and done on the running kernel as that identity.
//!
//! A row passes when prediction, kernel and the written expectation are the same, errno and imprint included.

use std::sync::OnceLock;

use mivask_core::act::Verb;
use mivask_core::stage::Stage;

use crate::support;

/// The world on a host whose settings are this machine's.
fn world() -> &'static Stage {
    static WORLD: OnceLock<Stage> = OnceLock::new();
    WORLD.get_or_init(|| support::stage("tests/agreement/worlds.yaml"))
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

    // 4: running.
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

const _: () = assert!(ROWS >= 150, "the table only grows");

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
