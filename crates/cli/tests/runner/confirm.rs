//! `confirm`: the program beside the running kernel.

#![expect(clippy::print_stdout, reason = "CI counts the lines that say `skipped`")]

use std::process::Command;

use insta::assert_snapshot;
use mivask_kernel::unavailable;

use crate::scratch::{SCENE, Scratch, TIDES, pod};

/// The scene of the first example on a host of this machine's settings.
fn tides() -> Scratch {
    Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", SCENE)
}

/// Says why nothing can be tried here, if so.
fn skipped(test: &str) -> bool {
    let reason = unavailable();
    if let Some(reason) = &reason {
        println!("skipped: {test}: {reason}");
    }
    reason.is_some()
}

#[test]
fn prediction_and_kernel_stand_side_by_side() {
    if skipped("prediction_and_kernel_stand_side_by_side") {
        return;
    }
    let words = [
        "confirm",
        "s.yaml",
        "gauge creates /data/app/x",
        "gauge reads /closed/key",
        "gauge runs /bin/tide",
        "gauge makes-directory /open/x",
        "gauge reads /proc/version",
    ];
    assert_snapshot!(tides().run(words), @"
    same         gauge creates /data/app/x  allowed, leaves 7101:7300 0644
    same         gauge reads /closed/key  denied EACCES
    same         gauge runs /bin/tide  allowed, runs as 0:7200 with CHOWN DAC_OVERRIDE FOWNER FSETID MKNOD SETFCAP and 8 more
    same         gauge makes-directory /open/x  allowed, leaves 7101:7200 0755
    not checked  gauge reads /proc/version
                 the prediction depends on what proc shows

    no difference: 4 the same, 0 different, 1 not checked (built on tmpfs)
    --- status 0
    ");
}

#[test]
fn the_kernels_side_is_in_the_document() {
    if skipped("the_kernels_side_is_in_the_document") {
        return;
    }
    let scratch = tides();
    let document = scratch.json(["confirm", "s.yaml", "gauge creates /data/app/x", "--format", "json"]);
    let act = &document["acts"][0];
    assert_eq!(act["outcome"], "allowed");
    assert_eq!(act["kernel"]["result"], "same");
    assert_eq!(act["kernel"]["imprint"], act["imprint"]);
    let document = scratch.json(["confirm", "--random", "40", "--filesystem", "tmpfs", "--format", "json"]);
    assert_eq!((document["checked"].as_u64(), document["seed"].as_u64()), (Some(40), Some(1)));
    assert_eq!(document["difference"], serde_json::Value::Null);
}

#[test]
fn random_acts_leave_nothing_behind() {
    if skipped("random_acts_leave_nothing_behind") {
        return;
    }
    let scratch = tides();
    let words =
        ["confirm", "--random", "400", "--seed", "9", "--filesystem", "tmpfs", "--filesystem", "overlay"];
    let printed = scratch.run(words);
    assert!(
        printed.starts_with("no difference: 400 random acts held against the kernel (seed 9)"),
        "{printed}"
    );
    assert!(printed.ends_with("--- status 0"), "{printed}");
    assert_eq!(scratch.run(words), printed, "the same seed gives the same acts");
    let files = std::fs::read_dir(scratch.path()).map_or(0, Iterator::count);
    assert_eq!(files, 2, "only the scene and its manifest");

    // In a mount namespace of its own nothing is counted that others mount meanwhile.
    let script = "wc -l </proc/self/mounts; \"$0\" \"$@\" >/dev/null; wc -l </proc/self/mounts";
    let counted = Command::new("unshare")
        .args(["--mount", "--propagation", "private", "sh", "-c", script, env!("CARGO_BIN_EXE_mivask")])
        .args(words)
        .current_dir(scratch.path())
        .output()
        .unwrap();
    let counted = String::from_utf8(counted.stdout).unwrap();
    let mut lines = counted.lines();
    let (before, after) = (lines.next().unwrap(), lines.next().unwrap());
    assert_eq!(before, after, "mounts before and after");
}

#[test]
fn what_makes_no_sense_is_refused() {
    let scratch = tides();
    assert_snapshot!(scratch.run(["confirm", "s.yaml", "gauge reads /open", "--filesystem", "floppy"]), @"
    --- standard error
    error: nothing can be built on `floppy`: there is tmpfs, ext4, xfs, btrfs, and `told` for what the scene says
    --- status 2
    ");
    assert_snapshot!(scratch.run(["confirm", "--random", "10", "--filesystem", "floppy"]), @"
    --- standard error
    error: random acts cannot be tried on `floppy`: there is tmpfs, ext4, xfs, btrfs, overlay, erofs, squashfs
    --- status 2
    ");
    assert_snapshot!(scratch.run(["confirm", "s.yaml"]), @"
    --- standard error
    error: no act was given: write one, such as 'gauge writes /data/level.csv', or name a file with --acts
    --- status 2
    ");
    assert_snapshot!(scratch.run(["confirm", "s.yaml", "--random", "10"]), @"
    --- standard error
    error: the argument '[INPUT]' cannot be used with '--random <N>'

    Usage: mivask confirm <INPUT> [ACT]...

    For more information, try '--help'.
    --- status 2
    ");
}

/// Without root the part that a user namespace allows is tried, and the rest says why not.
#[test]
fn without_root_a_part_is_tried() {
    use std::os::unix::fs::PermissionsExt;
    use std::os::unix::process::CommandExt;

    if skipped("without_root_a_part_is_tried") {
        return;
    }
    let scene = "scene: 1\nvolumes:\n  v: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: \
                 /f, owner: '0:0', mode: 0400 }] }\ncontainers:\n  - &r { name: plain, user: '0:0', capabilities: { drop: [ALL] }, \
                 mounts: [{ volume: v, at: / }] }\n  - { <<: *r, name: mighty, capabilities: {} }\n";
    let scratch = Scratch::with("s.yaml", scene);
    let program = scratch.path().join("mivask");
    std::fs::copy(env!("CARGO_BIN_EXE_mivask"), &program).expect("the program is copied");
    for (path, mode) in [(scratch.path(), 0o755), (&program, 0o755)] {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).expect("the mode is set");
    }
    let acts = ["plain writes /f", "plain creates /x", "mighty writes /f"];
    let output = Command::new(&program)
        .args(["confirm", "s.yaml"])
        .args(acts)
        .current_dir(scratch.path())
        .uid(12_345)
        .gid(12_345)
        .output()
        .expect("the program runs");
    let (printed, said) =
        (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr).into_owned());
    if said.contains("unshare of the user namespace") {
        println!("skipped: without_root_a_part_is_tried: this machine gives nobody but root user namespaces");
        return;
    }
    assert!(said.contains("note: without root, it is rebuilt in a user namespace"), "{said}");
    assert_snapshot!(printed, @"
    same         plain writes /f  denied EACCES
    same         plain creates /x  allowed, leaves 0:0 0644
    not checked  mighty writes /f
                 without root, no actor with capabilities on the host can be rebuilt

    no difference: 2 the same, 0 different, 1 not checked (built on tmpfs)
    ");
}

/// A program that confirm runs as root comes from a fixed place, and a folder for temporary files may be anything.
#[test]
fn the_callers_environment_decides_nothing() {
    if skipped("the_callers_environment_decides_nothing") {
        return;
    }
    let scratch = Scratch::with("a,b/x", "")
        .and("world", "mine")
        .and("bin/mkfs.ext4", "#!/bin/sh\ntouch /tmp/mivask-was-run\n");
    let tool = scratch.path().join("bin/mkfs.ext4");
    std::fs::set_permissions(tool, std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("a mode");
    let _ = std::fs::remove_file("/tmp/mivask-was-run");
    for folder in [".", "a,b", "/proc", "/", "none"] {
        let output = Command::new(env!("CARGO_BIN_EXE_mivask"))
            .args(["confirm", "--random", "40", "--filesystem", "tmpfs", "--filesystem", "ext4"])
            .current_dir(scratch.path())
            .env("TMPDIR", folder)
            .env("PATH", format!("{}:/usr/bin:/bin", scratch.path().join("bin").display()))
            .output()
            .expect("the program runs");
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        // A machine may lack the file system or its tools, and says so; then nothing is checked.
        assert!(matches!(output.status.code(), Some(0 | 2 | 3)), "{folder}: {said}");
        assert!(!std::path::Path::new("/tmp/mivask-was-run").exists(), "{folder}");
        let mut left: Vec<_> = std::fs::read_dir(scratch.path())
            .expect("a folder")
            .map(|entry| entry.expect("an entry").file_name())
            .collect();
        left.sort();
        assert_eq!(left, ["a,b", "bin", "world"], "{folder}");
        assert_eq!(std::fs::read_to_string(scratch.path().join("world")).expect("a file"), "mine");
    }
}

/// Otherwise a step of a CI could not tell it from "no difference".
#[test]
fn nothing_checked_has_a_status_of_its_own() {
    if skipped("nothing_checked_has_a_status_of_its_own") {
        return;
    }
    let transcript = tides().run(["confirm", "s.yaml", "gauge reads /proc/version"]);
    assert!(transcript.contains("1 not checked") && transcript.ends_with("--- status 3"), "{transcript}");
    let some = tides().run(["confirm", "s.yaml", "gauge reads /proc/version", "gauge reads /closed/key"]);
    assert!(some.ends_with("--- status 0"), "{some}");
}
