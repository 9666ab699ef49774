//! Surveys, whole trees, sources on the command line and running processes.

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use insta::assert_snapshot;

use crate::scratch::Scratch;

const SCENE: &str = "\
scene: 1
containers:
  - name: gauge
    image: tides/gauge:3
    user: \"7101:7200\"
    mounts: [{ volume: readings, at: /data }]
volumes: { readings: { filesystem: ext4, tree: readings.mtree } }
";

const READINGS: &str = "\
#mtree
. type=dir uid=7101 gid=7200 mode=0755
./2026 type=dir uid=7101 gid=7200 mode=2775
./2026/mar.csv type=file uid=7101 gid=7200 mode=0640 size=12
./2026/apr.csv type=file uid=7102 gid=7200 mode=0640 size=12
./2026/may.csv type=file uid=7102 gid=7300 mode=0600 size=12
./today type=link uid=0 gid=0 link=2026/apr.csv
./keys type=dir uid=0 gid=0 mode=0700
./keys/site.key type=file uid=0 gid=0 mode=0600 size=32
./keys/old type=dir uid=0 gid=0 mode=0700
./drop type=dir uid=0 gid=0 mode=1777
./drop/other.csv type=file uid=7102 gid=7200 mode=0644 size=3
";

/// A pod with a claim and a host path.
pub(crate) const POD: &str = "\
apiVersion: v1
kind: Pod
metadata: { name: station }
spec:
  securityContext: { runAsUser: 7101, runAsGroup: 7200 }
  containers:
    - { name: gauge, image: tides/gauge:3, volumeMounts: [{ name: data, mountPath: /data }, { name: www, mountPath: /www }] }
  volumes:
    - { name: data, persistentVolumeClaim: { claimName: readings } }
    - { name: www, hostPath: { path: /srv/tides } }
";

pub(crate) fn scratch() -> Scratch {
    Scratch::with("s.yaml", SCENE).and("readings.mtree", READINGS)
}

/// Our own scenes only: the API and Compose refuse a volume that is not declared.
#[test]
fn a_volume_that_nothing_declares() {
    let undeclared = SCENE.replace("volumes: { readings: { filesystem: ext4, tree: readings.mtree } }\n", "");
    let scratch = Scratch::with("s.yaml", &undeclared).and("readings.mtree", READINGS);
    let act = "gauge reads /data/2026/mar.csv";
    let given = scratch.run(["ask", "-q", "s.yaml", act, "--disk", "readings=readings.mtree"]);
    assert!(given.starts_with("allowed") && given.ends_with("--- status 0"), "{given}");
    let plain = scratch.run(["ask", "-q", "s.yaml", act]);
    assert!(plain.contains("or give its files with --disk readings=SOURCE"), "{plain}");
    let other = scratch.run(["ask", "-q", "s.yaml", act, "--disk", "reading=readings.mtree"]);
    assert!(other.ends_with("--- status 2"), "{other}");
}

#[test]
fn a_whole_tree_is_summed_up() {
    assert_snapshot!(scratch().run(["access", "s.yaml", "--tree"]), @"
    gauge: 10 entries below /data
      act     outcome           entries  directories  decided by
      read    allowed                 2            2  the group's bits
              allowed                 1            1  the owner's bits
              denied EACCES           1            1  the bits of others
              denied EACCES           1            1  a directory above that may not be searched
              allowed                 1            1  where the link or the interpreter leads
      write   denied EACCES           2            2  the group's bits
              allowed                 1            1  the owner's bits
              denied EACCES           1            1  the bits of others
              denied EACCES           1            1  a directory above that may not be searched
              denied EACCES           1            1  where the link or the interpreter leads
      create  allowed                 1            1  the owner's bits
              allowed                 1            1  the bits of others
              denied EACCES           1            1  the bits of others
              denied EACCES           1            1  a directory above that may not be searched
      delete  allowed                 4            2  the owner's bits
              denied ENOTEMPTY        3            1  what is in it
              denied EACCES           2            1  a directory above that may not be searched
              denied EPERM            1            1  the sticky bit of the directory
      list    allowed                 1            1  the owner's bits
              allowed                 1            1  the bits of others
              denied EACCES           1            1  the bits of others
              denied EACCES           1            1  a directory above that may not be searched
      enter   allowed                 1            1  the owner's bits
              allowed                 1            1  the bits of others
              denied EACCES           1            1  the bits of others
              denied EACCES           1            1  a directory above that may not be searched

    One directory may not be searched
      directory   owner  mode             outcome        entries below  decided by
      /data/keys  0:0    drwx------ 0700  denied EACCES              2  the bits of others

    Assumed
      no file has an ACL: mtree does not show that
      no file is immutable or append-only: mtree does not show that
      the root of image tides/gauge:3 is 0:0 0755
    --- status 0
    ");
}

#[test]
fn entries_are_listed_and_picked() {
    assert_snapshot!(scratch().run(["access", "s.yaml", "--tree", "--list"]), @"
    gauge: below /data
      mode                  owner  read       write      create     delete     list       enter      run        path
      drwxrwsr-x 2775   7101:7200  -          -          yes        ENOTEMPTY  yes        yes        -          /data/2026
      -rw-r----- 0640   7102:7200  yes        EACCES     -          yes        -          -          EACCES     /data/2026/apr.csv
      -rw-r----- 0640   7101:7200  yes        yes        -          yes        -          -          EACCES     /data/2026/mar.csv
      -rw------- 0600   7102:7300  EACCES     EACCES     -          yes        -          -          EACCES     /data/2026/may.csv
      drwxrwxrwt 1777         0:0  -          -          yes        ENOTEMPTY  yes        yes        -          /data/drop
      -rw-r--r-- 0644   7102:7200  yes        EACCES     -          EPERM      -          -          EACCES     /data/drop/other.csv
      drwx------ 0700         0:0  -          -          EACCES     ENOTEMPTY  EACCES     EACCES     -          /data/keys
      drwx------ 0700         0:0  -          -          EACCES     EACCES     EACCES     EACCES     -          /data/keys/old
      -rw------- 0600         0:0  EACCES     EACCES     -          EACCES     -          -          EACCES     /data/keys/site.key
      lrwxrwxrwx 0777         0:0  yes        EACCES     -          yes        -          -          -          /data/today
    --- status 0
    ");
    let picked = [
        "access",
        "s.yaml",
        "/data",
        "--tree",
        "--list",
        "--where",
        "write=denied",
        "--matching",
        "/data/2026/*.csv",
    ];
    assert_snapshot!(scratch().run(picked), @"
    gauge: below /data
      mode                  owner  read       write      create     delete     list       enter      run        path
      -rw-r----- 0640   7102:7200  yes        EACCES     -          yes        -          -          EACCES     /data/2026/apr.csv
      -rw------- 0600   7102:7300  EACCES     EACCES     -          yes        -          -          EACCES     /data/2026/may.csv
    --- status 0
    ");
    assert_snapshot!(scratch().run(["access", "s.yaml", "--tree", "--where", "delete=EPERM"]), @"
    gauge: 1 entry below /data
      act     outcome        entries  directories  decided by
      read    allowed              1            1  the group's bits
      write   denied EACCES        1            1  the group's bits
      delete  denied EPERM         1            1  the sticky bit of the directory

    Assumed
      no file has an ACL: mtree does not show that
      no file is immutable or append-only: mtree does not show that
      the root of image tides/gauge:3 is 0:0 0755
    --- status 0
    ");
    assert_snapshot!(scratch().run(["access", "s.yaml", "/data/drop", "--tree", "--format", "json"]), @r#"
    {
      "mivask": 1,
      "trees": [
        {
          "actor": "gauge",
          "when": "",
          "below": "/data/drop",
          "entries": 1,
          "unlisted": false,
          "shares": [
            {
              "act": "read",
              "outcome": "allowed",
              "errno": null,
              "check": "group-bits",
              "usually": null,
              "above": false,
              "entries": 1,
              "directories": 1
            },
            {
              "act": "write",
              "outcome": "denied",
              "errno": "EACCES",
              "check": "group-bits",
              "usually": null,
              "above": false,
              "entries": 1,
              "directories": 1
            },
            {
              "act": "delete",
              "outcome": "denied",
              "errno": "EPERM",
              "check": "sticky",
              "usually": null,
              "above": false,
              "entries": 1,
              "directories": 1
            }
          ],
          "blocking": 0,
          "blockers": [],
          "assumptions": [
            "no file has an ACL: mtree does not show that",
            "no file is immutable or append-only: mtree does not show that",
            "the root of image tides/gauge:3 is 0:0 0755"
          ],
          "as_usual": []
        }
      ]
    }
    --- status 0
    "#);
    let lines = ["access", "s.yaml", "/data/drop", "--tree", "--list", "--format", "json"];
    assert_snapshot!(scratch().run(lines), @r#"
    {
      "mivask": 1,
      "rows": [
        {
          "actor": "gauge",
          "path": "/data/drop/other.csv",
          "kind": "file",
          "uid": 7102,
          "gid": 7200,
          "disk_uid": 7102,
          "disk_gid": 7200,
          "mode": "0644",
          "ids": "inside",
          "missing": false,
          "deeper": 0,
          "read": "allowed",
          "write": "denied",
          "create": null,
          "delete": "denied",
          "list": null,
          "enter": null,
          "run": "denied",
          "errnos": {
            "delete": "EPERM",
            "run": "EACCES",
            "write": "EACCES"
          },
          "usually": {}
        }
      ]
    }
    --- status 0
    "#);
}

#[test]
fn what_cannot_be_picked_is_said() {
    assert_snapshot!(scratch().run(["access", "s.yaml", "--tree", "--where", "write=no"]), @"
    --- standard error
    error: invalid value 'write=no' for '--where <[ACT=]OUTCOME>': `no` is not an outcome: write allowed, denied, depends, or an errno such as EACCES

    For more information, try '--help'.
    --- status 2
    ");
    assert_snapshot!(scratch().run(["access", "s.yaml", "--tree", "--matching", "a[b"]), @"
    --- standard error
    error: `a[b` is not a pattern of paths: unclosed character class; missing ']'
    --- status 2
    ");
    assert_snapshot!(scratch().run(["access", "s.yaml", "/nowhere", "--tree"]), @"
    --- standard error
    note: gauge has nothing known at /nowhere: ENOENT
    --- status 0
    ");
    assert_snapshot!(scratch().run(["access", "s.yaml", "--list"]), @"
    --- standard error
    error: the following required arguments were not provided:
      --tree

    Usage: mivask access --tree --list <INPUT> [PATH]...

    For more information, try '--help'.
    --- status 2
    ");
}

#[test]
fn a_survey_says_what_its_source_says() {
    let scratch = scratch();
    let written = scratch.run(["survey", "readings.mtree", "-o", "readings.survey"]);
    assert!(written.starts_with("readings.mtree: 11 inodes, 5 of them directories, in "), "{written}");
    let text = std::fs::read_to_string(scratch.path().join("s.yaml")).expect("the scene");
    std::fs::write(scratch.path().join("t.yaml"), text.replace("readings.mtree", "readings.survey"))
        .expect("a scene");
    let rows = |scene: &str| scratch.run(["access", scene, "--tree", "--list"]);
    assert_eq!(rows("t.yaml"), rows("s.yaml"));
    assert_snapshot!(scratch.run(["survey", "readings.survey", "--to", "tar-listing"]), @"
    drwxr-xr-x 7101/7200 - .
    drwxrwsr-x 7101/7200 - ./2026
    -rw-r----- 7102/7200 12 ./2026/apr.csv
    -rw-r----- 7101/7200 12 ./2026/mar.csv
    -rw------- 7102/7300 12 ./2026/may.csv
    drwxrwxrwt 0/0 - ./drop
    -rw-r--r-- 7102/7200 3 ./drop/other.csv
    drwx------ 0/0 - ./keys
    drwx------ 0/0 - ./keys/old
    -rw------- 0/0 32 ./keys/site.key
    lrwxrwxrwx 0/0 - ./today -> 2026/apr.csv
    --- status 0
    ");
    // mtree in, mtree out: the same.
    let again = scratch.run(["survey", "readings.survey", "--to", "mtree"]);
    std::fs::write(scratch.path().join("again.mtree"), again.replace("--- status 0", "")).expect("a listing");
    let listing = |source: &str| scratch.run(["survey", source, "--to", "jsonl"]);
    assert_eq!(listing("again.mtree"), listing("readings.mtree"));
    assert!(
        listing("readings.survey")
            .contains(r#""path":"./keys/site.key","kind":"file","uid":0,"gid":0,"mode":"0600","size":32"#)
    );
}

/// What is not a file is written to, never replaced, and a link stays one.
#[test]
fn devices_and_links_stay_what_they_are() {
    use std::os::unix::fs::FileTypeExt;
    let scratch = scratch();
    let written = scratch.run(["survey", "readings.mtree", "-o", "/dev/null"]);
    assert!(written.ends_with("--- status 0"), "{written}");
    assert!(std::fs::metadata("/dev/null").expect("a device").file_type().is_char_device());
    assert_snapshot!(scratch.run(["survey", "readings.mtree", "-o", "/dev/full"]), @"
    --- standard error
    error: /dev/full: No space left on device (os error 28)
    --- status 2
    ");
    std::os::unix::fs::symlink("real.survey", scratch.path().join("link.survey")).expect("a link");
    std::fs::write(scratch.path().join("real.survey"), "old").expect("a file");
    scratch.run(["survey", "readings.mtree", "-o", "link.survey"]);
    let link = std::fs::symlink_metadata(scratch.path().join("link.survey")).expect("a link");
    assert!(link.file_type().is_symlink());
    let real = std::fs::read(scratch.path().join("real.survey")).expect("a file");
    assert!(real.starts_with(b"mivask-survey 1\n"));
}

#[test]
fn other_formats_have_labels_where_there_are_any() {
    let scratch = scratch();
    let text = "750 7101 7200 directory /srv\n";
    std::fs::write(scratch.path().join("plain.txt"), text).expect("a file");
    let block = "  File: /srv\n  Size: 4096  Blocks: 8  IO Block: 4096 directory\nDevice: 8,1 Inode: 2 Links: 2\nAccess: \
                 (0750/drwxr-x---)  Uid: ( 7101/ gauge)   Gid: ( 7200/ tides)\nContext: a_u:a_r:a_t:s0:c1,c2\nAccess: 2026-11-02 10:00:00.0 \
                 +0000\nModify: 2026-11-02 10:00:00.0 +0000\nChange: 2026-11-02 10:00:00.0 +0000\n Birth: -\n";
    std::fs::write(scratch.path().join("labelled.txt"), block).expect("a file");
    let told = |name: &str| scratch.run(["survey", name, "--to", "jsonl"]);
    assert!(told("labelled.txt").contains(r#","label":"a_u:a_r:a_t:s0:c1,c2""#), "{}", told("labelled.txt"));
    assert!(!told("plain.txt").contains("label"), "{}", told("plain.txt"));
    scratch.run(["survey", "labelled.txt", "--to", "parquet", "-o", "labelled.parquet"]);
    let bytes = std::fs::read(scratch.path().join("labelled.parquet")).expect("a file");
    let has = |word: &[u8]| bytes.windows(word.len()).any(|part| part == word);
    assert!(has(b"label") && has(b"a_u:a_r:a_t:s0:c1,c2"));
}

#[test]
fn parquet_files_are_whole() {
    let scratch = scratch();
    scratch.run(["survey", "readings.mtree", "--to", "parquet", "-o", "readings.parquet"]);
    let bytes = std::fs::read(scratch.path().join("readings.parquet")).expect("a file");
    assert!(bytes.starts_with(b"PAR1") && bytes.ends_with(b"PAR1"));
}

/// For logs, which hold text.
#[test]
fn a_survey_comes_through_as_text() {
    let scratch = scratch();
    scratch.run(["survey", "readings.mtree", "-o", "own.survey"]);
    let text = scratch.run(["survey", "readings.mtree", "--to", "base64"]);
    let text = text.strip_suffix("--- status 0").unwrap();
    assert!(text.lines().all(|line| line.len() <= 76) && text.ends_with('\n'), "{text}");
    let bytes = BASE64_STANDARD.decode(text.replace('\n', "")).unwrap();
    assert_eq!(bytes, std::fs::read(scratch.path().join("own.survey")).unwrap());
}
