//! Mistakes in scenes and acts, and what is probably not meant.

use insta::assert_snapshot;

use crate::scratch::{SCENE, Scratch, TIDES, pod};

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
