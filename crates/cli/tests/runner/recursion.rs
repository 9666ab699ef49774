//! Changes of many files, as the usual tools make them.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::BTreeMap;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, lchown, symlink};
use std::path::Path;
use std::process::Command;

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::Scratch;

/// A tree with links, a file of somebody else's, and a directory that passes its group on.
pub(crate) fn plant(top: &Path) {
    let _ = std::fs::remove_dir_all(top);
    std::fs::create_dir_all(top.join("d/e")).unwrap();
    std::fs::create_dir(top.join("x")).unwrap();
    for file in ["f", "d/g", "d/e/h"] {
        std::fs::write(top.join(file), "").unwrap();
        std::fs::set_permissions(top.join(file), std::fs::Permissions::from_mode(0o644)).unwrap();
    }
    symlink("f", top.join("l")).unwrap();
    symlink("d", top.join("ld")).unwrap();
    for path in ["", "d", "d/e", "d/e/h", "f", "x"] {
        chown(top.join(path), Some(1000), Some(1000)).unwrap();
    }
    for link in ["l", "ld"] {
        lchown(top.join(link), Some(1000), Some(1000)).unwrap();
    }
    for directory in ["", "x", "d/e"] {
        std::fs::set_permissions(top.join(directory), std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    std::fs::set_permissions(top.join("d"), std::fs::Permissions::from_mode(0o2775)).unwrap();
}

pub(crate) const PATHS: [&str; 9] = ["", "/d", "/d/e", "/d/e/h", "/d/g", "/f", "/l", "/ld", "/x"];

/// Owner, group and mode of everything that is left.
pub(crate) fn seen(top: &Path) -> BTreeMap<String, String> {
    let facts = PATHS.iter().filter_map(|path| {
        let meta = std::fs::symlink_metadata(format!("{}{path}", top.display())).ok()?;
        Some(((*path).to_owned(), format!("{}:{} {:04o}", meta.uid(), meta.gid(), meta.mode() & 0o7777)))
    });
    facts.collect()
}

/// The same as `rehearse` leaves it behind `act`.
fn predicted(scratch: &Scratch, act: &str) -> BTreeMap<String, String> {
    let looks: Vec<String> = PATHS.iter().map(|path| format!("root inspects-link /T{path}")).collect();
    let looks = looks.iter().map(String::as_str);
    let words: Vec<&str> =
        ["rehearse", "s.yaml", act].into_iter().chain(looks).chain(["--format", "json"]).collect();
    let answer = scratch.json(words);
    let steps = answer["steps"].as_array().unwrap().iter().skip(1);
    let facts = PATHS.iter().zip(steps).filter_map(|(path, step)| {
        let left = &step["imprint"];
        let owner = left["uid"].as_u64().zip(left["gid"].as_u64());
        let (uid, gid) = owner?;
        Some(((*path).to_owned(), format!("{uid}:{gid} {}", left["mode"].as_str()?)))
    });
    facts.collect()
}

fn scene() -> String {
    let mounts = json!([{ "volume": "t", "at": "/T" }]);
    json!({
        "scene": 1,
        "containers": [
            { "name": "keeper", "user": "1000:1000", "groups": [50], "mounts": mounts },
            { "name": "root", "user": "0:0", "mounts": mounts },
        ],
        "volumes": { "t": { "tree": "top/T" } },
    })
    .to_string()
}

#[test]
fn recursive_lines_leave_what_the_tools_leave() {
    let name = "recursive_lines_leave_what_the_tools_leave";
    let runs = |words: &[&str]| Command::new(words[0]).args(&words[1..]).output().is_ok();
    if !is_root() || !runs(&["setpriv", "--version"]) {
        println!("skipped: {name}: it takes root and setpriv");
        return;
    }
    let scratch = Scratch::with("s.yaml", &scene());
    std::fs::set_permissions(scratch.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let above = scratch.path().join("top");
    std::fs::create_dir(&above).unwrap();
    let top = above.join("T");
    let cases: [(&str, &[&str], &str); 12] = [
        ("keeper sets-group 50 on /T/**", &["chgrp", "-R", "50"], "/"),
        ("keeper sets-owner :50 on /T/**", &["chown", "-R", ":50"], "/"),
        ("root sets-owner 5:6 on /T/**", &["chown", "-R", "5:6"], "/"),
        ("for keeper sets-owner 5:6 on /T/**", &["chown", "-R", "5:6"], "/"),
        ("root sets-owner 5:6 on /T/ld/**", &["chown", "-R", "5:6"], "/ld"),
        ("keeper sets-mode u-x on /T/**", &["chmod", "-R", "u-x"], "/"),
        ("keeper sets-mode a-r on /T/**", &["chmod", "-R", "a-r"], "/"),
        ("keeper sets-mode g-w,o-rx on /T/**", &["chmod", "-R", "g-w,o-rx"], "/"),
        ("keeper sets-mode a-w,a+X on /T/d/**", &["chmod", "-R", "a-w,a+X"], "/d"),
        ("keeper sets-mode g+s on /T/d/**", &["chmod", "-R", "g+s"], "/d"),
        ("root sets-mode 00750 on /T/**", &["chmod", "-R", "00750"], "/"),
        ("keeper deletes /T/d/**", &["rm", "-rf"], "/d"),
    ];
    let mut compared = 0;
    for (tool, prefix) in [("coreutils", None), ("busybox", Some("busybox"))] {
        if !runs(&[prefix.unwrap_or("chmod"), "--help"]) {
            println!("skipped: {name} with {tool}: it is not installed");
            continue;
        }
        for (act, words, at) in &cases {
            plant(&top);
            let wanted = predicted(&scratch, &act.replace(" 00750 ", " 0750 "));
            let path = format!("{}{}", top.display(), at.trim_end_matches('/'));
            let mut all: Vec<&str> = Vec::new();
            if act.starts_with("keeper") {
                all.extend(["setpriv", "--reuid", "1000", "--regid", "1000", "--groups", "50"]);
            }
            all.extend(prefix);
            all.extend(*words);
            all.push(&path);
            Command::new(all[0]).args(&all[1..]).output().unwrap();
            assert_eq!(seen(&top), wanted, "{tool}: {act}");
            compared += 1;
        }
    }
    println!("{compared} recursive changes agree with the tools");
}

pub(crate) fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|meta| meta.uid() == 0)
}

fn comb() -> Scratch {
    let tree = json!([
        { "path": "/", "kind": "dir", "owner": "1000:1000", "mode": "0755" },
        { "path": "/d", "kind": "dir", "owner": "1000:1000", "mode": "2775" },
        { "path": "/d/g", "owner": "0:0", "mode": "0644" },
        { "path": "/f", "owner": "1000:1000", "mode": "0644" },
        { "path": "/l", "kind": "link", "target": "f", "owner": "1000:1000" },
    ]);
    let scene = json!({
        "scene": 1,
        "containers": [{ "name": "keeper", "user": "1000:1000", "mounts": [{ "volume": "t", "at": "/T" }] }],
        "volumes": { "t": { "tree": tree } },
    });
    Scratch::with("s.yaml", &scene.to_string())
}

#[test]
fn a_line_about_many_files_says_how_many_and_which_not() {
    let words = [
        "rehearse",
        "s.yaml",
        "keeper sets-mode g-w,o-rx on /T/** -> allowed",
        "keeper sets-mode 0750 on /T/d",
        "keeper sets-mode u-x on /T/**",
        "for keeper sets-mode u+x on /T",
        "keeper reads /T/* -> allowed",
    ];
    assert_snapshot!(comb().run(words), @"
    in part        keeper sets-mode g-w,o-rx on /T/**  (1 not as expected: allowed)
                   3 done, 1 refused
                   EPERM sets-mode /T/d/g: only the owner changes the mode, and keeper is not it
    allowed        keeper sets-mode 0750 on /T/d
                   leaves 1000:1000 0750
    in part        keeper sets-mode u-x on /T/**
                   1 done, 3 refused
                   EACCES sets-mode /T/d: /T: drw-r-x--- 0650 1000:1000: the owner (keeper) has rw-, needed --x
                   EACCES lists /T/d: /T: drw-r-x--- 0650 1000:1000: the owner (keeper) has rw-, needed --x
                   EACCES sets-mode /T/f: /T: drw-r-x--- 0650 1000:1000: the owner (keeper) has rw-, needed --x
    changed        for keeper sets-mode u+x on /T
    allowed        keeper reads /T/*  (as expected)
                   2 done

    /T  as keeper sees it  (volume t)
           before                 after                  name
      now  drwxr-xr-x  1000:1000  drwxr-x---  1000:1000  .
      now  drwxrwsr-x  1000:1000  drwxr-x---  1000:1000  d
      now  -rw-r--r--  1000:1000  -rw-r-----  1000:1000  f
           lrwxrwxrwx  1000:1000  same                   l -> f

    Assumed
      the mode is set by the system call: chmod of coreutils keeps the set-group-ID bit of a directory unless five digits (00755) or g-s are written, busybox takes it
      the root of image of container keeper is 0:0 0755
    --- status 1
    ");
    assert_snapshot!(comb().run(["rehearse", "s.yaml", "keeper reads /T/none*"]), @"
    --- standard error
    error: `keeper reads /T/none*` cannot be done: the pattern matches nothing that is listed
     --> act 1:1:1
      |
    1 | keeper reads /T/none*
      | ^^^^^^^^^^^^^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_change_below_a_directory_is_one_of_the_directory_too() {
    let words = [
        "compare",
        "s.yaml",
        "--change",
        "for keeper sets-owner 7:7 on /T/d/**",
        "--path",
        "/T",
        "--format",
        "text",
    ];
    assert_snapshot!(comb().run(words), @"
    Files
      path    before                     after                seen by
      /T/d    drwxrwsr-x 2775 1000:1000  drwxrwsr-x 2775 7:7  keeper
      /T/d/g  -rw-r--r-- 0644 0:0        -rw-r--r-- 0644 7:7  keeper

    Closed
      actor   what    before  after   paths
      keeper  create  yes     EACCES  /T/d
      keeper  delete  yes     EACCES  /T/d/g
    --- status 0
    ");
}
