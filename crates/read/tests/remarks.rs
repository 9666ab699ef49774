//! What is probably not meant: one row a remark, and the same description without the cause, which says nothing.

mod fixtures;

use mivask_core::prepare;
use mivask_core::question::remarks;

use fixtures::read;

const FACTS: &str = "scene: 1
workloads: [w.yaml]
images:
  i:
    user: null
    accounts: { passwd: 'root:x:0:0::/:/bin/sh', group: 'root:x:0:' }
    tree: [ { path: /, kind: dir, owner: '0:0', mode: 0755 } ]
  named:
    user: 'gauge:charts'
    accounts: { passwd: 'gauge:x:7101:7200::/:/bin/sh', group: 'charts:x:7300:' }
host:
  tree:
  - { path: /, kind: dir, owner: '0:0', mode: 0755 }
  - { path: /srv, kind: dir, owner: '0:0', mode: 0755 }
  - { path: /srv/open, kind: dir, owner: '0:0', mode: 0777 }
  - { path: /srv/sticky, kind: dir, owner: '0:0', mode: 1777 }
  - { path: /srv/closed, kind: dir, owner: '7101:7200', mode: 0750 }
";

/// The remarks on a workload beside the facts, each with the line it is about.
fn said(workload: &str) -> Vec<String> {
    let (scene, diagnostics) = read("s.yaml", &[("s.yaml", FACTS), ("w.yaml", workload)]);
    assert!(!diagnostics.iter().any(|diagnostic| diagnostic.starts_with("error")), "{diagnostics:#?}");
    let stage = prepare::stage(&scene);
    remarks(&scene, &scene.workloads, &stage, &|_| true).into_iter().map(|remark| remark.message).collect()
}

fn pod(security: &str, container: &str, volumes: &str) -> String {
    format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  automountServiceAccountToken: false\n  \
         securityContext: {{ {security} }}\n  volumes: [ {volumes} ]\n  containers: [ {{ name: c, {container} }} ]\n"
    )
}

macro_rules! pods {
    ($($name:ident: $security:literal, $container:literal, $volumes:literal => [$($remark:literal),*];)+) => {$(
        #[test]
        fn $name() {
            let expected: &[&str] = &[$($remark),*];
            assert_eq!(said(&pod($security, $container, $volumes)), expected);
        }
    )+};
}

pods! {
    nothing_is_odd: "runAsUser: 7101, runAsGroup: 7200", "image: i", "" => [];
    a_label_on_a_host_of_which_nothing_is_said: "runAsUser: 7101, runAsGroup: 7200, seLinuxOptions: { level: 's0:c1,c2' }",
        "image: i", "" =>
        ["SELinux with these `seLinuxOptions` may refuse what all else permits: the host's policy is not given"];
    a_root_that_is_refused: "runAsNonRoot: true", "image: i", "" =>
        ["c never runs: runAsNonRoot is set, but the image runs as root"];
    the_images_group: "", "image: named", "" =>
        ["the group `charts` of the image's USER gauge:charts is not passed on to c"];
    a_group_of_the_pods_own: "runAsGroup: 7300, runAsUser: 7101", "image: named", "" => [];
    a_number_without_account: "runAsUser: 7101", "image: i", "" =>
        ["c (7101) has no account in its image, so its group is 0, root's"];
    a_number_with_a_group: "runAsUser: 7101, runAsGroup: 0", "image: i", "" => [];
    root_has_an_account: "runAsUser: 0", "image: i", "" => [];
    a_capability_for_nobody: "runAsUser: 7101, runAsGroup: 7200",
        "image: i, securityContext: { capabilities: { add: [CHOWN, FOWNER] } }", "" =>
        ["c adds CHOWN, FOWNER, but does not run as root: it starts without capabilities whatever is added"];
    a_capability_for_root: "runAsUser: 0", "image: i, securityContext: { capabilities: { add: [CHOWN] } }", "" => [];
    a_filesystem_group_on_a_host_path: "runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300",
        "image: i, volumeMounts: [ { name: h, mountPath: /h } ]", "{ name: h, hostPath: { path: /srv/closed } }" =>
        ["fsGroup 7300 is not applied to host path /srv/closed"];
    one_that_is_only_read: "runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300",
        "image: i, volumeMounts: [ { name: h, mountPath: /h, readOnly: true } ]",
        "{ name: h, hostPath: { path: /srv/closed } }" => [];
    a_missing_source: "runAsUser: 7101, runAsGroup: 7200", "image: i, volumeMounts: [ { name: h, mountPath: /h } ]",
        "{ name: h, hostPath: { path: /srv/new, type: DirectoryOrCreate } }" =>
        ["host /srv/new is missing, so it is made as root's: c (7101) cannot write to it"];
    a_missing_source_for_root: "runAsUser: 0", "image: i, volumeMounts: [ { name: h, mountPath: /h } ]",
        "{ name: h, hostPath: { path: /srv/new, type: DirectoryOrCreate } }" => [];
    a_directory_open_to_all: "runAsUser: 7101, runAsGroup: 7200",
        "image: i, volumeMounts: [ { name: h, mountPath: /h } ]", "{ name: h, hostPath: { path: /srv/open } }" =>
        ["/h is world-writable (0777) without the sticky bit: anyone can delete anyone's files"];
    a_sticky_one: "runAsUser: 7101, runAsGroup: 7200", "image: i, volumeMounts: [ { name: h, mountPath: /h } ]",
        "{ name: h, hostPath: { path: /srv/sticky } }" => [];
    an_empty_dir_is_meant_to_be_open: "runAsUser: 7101, runAsGroup: 7200",
        "image: i, volumeMounts: [ { name: e, mountPath: /e } ]", "{ name: e, emptyDir: {} }" => [];
}

macro_rules! services {
    ($($name:ident: $service:literal => [$($remark:literal),*];)+) => {$(
        #[test]
        fn $name() {
            let expected: &[&str] = &[$($remark),*];
            assert_eq!(said(&format!("services:\n  c: {{ {} }}\n", $service)), expected);
        }
    )+};
}

services! {
    an_ordinary_service: "image: i, user: '7101:7200'" => [];
    a_service_without_account: "image: i, user: '7101'" =>
        ["c (7101) has no account in its image, so its group is 0, root's"];
    a_user_nobody_has: "image: i, user: nobody-at-all" =>
        ["c never runs: no passwd line of the image has the name `nobody-at-all`"];
    a_source_the_engine_makes: "image: i, user: '7101:7200', volumes: [ '/srv/new:/in' ]" =>
        ["host /srv/new is missing, so it is made as root's: c (7101) cannot write to it"];
    a_capability_without_effect: "image: i, user: '7101:7200', cap_add: [CHOWN]" =>
        ["c adds CHOWN, but does not run as root: it starts without capabilities whatever is added"];
}

#[test]
fn remarks_are_about_those_who_are_asked_about_and_said_once() {
    let two = "services:\n  a: { image: i, user: '7101' }\n  b: { image: i, user: '7102' }\n";
    let (scene, _) = read("s.yaml", &[("s.yaml", FACTS), ("w.yaml", two)]);
    let stage = prepare::stage(&scene);
    let about = |name: &str| {
        let found = remarks(&scene, &scene.workloads, &stage, &|actor| &*actor.name == name);
        found.into_iter().map(|remark| remark.message).collect::<Vec<_>>()
    };
    assert_eq!(about("b"), ["b (7102) has no account in its image, so its group is 0, root's"]);
    assert!(about("nobody").is_empty());
}

#[test]
fn a_home_folder_that_is_labelled_anew() {
    let compose = |bind: &str| {
        said(&format!(
            "name: p\nservices:\n  c: {{ image: i, user: '7101:7200', volumes: ['{bind}'], security_opt: ['label=level:s0'] }}\n"
        ))
    };
    let note =
        "SELinux with `label=level:s0` may refuse what all else permits: the host's policy is not given";
    let home = "`Z` labels everything below /home/ada for this container alone, where SELinux is on: logins, SSH keys and whatever else \
                of the host is confined lose it";
    let found = compose("/home/ada:/data:Z");
    assert!(found.contains(&note.to_owned()) && found.contains(&home.to_owned()), "{found:?}");
    for bind in ["/home/ada/pictures:/data:Z", "/home/ada:/data", "/srv/closed:/data:z"] {
        let found = compose(bind);
        assert!(!found.iter().any(|remark| remark.contains("labels everything")), "{found:?}");
    }
}
