//! The commands that make what was tried, and the way back, run by a shell on real files.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::BTreeMap;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::process::Command;

use insta::assert_snapshot;
use serde_json::json;

use crate::recursion::{is_root, plant};
use crate::scratch::Scratch;

/// Kind, owner, group and mode of everything below.
fn all(top: &Path) -> BTreeMap<String, String> {
    let mut facts = BTreeMap::new();
    let mut pending = vec![top.to_path_buf()];
    while let Some(path) = pending.pop() {
        let meta = std::fs::symlink_metadata(&path).unwrap();
        let kind = meta.mode() & 0o170_000;
        let mode = if meta.is_symlink() { 0 } else { meta.mode() & 0o7777 };
        let name = path.strip_prefix(top).unwrap().display().to_string();
        facts.insert(name, format!("{kind:o} {}:{} {mode:04o}", meta.uid(), meta.gid()));
        if meta.is_dir() {
            pending.extend(std::fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        }
    }
    facts
}

/// A machine with the tree at its real place, and two people.
fn machine() -> (Scratch, String) {
    let scratch = Scratch::with("empty", "");
    std::fs::set_permissions(scratch.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let top = scratch.path().join("top");
    std::fs::create_dir(&top).unwrap();
    let top = top.canonicalize().unwrap().join("T");
    plant(&top);
    let top = top.display().to_string();
    let people =
        json!([{ "name": "keeper", "user": "1000:1000", "groups": [50] }, { "name": "boss", "user": "0:0" }]);
    let scene = json!({ "scene": 1, "host": { "trees": { top.clone(): "top/T" }, "people": people } });
    (scratch.and("s.yaml", scene.to_string()), top)
}

fn shell(scratch: &Scratch, script: &str) {
    std::fs::write(scratch.path().join("script"), script).unwrap();
    let done = Command::new("sh").arg("script").current_dir(scratch.path()).output().unwrap();
    assert!(done.status.success(), "{script}\n{}", String::from_utf8_lossy(&done.stderr));
}

#[test]
fn commands_make_what_was_tried_twice_and_the_way_back_undoes_it() {
    if !is_root() {
        println!("skipped: commands_make_what_was_tried: it takes root to give files away");
        return;
    }
    let rehearsals: [&[&str]; 6] = [
        &["keeper sets-mode g-w,o-rx on T/**"],
        &["boss sets-owner 5:6 on T/**", "boss sets-mode 0700 on T/d", "boss sets-group 7 on T/d/g"],
        &[
            "keeper makes-directory \"T/a b\" mode 0770",
            "keeper creates \"T/a b/c\"",
            "keeper sets-mode 1755 on \"T/a b\"",
        ],
        &[
            "keeper renames T/f to T/moved",
            "keeper points T/new at d",
            "keeper links T/moved to T/twice",
            "keeper deletes T/ld",
        ],
        &[
            "keeper creates T/short",
            "keeper sets-mode 0600 on T/short",
            "keeper renames T/short to T/x/long",
            "keeper sets-mode 0640 on T/x/long",
        ],
        &[
            "boss makes-fifo T/p mode 0622",
            "boss sets-owner 9:9 on T/p",
            "boss removes-directory T/x",
            "boss sets-mode 4755 on T/f",
            "boss sets-owner 3 on T/f",
        ],
    ];
    for lines in rehearsals {
        let (scratch, top) = machine();
        let lines: Vec<String> = lines.iter().map(|line| line.replace("T/", &format!("{top}/"))).collect();
        let words = |last: &'static str| -> Vec<&str> {
            ["rehearse", "s.yaml"].into_iter().chain(lines.iter().map(String::as_str)).chain([last]).collect()
        };
        let script = |last| scratch.run(words(last)).replace("--- status 0", "");
        let (there, back) = (script("--commands"), script("--undo"));
        let there = there.split("--- standard error").next().unwrap();
        let back = back.split("--- standard error").next().unwrap();
        let before = all(Path::new(&top));
        shell(&scratch, there);
        let once = all(Path::new(&top));
        assert_ne!(before, once, "{lines:?}");
        shell(&scratch, there);
        assert_eq!(once, all(Path::new(&top)), "twice: {lines:?}\n{there}");
        shell(&scratch, back);
        assert_eq!(before, all(Path::new(&top)), "back: {lines:?}\n{back}");
    }
}

#[test]
fn the_commands_of_a_comparison() {
    let tree = json!([
        { "path": "/", "kind": "dir", "owner": "1000:1000", "mode": "0755" },
        { "path": "/d", "kind": "dir", "owner": "1000:1000", "mode": "2775" },
        { "path": "/d/it's", "owner": "0:0", "mode": "0644", "acl": "user:7:rw-" },
    ]);
    let scene = json!({
        "scene": 1,
        "images": { "i": { "accounts": { "passwd": "ada:x:1000:1000::/:\n", "group": "crew:x:50:\nold:x:51:ada\n" } } },
        "containers": [{ "name": "keeper", "image": "i", "user": "ada", "mounts": [{ "volume": "t", "at": "/T" }] }],
        "volumes": { "t": { "tree": tree } },
    });
    let scratch = Scratch::with("s.yaml", &scene.to_string());
    let changes = [
        "for keeper sets-owner 5:6 on /T/**",
        "for keeper removes-acl \"/T/d/it's\"",
        "host joins ada to crew",
        "host removes group old",
        "keeper umask 0002",
    ];
    let words = |last: &'static str| -> Vec<&str> {
        let changes = changes.iter().flat_map(|change| ["--change", change]);
        ["compare", "s.yaml"].into_iter().chain(changes).chain([last]).collect()
    };
    assert_snapshot!(scratch.run(words("--commands")), @r#"
    #!/bin/sh
    set -e

    # as root, where volume t is mounted as keeper has it
    chown -R 5:6 /T
    setfacl -b '/T/d/it'\''s'

    # as root, wherever these accounts are: the host, or the build of an image
    usermod -a -G crew ada
    ! getent group old > /dev/null || groupdel old
    # in the description, not by a command: keeper umask 0002
    --- status 0
    "#);
    assert_snapshot!(scratch.run(words("--undo")), @r#"
    #!/bin/sh
    set -e
    # put the description back as it was before: keeper umask 0002

    # as root, wherever these accounts are: the host, or the build of an image
    getent group old > /dev/null || groupadd -g 51 old
    usermod -a -G old ada
    ! id -n -G ada | tr ' ' '\n' | grep -qxF crew || gpasswd -d ada crew

    # as root, where volume t is mounted as keeper has it
    setfacl --set user::rw-,user:7:rw-,group::r--,mask::rw-,other::r-- '/T/d/it'\''s'
    chown -h 0:0 '/T/d/it'\''s'
    chown -h 1000:1000 /T/d
    chmod 02775 /T/d
    chown -h 1000:1000 /T
    --- status 0
    "#);
    assert_snapshot!(scratch.run(["compare", "s.yaml", "s.yaml", "--change", "keeper umask 2", "--undo"]), @"
    --- standard error
    error: --commands and --undo are about each --change of one input: leave s.yaml out
    --- status 2
    ");
    assert_snapshot!(scratch.run(["compare", "s.yaml", "--change", "keeper bicomes 5"]), @"
    --- standard error
    error: `bicomes` is not a verb
     --> change 1:1:8
      |
    1 | keeper bicomes 5
      |        ^^^^^^^
      |
      = help: the verbs are inspects, inspects-link, may-read, may-write, may-run, reads, writes, appends, truncates, updates, overwrites, extends, shortens, runs, lists, enters, creates, makes-directory, makes-fifo, makes-node, points, links, links-target, renames, renames-new, exchanges, deletes, removes-directory, sets-mode, sets-owner, sets-group, sets-link-owner, sets-link-group, sets-acl, sets-default-acl, removes-acl, removes-default-acl, stamps, backdates, tags, reads-tag

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}
