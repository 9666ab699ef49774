//! The demo writes itself and holds what it promises.

use insta::assert_snapshot;

use crate::scratch::Scratch;

#[test]
fn the_demo_walks_through_its_own_files() {
    let scratch = Scratch::with("elsewhere", "");
    let walk = scratch.run(["demo", "tides"]);
    assert!(walk.ends_with("--- status 0"), "{walk}");
    assert!(!walk.contains("--- standard error"), "{walk}");
    for command in [
        "identity", "mounts", "access", "ask", "why", "imprint", "rehearse", "handoff", "admits", "exposure",
        "compare", "remedy", "uphold",
    ] {
        assert!(walk.contains(&format!("$ mivask {command} tides.scene.yaml")), "{command}");
    }
    let written = scratch.path().join("tides/station.yaml");
    assert_eq!(std::fs::read_to_string(written).unwrap(), include_str!("../../../../demo/station.yaml"));
}

#[test]
fn the_demo_holds_its_own_expectations() {
    let scratch = Scratch::with("elsewhere", "");
    scratch.run(["demo", "tides"]);
    assert_snapshot!(scratch.run(["ask", "tides/tides.scene.yaml", "--acts", "tides/station.acts"]), @"
    allowed        gauge writes /data/level.csv  (as expected)
    allowed        gauge creates /data/2026.csv  (as expected)
                   leaves 7101:7300 0644
    denied EACCES  gauge reads /data/calibration.toml  (as expected)
                   /data/calibration.toml: -rw------- 0600 0:0: other has ---, needed r--
    denied ENOENT  gauge creates /var/lib/gauge.lock  (as expected)
                   /var: no such entry
    denied EROFS   gauge creates /tmp/x  (as expected)
                   /tmp/x: the mount is read-only
    allowed        press reads /data/level.csv  (as expected)
    allowed        press lists /data/archive  (as expected)
    denied EACCES  press reads /data/archive/2025.csv  (as expected)
                   /data/archive: drwxr-S--- 2740 0:7300: group 7300 has r--, needed --x
    denied EROFS   press creates /data/draft.svg  (as expected)
                   /data/draft.svg: the mount is read-only
    denied EACCES  press creates /var/cache/press/fonts  (as expected)
                   /var/cache/press: drwxrwx--- 0770 0:7220: other has ---, needed --x
    allowed        press creates /charts/today.svg  (as expected)
                   leaves 7210:7300 0644
    allowed        herald reads /charts  (as expected)
    denied EACCES  herald creates /publish/today.svg  (as expected)
                   /publish: drwxr-xr-x 0755 0:0: group 0 has r-x, needed -wx

    Assumed
      a directory that the tree does not list is 0:0 0755
    --- standard error
    warning: the group `charts` of the image's USER press:charts is not passed on to press
     --> tides/tides.scene.yaml:43:11 images.tides/press:1.user
      = help: set runAsGroup

    warning: herald (7500) has no account in its image, so its group is 0, root's
     --> tides/station.yaml:43:20 securityContext.runAsUser
      = help: name a group beside the user, or give the image an account

    warning: fsGroup 7300 is not applied to host path /srv/tides/www
     --> tides/station.yaml:46:19 volumeMounts.name
      = help: change its group on the host, or add that group to supplementalGroups

    --- status 0
    ");
}

#[test]
fn a_folder_that_holds_anything_is_left_alone() {
    let scratch = Scratch::with("full/precious", "keep");
    assert_snapshot!(scratch.run(["demo", "full"]), @"
    --- standard error
    error: full is not empty: name a folder that is new or empty
    --- status 2
    ");
    assert_eq!(std::fs::read_dir(scratch.path().join("full")).unwrap().count(), 1);
}

/// The Compose demo meets its traps: what the engine copies, what it does not, and what another one does.
#[test]
fn the_quay_shows_copies_and_binds() {
    let scratch = Scratch::with("elsewhere", "");
    let walk = scratch.run(["demo", "--scene", "quay", "quay"]);
    for wanted in [
        "copied from the image's /var/lib/ledger",
        "denied EACCES  scale creates /var/lib/ledger/2026.db",
        "chown 7410 /srv/quay/scale",
        "create  denied EACCES  allowed",
        "5 expectations in 1 input: 5 hold",
    ] {
        assert!(walk.contains(wanted), "{wanted}: {walk}");
    }
    assert!(walk.ends_with("--- status 0") && !walk.contains("--- standard error"), "{walk}");
}

/// The audit finds what was put there to be found, and nothing else.
#[test]
fn the_audit_finds_what_was_hidden_in_a_hundred_thousand_files() {
    let scratch = Scratch::with("elsewhere", "");
    let walk = scratch.run(["demo", "--scene", "archive", "a"]);
    for wanted in [
        "100,131 inodes, 131 of them directories",
        "/archive/2019/07  0:0    drwx------ 0700  denied EACCES            833",
        "/archive/2023/12/station.key",
        "world-writable /archive/2024/03",
        "holds     press never writes /archive/**",
        "and 2 more of 120 that were looked at",
        "and 859 more of 100,011 that were looked at",
        "5 expectations in 1 input: 1 holds, 4 broken",
    ] {
        assert!(walk.contains(wanted), "{wanted}: {walk}");
    }
    assert!(!walk.contains("/archive/2022/01/station.key  "), "a key that only the group reads");
}
