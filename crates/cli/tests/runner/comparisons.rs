//! `compare`: what a change opens and closes.

use insta::assert_snapshot;
use serde_json::json;

use crate::changes::boats;
use crate::scratch::{BOATS, Scratch};

#[test]
fn only_what_differs_is_compared() {
    let words = [
        "compare",
        "b.yaml",
        "--change",
        "stowaway becomes 101",
        "--change",
        "mate sets-mode g+x on /hold/old",
        "--change",
        "stowaway mounts /hold with rw",
    ];
    assert_snapshot!(boats().run(words), @"
    Identities
      about     what  before  after
      stowaway  uid   900     101

    Mounts
      about           what   before  after
      stowaway /hold  flags  ro      rw

    Files
      path         before                 after                  seen by
      /hold/old    drwxr-S--- 2740 0:500  drwxr-s--- 2750 0:500  mate, stowaway
      /stores/old  drwxr-S--- 2740 0:500  drwxr-s--- 2750 0:500  cook

    Opened
      actor     what    before  after  paths
      mate      enter   EACCES  yes    /hold/old
      cook      enter   EACCES  yes    /stores/old
      stowaway  read    EACCES  yes    /hold/keys/id_rsa
      stowaway  write   EACCES  yes    /hold/keys/id_rsa /hold/log
      stowaway  create  EACCES  yes    /hold/keys
      stowaway  create  EROFS   yes    /hold/drop
      stowaway  delete  EACCES  yes    /hold/keys/id_rsa
      stowaway  list    EACCES  yes    /hold/keys
      stowaway  enter   EACCES  yes    /hold/keys

    Ends otherwise
      actor     what    before  after   paths
      stowaway  create  EROFS   EACCES  /hold
      stowaway  delete  EROFS   EACCES  /hold/drop /hold/keys /hold/log /hold/old
    --- status 0
    ");
    let second = BOATS
        .replace("'101:500', mode: 0644", "'102:500', mode: 0600")
        .replace("user: '900:900'", "user: '901:900'");
    let scratch = boats().and("c.yaml", second);
    assert_snapshot!(scratch.run(["compare", "b.yaml", "c.yaml", "--actor", "cook"]), @"
    Files
      path         before                   after                    seen by
      /stores/log  -rw-r--r-- 0644 101:500  -rw------- 0600 102:500  cook

    Opened
      actor  what   before  after  paths
      cook   write  EACCES  yes    /stores/log
    --- status 0
    ");
    assert_snapshot!(scratch.run(["compare", "b.yaml", "b.yaml"]), @"
    Nothing differs: identities, mounts, what the images hold, and access to what is mounted are the same.
    --- status 0
    ");
    assert_snapshot!(scratch.run(["compare", "b.yaml"]), @"
    --- standard error
    error: there is nothing to compare with: name a second scene, or write a --change such as --change 'gauge umask 0002'
    --- status 2
    ");
}

#[test]
fn a_comparison_as_json() {
    let document = boats().json([
        "compare",
        "b.yaml",
        "--change",
        "mate sets-owner 102 on /hold/log",
        "--path",
        "/hold",
        "--format",
        "json",
    ]);
    assert_eq!(document["files"][0]["path"], "/hold/log");
    assert_eq!(document["files"][0]["after"]["uid"], 102);
    let closed = document["closed"].as_array().unwrap();
    assert!(closed.iter().any(|row| row["actor"] == "mate" && row["what"] == "write"), "{closed:?}");
    assert_eq!(document["identities"], json!([]));
}

/// Who is one of several before and one for certain afterwards is asked about the same paths on both sides.
#[test]
fn a_comparison_lists_the_same_paths_on_both_sides() {
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec:\n  automountServiceAccountToken: false\n  containers:\n    - name: a\n      image: i\n      \
               securityContext: { runAsUser: 5 }\n      volumeMounts: [{ name: c, mountPath: /c }]\n  volumes: [{ name: c, configMap: { name: c } }]\n";
    assert_snapshot!(Scratch::with("p.yaml", pod).run(["compare", "p.yaml", "--change", "a becomes 6:6"]), @"
    Identities
      about  what    before  after
      a      uid     5       6
             gid     0 or ?  6
             groups  0 or ?  6
    --- status 0
    ");
}

#[test]
fn a_file_of_the_image_is_a_difference() {
    let scene = |mode: &str| {
        format!(
            "scene: 1\ncontainers: [{{ name: gauge, image: x, user: '5102:5200', mounts: [{{ volume: v, at: /v }}] }}]\n\
             images: {{ x: {{ tree: [{{ path: /, kind: dir, owner: '0:0', mode: '0755' }}, {{ path: /key, owner: '0:0', mode: '{mode}' }}] }} }}\n\
             volumes: {{ v: {{ tree: [{{ path: /, kind: dir, owner: '0:0', mode: '0755' }}] }} }}\n"
        )
    };
    let scratch = || Scratch::with("s.yaml", &scene("0600")).and("t.yaml", scene("0644"));
    let opened = "\
Files
  path  before               after                seen by
  /key  -rw------- 0600 0:0  -rw-r--r-- 0644 0:0  gauge

Opened
  actor  what  before  after  paths
  gauge  read  EACCES  yes    /key
--- status 0";
    assert_eq!(scratch().run(["compare", "s.yaml", "t.yaml"]), opened);
    assert_eq!(scratch().run(["compare", "s.yaml", "--change", "for gauge sets-mode 0644 on /key"]), opened);
    let below = scratch().run(["compare", "s.yaml", "t.yaml", "--path", "/v"]);
    assert!(
        below.starts_with("Nothing differs: identities, mounts, and access below /v are the same."),
        "{below}"
    );
}

#[test]
fn another_user_is_compared_in_the_image_too() {
    let scene = "scene: 1\ncontainers: [{ name: gauge, image: x, user: '5102:5200', mounts: [{ volume: v, at: /v }] }]\n\
                 images: { x: { tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, { path: /key, owner: '5103:0', mode: '0600' }] } }\n\
                 volumes: { v: { tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }] } }\nruntime: docker\n";
    let said =
        Scratch::with("s.yaml", scene).run(["compare", "-q", "s.yaml", "--change", "gauge becomes 5103"]);
    assert!(said.contains("gauge  read   EACCES  yes    /key"), "{said}");
    // What every container has of the runtime says nothing of the image.
    assert!(!said.contains("/proc") && !said.contains("/dev"), "{said}");
}
