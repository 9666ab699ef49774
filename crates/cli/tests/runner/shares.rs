//! Who hands what to whom, whom a path lets in, and what is too open.

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::{BOATS, Scratch};

fn boats() -> Scratch {
    Scratch::with("b.yaml", BOATS)
}

#[test]
fn what_one_creates_is_handed_to_the_others() {
    assert_snapshot!(boats().run(["handoff", "b.yaml"]), @"
    volume hold  /hold in mate, stowaway; /stores in cook
      creator   new file      mate       cook       stowaway
      mate      101:500 0644  .          r-dp/r---  r---/r---
      cook      102:500 0664  rcdp/rcdp  .          r---/r---
      stowaway  denied EROFS                        .

      actor     cannot                 files of   because
      cook      change                 mate       -rw-r--r-- 0644 101:500: group 500 has r--, needed -w- (/stores/new-of-mate)
      cook      delete replace         mate       drwxr-sr-x 2755 101:500: group 500 has r-x, needed -wx (/stores/dir-of-mate)
      stowaway  change                 mate       -rw-r--r-- 0644 101:500: other has r--, needed -w- (/hold/new-of-mate)
      stowaway  delete replace create  mate cook  the mount is read-only (/hold)
      stowaway  change                 cook       -rw-rw-r-- 0664 102:500: other has r--, needed -w- (/hold/new-of-cook)
      what would help: mivask remedy INPUT 'cook writes what mate makes in /hold'

    r reads, c changes, d deletes, p replaces (renames a file of its own over it); - cannot, ? depends. First a file made there, behind the slash a file in a subdirectory made there.

    Assumed
      the root of image of container cook is 0:0 0755
      the root of image of container stowaway is 0:0 0755
    --- status 0
    ");
    assert_snapshot!(boats().run(["handoff", "b.yaml", "/hold/drop"]), @"
    volume hold, /drop  /hold/drop in mate, stowaway; /stores/drop in cook
      creator   new file      mate       cook       stowaway
      mate      101:101 0644  .          r-dp/r---  r---/r---
      cook      102:102 0664  r-dp/r---  .          r---/r---
      stowaway  denied EROFS                        .

      actor     cannot                 files of   because
      cook      change                 mate       -rw-r--r-- 0644 101:101: other has r--, needed -w- (/stores/drop/new-of-mate)
      cook      delete replace         mate       drwxr-xr-x 0755 101:101: other has r-x, needed -wx (/stores/drop/dir-of-mate)
      stowaway  change                 mate       -rw-r--r-- 0644 101:101: other has r--, needed -w- (/hold/drop/new-of-mate)
      stowaway  delete replace create  mate cook  the mount is read-only (/hold/drop)
      mate      change                 cook       -rw-rw-r-- 0664 102:102: other has r--, needed -w- (/hold/drop/new-of-cook)
      mate      delete replace         cook       drwxrwxr-x 0775 102:102: other has r-x, needed -wx (/hold/drop/dir-of-cook)
      stowaway  change                 cook       -rw-rw-r-- 0664 102:102: other has r--, needed -w- (/hold/drop/new-of-cook)
      what would help: mivask remedy INPUT 'cook writes what mate makes in /hold/drop'

    r reads, c changes, d deletes, p replaces (renames a file of its own over it); - cannot, ? depends. First a file made there, behind the slash a file in a subdirectory made there.

    Assumed
      the root of image of container cook is 0:0 0755
      the root of image of container stowaway is 0:0 0755
    --- status 0
    ");
}

#[test]
fn nothing_is_shared_by_one_alone() {
    let scene = "scene: 1\nvolumes: { v: {} }\ncontainers:\n  - { name: a, user: '5:5', mounts: [{ volume: v, at: /v }] }\n";
    assert_snapshot!(Scratch::with("s.yaml", scene).run(["handoff", "s.yaml"]), @"
    No directory is known to be shared by two containers.
    --- status 0
    ");
}

#[test]
fn a_hand_off_as_json() {
    let document = boats().json(["handoff", "b.yaml", "--format", "json"]);
    let directory = &document["directories"][0];
    assert_eq!(directory["members"].as_array().unwrap().len(), 3);
    let mate = &directory["creations"][0];
    assert_eq!((&mate["creator"], &mate["file"]["mode"]), (&json!("mate"), &json!("0644")));
    let cook = &mate["consumers"][0];
    assert_eq!(cook["file"]["read"]["outcome"], "allowed");
    assert_eq!(cook["file"]["change"]["errno"], "EACCES");
    assert_eq!(directory["creations"][2]["errno"], "EROFS");
}

#[test]
fn a_path_lets_in_whom_its_way_lets_in() {
    assert_snapshot!(boats().run(["admits", "b.yaml", "/hold/log", "--to", "write"]), @"
    /hold/log  -rw-r--r-- 0644 101:500  (volume hold, as mate sees it)
      can write:
        uid 101  (mate)
          /hold/log: -rw-r--r-- 0644 101:500: the owner (that uid) has rw-, needed -w-
        any id with DAC_OVERRIDE
          /hold/log: DAC_OVERRIDE overrides the mode bits for -w-
      no one else, because /hold/log: -rw-r--r-- 0644 101:500: other has r--, needed -w-

    /hold/log  -rw-r--r-- 0644 101:500  (volume hold, as stowaway sees it)
      shut no one can write, whatever the ids and capabilities
      because /hold/log: the mount is read-only

    /hold/log  (nothing is known to be there, as cook sees it)
    --- status 0
    ");
    assert_snapshot!(boats().run(["admits", "b.yaml", "/hold/keys/id_rsa", "/hold/drop", "--actor", "mate", "--to", "create"]), @"
    /hold/keys/id_rsa  -rw-r----- 0640 101:500  (volume hold, as mate sees it)
      shut no one can create, whatever the ids and capabilities
      because /hold/keys/id_rsa: something of that name is there already

    /hold/drop  drwxrwxrwx 0777 0:0  (volume hold, as mate sees it)
      open lets anybody create
    --- status 0
    ");
    let change = "mate sets-acl user:7:rwx,group::---,other::r-x on /hold/drop";
    assert_snapshot!(boats().run(["admits", "b.yaml", "/hold/drop", "--actor", "mate", "--to", "list", "--change", change]), @"
    /hold/drop  drwxrwxr-x 0775 0:0  (volume hold, as mate sees it)
      open lets anybody list, but not
        any member of group 0, but not uid 0 or uid 7
    --- status 0
    ");
}

#[test]
fn everything_an_actor_reaches() {
    assert_snapshot!(boats().run(["admits", "b.yaml", "--actor", "cook", "--to", "write", "--below", "/stores"]), @"
    cook can write below /stores
      /stores/
      /stores/drop/
    --- status 0
    ");
    assert_snapshot!(boats().run(["admits", "b.yaml", "--actor", "stowaway", "--to", "read", "--below", "/hold"]), @"
    stowaway can read below /hold
      /hold/
      /hold/drop/
      /hold/log
    --- status 0
    ");
}

#[test]
fn admissions_as_json() {
    let document = boats().json([
        "admits",
        "b.yaml",
        "/hold/log",
        "--to",
        "write",
        "--actor",
        "mate",
        "--format",
        "json",
    ]);
    let admission = &document["admissions"][0];
    assert_eq!(admission["conditions"][0]["uid"], 101);
    assert_eq!(admission["conditions"][0]["actors"], json!(["mate"]));
    assert_eq!(admission["anybody"], false);
    let document = boats().json([
        "admits", "b.yaml", "--to", "delete", "--actor", "mate", "--below", "/hold", "--format", "json",
    ]);
    assert!(document["reached"].as_array().unwrap().iter().any(|one| one["path"] == "/hold/log"));
}

#[test]
fn what_is_too_open_is_found_with_its_worst_consequence() {
    let limit = ["exposure", "b.yaml", "--at-most", "mate /hold/keys/id_rsa at-most 0600 owned-by 101:101"];
    assert_snapshot!(boats().run(limit), @"
    high    world-writable /hold/drop /stores/drop
            whoever reaches it can remove or replace everyone else's files there
            drwxrwxrwx 0777 0:0 on volume hold, by mate, cook, stowaway  (b.yaml:11:9 tree)
    high    set-id /bin/lend
            a flaw in it turns mate into root
            -rwsr-xr-x 4755 0:0 on image boats/mate:1, by mate  (b.yaml:17:62 tree)
    high    too-wide /hold/keys/id_rsa
            a program that checks its key refuses /hold/keys/id_rsa, which is wider than 0600 and not owned by 101:101
            -rw-r----- 0640 101:500 on volume hold, by mate  (b.yaml:10:9 tree)
    low     group-shared /hold /stores
            any member of group 500 (cook, mate) can rewrite what the others rely on
            drwxrwsr-x 2775 0:500 on volume hold, by mate, cook  (b.yaml:7:9 tree)
    low     missing-x /hold/old /stores/old
            S for the group: entries still inherit the group, yet its members cannot enter (g+x)
            drwxr-S--- 2740 0:500 on volume hold, by mate, cook, stowaway  (b.yaml:12:9 tree)
    --- status 1
    ");
}

#[test]
fn what_is_accepted_says_why_and_what_is_declared_ends_with_1() {
    let scene = format!(
        "{BOATS}at-most: ['/hold/keys at-most 0750', '/hold/log at-most 0600']\n\
         accept:\n  - {{ finding: world-writable, path: '/*/drop', reason: the drop is for everybody }}\n\
         \x20 - {{ finding: umask, path: cook, reason: the crew shares }}\n"
    );
    let scratch = Scratch::with("s.yaml", &scene);
    assert_snapshot!(scratch.run(["exposure", "s.yaml", "--severity", "high", "--actor", "mate"]), @"
    high    set-id /bin/lend
            a flaw in it turns mate into root
            -rwsr-xr-x 4755 0:0 on image boats/mate:1, by mate  (s.yaml:17:62 tree)
    high    too-wide /hold/log
            a program that checks its key refuses /hold/log, which is wider than 0600
            -rw-r--r-- 0644 101:500 on volume hold, by mate, stowaway  (s.yaml:8:9 tree)

    Accepted
      world-writable /hold/drop /stores/drop: the drop is for everybody
        s.yaml:24:5 accept
    --- standard error
    warning: nothing is found that is accepted at s.yaml:25:5 accept
    --- status 1
    ");
    assert_snapshot!(scratch.run(["exposure", "s.yaml", "--severity", "low", "--actor", "cook"]), @"
    low     group-shared /hold /stores
            any member of group 500 (cook, mate) can rewrite what the others rely on
            drwxrwsr-x 2775 0:500 on volume hold, by mate, cook  (s.yaml:7:9 tree)
    low     missing-x /hold/old /stores/old
            S for the group: entries still inherit the group, yet its members cannot enter (g+x)
            drwxr-S--- 2740 0:500 on volume hold, by mate, cook, stowaway  (s.yaml:12:9 tree)

    Accepted
      world-writable /hold/drop /stores/drop: the drop is for everybody
        s.yaml:24:5 accept
    --- standard error
    warning: nothing is found that is accepted at s.yaml:25:5 accept
    --- status 0
    ");
}

#[test]
fn mistakes_in_limits_and_acceptances_are_pointed_at() {
    let scene = format!(
        "{BOATS}at-most: ['/hold/keys at-most rw']\naccept:\n  - {{ finding: world-writeable, reason: x }}\n  - {{ finding: umask, reason: '' }}\n"
    );
    assert_snapshot!(Scratch::with("s.yaml", &scene).run(["exposure", "s.yaml"]), @"
    --- standard error
    error: `/hold/keys at-most rw` is not a limit
      --> s.yaml:22:11
       |
    22 | at-most: ['/hold/keys at-most rw']
       |           ^^^^^^^^^^^^^^^^^^^^^^^
       |
       = help: such as `/keys/id at-most 0600 owned-by 7101`

    error: `world-writeable` is not a finding
      --> s.yaml:24:16
       |
    24 |   - { finding: world-writeable, reason: x }
       |                ^^^^^^^^^^^^^^^
       |
       = help: did you mean `world-writable`?

    error: a finding is accepted without a reason
      --> s.yaml:25:16
       |
    25 |   - { finding: umask, reason: '' }
       |                ^^^^^
       |
       = help: say why it is intended, for whoever reads this next

    error: the input cannot be used: 3 errors above
    --- status 2
    ");
    assert_snapshot!(boats().run(["exposure", "b.yaml", "--at-most", "keys at-most 0600"]), @"
    --- standard error
    error: invalid value 'keys at-most 0600' for '--at-most <LIMIT>': `keys at-most 0600` is not a limit: write `[ACTOR] PATH at-most MODE [owned-by UID[:GID]]`, such as `/keys/id at-most 0600`

    For more information, try '--help'.
    --- status 2
    ");
}

#[test]
fn the_filesystem_group_widens_a_key() {
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec:\n  automountServiceAccountToken: false\n  securityContext: { fsGroup: 900 }\n  \
               containers:\n  - name: a\n    image: i\n    securityContext: { runAsUser: 5, runAsGroup: 5, allowPrivilegeEscalation: false }\n    volumeMounts: [{ name: v, mountPath: /v }]\n  \
               volumes: [{ name: v, persistentVolumeClaim: { claimName: v } }]\n";
    let scene = "scene: 1\nworkloads: [p.yaml]\nimages: { i: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n\
                 volumes:\n  v:\n    filesystem: ext4\n    group-ownership: apply\n    tree: [{ path: /, kind: dir, owner: '5:5', mode: 0700 }, { path: /id_rsa, owner: '5:5', mode: 0600 }]\n";
    let scratch = Scratch::with("p.yaml", pod).and("s.yaml", scene);
    assert_snapshot!(scratch.run(["exposure", "s.yaml", "--at-most", "/v/id_rsa at-most 0600", "--severity", "medium"]), @"
    high    too-wide /v/id_rsa
            a program that checks its key refuses /v/id_rsa, which is wider than 0600; the filesystem-group step is what widens it, so narrow it again after that step, or keep it on a volume of its own
            -rw-rw---- 0660 5:900 on claim v, by a  (p.yaml:6:31 securityContext.fsGroup)
    --- status 1
    ");
}

#[test]
fn findings_as_json() {
    let document = boats().json(["exposure", "b.yaml", "--format", "json"]);
    let findings = document["findings"].as_array().unwrap();
    let drop = findings.iter().find(|finding| finding["finding"] == "world-writable").unwrap();
    assert_eq!((&drop["severity"], &drop["on"]), (&json!("high"), &json!("volume hold")));
    assert_eq!(drop["paths"], json!(["/hold/drop", "/stores/drop"]));
    assert_eq!(drop["accepted"], json!(null));
}

#[test]
fn limits_take_patterns_as_expectations_do() {
    let scene = "scene: 1
containers: [{ name: a, user: '9:9', mounts: [{ volume: v, at: /d }] }]
volumes:
  v:
    filesystem: ext4
    tree:
      - { path: /, kind: dir, owner: '5:5', mode: 0755 }
      - { path: /.ssh, kind: dir, owner: '5:5', mode: 0700 }
      - { path: /.ssh/key, owner: '5:5', mode: 0640 }
      - { path: /.ssh/narrow, owner: '5:5', mode: 0600 }
      - { path: /.ssh/link, kind: link, owner: '5:5', target: key }
at-most: ['LIMIT']
";
    let found = |limit: &str| {
        let scratch = Scratch::with("s.yaml", &scene.replace("LIMIT", limit));
        let document = scratch.json(["exposure", "s.yaml", "--format", "json"]);
        let findings = document["findings"].as_array().unwrap();
        findings.iter().flat_map(|one| one["paths"].as_array().unwrap().clone()).collect::<Vec<_>>()
    };
    // Whoever can reach it: the program that refuses it runs as somebody else.
    assert_eq!(found("/d/.ssh/* at-most 0600"), ["/d/.ssh/key"]);
    assert_eq!(found("a /d/*/k?y at-most 0600"), ["/d/.ssh/key"]);
    assert_eq!(found("/d/.ssh/k* at-most 0640 owned-by 5"), [""; 0]);
    assert_eq!(found("/d/.ssh/* at-most 0640 owned-by 7").len(), 2);
    assert_eq!(found("/nowhere/** at-most 0600"), [""; 0]);
    let wrong =
        Scratch::with("s.yaml", &scene.replace("LIMIT", "/d/[ at-most 0600")).run(["exposure", "s.yaml"]);
    assert!(wrong.contains("s.yaml:12:11 at-most: `/d/[` is not a pattern of paths"), "{wrong}");
    assert!(wrong.ends_with("--- status 2"), "{wrong}");
}
