//! SELinux as descriptions ask for it: which label a container has, and what its engine makes of those of its mounts.

#![expect(clippy::unwrap_used, reason = "tests")]

mod labels {
    pub(crate) mod scenes;
}

use labels::scenes::{POLICY, staged_with, verdict};
use mivask_core::finding::Kind;
use mivask_core::glob::NoGlobs;
use mivask_core::stage::Stage;

/// Where the host's files are, a home folder and a shared one.
const HOST: &str = "  tree:
    - { path: /, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:root_t:s0' }
    - { path: /home, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:home_root_t:s0' }
    - { path: /home/ada, kind: dir, owner: '7101:7101', mode: '0755', label: 'unconfined_u:object_r:user_home_t:s0' }
    - { path: /home/ada/f, owner: '7101:7101', mode: '0644', label: 'unconfined_u:object_r:user_home_t:s0' }
";

/// A Compose file's services on a host with the tests' policy.
fn composed(services: &str) -> Stage {
    on_host(&format!("{{ policy: '{POLICY}' }}"), services)
}

fn on_host(selinux: &str, services: &str) -> Stage {
    let scene = format!(
        "scene: 1\nruntime: podman\nworkloads: [compose.yaml]\nhost:\n  selinux: {selinux}\n{HOST}images: {{ i: {{ user: '7101:7101' }} }}\n"
    );
    staged_with(&scene, &[("compose.yaml", &format!("name: p\nservices:\n{services}"))])
}

fn label_of(stage: &Stage, actor: &str) -> String {
    let facts = stage.actor(actor).unwrap().facts();
    let label = facts.iter().find(|fact| fact.field.word() == "label");
    label.map(|fact| fact.value.clone()).unwrap_or_default()
}

#[test]
fn a_container_has_a_pair_of_its_own() {
    let stage = composed("  a: { image: i }\n  b: { image: i }\n");
    assert_eq!(label_of(&stage, "a"), "system_u:system_r:container_t:s0:(own pair of a)");
    assert_eq!(label_of(&stage, "b"), "system_u:system_r:container_t:s0:(own pair of b)");
}

#[test]
fn parts_of_a_label_take_the_place_of_the_engines() {
    let one = |options: &str| {
        let stage = composed(&format!("  a: {{ image: i, security_opt: [{options}] }}\n"));
        label_of(&stage, "a")
    };
    assert_eq!(one("'label=level:s0:c1,c2'"), "system_u:system_r:container_t:s0:c1,c2");
    assert_eq!(one("'label:type:container_init_t'"), "system_u:system_r:container_init_t:s0:(own pair of a)");
    assert_eq!(one("'label=disable'"), "system_u:system_r:spc_t:s0");
    let of_host = composed("  a: { image: i, pid: host }\n");
    assert_eq!(label_of(&of_host, "a"), "system_u:system_r:spc_t:s0");
    let privileged = composed("  a: { image: i, privileged: true }\n");
    assert_eq!(label_of(&privileged, "a"), "system_u:system_r:spc_t:s0");
}

#[test]
fn a_label_that_the_policy_lacks_keeps_a_container_from_starting() {
    let stage = composed("  a: { image: i, security_opt: ['label=type:no_such_t'] }\n");
    let refusal = stage.actor("a").unwrap().refusal().unwrap();
    assert_eq!(refusal.class.word(), "StartError");
    assert!(refusal.reason.ends_with("the policy has no type `no_such_t`"), "{}", refusal.reason);
}

#[test]
fn a_home_folder_is_kept_from_containers_until_it_is_labelled() {
    let with = |option: &str, security: &str| {
        composed(&format!("  a: {{ image: i, volumes: ['/home/ada:/data{option}']{security} }}\n"))
    };
    let denied = "label: container_t:s0:(own pair of a) may not search user_home_t:s0 (class dir): no rule allows search";
    assert_eq!(verdict(&with("", ""), "a writes /data/f"), denied);
    for option in [":z", ":Z", ":ro,z"] {
        assert_eq!(verdict(&with(option, ""), "a reads /data/f"), "allowed", "{option}");
    }
    // What labels an overlay of the engine's has is not followed.
    assert_eq!(
        verdict(&with(":O", ""), "a reads /data/f"),
        "depends on the SELinux labels of /home/ada under the engine's overlay"
    );
    assert_eq!(verdict(&with(":Z", ""), "a writes /data/f"), "allowed");
    assert_eq!(verdict(&with("", ", security_opt: ['label=disable']"), "a writes /data/f"), "allowed");
}

#[test]
fn two_private_labels_on_one_folder_leave_it_to_who_starts_last() {
    let both = |one: &str, other: &str| {
        composed(&format!(
            "  a: {{ image: i, volumes: ['/home/ada:/data{one}'] }}\n  b: {{ image: i, volumes: ['/home/ada:/data{other}'] }}\n"
        ))
    };
    let open = "depends on which container started last of those that have /home/ada labelled";
    for (one, other) in [(":Z", ":Z"), (":Z", ":z"), (":z", ":Z"), ("", ":z")] {
        assert_eq!(verdict(&both(one, other), "a reads /data/f"), open, "{one} {other}");
    }
    let shared = both(":z", ":z");
    assert_eq!(verdict(&shared, "a writes /data/f"), "allowed");
    assert_eq!(verdict(&shared, "b writes /data/f"), "allowed");
}

#[test]
fn a_folder_within_a_labelled_one_is_labelled_with_it() {
    let stage = composed(
        "  a: { image: i, volumes: ['/home/ada:/data:Z'] }\n  b: { image: i, volumes: ['/home/ada/f:/data/f'] }\n",
    );
    let open = "depends on which container started last of those that have /home/ada/f labelled";
    assert_eq!(verdict(&stage, "b reads /data/f"), open);
}

#[test]
fn hosts_without_a_policy() {
    let services =
        "  a: { image: i, volumes: ['/home/ada:/data'], security_opt: ['label=level:s0:c1,c2'] }\n";
    assert_eq!(verdict(&on_host("disabled", services), "a reads /data/f"), "allowed");
    assert_eq!(verdict(&on_host("permissive", services), "a reads /data/f"), "allowed");
    assert_eq!(
        verdict(&on_host("enforcing", services), "a reads /data/f"),
        "label: container_t:s0:c1,c2 may not read user_home_t:s0 (class file): no rule allows read"
    );
}

/// One pod; `security` of the pod and of the container.
fn pod(security: &str, own: &str, volumes: &str) -> Stage {
    let scene = format!(
        "scene: 1\nworkloads: [pod.yaml]\nhost:\n  selinux: {{ policy: '{POLICY}' }}\n{HOST}images: {{ i: {{ user: '7101:7101' }} }}\n\
         volumes: {{ claim: {{ filesystem: ext4, tree: [{{ path: /, kind: dir, owner: '7101:7101', mode: '0755', label: \
         'system_u:object_r:var_t:s0' }}] }}, share: {{ filesystem: nfs, export: {{ squash: none }}, tree: [{{ path: /, kind: dir, \
         owner: '7101:7101', mode: '0755' }}] }} }}\n"
    );
    let manifest = format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  securityContext: {{ {security} }}\n  containers:\n    - name: a\n\
         \x20     image: i\n      securityContext: {{ {own} }}\n      volumeMounts: [{{ name: v, mountPath: /data }}]\n  volumes:\n\
         \x20   - {{ name: v, {volumes} }}\n"
    );
    staged_with(&scene, &[("pod.yaml", &manifest)])
}

const EMPTY: &str = "emptyDir: {}";

#[test]
fn a_pod_has_one_pair_and_its_containers_may_have_their_own() {
    let label = |security: &str, own: &str| label_of(&pod(security, own, EMPTY), "a");
    assert_eq!(label("", ""), "system_u:system_r:container_t:s0:(own pair of p)");
    let level = "seLinuxOptions: { level: 's0:c3,c4' }";
    assert_eq!(label(level, ""), "system_u:system_r:container_t:s0:c3,c4");
    // A container's options replace the pod's as a whole.
    assert_eq!(label(level, "seLinuxOptions: { type: spc_t }"), "system_u:system_r:spc_t:s0:(own pair of p)");
}

#[test]
fn the_kubelet_labels_what_can_be_labelled() {
    let creates = |volumes: &str| verdict(&pod("", "", volumes), "a creates /data/x");
    assert_eq!(creates(EMPTY), "allowed");
    // It was var_t before.
    assert_eq!(creates("persistentVolumeClaim: { claimName: claim }"), "allowed");
    // NFS takes no labels.
    assert_eq!(
        creates("persistentVolumeClaim: { claimName: share }"),
        "label: container_t:s0:(own pair of p) may not write nfs_t:s0 (class dir): the rule for write waits for the boolean virt_use_nfs"
    );
    // A path of the host is left as it is.
    assert_eq!(
        creates("hostPath: { path: /home/ada }"),
        "label: container_t:s0:(own pair of p) may not search user_home_t:s0 (class dir): no rule allows search"
    );
}

#[test]
fn a_claim_of_an_unknown_file_system_depends() {
    let unknown = pod("", "", "persistentVolumeClaim: { claimName: elsewhere }");
    assert!(verdict(&unknown, "a creates /data/x").starts_with("depends on "));
}

#[test]
fn people_on_the_host_are_unconfined() {
    let scene = format!(
        "scene: 1\nhost:\n  selinux: {{ policy: '{POLICY}' }}\n  people: ['7101']\n{HOST}\
         containers:\n  - {{ name: c, user: '1:1', label: 'system_u:system_r:container_t:s0' }}\n"
    );
    let stage = staged_with(&scene, &[]);
    assert_eq!(verdict(&stage, "7101 writes /home/ada/f"), "allowed");
}

#[test]
fn engines_refuse_to_label_the_system_anew() {
    for path in ["/", "/usr", "/etc/", "/home", "/var/lib"] {
        let stage = composed(&format!("  a: {{ image: i, volumes: ['{path}:/data:z'] }}\n"));
        let refusal = stage.actor("a").unwrap().refusal();
        assert!(refusal.is_some_and(|one| one.reason.contains("refuse to label")), "{path}");
    }
    let stage = composed("  a: { image: i, volumes: ['/home:/data'] }\n");
    assert!(stage.actor("a").unwrap().refusal().is_none());
}

#[test]
fn what_every_possible_label_permits_is_certain() {
    let stage = composed(
        "  a: { image: i, volumes: ['/home/ada:/data:Z'] }\n  b: { image: i, volumes: ['/home/ada:/data'], security_opt: \
         ['label=disable'] }\n  c: { image: i, volumes: ['/home/ada:/data'], security_opt: ['label=type:logger_t'] }\n",
    );
    assert_eq!(verdict(&stage, "b writes /data/f"), "allowed");
    assert!(verdict(&stage, "c writes /data/f").starts_with("label: logger_t"));
}

#[test]
fn a_script_asks_for_labels_too() {
    let scene = format!(
        "scene: 1\nworkloads: [run.sh]\nhost:\n  selinux: {{ policy: '{POLICY}' }}\n{HOST}images: {{ i: {{ user: '7101:7101' }} }}\n"
    );
    let script = "podman run --name a --pid host i\npodman run --name b --security-opt label=level:s0:c1,c2 -v /home/ada:/data:z i\n";
    let stage = staged_with(&scene, &[("run.sh", script)]);
    assert_eq!(label_of(&stage, "a"), "system_u:system_r:spc_t:s0");
    assert_eq!(label_of(&stage, "b"), "system_u:system_r:container_t:s0:c1,c2");
    assert_eq!(verdict(&stage, "b writes /data/f"), "allowed");
}

#[test]
fn who_has_no_label_of_its_own_is_a_finding() {
    let found = |service: &str| {
        let stage = composed(&format!("  a: {{ image: i{service} }}\n"));
        let findings = mivask_core::exposure::exposure(&stage, &[], &[], &NoGlobs).unwrap();
        let of = findings.iter().filter(|finding| finding.kind == Kind::Unconfined);
        of.map(|finding| format!("{} {} {}", finding.severity, finding.on, finding.fact)).collect::<Vec<_>>()
    };
    let one = "medium a label system_u:system_r:spc_t:s0";
    assert_eq!(found(", security_opt: ['label=disable']"), [one]);
    assert_eq!(found(", privileged: true"), [one]);
    assert_eq!(found(", pid: host"), [one]);
    assert_eq!(found(""), [""; 0]);
    assert_eq!(found(", security_opt: ['label=level:s0:c1']"), [""; 0]);
}
