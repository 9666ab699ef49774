//! Sources on the command line, the host's mounts and running processes.

use insta::assert_snapshot;

use crate::disks::{POD, scratch};
use crate::scratch::Scratch;

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

/// Names without numbers: one name is one id, two names are two.
#[test]
fn a_listing_with_names_and_no_account_files() {
    let listing = ".:\ntotal 8\n\
        drwx------ 2 keeper bees 10 Nov 30 03:09 .\n\
        -rw------- 1 keeper bees 10 Nov 30 03:09 mine\n\
        -rw------- 1 scribe bees 10 Nov 30 03:09 other\n\
        -rw-rw---- 1 root bees 10 Nov 30 03:09 shared\n";
    let scene = "scene: 1\ncontainers: [{ name: a, image: x, user: '5:5', mounts: [{ volume: v, at: /v }] }]\n\
        images: { x: { tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\nvolumes: { v: { tree: ls.txt } }\n";
    let scratch = Scratch::with("s.yaml", scene).and("ls.txt", listing);
    let said = |act: &str| scratch.run(["ask", "-q", "s.yaml", act, "--all-assumptions"]);
    let mine = said("a reads /v/mine");
    assert!(mine.contains("allowed        when a is the user keeper there"), "{mine}");
    assert!(mine.contains("denied EACCES  when a is not the user keeper there"), "{mine}");
    // Whoever gets past the directory is keeper, and so not scribe.
    let other = said("a reads /v/other");
    assert!(other.starts_with("denied EACCES") && other.contains("different ids"), "{other}");
    let shared = said("a writes /v/shared");
    assert!(
        shared.contains(
            "denied EACCES  when a is not the user keeper there, or a is not in the group bees there"
        ) && shared.contains("allowed        otherwise"),
        "{shared}"
    );
    // With the account files beside it, it is told.
    let told = scratch
        .and("passwd", "keeper:x:5:5::/:/bin/sh\nscribe:x:6:5::/:/bin/sh\n")
        .and("group", "bees:x:5:\n");
    assert!(told.run(["ask", "-q", "s.yaml", "a reads /v/mine"]).starts_with("allowed"));
}
