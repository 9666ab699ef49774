//! Nodes and links, renaming, and changes to what is there.

use super::world;

agree! {
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
}
