//! Mistakes in the description, each with its line and what to do.

use insta::assert_snapshot;

use crate::scratch::{SCENE, Scratch, TIDES, pod};

/// What standard error says of the first example with `from` replaced by `to`.
fn diagnostic(from: &str, to: &str) -> String {
    let text = pod(TIDES);
    assert!(text.contains(from), "{from}");
    Scratch::with("pod.yaml", &text.replace(from, to))
        .run(["mounts", "pod.yaml", "--format", "json", "--actor", "none"])
}

#[test]
fn a_key_in_the_wrong_letter_case() {
    assert_snapshot!(diagnostic("runAsUser", "runasuser"), @"
    --- standard error
    warning: unknown key `runasuser`, ignored
     --> pod.yaml:6:22
      |
    6 |   securityContext: { runasuser: 7101, runAsGroup: 7200, fsGroup: 7300 }
      |                      ^^^^^^^^^
      |
      = help: did you mean `runAsUser`?

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn a_filesystem_group_on_a_container() {
    assert_snapshot!(diagnostic("    image:", "    securityContext: { fsGroup: 7300 }\n    image:"), @"
    --- standard error
    warning: unknown key `fsGroup`, ignored
     --> pod.yaml:9:24
      |
    9 |     securityContext: { fsGroup: 7300 }
      |                        ^^^^^^^
      |
      = help: it belongs in the pod's `securityContext`, beside `containers`: it exists for the whole pod only

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn capabilities_on_a_pod() {
    assert_snapshot!(diagnostic("runAsUser: 7101", "capabilities: { drop: [ALL] }"), @"
    --- standard error
    warning: unknown key `capabilities`, ignored
     --> pod.yaml:6:22
      |
    6 |   securityContext: { capabilities: { drop: [ALL] }, runAsGroup: 7200, fsGroup: 7300 }
      |                      ^^^^^^^^^^^^
      |
      = help: it belongs in the `securityContext` of a container: it does not exist for the pod

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn an_undeclared_volume() {
    assert_snapshot!(diagnostic("- { name: app, emptyDir", "- { name: apps, emptyDir"), @"
    --- standard error
    error: volume `app` is mounted but not declared
      --> pod.yaml:11:15
       |
    11 |     - { name: app, mountPath: /data/app }
       |               ^^^
       |
       = help: did you mean `apps`?

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_missing_colon_below_a_key() {
    assert_snapshot!(diagnostic(TIDES, "\n    runAsUser 7101"), @"
    --- standard error
    error: expected a mapping, found the text `runAsUser 7101`
     --> pod.yaml:7:5
      |
    7 |     runAsUser 7101
      |     ^^^^^^^^^^^^^^
      |
      = help: a colon is missing: write `runAsUser: 7101`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_missing_colon_among_keys() {
    assert_snapshot!(diagnostic(TIDES, "\n    runAsGroup: 7200\n    runAsUser 7101\n    fsGroup: 7300"), @"
    --- standard error
    error: a colon is missing after `runAsUser`
     --> pod.yaml:8:5
      |
    8 |     runAsUser 7101
      |     ^^^^^^^^^
      |
      = help: write `runAsUser: ...`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_number_in_quotes() {
    assert_snapshot!(diagnostic("runAsUser: 7101", "runAsUser: '7101'"), @"
    --- standard error
    error: expected a number, found the text `7101`
     --> pod.yaml:6:33
      |
    6 |   securityContext: { runAsUser: '7101', runAsGroup: 7200, fsGroup: 7300 }
      |                                 ^^^^^^
      |
      = help: a number in quotes is text: remove the quotes

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_number_that_is_no_id() {
    assert_snapshot!(diagnostic("runAsUser: 7101", "runAsUser: -1"), @"
    --- standard error
    error: -1 is not an id: the API takes 0 to 2147483647
     --> pod.yaml:6:33
      |
    6 |   securityContext: { runAsUser: -1, runAsGroup: 7200, fsGroup: 7300 }
      |                                 ^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_key_twice() {
    assert_snapshot!(diagnostic("runAsUser: 7101", "runAsUser: 7100, runAsUser: 7101"), @"
    --- standard error
    warning: the key `runAsUser` appears twice; this one counts
     --> pod.yaml:6:39
      |
    6 |   securityContext: { runAsUser: 7100, runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300 }
      |                                       ^^^^^^^^^
      |
      = help: remove it here or on line 6

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn a_volume_without_a_source() {
    assert_snapshot!(diagnostic("emptyDir: {}", "emptydir: {}"), @"
    --- standard error
    warning: unknown key `emptydir`, ignored
      --> pod.yaml:13:18
       |
    13 |   - { name: app, emptydir: {} }
       |                  ^^^^^^^^
       |
       = help: did you mean `emptyDir`?

    warning: volume `app` has no known source, so the API server makes it an emptyDir
      --> pod.yaml:13:13
       |
    13 |   - { name: app, emptydir: {} }
       |             ^^^
       |
       = help: add `emptyDir: {}` if that is intended

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn a_host_path_type_in_the_wrong_letter_case() {
    assert_snapshot!(diagnostic("emptyDir: {}", "hostPath: { path: /srv, type: directory }"), @"
    --- standard error
    error: the API knows no hostPath type `directory`
      --> pod.yaml:13:48
       |
    13 |   - { name: app, hostPath: { path: /srv, type: directory } }
       |                                                ^^^^^^^^^
       |
       = help: did you mean `Directory`? Letter case counts

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_mount_at_the_root() {
    assert_snapshot!(diagnostic("mountPath: /data/app", "mountPath: /"), @"
    --- standard error
    error: a volume cannot be mounted at `/`: the container would not start
      --> pod.yaml:11:31
       |
    11 |     - { name: app, mountPath: / }
       |                               ^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn two_mounts_at_one_path() {
    let twice = "- { name: app, mountPath: /data/app }\n    - { name: app, mountPath: /data/app/ }";
    assert_snapshot!(diagnostic("- { name: app, mountPath: /data/app }", twice), @"
    --- standard error
    error: two volumes are mounted at /data/app/: the API refuses that
      --> pod.yaml:12:31
       |
    12 |     - { name: app, mountPath: /data/app/ }
       |                               ^^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn tabs_are_named() {
    assert_snapshot!(diagnostic("  containers:", "\tcontainers:"), @"
    --- standard error
    error: not valid YAML: tabs disallowed within this context (block indentation)
     --> pod.yaml:7:2
      |
    7 |  containers:
      |  ^
      |
      = help: YAML is indented with blanks, not with tabs

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_kind_that_runs_nothing_here_is_a_note() {
    let text = format!("apiVersion: v1\nkind: Service\nmetadata: {{ name: n }}\n---\n{}", pod(TIDES));
    assert_snapshot!(Scratch::with("pod.yaml", &text).run(["ask", "pod.yaml", "gauge lists /data/app"]), @"
    allowed        gauge lists /data/app

    Assumed: no group of image tides/gauge:3 lists the user as a member (its group file is not given) (and 2 more: --all-assumptions)
    --- standard error
    note: 1 object skipped: it runs no container here: Service
     --> pod.yaml:2:7
      |
    2 | kind: Service
      |       ^^^^^^^

    --- status 0
    ");
}

#[test]
fn mistakes_in_a_scene_point_into_it() {
    let scene = SCENE
        .replace("mode: 0750", "mode: 0790")
        .replace("owner: '0:0', mode: 0777", "owner: root, mode: 0777")
        .replace("kind: dir, owner: '0:0', mode: 0755", "kind: directory, owner: '0:0', mode: 0755");
    assert_snapshot!(Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", scene).run(["identity", "s.yaml"]), @"
    --- standard error
    error: `directory` is not one of file, dir, link, fifo, socket, char, block
     --> s.yaml:8:26
      |
    8 |       - { path: /, kind: directory, owner: '0:0', mode: 0755 }
      |                          ^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    let scene = SCENE
        .replace("mode: 0750", "mode: 0790")
        .replace("owner: '0:0', mode: 0777", "owner: root, mode: 0777");
    assert_snapshot!(Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", scene).run(["identity", "s.yaml"]), @"
    --- standard error
    error: `root` is not a valid owner
     --> s.yaml:9:42
      |
    9 |       - { path: /open, kind: dir, owner: root, mode: 0777 }
      |                                          ^^^^
      |
      = help: write UID:GID, such as 7101:7200

    error: `0790` is not a valid mode
      --> s.yaml:10:62
       |
    10 |       - { path: /closed, kind: dir, owner: '405:1001', mode: 0790 }
       |                                                              ^^^^
       |
       = help: write four octal digits, such as 0640

    error: the input cannot be used: 2 errors above
    --- status 2
    ");
}

#[test]
fn mistakes_in_acts_point_into_them() {
    let scratch = Scratch::with("pod.yaml", &pod(TIDES))
        .and("acts", "gauge reads /x\ngage reads /x\n gauge reeds /x\n");
    assert_snapshot!(scratch.run(["ask", "pod.yaml", "gauge read /x", "gauge reads data"]), @"
    --- standard error
    error: `read` is not a verb
     --> act 1:1:7
      |
    1 | gauge read /x
      |       ^^^^
      |
      = help: did you mean `reads`?

    error: `data` is not an absolute path
     --> act 2:1:13
      |
    1 | gauge reads data
      |             ^^^^
      |
      = help: write the path from the container's root, such as /data/level.csv

    error: the input cannot be used: 2 errors above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["ask", "pod.yaml", "--acts", "acts"]), @"
    --- standard error
    error: `reeds` is not a verb
     --> acts:3:8
      |
    3 |  gauge reeds /x
      |        ^^^^^
      |
      = help: did you mean `reads`?

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    let scratch = scratch.and("acts", "gage reads /x\n");
    assert_snapshot!(scratch.run(["ask", "pod.yaml", "--acts", "acts"]), @"
    --- standard error
    error: there is no actor `gage` in this scene; there is gauge
     --> acts:1:1
      |
    1 | gage reads /x
      | ^^^^
      |
      = help: did you mean `gauge`?

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["ask", "pod.yaml"]), @"
    --- standard error
    error: no act was given: write one, such as 'gauge writes /data/level.csv', or name a file with --acts
    --- status 2
    ");
    assert_snapshot!(scratch.run(["access", "pod.yaml", "data"]), @"
    --- standard error
    error: `data` is not an absolute path: paths are those inside the container, such as /data
    --- status 2
    ");
}

#[test]
fn what_is_probably_not_meant_is_said_before_the_answer() {
    let text = pod(TIDES).replace("emptyDir: {}", "hostPath: { path: /srv/new }").replace(
        "image: tides/gauge:3",
        "image: tides/gauge:3\n    securityContext: { capabilities: { add: [CHOWN] } }",
    );
    let scene = "scene: 1\nworkloads: [pod.yaml]\nhost: { tree: [ { path: /, kind: dir, owner: '0:0', mode: 0755 }, \
                 { path: /srv, kind: dir, owner: '0:0', mode: 0755 } ] }\n";
    let scratch = Scratch::with("pod.yaml", &text).and("s.yaml", scene);
    assert_snapshot!(scratch.run(["access", "s.yaml", "/data/app"]), @"
    gauge
      path       owner  mode             read  write  create  delete  list  enter  run
      /data/app  0:0    drwxr-xr-x 0755  -     -      EACCES  EACCES  yes   yes    -

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- standard error
    warning: gauge adds CHOWN, but does not run as root: it starts without capabilities whatever is added
     --> pod.yaml:10:46 securityContext.capabilities.add
      = help: give the program a file capability, or run it as root

    warning: fsGroup 7300 is not applied to host path /srv/new
     --> pod.yaml:12:15 volumeMounts.name
      = help: change its group on the host, or add that group to supplementalGroups

    warning: host /srv/new is missing, so it is made as root's: gauge (7101) cannot write to it
     --> pod.yaml:12:31 volumeMounts.mountPath
      = help: make it beforehand, with the owner it needs

    --- status 0
    ");
    let open =
        scene.replace("] }\n", ", { path: /srv/new, kind: dir, owner: '7101:7101', mode: 0777 } ] }\n");
    assert_snapshot!(Scratch::with("pod.yaml", &text).and("s.yaml", &open).run(["access", "s.yaml", "/data/app", "--strict"]), @"
    --- standard error
    warning: gauge adds CHOWN, but does not run as root: it starts without capabilities whatever is added
     --> pod.yaml:10:46 securityContext.capabilities.add
      = help: give the program a file capability, or run it as root

    warning: fsGroup 7300 is not applied to host path /srv/new
     --> pod.yaml:12:15 volumeMounts.name
      = help: change its group on the host, or add that group to supplementalGroups

    warning: /data/app is world-writable (0777) without the sticky bit: anyone can delete anyone's files
     --> pod.yaml:12:31 volumeMounts.mountPath
      = help: take `w` from other, or set the sticky bit

    error: 3 warnings above, and --strict allows none
    --- status 2
    ");
}
