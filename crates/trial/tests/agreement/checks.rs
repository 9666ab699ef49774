//! Each denial names the check that made it, at the path it was made at.

use mivask_core::act::parse_act;
use mivask_core::question::ask;
use mivask_core::trace::StepResult;

use crate::support;

macro_rules! checks {
    ($($name:ident: $act:literal => $check:literal at $path:literal;)+) => {$(
        #[test]
        fn $name() {
            let stage = support::stage("tests/agreement/worlds.yaml");
            let answer = ask(&stage, &parse_act($act).unwrap()).unwrap();
            let last = answer.steps.last().unwrap();
            let failed = matches!(last.result, StepResult::Failed(errno) if Some(errno) == answer.outcome.errno());
            let path = String::from_utf8_lossy(&last.path);
            assert_eq!((last.check.code(), &*path, failed), ($check, $path, true), "{:#?}", answer.steps);
        }
    )+};
}

checks! {
    owner_bits: "owner writes /c/owner-0577" => "owner-bits" at "/c/owner-0577";
    group_bits: "member reads /c/group-0707" => "group-bits" at "/c/group-0707";
    other_bits: "other creates /c/new" => "other-bits" at "/c";
    a_named_user: "named writes /a/user-r" => "acl-user" at "/a/user-r";
    a_group_entry: "member reads /a/two-groups" => "acl-group" at "/a/two-groups";
    a_missing_name: "other reads /c/none" => "lookup" at "/c/none";
    a_loop_of_links: "other reads /l/loop" => "link" at "/l/loop";
    a_file_on_the_way: "other reads /c/root-0644/x" => "kind" at "/c/root-0644";
    a_read_only_mount: "owner creates /m/ro/new" => "read-only-mount" at "/m/ro/new";
    a_read_only_file_system: "owner writes /m/sb-ro/closed" => "read-only-filesystem" at "/m/sb-ro/closed";
    noexec: "root runs /m/noexec/run" => "noexec-mount" at "/m/noexec/run";
    nodev: "root reads /m/nodev/null" => "nodev-mount" at "/m/nodev/null";
    immutable: "owner writes /f/immutable" => "immutable" at "/f/immutable";
    append_only: "owner writes /f/append" => "append-only" at "/f/append";
    an_unmapped_owner: "root writes /m/mapped/unmapped" => "unmapped-id" at "/m/mapped/unmapped";
    an_unmapped_new_owner: "lone-root sets-owner 5 on /g/mine" => "unmapped-id" at "/g/mine";
    sticky: "owner deletes /d/sticky/theirs" => "sticky" at "/d/sticky/theirs";
    sticky_on_what_is_replaced: "owner renames /d/sticky/mine to /d/sticky/theirs" => "sticky" at "/d/sticky/theirs";
    sticky_on_what_is_moved: "owner renames /d/sticky/theirs to /d/sticky/new" => "sticky" at "/d/sticky/theirs";
    a_full_directory: "other removes-directory /d/open/full" => "empty" at "/d/open/full";
    a_full_directory_replaced: "owner renames /g/dir to /g/full" => "empty" at "/g/full";
    no_program: "other runs /p/data" => "format" at "/p/data";
    file_capabilities: "other runs /p/gives-too-much" => "file-capabilities" at "/p/gives-too-much";
    mknod: "other makes-node /d/open/new" => "capability" at "/d/open/new";
    sys_admin: "owner tags /g/mine with trusted.note" => "capability" at "/g/mine";
    no_owner: "member sets-mode 0600 on /g/mine" => "owner" at "/g/mine";
    clearing_a_bit: "giver sets-owner 7102 on /g/set-user" => "owner" at "/g/set-user";
    giving_away: "owner sets-owner 7102 on /g/mine" => "giving-away" at "/g/mine";
    giving_to_a_group: "owner sets-group 7300 on /g/mine" => "giving-away" at "/g/mine";
    two_mounts: "owner renames /g/mine to /m/rw/new" => "one-mount" at "/m/rw";
    two_mounts_for_a_link: "owner links /g/mine to /m/rw/new" => "one-mount" at "/m/rw/new";
    a_mount_point: "root renames /m/rw to /m/new" => "mount-point" at "/m/rw";
    a_replaced_mount_point: "root renames /d/open/empty to /m/rw" => "mount-point" at "/m/rw";
    into_itself: "owner renames /g/dir to /g/dir/in/new" => "kind" at "/g/dir/in/new";
    a_moved_directory: "owner renames /g/closed/sub to /g/new" => "other-bits" at "/g/closed/sub";
    linking_needs_w: "owner links /g/mine to /d/new" => "other-bits" at "/d";
    an_unknown_prefix: "owner tags /g/mine with odd.note" => "feature" at "/g/mine";
}
