//! What a program asks before it acts, what it is shown, and the changes of names and ACLs beyond the plain ones.

use super::world;

agree! {
    // access(2): by the real ids, and by no capability of anybody but root.
    the_owner_may_read: "owner may-read /c/owner-0400 -> allowed";
    the_owner_may_not_write: "owner may-write /c/owner-0400 -> denied EACCES";
    the_first_class_that_fits_decides: "owner may-read /c/owner-0000 -> denied EACCES";
    a_capability_counts_in_the_act: "overrider writes /c/root-0600 -> allowed";
    a_capability_does_not_count_before_it: "overrider may-write /c/root-0600 -> denied EACCES";
    nor_on_the_way: "overrider may-read /d/x-only/f -> denied EACCES";
    root_keeps_what_it_has: "root may-write /c/root-0600 -> allowed";
    root_without_capabilities_is_not_all_powerful: "bare-root may-write /c/owner-0400 -> denied EACCES";
    running_takes_an_x_bit: "root may-run /c/root-0644 -> denied EACCES";
    running_a_program: "other may-run /p/run -> allowed";
    running_on_a_noexec_mount: "other may-run /m/noexec/run -> denied EACCES";
    searching_a_directory_there: "other may-run /m/noexec/open-dir -> allowed";
    writing_on_a_read_only_mount: "owner may-write /m/ro/open -> denied EROFS";
    permission_comes_first_there: "owner may-write /m/ro/closed -> denied EACCES";
    writing_what_is_immutable: "owner may-write /f/immutable -> denied EPERM";
    writing_what_only_grows: "owner may-write /f/append -> allowed";
    a_device_on_a_read_only_mount: "owner may-write /m/ro/null -> allowed";
    looking_through_a_loop: "other may-read /l/loop -> denied ELOOP";
    looking_at_nothing: "other may-read /l/dangling -> denied ENOENT";

    // stat(2) and lstat(2).
    what_a_file_shows: "other inspects /c/owner-0400 -> shows 7101:7200 0400";
    what_a_link_shows: "other inspects-link /g/link -> shows 7101:7200 0777";
    what_is_behind_it_shows: "other inspects /g/link -> shows 7101:7200 0644";
    a_mask_shows_as_the_groups_bits: "other inspects /g/with-acl -> shows 7101:7200 0660";
    a_mount_shows_its_own_root: "other inspects /m/ro -> shows 7101:7200 0755";
    a_map_shows_other_ids: "other inspects /m/mapped/open -> shows 7102:7200 0666";

    // Default and access ACLs.
    a_default_acl_is_the_owners: "other sets-default-acl user:7102:rwx on /g/dir -> denied EPERM";
    a_default_acl_leaves_the_mode: "owner sets-default-acl user:7102:rwx on /g/dir -> leaves 7101:7200 2775";
    a_file_has_none: "owner sets-default-acl user:7102:rwx on /g/mine -> denied EACCES";
    it_is_asked_for_before_the_owner: "other sets-default-acl user:7102:rwx on /g/mine -> denied EACCES";
    an_inherited_one_is_shown: "owner makes-directory /a/inherits/new -> leaves 7101:7200 0770";
    removing_one: "owner removes-default-acl /g/dir -> allowed";
    removing_it_from_a_file: "other removes-default-acl /g/mine -> allowed";
    removing_anothers: "other removes-default-acl /a/inherits -> denied EPERM";
    an_acl_is_removed: "owner removes-acl /g/with-acl -> leaves 7101:7200 0660";
    where_there_is_none: "owner removes-acl /g/mine -> leaves 7101:7200 0644";
    anothers_is_not: "other removes-acl /g/with-acl -> denied EPERM";
    a_tmpfs_takes_a_foreign_set_group_id_with_it: "owner removes-acl /g/set-group -> leaves 7101:7300 0755";
    what_is_immutable_keeps_it: "owner removes-acl /f/immutable -> denied EPERM";

    // Attributes.
    an_attribute_is_not_there: "owner reads-tag /p/run of security.capability -> denied ENODATA";
    an_attribute_is_there: "other reads-tag /p/gives-chown of security.capability -> allowed";
    the_hosts_show_in_every_namespace: "lone-root reads-tag /m/mapped/gives-chown of security.capability -> allowed";
    reading_user_attributes_takes_r: "other reads-tag /c/root-0600 of user.note -> denied EACCES";
    trusted_ones_do_not_show: "owner reads-tag /g/mine of trusted.note -> denied ENODATA";
    a_fifo_has_no_user_attributes: "owner reads-tag /f/fifo of user.note -> denied ENODATA";
    nobody_keeps_that_prefix: "owner reads-tag /g/mine of odd.note -> denied EOPNOTSUPP";
    a_prefix_alone: "owner reads-tag /g/mine of user. -> denied EINVAL";

    // linkat(2) that follows.
    the_target_is_linked: "owner links-target /g/link to /g/new -> allowed";
    the_links_mount_does_not_matter: "owner links-target /l/abs to /g/new -> denied EPERM";
    a_dangling_link_leads_nowhere: "owner links-target /l/dangling to /g/new -> denied ENOENT";
    a_directory_behind_a_link: "root links-target /l/dir to /g/new -> denied EPERM";

    // renameat2(2).
    a_new_name: "owner renames-new /g/mine to /g/new -> allowed";
    a_name_that_is_taken: "owner renames-new /g/mine to /g/twin -> denied EEXIST";
    taken_by_itself: "owner renames-new /g/twin to /g/twin2 -> denied EEXIST";
    taken_on_another_mount: "owner renames-new /g/mine to /m/rw/open -> denied EXDEV";
    two_names_change_places: "owner exchanges /g/mine with /g/dir -> allowed";
    with_what_is_full: "owner exchanges /g/mine with /g/full -> allowed";
    with_what_is_missing: "owner exchanges /g/mine with /g/none -> denied ENOENT";
    with_what_is_in_it: "owner exchanges /g/dir with /g/dir/in -> denied EINVAL";
    from_what_is_in_it: "owner exchanges /g/dir/in with /g/dir -> denied EINVAL";
    with_anothers_in_a_sticky_directory: "owner exchanges /d/sticky/mine with /d/sticky/theirs -> denied EPERM";
}
