//! `remedy`: what to paste.

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::{BOATS, SCENE, Scratch, TIDES, pod};

fn boats() -> Scratch {
    Scratch::with("b.yaml", BOATS)
}

fn tides() -> Scratch {
    Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", SCENE)
}

#[test]
fn a_remedy_says_what_else_it_opens_and_what_to_paste() {
    assert_snapshot!(boats().run(["remedy", "b.yaml", "cook writes /stores/log"]), @"
    denied EACCES  cook writes /stores/log
                   /stores/log: -rw-r--r-- 0644 101:500: group 500 has r--, needed -w-

                it is a file of mate, whose next one is refused as well: what lasts is found for 'cook writes what mate makes in /hold'

    1  disk     for cook sets-mode g+w on /stores/log
                opens nothing else; touches 1 inode
                # as root, where volume hold is mounted as cook has it
                chmod g+w /stores/log

    2  disk     for cook sets-acl user:102:rw-,group::r--,mask::rw- on /stores/log
                opens nothing else; touches 1 inode
                # as root, where volume hold is mounted as cook has it
                setfacl -m user:102:rw-,group::r--,mask::rw- /stores/log

    3  disk     for cook sets-owner 102 on /stores/log
                opens nothing else; takes 1 away: mate can no longer write /hold/log; touches 1 inode
                # as root, where volume hold is mounted as cook has it
                chown 102 /stores/log

    4  process  cook becomes 101
                opens 6 more: cook can read /stores/keys/id_rsa; cook can write /stores/keys/id_rsa; cook can create /stores/keys
                --- b.yaml
                +++ b.yaml
                @@ -18,4 +18,4 @@
                 containers:
                   - { name: mate, image: 'boats/mate:1', user: '101:101', groups: [500], mounts: [{ volume: hold, at: /hold }] }
                -  - { name: cook, user: '102:102', groups: [500], umask: '0002', no-new-privileges: true, mounts: [{ volume: hold, at: /stores }] }
                +  - { name: cook, user: '101:102', groups: [500], umask: '0002', no-new-privileges: true, mounts: [{ volume: hold, at: /stores }] }
                   - { name: stowaway, user: '900:900', no-new-privileges: true, mounts: [{ volume: hold, at: /hold, read-only: true }] }
    --- status 0
    ");
    assert_snapshot!(boats().run(["remedy", "b.yaml", "cook reads /stores/keys/id_rsa", "--most", "2"]), @"
    denied EACCES  cook reads /stores/keys/id_rsa
                   /stores/keys: drwxr-x--- 0750 101:101: other has ---, needed --x

    1  process  cook joins 101
                opens 1 more: cook can list /stores/keys
                --- b.yaml
                +++ b.yaml
                @@ -18,4 +18,4 @@
                 containers:
                   - { name: mate, image: 'boats/mate:1', user: '101:101', groups: [500], mounts: [{ volume: hold, at: /hold }] }
                -  - { name: cook, user: '102:102', groups: [500], umask: '0002', no-new-privileges: true, mounts: [{ volume: hold, at: /stores }] }
                +  - { name: cook, user: '102:102', groups: [500, 101], umask: '0002', no-new-privileges: true, mounts: [{ volume: hold, at: /stores }] }
                   - { name: stowaway, user: '900:900', no-new-privileges: true, mounts: [{ volume: hold, at: /hold, read-only: true }] }

    2  disk     for cook sets-acl user:102:--x,group::r-x,mask::r-x on /stores/keys
                opens nothing else; touches 1 inode
                # as root, where volume hold is mounted as cook has it
                setfacl -m user:102:--x,group::r-x,mask::r-x /stores/keys
    and 5 wider ones: --most 7
    --- status 0
    ");
}

#[test]
fn a_manifest_is_patched_in_place() {
    assert_snapshot!(tides().run(["remedy", "s.yaml", "gauge reads /closed/key", "--most", "3"]), @"
    denied EACCES  gauge reads /closed/key
                   /closed: drwxr-x--- 0750 405:1001: other has ---, needed --x

    1  process  gauge joins 1001
       image    image gauge sets-mode g+r on /closed/key
                opens nothing else; touches 1 inode
                # in the build of image tides/gauge:3, as root
                RUN chmod g+r /closed/key
                --- pod.yaml
                +++ pod.yaml
                @@ -4,5 +4,5 @@
                 spec:
                   automountServiceAccountToken: false
                -  securityContext: { runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300 }
                +  securityContext: { runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300, supplementalGroups: [1001] }
                   containers:
                   - name: gauge

    2  process  gauge joins 1001
       image    image gauge sets-owner 7101 on /closed/key
                opens nothing else; touches 1 inode
                # in the build of image tides/gauge:3, as root
                RUN chown 7101 /closed/key
                --- pod.yaml
                +++ pod.yaml
                @@ -4,5 +4,5 @@
                 spec:
                   automountServiceAccountToken: false
                -  securityContext: { runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300 }
                +  securityContext: { runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300, supplementalGroups: [1001] }
                   containers:
                   - name: gauge

    3  image    image gauge sets-group 7300 on /closed
       image    image gauge sets-owner 7101 on /closed/key
                opens nothing else; touches 2 inodes
                # in the build of image tides/gauge:3, as root
                RUN chgrp 7300 /closed
                RUN chown 7101 /closed/key
    and 6 wider ones: --most 9
    --- status 0
    ");
}

#[test]
fn the_patched_description_lets_the_act_succeed() {
    let scratch = boats();
    let told = scratch.run(["remedy", "b.yaml", "cook writes /stores/log", "--apply-to", "new.yaml"]);
    assert!(told.contains("error: remedy 1 changes files") && told.ends_with("--- status 2"), "{told}");
    assert!(!scratch.path().join("new.yaml").exists());
    let words = ["remedy", "s.yaml", "gauge creates /closed/new", "--apply-to", "new.yaml"];
    assert!(tides().run(words).contains("its commands are still to be run"));
    let pod = pod("{ runAsUser: 7101, runAsGroup: 7200 }")
        .replace("mountPath: /data/app }", "mountPath: /data/app, readOnly: true }");
    let scratch = Scratch::with("pod.yaml", &pod).and("s.yaml", SCENE);
    let act = "gauge creates /data/app/x";
    let told = scratch.run(["remedy", "s.yaml", act, "--most", "1", "--apply-to", "new.yaml"]);
    assert!(told.contains("note: remedy 1 is written to new.yaml"), "{told}");
    let told = scratch.run(["ask", "new.yaml", act, "-h"]);
    assert!(told.ends_with("--- status 0"), "{told}");
    let scratch = scratch.and("t.yaml", SCENE.replace("pod.yaml", "new.yaml"));
    let told = scratch.run(["ask", "t.yaml", "gauge creates /data/app/x -> allowed"]);
    assert!(told.ends_with("--- status 0"), "{told}");
}

#[test]
fn a_compose_file_is_patched_in_place() {
    let compose = "# our stall\nservices:\n  web:   # the only one\n    image: w\n    user: \"5:5\"\n    read_only: true\n    volumes:\n      - ./data:/data:ro,z\n";
    let scene = "scene: 1\nworkloads: [compose.yaml]\nhost: { trees: { DATA: [{ path: /, kind: dir, owner: '5:5', mode: 0755 }] } }\n\
                 images: { w: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /etc/w, owner: '0:7', mode: 0640 }] } }\n";
    let scratch = Scratch::with("compose.yaml", compose);
    let data = scratch.path().canonicalize().unwrap().join("data");
    let scratch = scratch.and("s.yaml", scene.replace("DATA", data.to_str().unwrap()));
    for (act, part) in [
        ("web creates /data/x", "-      - ./data:/data:ro,z\n            +      - ./data:/data:z"),
        ("web creates /run/x", "tmpfs:"),
        ("web reads /etc/w", "group_add:"),
    ] {
        let told = scratch.run(["remedy", "s.yaml", act, "--most", "1"]);
        assert!(told.contains(part), "{act}: {told}");
        assert!(!told.contains("# the only one\n            +"), "{told}");
    }
}

#[test]
fn where_nothing_helps_it_says_why() {
    assert_snapshot!(boats().run(["remedy", "b.yaml", "mate lists /hold/log"]), @"
    denied ENOTDIR mate lists /hold/log
                   /hold/log: not a directory

    Nothing narrow helps.
    it is the wrong kind of file for that act, or exists already: no permission helps
    --- status 0
    ");
    assert_snapshot!(boats().run(["remedy", "b.yaml", "mate reads /hold/log"]), @"
    allowed        mate reads /hold/log

    There is nothing to mend.
    --- status 0
    ");
    assert_snapshot!(boats().run(["remedy", "b.yaml", "mate lists /hold/log", "--apply-to", "x"]), @"
    denied ENOTDIR mate lists /hold/log
                   /hold/log: not a directory

    Nothing narrow helps.
    it is the wrong kind of file for that act, or exists already: no permission helps
    --- standard error
    error: there is no remedy 1: 0 were found
    --- status 2
    ");
    assert_snapshot!(boats().run(["remedy", "b.yaml", "mat lists /hold/log"]), @"
    --- standard error
    error: there is no actor `mat` in this scene; there is mate, cook, stowaway
     --> act 1:1:1
      |
    1 | mat lists /hold/log
      | ^^^
      |
      = help: did you mean `mate`?

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn an_expectation_of_what_is_left_is_a_goal() {
    assert_snapshot!(boats().run(["remedy", "b.yaml", "mate creates /hold/new -> leaves 101:500 0664", "--most", "1"]), @"
    allowed        mate creates /hold/new
                   leaves 101:500 0644
                   NOT as expected: leaves 101:500 0664

    1  process  mate umask 0002
                opens nothing else
                --- b.yaml
                +++ b.yaml
                @@ -17,5 +17,5 @@
                     tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /bin/lend, owner: '0:0', mode: 4755, content: program }]
                 containers:
                -  - { name: mate, image: 'boats/mate:1', user: '101:101', groups: [500], mounts: [{ volume: hold, at: /hold }] }
                +  - { name: mate, image: 'boats/mate:1', user: '101:101', groups: [500], mounts: [{ volume: hold, at: /hold }], umask: '0002' }
                   - { name: cook, user: '102:102', groups: [500], umask: '0002', no-new-privileges: true, mounts: [{ volume: hold, at: /stores }] }
                   - { name: stowaway, user: '900:900', no-new-privileges: true, mounts: [{ volume: hold, at: /hold, read-only: true }] }
    --- status 0
    ");
    assert_snapshot!(boats().run(["remedy", "b.yaml", "mate creates /hold/drop/new -> leaves 101:500 0644", "--most", "2"]), @"
    allowed        mate creates /hold/drop/new
                   leaves 101:101 0644
                   NOT as expected: leaves 101:500 0644

    1  disk     for mate sets-group 500 on /hold/drop
       disk     for mate sets-mode g+s on /hold/drop
                opens nothing else; touches 1 inode
                # as root, where volume hold is mounted as mate has it
                chgrp 500 /hold/drop
                chmod g+s /hold/drop

    2  process  mate becomes 101:500
                opens nothing else
                its group is 500 then, not 101
                --- b.yaml
                +++ b.yaml
                @@ -17,5 +17,5 @@
                     tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /bin/lend, owner: '0:0', mode: 4755, content: program }]
                 containers:
                -  - { name: mate, image: 'boats/mate:1', user: '101:101', groups: [500], mounts: [{ volume: hold, at: /hold }] }
                +  - { name: mate, image: 'boats/mate:1', user: '101:500', groups: [500], mounts: [{ volume: hold, at: /hold }] }
                   - { name: cook, user: '102:102', groups: [500], umask: '0002', no-new-privileges: true, mounts: [{ volume: hold, at: /stores }] }
                   - { name: stowaway, user: '900:900', no-new-privileges: true, mounts: [{ volume: hold, at: /hold, read-only: true }] }
    --- status 0
    ");
}

#[test]
fn remedies_as_json() {
    let document = boats().json(["remedy", "b.yaml", "cook writes /stores/log", "--format", "json"]);
    assert_eq!(document["act"]["errno"], "EACCES");
    let first = &document["remedies"][0];
    assert_eq!(
        first["changes"],
        json!([{ "side": "disk", "change": "for cook sets-mode g+w on /stores/log" }])
    );
    assert_eq!((&first["inodes"], &first["undone"]), (&json!(1), &json!(null)));
    assert_eq!(first["then"]["outcome"], "allowed");
    assert_eq!(first["commands"][1], "chmod g+w /stores/log");
}

#[test]
fn what_is_changed_anyway_is_changed_before_every_attempt() {
    let scratch = Scratch::with(
        "s.yaml",
        "
scene: 1
containers: [{ name: x, user: '1000:1000', mounts: [{ volume: v, at: /data }] }]
volumes: { v: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /f, owner: '0:2000', mode: 0640 }] } }
",
    );
    let words = ["remedy", "s.yaml", "x reads /data/f", "--change", "x sets-group 3000 on /data/f"];
    let shown = scratch.run(words);
    assert!(shown.contains("1  process  x joins 3000\n"), "{shown}");
    assert!(!shown.contains("joins 2000"), "{shown}");
}
