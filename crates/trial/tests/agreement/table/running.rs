//! Programs: what can be started and what it may do then.

use super::world;

agree! {
    // 4: running.
    file_capabilities_are_gained: "other runs /p/gives-chown -> allowed";
    file_capabilities_without_the_effective_flag: "other runs /p/gives-later -> allowed";
    file_capabilities_outside_the_bounding_set: "other runs /p/gives-too-much -> denied EPERM";
    file_capabilities_outside_it_for_root_too: "plain-root runs /p/gives-too-much -> denied EPERM";
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
