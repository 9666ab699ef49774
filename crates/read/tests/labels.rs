//! SELinux: the hooks of each act in the kernel's order, and who may do what by the tests' own policy.

#![expect(clippy::unwrap_used, reason = "tests")]

mod labels {
    pub(crate) mod scenes;
}

use labels::scenes::{POLICY, asked, staged_with, verdict};
use mivask_core::question::Answer;
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;
use mivask_core::trace::{Check, StepResult};

/// What is at `/data` in each scene: labelled files that a container may use, and others.
const TREE: &str = "    - { path: /, kind: dir, owner: '7101:7101', mode: '0755', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /f, owner: '7101:7101', mode: '0644', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /g, owner: '7101:7101', mode: '0644', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /d, kind: dir, owner: '7101:7101', mode: '0755', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /e, kind: dir, owner: '7101:7101', mode: '0755', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /to, kind: link, target: f, owner: '7101:7101', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /app, owner: '7101:7101', mode: '0755', content: program, label: 'system_u:object_r:container_file_t:s0' }
    - { path: /job, owner: '7101:7101', mode: '0755', content: program, label: 'system_u:object_r:logger_exec_t:s0' }
    - { path: /home, owner: '7101:7101', mode: '0666', label: 'unconfined_u:object_r:user_home_t:s0' }
    - { path: /other, owner: '7101:7101', mode: '0666', label: 'system_u:object_r:container_file_t:s0:c1,c2' }
    - { path: /odd, owner: '7101:7101', mode: '0666', label: 'system_u:object_r:no_such_t:s0' }
    - { path: /open, owner: '7101:7101', mode: '0666' }
";

/// One container of uid 7101, labelled so, with the tree at `/data`.
fn labelled(label: &str, host: &str) -> Stage {
    let options =
        if host.contains("policy") { host.to_owned() } else { format!("{{ policy: '{POLICY}'{host} }}") };
    staged(&format!(
        "scene: 1\nhost: {{ selinux: {options} }}\nvolumes:\n  data:\n   filesystem: ext4\n   tree:\n{TREE}\
         containers:\n  - {{ name: a, user: '7101:7101', label: '{label}', mounts: [{{ volume: data, at: /data }}] }}\n"
    ))
}

fn staged(scene: &str) -> Stage {
    staged_with(scene, &[])
}

/// Every check of labels, as `permissions (class)`; the ones on the way to the volume are left out.
fn checks(answer: &Answer) -> Vec<String> {
    let steps = answer.steps.iter().filter(|step| step.check == Check::Label && step.path != b"/");
    let words = steps.map(|step| {
        assert_eq!(step.result, StepResult::Passed, "{}", step.fact);
        let (_, rest) = step.fact.split_once(" may ").unwrap();
        let (permissions, class) = rest.split_once(" (class ").unwrap();
        let (permissions, _label) = permissions.rsplit_once(' ').unwrap();
        format!("{} {permissions}", class.trim_end_matches(')'))
    });
    words.collect()
}

const CONTAINER: &str = "system_u:system_r:container_t:s0";

/// The hooks of an act on something below `/data`, in order.
fn hooks(act: &str, expected: &str) {
    let answer = asked(&labelled(CONTAINER, ""), act);
    assert_eq!(answer.outcome, Outcome::Allowed, "{act}: {:?}", answer.steps.last());
    assert_eq!(checks(&answer).join("; "), expected, "{act}");
}

macro_rules! hooks {
    ($($name:ident: $act:literal => $expected:literal;)+) => {
        $(#[test] fn $name() { hooks($act, $expected); })+
    };
}

// Each line is a walk through security/selinux/hooks.c; docs/rules.md names the functions.
hooks! {
    stat: "a inspects /data/f" => "dir search; file getattr";
    lstat: "a inspects-link /data/to" => "dir search; lnk_file getattr";
    stat_through_a_link: "a inspects /data/to" => "dir search; lnk_file read; dir search; file getattr";
    opendir: "a lists /data/d" => "dir search; dir read; dir open";
    chdir: "a enters /data/d" => "dir search; dir search";
    access_for_reading: "a may-read /data/f" => "dir search; file read";
    access_for_running: "a may-run /data/app" => "dir search; file execute";
    open_for_reading: "a reads /data/f" => "dir search; file read; file open";
    open_for_writing: "a writes /data/f" => "dir search; file write; file open";
    open_for_appending: "a appends /data/f" => "dir search; file append; file open";
    open_for_both: "a updates /data/f" => "dir search; file read, write; file open";
    open_that_creates: "a creates /data/x" =>
        "dir search; dir write, search; dir add_name, search; file create; filesystem associate; file open, write";
    open_that_creates_to_append: "a extends /data/x" =>
        "dir search; dir write, search; dir add_name, search; file create; filesystem associate; file open, append";
    truncate: "a shortens /data/f" => "dir search; file write; file write; file open";
    mkdir: "a makes-directory /data/x" =>
        "dir search; dir write, search; dir add_name, search; dir create; filesystem associate";
    mkfifo: "a makes-fifo /data/x" =>
        "dir search; dir write, search; dir add_name, search; fifo_file create; filesystem associate";
    symlink: "a points /data/x at y" =>
        "dir search; dir write, search; dir add_name, search; lnk_file create; filesystem associate";
    link: "a links /data/f to /data/x" =>
        "dir search; dir search; dir write, search; dir search, add_name; file link";
    unlink: "a deletes /data/f" => "dir search; dir write, search; dir search, remove_name; file unlink";
    rmdir: "a removes-directory /data/d" =>
        "dir search; dir write, search; dir search, remove_name; dir rmdir";
    rename: "a renames /data/f to /data/x" =>
        "dir search; dir search; dir write, search; dir write, search; dir remove_name, search; file rename; dir add_name, search";
    rename_over: "a renames /data/f to /data/g" =>
        "dir search; dir search; dir write, search; dir write, search; dir remove_name, search; file rename; dir add_name, search, remove_name; file unlink";
    rename_of_a_directory_to_another: "a renames /data/d to /data/e/d" =>
        "dir search; dir search; dir search; dir write, search; dir write, search; dir write; dir remove_name, search; dir rename; dir reparent; dir add_name, search";
    exchange: "a exchanges /data/f with /data/g" =>
        "dir search; dir search; dir write, search; dir write, search; dir remove_name, search; file rename; dir add_name, search, remove_name; file unlink; dir remove_name, search; file rename; dir add_name, search, remove_name; file unlink";
    chmod: "a sets-mode 0600 on /data/f" => "dir search; file setattr";
    chown: "a sets-group 7101 on /data/f" => "dir search; file setattr";
    utimes_to_now: "a stamps /data/f" => "dir search; file write";
    utimes_to_then: "a backdates /data/f" => "dir search; file setattr";
    setxattr: "a tags /data/f with user.x" => "dir search; file write; file setattr";
    set_acl: "a sets-acl user::rw-,group::r--,other::--- on /data/f" => "dir search; file setattr";
    execve: "a runs /data/app" => "dir search; file execute; file open, read; file execute_no_trans";
    execve_into_another_domain: "a runs /data/job" =>
        "dir search; file execute; file open, read; process transition; file entrypoint";
}

#[test]
fn a_type_that_no_rule_lets_in() {
    let stage = labelled(CONTAINER, "");
    assert_eq!(
        verdict(&stage, "a reads /data/home"),
        "label: container_t:s0 may not read user_home_t:s0 (class file): no rule allows read"
    );
    // A label that the policy does not know is that of what has none.
    assert_eq!(
        verdict(&stage, "a reads /data/odd"),
        "label: container_t:s0 may not read unlabeled_t:s0 (class file): no rule allows read"
    );
}

#[test]
fn levels_keep_containers_apart() {
    let denied = "label: container_t:s0:c3,c4 may not write container_file_t:s0:c1,c2 (class file): the levels do not fit: \
                  mlsconstrain write ((h1 dom h2 and l2 eq h2) or t1 != mcs_constrained_type)";
    let mine = |level: &str| labelled(&format!("{CONTAINER}:{level}"), "");
    assert_eq!(verdict(&mine("c3,c4"), "a writes /data/other"), denied);
    assert_eq!(verdict(&mine("c1,c2"), "a writes /data/other"), "allowed");
    assert_eq!(verdict(&mine("c0.c9"), "a writes /data/other"), "allowed");
    assert_eq!(verdict(&mine("c3,c4"), "a writes /data/f"), "allowed");
}

#[test]
fn owners_and_modes_come_first() {
    let scene = TREE.replace("mode: '0666', label: 'unconfined_u", "mode: '0600', label: 'unconfined_u");
    let stage = staged(&format!(
        "scene: 1\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nvolumes:\n  data:\n   tree:\n{scene}\
         containers:\n  - {{ name: a, user: '9:9', label: '{CONTAINER}', mounts: [{{ volume: data, at: /data }}] }}\n"
    ));
    assert!(verdict(&stage, "a reads /data/home").starts_with("other-bits: "));
    // The owner is asked for behind the hook (`notify_change`).
    assert!(verdict(&stage, "a sets-mode 0600 on /data/home").starts_with("label: "));
    assert!(verdict(&stage, "a sets-mode 0600 on /data/f").starts_with("owner: "));
}

#[test]
fn a_label_that_nobody_told_is_a_missing_fact() {
    let stage = labelled(CONTAINER, "");
    assert_eq!(verdict(&stage, "a reads /data/open"), "depends on the SELinux labels of volume data");
    // An unconfined domain could still be denied by it.
    let free = labelled("system_u:system_r:spc_t:s0", "");
    assert_eq!(verdict(&free, "a reads /data/open"), "depends on the SELinux labels of volume data");
}

#[test]
fn permissive_hosts_and_domains_let_it_happen() {
    for (label, host) in [(CONTAINER, ", enforcing: false"), ("system_u:system_r:cron_t:s0", "")] {
        let answer = asked(&labelled(label, host), "a reads /data/home");
        assert_eq!(answer.outcome, Outcome::Allowed, "{label}");
        let logged = |fact: &str| fact.ends_with("SELinux is permissive here: it is allowed, and logged");
        assert!(answer.steps.iter().any(|step| logged(&step.fact)), "{label}");
    }
}

#[test]
fn booleans_count_as_they_are_set() {
    let nfs = |booleans: &str| {
        staged(&format!(
            "scene: 1\nhost: {{ selinux: {{ policy: '{POLICY}'{booleans} }} }}\nvolumes:\n  data:\n   filesystem: nfs\n   export: \
             {{ squash: none }}\n   tree:\n{TREE}containers:\n  - {{ name: a, user: '7101:7101', label: '{CONTAINER}', mounts: [{{ \
             volume: data, at: /data }}] }}\n"
        ))
    };
    assert_eq!(
        verdict(&nfs(""), "a writes /data/f"),
        "label: container_t:s0 may not write nfs_t:s0 (class file): the rule for write waits for the boolean virt_use_nfs"
    );
    let answer = verdict(&nfs(", booleans: { virt_use_nfs: true }"), "a writes /data/f");
    // Nothing but the server's own permission is left.
    assert!(!answer.contains("label"), "{answer}");
}

#[test]
fn capabilities_that_the_policy_keeps_do_not_count() {
    let root = |label: &str| {
        let scene = TREE.replace("mode: '0644'", "mode: '0600'");
        staged(&format!(
            "scene: 1\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nvolumes:\n  data:\n   filesystem: ext4\n   tree:\n{scene}\
             containers:\n  - {{ name: a, user: '0:0', label: '{label}', mounts: [{{ volume: data, at: /data }}] }}\n"
        ))
    };
    assert_eq!(verdict(&root("system_u:system_r:container_t:s0"), "a reads /data/f"), "allowed");
    // logger_t has no capability in the policy: root is nobody special.
    assert!(
        verdict(&root("system_u:system_r:logger_t:s0"), "a reads /data/f")
            .starts_with("label: logger_t:s0 may not search")
    );
}

#[test]
fn new_files_are_labelled_by_the_policy() {
    let left = |label: &str, act: &str| {
        let answer = asked(&labelled(label, ""), act);
        answer.effect.imprint.and_then(|imprint| imprint.label).unwrap_or_default()
    };
    assert_eq!(
        left(&format!("{CONTAINER}:c3,c4"), "a creates /data/x"),
        "system_u:object_r:container_file_t:s0:c3,c4"
    );
    assert_eq!(
        left("system_u:system_r:spc_t:s0", "a makes-directory /data/x"),
        "system_u:object_r:container_file_t:s0"
    );
}

/// On NFS the label by which making a file is judged is the process's, and the file then has that of the file system.
#[test]
fn new_files_on_a_file_system_without_labels() {
    let stage = staged(&format!(
        "scene: 1\nhost: {{ selinux: {{ policy: '{POLICY}', booleans: {{ virt_use_nfs: true }} }} }}\nvolumes:\n  data:\n   \
         filesystem: nfs\n   export: {{ squash: none }}\n   tree:\n{TREE}containers:\n  - {{ name: a, user: '7101:7101', label: \
         '{CONTAINER}:c3,c4', mounts: [{{ volume: data, at: /data }}] }}\n"
    ));
    let answer = asked(&stage, "a creates /data/x");
    let made =
        |word: &str| answer.steps.iter().any(|step| step.check == Check::Label && step.fact.contains(word));
    assert!(made("may create nfs_t:s0:c3,c4"), "{:?}", answer.steps.last());
    assert!(made("may open, write nfs_t:s0 (class file)"));
    assert_eq!(
        answer.effect.imprint.and_then(|imprint| imprint.label).as_deref(),
        Some("system_u:object_r:nfs_t:s0")
    );
}

/// No mount is made with a label that the policy does not know, so that nothing is known of what is there.
#[test]
fn a_mount_option_that_is_no_label_leaves_it_open() {
    let with = |context: &str| {
        staged(&format!(
            "scene: 1\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nvolumes:\n  data:\n   options: ['context={context}']\n   \
             tree:\n{TREE}containers:\n  - {{ name: a, user: '7101:7101', label: '{CONTAINER}', mounts: [{{ volume: data, at: \
             /data }}] }}\n"
        ))
    };
    assert_eq!(
        verdict(&with("garbage"), "a reads /data/home"),
        "depends on the SELinux labels of volume data"
    );
    assert_eq!(verdict(&with("system_u:object_r:container_file_t:s0"), "a reads /data/home"), "allowed");
}
