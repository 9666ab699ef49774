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
const POD: &str = "\
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

fn scratch() -> Scratch {
    Scratch::with("s.yaml", SCENE).and("readings.mtree", READINGS)
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
      mode                  owner  read      write     create    delete    list      enter     run       path
      drwxrwsr-x 2775   7101:7200  -         -         yes       ENOTEMPTY yes       yes       -         /data/2026
      -rw-r----- 0640   7102:7200  yes       EACCES    -         yes       -         -         EACCES    /data/2026/apr.csv
      -rw-r----- 0640   7101:7200  yes       yes       -         yes       -         -         EACCES    /data/2026/mar.csv
      -rw------- 0600   7102:7300  EACCES    EACCES    -         yes       -         -         EACCES    /data/2026/may.csv
      drwxrwxrwt 1777         0:0  -         -         yes       ENOTEMPTY yes       yes       -         /data/drop
      -rw-r--r-- 0644   7102:7200  yes       EACCES    -         EPERM     -         -         EACCES    /data/drop/other.csv
      drwx------ 0700         0:0  -         -         EACCES    ENOTEMPTY EACCES    EACCES    -         /data/keys
      drwx------ 0700         0:0  -         -         EACCES    EACCES    EACCES    EACCES    -         /data/keys/old
      -rw------- 0600         0:0  EACCES    EACCES    -         EACCES    -         -         EACCES    /data/keys/site.key
      lrwxrwxrwx 0777         0:0  yes       EACCES    -         yes       -         -         -         /data/today
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
      mode                  owner  read      write     create    delete    list      enter     run       path
      -rw-r----- 0640   7102:7200  yes       EACCES    -         yes       -         -         EACCES    /data/2026/apr.csv
      -rw------- 0600   7102:7300  EACCES    EACCES    -         yes       -         -         EACCES    /data/2026/may.csv
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
          "shares": [
            {
              "act": "read",
              "outcome": "allowed",
              "errno": null,
              "check": "group-bits",
              "above": false,
              "entries": 1,
              "directories": 1
            },
            {
              "act": "write",
              "outcome": "denied",
              "errno": "EACCES",
              "check": "group-bits",
              "above": false,
              "entries": 1,
              "directories": 1
            },
            {
              "act": "delete",
              "outcome": "denied",
              "errno": "EPERM",
              "check": "sticky",
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
          ]
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
          "mode": "0644",
          "missing": false,
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
          }
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
fn parquet_files_are_whole() {
    let scratch = scratch();
    scratch.run(["survey", "readings.mtree", "--to", "parquet", "-o", "readings.parquet"]);
    let bytes = std::fs::read(scratch.path().join("readings.parquet")).expect("a file");
    assert!(bytes.starts_with(b"PAR1") && bytes.ends_with(b"PAR1"));
}

#[test]
fn sources_are_named_on_the_command_line() {
    let scratch = scratch()
        .and("pod.yaml", POD)
        .and("www.find", "755 0 0 d /srv/tides -> \n640 0 7200 f /srv/tides/index.html -> \n");
    let named = [
        "access",
        "pod.yaml",
        "/data/2026/apr.csv",
        "/www/index.html",
        "--disk",
        "readings=readings.mtree",
        "--disk",
        "host:/srv/tides=www.find",
    ];
    assert_snapshot!(scratch.run(named), @"
    gauge
      path                owner      mode             read  write   create  delete  list  enter  run
      /data/2026/apr.csv  7102:7200  -rw-r----- 0640  yes   EACCES  -       yes     -     -      EACCES
      /www/index.html     0:7200     -rw-r----- 0640  yes   EACCES  -       EACCES  -     -      EACCES

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "pod.yaml", "--disk", "reedings=readings.mtree"]), @"
    --- standard error
    error: nothing here has the volume reedings: it has readings, www
      help: did you mean `readings`?
    --- status 2
    ");
    assert_snapshot!(scratch.run(["access", "pod.yaml", "--image", "tides/gauge:3=www.find", "--disk", "readings"]), @"
    --- standard error
    error: invalid value 'readings' for '--disk <NAME=SOURCE>': write NAME=SOURCE, such as readings=readings.survey

    For more information, try '--help'.
    --- status 2
    ");
}

#[test]
fn an_actor_that_may_be_several_is_asked_about_as_each() {
    let scratch = scratch();
    // The group depends on the image, which is not described: each possibility is asked about.
    std::fs::write(scratch.path().join("open.yaml"), POD.replace(", runAsGroup: 7200", ""))
        .expect("a manifest");
    let open = ["access", "open.yaml", "/data/drop", "--tree", "--disk", "readings=readings.mtree"];
    assert_snapshot!(scratch.run(open), @"
    gauge, if uid 7101 has no account, so its group is 0: 1 entry below /data/drop
      act     outcome        entries  directories  decided by
      read    allowed              1            1  the bits of others
      write   denied EACCES        1            1  the bits of others
      delete  denied EPERM         1            1  the sticky bit of the directory

    Assumed
      no file has an ACL: mtree does not show that
      no file is immutable or append-only: mtree does not show that
      the root of image tides/gauge:3 is 0:0 0755

    gauge, if uid 7101 has an account with a primary group of its own: 1 entry below /data/drop
      act     outcome        entries  directories  decided by
      read    allowed              1            1  the bits of others
      write   denied EACCES        1            1  the bits of others
      delete  denied EPERM         1            1  the sticky bit of the directory

    Assumed
      no file has an ACL: mtree does not show that
      no file is immutable or append-only: mtree does not show that
      the root of image tides/gauge:3 is 0:0 0755
    --- status 0
    ");
}

/// A mistake in a source is shown at its own line, or where the scene names it.
#[test]
fn mistakes_in_sources_have_a_place() {
    let broken =
        scratch().and("readings.mtree", "#mtree\n. type=dir uid=0 gid=0 mode=0755\n./a type=swamp\n");
    assert_snapshot!(broken.run(["access", "s.yaml"]), @"
    --- standard error
    error: type=swamp does not read
     --> readings.mtree:3:5
      |
    3 | ./a type=swamp
      |     ^^^^^^^^^^
      |
      = help: an entry is NAME KEYWORD=VALUE ..., such as `level.csv type=file uid=7101 gid=7200 mode=0640`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(broken.run(["survey", "readings.mtree", "-o", "x.survey"]), @"
    --- standard error
    error: readings.mtree:3:5: type=swamp does not read
      3 | ./a type=swamp
      help: an entry is NAME KEYWORD=VALUE ..., such as `level.csv type=file uid=7101 gid=7200 mode=0640`
    --- status 2
    ");
    assert!(!broken.path().join("x.survey").exists(), "nothing is left of a survey that failed");
    let none = scratch().and("readings.mtree", "hello\n");
    assert_snapshot!(none.run(["access", "s.yaml"]), @"
    --- standard error
    error: readings.mtree: this is neither a directory nor a file that tells of one
     --> s.yaml:7:48
      |
    7 | volumes: { readings: { filesystem: ext4, tree: readings.mtree } }
      |                                                ^^^^^^^^^^^^^^
      |
      = help: name a directory, a survey, a tar archive, an image's layers, or the output of mtree, getfacl -R, ls -lanR, find -printf or stat (docs/formats/sources.md)

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    let cut = scratch();
    cut.run(["survey", "readings.mtree", "-o", "readings.survey"]);
    let bytes = std::fs::read(cut.path().join("readings.survey")).expect("a survey");
    std::fs::write(cut.path().join("cut.survey"), &bytes[..bytes.len() - 20]).expect("a file");
    assert_snapshot!(cut.run(["survey", "cut.survey", "--to", "jsonl"]), @"
    --- standard error
    error: cut.survey: the survey ends too early: it was cut
      help: take the survey again, or copy it again from where it is whole
    --- status 2
    ");
    assert_snapshot!(cut.run(["survey", "missing", "--to", "jsonl"]), @"
    --- standard error
    error: missing: cannot be read: No such file or directory (os error 2)
    --- status 2
    ");
}

/// Binds are on mounts of the host, with their flags and their file systems.
#[test]
fn mounts_of_the_host_count() {
    let mountinfo = "\
22 1 8:1 / / rw,relatime - ext4 /dev/root rw
30 22 8:2 / /srv rw,noexec,nosuid - ext4 /dev/data rw
31 30 8:3 / /srv/tides/usb rw,nodev - vfat /dev/usb rw,uid=7101,gid=7200,fmask=0027,dmask=0027
32 22 8:4 / /mnt/ro ro - xfs /dev/ro rw
";
    let compose = "services:\n  gauge:\n    image: x\n    user: '7101:7200'\n    volumes: ['/srv/tides:/data', '/srv/tides:/kept:ro', '/mnt/ro:/ro']\n";
    let scene = "scene: 1\nworkloads: [compose.yaml]\nhost: { tree: host.find, mounts: mountinfo }\n";
    let listing = "755 0 0 d / -> \n755 0 0 d /srv -> \n755 7101 7200 d /srv/tides -> \n755 7101 7200 f /srv/tides/run.sh -> \n\
        755 0 0 d /srv/tides/usb -> \n755 0 0 f /srv/tides/usb/log -> \n755 0 0 d /mnt -> \n777 0 0 d /mnt/ro -> \n";
    let scratch = Scratch::with("s.yaml", scene)
        .and("compose.yaml", compose)
        .and("mountinfo", mountinfo)
        .and("host.find", listing);
    assert_snapshot!(scratch.run(["mounts", "s.yaml"]), @"
    gauge
      at         what                        flags             root            before  inodes changed
      /          image x (overlay)           rw                0:0 0755
      /data      host /srv/tides (ext4)      rw,noexec,nosuid  7101:7200 0755
      /data/usb  host /srv/tides/usb (vfat)  rw,nodev          7101:7200 0750
      /kept      host /srv/tides (ext4)      ro                7101:7200 0755
      /kept/usb  host /srv/tides/usb (vfat)  rw,nodev          7101:7200 0750
      /ro        host /mnt/ro (xfs)          ro                0:0 0777
      /data: the host's ext4 mount at /srv is rw,noexec,nosuid (mountinfo:2)
      /kept: the host's ext4 mount at /srv is rw,noexec,nosuid (mountinfo:2)
      /ro: the host's xfs mount at /mnt/ro is ro (mountinfo:4)
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "s.yaml", "/data/run.sh", "/kept/run.sh", "/kept/usb/log", "/ro"]), @"
    gauge
      path           owner      mode             read  write  create  delete  list  enter  run
      /data/run.sh   7101:7200  -rwxr-xr-x 0755  yes   yes    -       yes     -     -      EACCES
      /kept/run.sh   7101:7200  -rwxr-xr-x 0755  yes   EROFS  -       EROFS   -     -      yes
      /kept/usb/log  7101:7200  -rwxr-x--- 0750  yes   yes    -       yes     -     -      yes
      /ro            0:0        drwxrwxrwx 0777  -     -      EROFS   EACCES  yes   yes    -

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
}

/// A listing of one directory is not the whole host: nothing would be found where it is.
#[test]
fn a_listing_of_a_part_is_not_taken_for_the_host_in_silence() {
    let listing = "/srv/tides:\ntotal 0\ndrwxr-xr-x 2 0 7200 4096 Nov  2 10:00 .\ndrwxr-xr-x 9 0 0 4096 Nov  2 10:00 ..\n";
    let service = "services: { gauge: { image: x, user: '7101', volumes: ['/srv/tides:/data'] } }\n";
    let scratch = Scratch::with("host.ls", listing)
        .and("compose.yaml", service)
        .and("whole.yaml", "scene: 1\nworkloads: [compose.yaml]\nhost: { tree: host.ls }\n")
        .and("part.yaml", "scene: 1\nworkloads: [compose.yaml]\nhost: { trees: { /srv/tides: host.ls } }\n");
    let warned = "warning: host.ls lists /srv/tides, and is taken for the whole host: nothing will be found at /srv/tides";
    for (arguments, expected) in [
        (["mounts", "whole.yaml", "--actor", "gauge"], true),
        (["mounts", "part.yaml", "--actor", "gauge"], false),
        (["mounts", "compose.yaml", "--disk", "host=host.ls"], true),
        (["mounts", "compose.yaml", "--disk", "host:/srv/tides=host.ls"], false),
    ] {
        let answer = scratch.run(arguments);
        assert_eq!(answer.contains(warned), expected, "{arguments:?} {answer}");
        assert_eq!(answer.contains("0:7200 0755"), !expected, "{arguments:?} {answer}");
    }
}

#[test]
fn a_running_process_is_an_actor() {
    let scratch = Scratch::with("file", "x");
    std::fs::set_permissions(
        scratch.path().join("file"),
        std::os::unix::fs::PermissionsExt::from_mode(0o600),
    )
    .expect("a mode");
    let own = format!("process:{}", std::process::id());
    let path = scratch.path().join("file").display().to_string();
    let answer =
        scratch.run(["ask", &own, &format!("process reads {path}"), &format!("process lists {path}")]);
    assert!(answer.starts_with(&format!("allowed        process reads {path}\n")), "{answer}");
    assert!(answer.contains("denied ENOTDIR process lists"), "{answer}");
    assert!(answer.ends_with("--- status 0"), "{answer}");
    assert_snapshot!(scratch.run(["identity", "process:4194304"]), @"
    --- standard error
    error: process:4194304: there is no such process
      help: name a process of this machine by its number
    --- status 2
    ");
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
