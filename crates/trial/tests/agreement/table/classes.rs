//! Classes of bits, ACLs, capabilities, and the walk.

use super::world;

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
}
