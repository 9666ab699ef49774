//! Opening, creating, what new files look like, removing.

use super::world;

agree! {
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
}
