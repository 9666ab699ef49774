//! User namespaces and id-mapped mounts.

use super::world;

agree! {
    // An owner without a mapping on the mount, with a group that has one.
    an_owner_without_a_mapping_is_replaced: "giver sets-owner 7101 on /m/mapped/half-mapped -> leaves 7101:7200 0666";
    its_group_is_not_for_want_of_an_owner: "giver sets-owner 7101:7200 on /m/mapped/half-mapped -> denied EPERM";
    nor_can_it_be_written_back: "giver sets-group 7200 on /m/mapped/half-mapped -> denied EOVERFLOW";
    both_without_a_mapping_are_replaced: "giver sets-owner 7101:7200 on /m/mapped/unmapped -> leaves 7101:7200 0666";

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
}
