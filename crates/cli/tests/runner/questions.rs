//! Each question on a known scene.

use insta::assert_snapshot;

use crate::scratch::{SCENE, Scratch, TIDES, pod};

fn tides() -> Scratch {
    Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", SCENE)
}

#[test]
fn identity_names_each_number_and_its_line() {
    assert_snapshot!(tides().run(["identity", "s.yaml"]), @"
    gauge  app container of p, image tides/gauge:3
      field      value           from
      uid        7101            pod.yaml:6:33 securityContext.runAsUser
      name       none            no passwd line of tides/gauge:3 has uid 7101
      gid        7200            pod.yaml:6:51 securityContext.runAsGroup
      group      7200            the primary group, which the runtime lists again
                 7300            pod.yaml:6:66 securityContext.fsGroup
      bounding   the default 14  the runtime's default set
      umask      0022            the runtime's default umask
      effective  none            a process that is not root starts with none
    --- status 0
    ");
}

#[test]
fn mounts_show_the_root_before_and_after_the_filesystem_group() {
    assert_snapshot!(tides().run(["mounts", "s.yaml"]), @"
    gauge
      at         what                           flags  root         before    inodes changed
      /          image tides/gauge:3 (overlay)  rw     0:0 0755
      /data/app  emptyDir app                   rw     0:7300 2777  0:0 0777  1
      /data/app: the kubelet makes an emptyDir 0:0 0777
      /data/app: the kubelet gives the volume to group 7300: files | 0660, directories | 02770
    --- status 0
    ");
}

#[test]
fn access_answers_for_paths_of_every_kind() {
    let words = ["access", "s.yaml", "/data/app", "/open", "/closed/key", "/bin/tide", "/none", "/dev/null"];
    assert_snapshot!(tides().run(words), @"
    gauge
      path         owner     mode             read    write   create  delete  list  enter  run
      /data/app    0:7300    drwxrwsrwx 2777  -       -       yes     EACCES  yes   yes    -
      /open        0:0       drwxrwxrwx 0777  -       -       yes     EACCES  yes   yes    -
      /closed/key  405:1001  -r-------- 0400  EACCES  EACCES  -       EACCES  -     -      EACCES
      /bin/tide    0:0       -rwsr-xr-x 4755  yes     EACCES  -       EACCES  -     -      yes
      /none                  missing          -       -       EACCES  -       -     -      -
      /dev/null    0:0       crw-rw-rw- 0666  yes     yes     -       EACCES  -     -      -

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
}

#[test]
fn imprint_follows_the_set_group_id_directory() {
    assert_snapshot!(tides().run(["imprint", "s.yaml", "/data/app", "/open"]), @"
    gauge
      in         new   asked  result   inside                      stored
      /data/app  file  0666   allowed  7101:7300 0644  -rw-r--r--  7101:7300
      /data/app  dir   0777   allowed  7101:7300 2755  drwxr-sr-x  7101:7300
      /open      file  0666   allowed  7101:7200 0644  -rw-r--r--  7101:7200
      /open      dir   0777   allowed  7101:7200 0755  drwxr-xr-x  7101:7200
    --- status 0
    ");
}

#[test]
fn asks_are_answered_one_by_one() {
    let words = [
        "ask",
        "s.yaml",
        "gauge creates /data/app/x",
        "gauge reads /closed/key",
        "gauge runs /bin/tide",
        "gauge creates /open/x mode 0600 -> leaves 7101:7200 0600",
    ];
    assert_snapshot!(tides().run(words), @"
    allowed        gauge creates /data/app/x
                   leaves 7101:7300 0644
    denied EACCES  gauge reads /closed/key
                   /closed: drwxr-x--- 0750 405:1001: other has ---, needed --x
    allowed        gauge runs /bin/tide
                   runs as 0:7200 with CHOWN DAC_OVERRIDE FOWNER FSETID MKNOD SETFCAP and 8 more
    allowed        gauge creates /open/x mode 0600  (as expected)
                   leaves 7101:7200 0600

    Assumed
      a directory that the tree does not list is 0:0 0755
    --- status 0
    ");
}

#[test]
fn an_expectation_that_does_not_hold_is_status_1() {
    let words = ["ask", "s.yaml", "gauge creates /data/app/x -> leaves 7101:7300 0664"];
    assert_snapshot!(tides().run(words), @"
    allowed        gauge creates /data/app/x
                   leaves 7101:7300 0644
                   NOT as expected: leaves 7101:7300 0664
    --- status 1
    ");
}

#[test]
fn acts_come_from_a_file_and_from_standard_input() {
    let scratch =
        tides().and("acts", "# two\ngauge reads /open -> allowed\n\ngauge lists /closed -> denied EACCES\n");
    assert_snapshot!(scratch.run(["ask", "s.yaml", "--acts", "acts"]), @"
    allowed        gauge reads /open  (as expected)
    denied EACCES  gauge lists /closed  (as expected)
                   /closed: drwxr-x--- 0750 405:1001: other has ---, needed r--
    --- status 0
    ");
    assert_snapshot!(scratch.feed(["ask", "s.yaml", "--acts", "-"], b"gauge enters /open\n"), @"
    allowed        gauge enters /open
    --- status 0
    ");
}

#[test]
fn why_names_component_class_bits_and_the_line_of_the_user() {
    assert_snapshot!(tides().run(["why", "s.yaml", "gauge reads /closed/key"]), @"
    denied EACCES  gauge reads /closed/key
                   /closed: drwxr-x--- 0750 405:1001: other has ---, needed --x

    Who gauge is
      field  value  from
      uid    7101   pod.yaml:6:33 securityContext.runAsUser
      gid    7200   pod.yaml:6:51 securityContext.runAsGroup
      group  7200   the primary group, which the runtime lists again
      group  7300   pod.yaml:6:66 securityContext.fsGroup
      umask  0022   the runtime's default umask

    Checks, in the kernel's order
              path     check       fact                                                 from
      ok      /        other-bits  drwxr-xr-x 0755 0:0: other has r-x, needed --x       s.yaml:8:9 tree
      EACCES  /closed  other-bits  drwxr-x--- 0750 405:1001: other has ---, needed --x  s.yaml:10:9 tree

      EACCES: permission denied
    --- status 0
    ");
}

#[test]
fn a_manifest_comes_on_standard_input() {
    let text = pod(TIDES);
    assert_snapshot!(tides().feed(["ask", "-", "gauge creates /data/app/x"], text.as_bytes()), @"
    allowed        gauge creates /data/app/x
                   leaves 7101:7300 0644

    Assumed: no group of image tides/gauge:3 lists the user as a member (its group file is not given) (and 2 more: --all-assumptions)
    --- status 0
    ");
}

#[test]
fn a_folder_of_manifests_is_one_input_and_equal_names_are_told_apart() {
    let scratch =
        Scratch::with("all/a.yaml", &pod(TIDES)).and("all/b.yaml", pod("{}").replace("name: p ", "name: q "));
    assert_snapshot!(scratch.run(["ask", "all", "gauge lists /data/app"]), @"
    --- standard error
    error: `gauge` matches several actors: write one of p/gauge, q/gauge
     --> act 1:1:1
      |
    1 | gauge lists /data/app
      | ^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["ask", "all", "p/gauge lists /data/app", "q/gauge lists /data/app"]), @"
    allowed        p/gauge lists /data/app
    allowed        q/gauge lists /data/app

    Assumed: no group of image tides/gauge:3 lists the user as a member (its group file is not given) (and 2 more: --all-assumptions)
    --- status 0
    ");
}

#[test]
fn every_refusal_of_a_pod_is_an_answer() {
    let group = Scratch::with("pod.yaml", &pod("{ runAsGroup: 50 }"));
    assert_snapshot!(group.run(["ask", "pod.yaml", "gauge reads /data/app"]), @"
    never runs     gauge reads /data/app
                   FailedCreatePodSandBox: the pod sets runAsGroup 50 without runAsUser at pod level: containerd refuses the sandbox, so no container of the pod starts
                   pod.yaml:6:34 securityContext.runAsGroup
    --- standard error
    warning: p never runs: the pod sets runAsGroup 50 without runAsUser at pod level: containerd refuses the sandbox, so no container of the pod starts
     --> pod.yaml:6:34 securityContext.runAsGroup

    --- status 0
    ");
    let root = Scratch::with("pod.yaml", &pod("{ runAsNonRoot: true }")).and("s.yaml", SCENE);
    assert_snapshot!(root.run(["identity", "s.yaml"]), @"
    gauge  app container of p, image tides/gauge:3
      never runs: runAsNonRoot is set, but the image runs as root (CreateContainerConfigError)
        pod.yaml:6:36 securityContext.runAsNonRoot
    --- standard error
    warning: gauge never runs: runAsNonRoot is set, but the image runs as root
     --> pod.yaml:6:36 securityContext.runAsNonRoot

    --- status 0
    ");
    let name = Scratch::with("pod.yaml", &pod("{}")).and("s.yaml", SCENE.replace("user: null", "user: tide"));
    assert_snapshot!(name.run(["identity", "s.yaml"]), @"
    gauge  app container of p, image tides/gauge:3
      never runs: the image's USER `tide` is in no line of its passwd file (CreateContainerError)
        s.yaml:5:11 images.tides/gauge:3.user
    --- standard error
    warning: gauge never runs: the image's USER `tide` is in no line of its passwd file
     --> s.yaml:5:11 images.tides/gauge:3.user

    --- status 0
    ");
}

#[test]
fn changes_say_what_they_leave() {
    let words = [
        "ask",
        "s.yaml",
        "gauge sets-mode g+w on /closed",
        "gauge makes-directory /data/app/d mode 2770",
        "gauge points /open/l at ../etc",
        "gauge renames /open to /opened",
        "gauge links /bin/tide to /open/tide",
        "gauge tags /open with user.note",
    ];
    assert_snapshot!(tides().run(words), @"
    denied EPERM   gauge sets-mode g+w on /closed
                   /closed: only the owner changes the mode, and gauge is not it
    allowed        gauge makes-directory /data/app/d mode 2770
                   leaves 7101:7300 2750
    allowed        gauge points /open/l at ../etc
                   leaves 7101:7200 0777
    denied EACCES  gauge renames /open to /opened
                   /: drwxr-xr-x 0755 0:0: other has r-x, needed -wx
    depends        gauge links /bin/tide to /open/tide
                   denied EPERM  when fs.protected_hardlinks = 1
                   allowed       when fs.protected_hardlinks = 0
                   to settle it: give it under `host: { sysctls: { fs.protected_hardlinks: ... } }`
    allowed        gauge tags /open with user.note

    Assumed
      a directory that the tree does not list is 0:0 0755
    --- status 0
    ");
}

#[test]
fn ids_are_shown_as_the_actor_and_as_the_disk_have_them() {
    let scene = "scene: 1\nvolumes:\n  v: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '100000:100000', mode: \
                 0755 }, { path: /f, owner: '107101:107200', mode: 0640 }, { path: /hosts, owner: '0:0', mode: 0644 }] }\n\
                 containers:\n  - name: gauge\n    user: '7101:7200'\n    user-namespace: { uids: [0 100000 65536], gids: [0 \
                 100000 65536] }\n    mounts: [{ volume: v, at: / }]\n  - name: root\n    user: '0:0'\n    \
                 effective-capabilities: all\n    user-namespace: { uids: [0 100000 65536], gids: [0 100000 65536] }\n    \
                 mounts: [{ volume: v, at: / }]\n";
    let scratch = Scratch::with("s.yaml", scene);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "gauge sets-mode 0600 on /f", "root creates /new", "root writes /hosts", "root sets-owner 70000 on /f"]), @"
    allowed        gauge sets-mode 0600 on /f
                   leaves 7101:7200 0600, stored as 107101:107200
    allowed        root creates /new
                   leaves 0:0 0644, stored as 100000:100000
    denied EACCES  root writes /hosts
                   /hosts: -rw-r--r-- 0644 65534:65534 (0:0 of the host are not mapped): other has r--, needed -w-; nobody's here, so no capability counts
    denied EINVAL  root sets-owner 70000 on /f
                   /f: the id has no mapping in the actor's user namespace
    --- status 0
    ");
    assert_snapshot!(scratch.run(["identity", "s.yaml", "--actor", "gauge"]), @"
    gauge  app container of scene
      field           value                                    on the host                   from
      uid             7101                                     107101 (line 0 100000 65536)  s.yaml:6:11 containers.user
      gid             7200                                     107200 (line 0 100000 65536)  s.yaml:6:11 containers.user
      umask           0022                                                                   the runtime's default umask
      user-namespace  users 0-65535 from 100000, groups alike                                s.yaml:7:21 containers.user-namespace
      effective       none                                                                   a process that is not root starts with none
    --- status 0
    ");
    assert_snapshot!(scratch.run(["imprint", "s.yaml", "/", "--actor", "root"]), @"
    root
      in  new   asked  result   inside                stored
      /   file  0666   allowed  0:0 0644  -rw-r--r--  100000:100000
      /   dir   0777   allowed  0:0 0755  drwxr-xr-x  100000:100000
    --- status 0
    ");
}

#[test]
fn file_systems_without_owners_say_what_everything_shows() {
    let scene = "scene: 1\nvolumes:\n  root: { filesystem: tmpfs }\n  usb: { filesystem: vfat, options: ['uid=7101', \
                 'gid=7200', 'umask=0027'] }\n  share: { filesystem: nfs, tree: [{ path: /, kind: dir, owner: '0:0', mode: \
                 0700 }] }\ncontainers:\n  - { name: gauge, user: '0:0', effective-capabilities: all, mounts: [{ volume: root, at: / }, { volume: usb, at: \
                 /usb }, { volume: share, at: /share }] }\n";
    let scratch = Scratch::with("s.yaml", scene);
    assert_snapshot!(scratch.run(["mounts", "s.yaml"]), @"
    gauge
      at      what                 flags  root            before  inodes changed
      /       volume root (tmpfs)  rw     0:0 1777
      /usb    volume usb (vfat)    rw     7101:7200 0750
      /share  volume share (nfs)   rw     0:0 0700
    --- status 0
    ");
    assert_snapshot!(scratch.run(["ask", "s.yaml", "gauge makes-directory /usb/new", "gauge points /usb/l at x", "gauge lists /share"]), @"
    usually allowed gauge makes-directory /usb/new
                   leaves 7101:7200 0750
                   as usual: /usb/new is not there yet
                   denied EEXIST  when /usb/new is there
    denied         gauge points /usb/l at x
                   denied EEXIST  when /usb/l is there
                   denied EPERM   when /usb/l is missing
    depends        gauge lists /share
                   denied EACCES  when the server squashes root (its default), or the server squashes everyone
                   allowed        when the server squashes no one

    To settle it, in a scene file
      volumes: { usb: { tree: ... } }
      give `export: { squash: root|all|none }` for the volume

    Assumed
      a tmpfs whose tree is not given is new and empty
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
}
