//! Changing one thing: rehearsals, `--change`, `compare`.

use insta::assert_snapshot;

use crate::scratch::{BOATS, SCENE, Scratch, TIDES, pod};

pub(crate) fn boats() -> Scratch {
    Scratch::with("b.yaml", BOATS)
}

#[test]
fn a_change_is_made_before_anything_is_answered() {
    let words = [
        "ask",
        "b.yaml",
        "stowaway creates /hold/x",
        "--change",
        "stowaway mounts /hold with rw",
        "--change",
        "stowaway joins 500",
    ];
    assert_snapshot!(boats().run(words), @"
    allowed        stowaway creates /hold/x
                   leaves 900:500 0644

    Assumed
      the root of image of container stowaway is 0:0 0755
    --- status 0
    ");
    let words = [
        "ask",
        "b.yaml",
        "cook writes /stores/log",
        "--change",
        "mate sets-mode g+w on /hold/*",
        "--change",
        "mate sets-mode o= on /hold/**",
    ];
    assert_snapshot!(boats().run(words), @"
    allowed        cook writes /stores/log

    Assumed: the root of image of container cook is 0:0 0755
    --- status 0
    ");
    let words = [
        "identity",
        "b.yaml",
        "--actor",
        "mate",
        "--change",
        "mate becomes 102:7",
        "--change",
        "mate umask 0077",
        "--change",
        "mate drops ALL",
    ];
    assert_snapshot!(boats().run(words), @"
    mate  app container of scene, image boats/mate:1
      field      value  from
      uid        102    changed by `mate becomes 102:7`
      name       none   no passwd line has that uid
      gid        7      changed by `mate becomes 102:7`
      group      500    b.yaml:19:67 containers.groups
      bounding   none   changed by `mate drops ALL`
      umask      0077   changed by `mate umask 0077`
      effective  none   a process that is not root starts with none
    --- status 0
    ");
    let words = [
        "imprint",
        "b.yaml",
        "/hold",
        "--actor",
        "mate",
        "--change",
        "mate sets-acl user:900:rwx on /hold/drop",
        "--change",
        "mate filesystem-group 600",
    ];
    assert_snapshot!(boats().run(words), @"
    mate
      in     new   asked  result   inside                    stored
      /hold  file  0666   allowed  101:500 0644  -rw-r--r--  101:500
      /hold  dir   0777   allowed  101:500 2755  drwxr-sr-x  101:500
    --- status 0
    ");
}

#[test]
fn numbers_and_orphans_are_pointed_out() {
    let words = [
        "ask",
        "b.yaml",
        "mate reads /hold/log",
        "--change",
        "host renumbers group crew to 65534",
        "--change",
        "host adds group deck as 101",
    ];
    assert_snapshot!(boats().run(words), @"
    allowed        mate reads /hold/log
    --- standard error
    note: `host renumbers group crew to 65534` is made in the accounts of image boats/mate:1
    note: 65534 means no id, or ids that cannot be shown
    note: 4 files keep the group 500: 4 on volume hold; `find / -xdev -gid 500 -exec chgrp -h 65534 {} +` gives them the new one
    note: `host adds group deck as 101` is made in the accounts of image boats/mate:1
    note: the account tools refuse that: 101 is the group mate
    note: 101 is below 1000, where distributions number their system accounts
    note: 101 is the group mate of image boats/mate:1 already: whoever is in it gets the same access
    --- status 0
    ");
    let words = [
        "ask",
        "b.yaml",
        "mate reads /hold/log",
        "--change",
        "mate removes group crew",
        "--change",
        "mate joins mate to crew",
    ];
    assert_snapshot!(boats().run(words), @"
    --- standard error
    error: `mate joins mate to crew` cannot be made: there is no group crew (image boats/mate:1)
    --- status 2
    ");
    let words = [
        "ask",
        "b.yaml",
        "mate reads /hold/log",
        "--change",
        "mate renames group crew to deck",
        "--change",
        "mate joins mate to deck",
        "--change",
        "mate sets-primary-group deck of mate",
        "--change",
        "mate parts mate from deck",
    ];
    assert_snapshot!(boats().run(words), @"
    allowed        mate reads /hold/log
    --- standard error
    note: `mate renames group crew to deck` is made in the accounts of image boats/mate:1
    note: `mate joins mate to deck` is made in the accounts of image boats/mate:1
    note: mate runs as 101:101: the group beside the user leaves out what the group file says of mate
    note: `mate sets-primary-group deck of mate` is made in the accounts of image boats/mate:1
    note: `mate parts mate from deck` is made in the accounts of image boats/mate:1
    note: mate runs as 101:101: the group beside the user leaves out what the group file says of mate
    --- status 0
    ");
}

#[test]
fn what_cannot_be_changed_is_refused() {
    for (change, part) in [
        ("mate umsk 0002", "`umsk` is not a verb"),
        ("mat umask 0002", "there is no actor `mat`"),
        ("mate sets-mode g+w on /none", "ENOENT even for an administrator"),
        ("mate sets-mode g+w on /hold/none*", "the pattern matches nothing"),
        ("mate sets-mode g+w on /hold/[", "cannot be made"),
        ("mate reads /hold/log", "`reads` changes nothing"),
        ("mate mounts /none with ro", "the description mounts nothing there"),
        ("mate mounts /hold with sync", "`sync` is not a mount option known here"),
        ("mate mounts scratch at /hold", "something is mounted there already"),
        ("mate adds WINGS", "there is no capability `WINGS`"),
        ("mate joins nobody to crew", "there is no user nobody"),
        ("cook joins cook to crew", "the image that cook runs is not given"),
        ("host sets-mode 0700 on /nowhere", "it depends on a missing fact"),
    ] {
        let told = boats().run(["ask", "b.yaml", "mate reads /hold/log", "--change", change]);
        assert!(told.contains(part) && told.ends_with("--- status 2"), "{change}: {told}");
    }
}

#[test]
fn a_pod_changes_as_one() {
    let scratch = Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", SCENE);
    let words = [
        "imprint",
        "s.yaml",
        "/data/app",
        "--change",
        "gauge filesystem-group 7400",
        "--change",
        "gauge mounts scratch at /scratch",
    ];
    assert_snapshot!(scratch.run(words), @"
    gauge
      in         new   asked  result   inside                      stored
      /data/app  file  0666   allowed  7101:7400 0644  -rw-r--r--  7101:7400
      /data/app  dir   0777   allowed  7101:7400 2755  drwxr-sr-x  7101:7400
    --- status 0
    ");
    let words = [
        "ask",
        "s.yaml",
        "gauge reads /closed/key",
        "--change",
        "image gauge sets-owner 7101 on /closed/key",
        "--change",
        "pod joins 1001",
    ];
    assert_snapshot!(scratch.run(words), @"
    allowed        gauge reads /closed/key
    --- status 0
    ");
}

/// What the shell's own patterns match below a directory like that of the scene.
fn shell_matches(directory: &std::path::Path, pattern: &str) -> Vec<String> {
    let line = format!("shopt -s globstar dotglob nullglob; printf '%s\\n' {pattern}");
    let output =
        std::process::Command::new("bash").args(["-c", &line]).current_dir(directory).output().expect("bash");
    let text = String::from_utf8(output.stdout).expect("names of letters");
    // `a/**` is `a/` too for the shell.
    let mut all: Vec<String> =
        text.lines().filter(|path| !path.is_empty() && !path.ends_with('/')).map(ToOwned::to_owned).collect();
    all.sort();
    all
}

#[test]
fn a_pattern_means_what_it_means_to_a_shell() {
    let paths = [
        "a",
        "a/b",
        "a/b/c.csv",
        "a/.hidden",
        "a/c.csv",
        "b",
        "b/a",
        "b/a/b",
        "c.csv",
        "d",
        "ab",
        "ab/c.txt",
    ];
    let directories = ["a", "a/b", "b", "b/a", "ab"];
    let real = tempfile::tempdir().unwrap();
    let mut scene = "scene: 1\nvolumes:\n  v:\n    filesystem: ext4\n    tree:\n      - { path: /, kind: dir, owner: '5:5', mode: 0755 }\n".to_owned();
    for path in paths {
        if directories.contains(&path) {
            std::fs::create_dir(real.path().join(path)).unwrap();
            scene.push_str(&format!("      - {{ path: /{path}, kind: dir, owner: '5:5', mode: 0755 }}\n"));
        } else {
            std::fs::write(real.path().join(path), "").unwrap();
            scene.push_str(&format!("      - {{ path: /{path}, owner: '5:5', mode: 0644 }}\n"));
        }
    }
    scene.push_str("containers:\n  - { name: one, user: '5:5', mounts: [{ volume: v, at: /v }] }\n");
    let scratch = Scratch::with("s.yaml", &scene);
    for pattern in
        ["*", "*.csv", "**", "**/*.csv", "a/**", "?", "[ab]*", "**/b", "a/*/c*", "**/.*", "*/?", "a/**/c.csv"]
    {
        let mut wanted = shell_matches(real.path(), pattern);
        // A recursive change is one of the directory that is named, too.
        match pattern.strip_suffix("**") {
            Some("") => wanted.push("/v".to_owned()),
            Some(above) => wanted.push(above.trim_end_matches('/').to_owned()),
            None => {}
        }
        wanted.sort();
        wanted.dedup();
        assert!(!wanted.is_empty(), "{pattern} matches nothing in the shell");
        let change = format!("one sets-owner 6 on /v/{pattern}");
        let document = scratch.json(["compare", "s.yaml", "--change", &change, "--format", "json"]);
        let mut found: Vec<String> = document["files"]
            .as_array()
            .unwrap()
            .iter()
            .map(|file| file["path"].as_str().unwrap().trim_start_matches("/v/").to_owned())
            .collect();
        found.sort();
        assert_eq!(found, wanted, "{pattern}");
    }
}

#[test]
fn a_part_is_mounted_alone() {
    let change = |what: &'static str| ["ask", "b.yaml", "stowaway lists /hold/keys", "--change", what];
    assert_snapshot!(boats().run(["mounts", "b.yaml", "--actor", "stowaway", "--change", "stowaway mounts only /hold/drop"]), @"
    stowaway
      at          what                                   flags  root      before  inodes changed
      /           image of container stowaway (overlay)  rw     0:0 0755
      /hold/drop  volume hold (ext4)                     ro     0:0 0777
    --- status 0
    ");
    // Another directory shows there, and what was beside it is gone.
    assert_snapshot!(boats().run(change("stowaway mounts only /hold/drop")), @"
    depends        stowaway lists /hold/keys
                   denied ENOENT  when /hold/keys is missing
                   denied EACCES  when owner and mode of /hold/keys do not give stowaway r--
                   allowed        otherwise
                   to settle it: give stowaway an `image:`, and its `tree:` under `images:` in a scene file

    Assumed
      the directories above mount points in image of container stowaway let everyone pass (0:0 0755 where the runtime makes them)
      the root of image of container stowaway is 0:0 0755
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
    assert_snapshot!(boats().run(change("stowaway mounts only /hold/../drop")), @"
    --- standard error
    error: `stowaway mounts only /hold/../drop` cannot be made: a part is named without `..`
    --- status 2
    ");
    assert_snapshot!(boats().run(change("stowaway mounts only /elsewhere/drop")), @"
    --- standard error
    error: `stowaway mounts only /elsewhere/drop` cannot be made: no volume is mounted above that path
    --- status 2
    ");
    let compose = "services:\n  a: { image: i, user: '5:5', volumes: ['/srv/d:/d'], tmpfs: [/t] }\n";
    let scene = "scene: 1\nworkloads: [c.yaml]\nimages: { i: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n\
                 host: { tree: [{ path: /srv/d/in, kind: dir, owner: '5:5', mode: 0700 }] }\n";
    let scratch = Scratch::with("c.yaml", compose).and("s.yaml", scene);
    let change = |what: &'static str| ["ask", "s.yaml", "a creates /d/in/x", "a lists /d", "--change", what];
    assert_snapshot!(scratch.run(change("a mounts only /d/in")), @"
    allowed        a creates /d/in/x
                   leaves 5:5 0644
    allowed        a lists /d
    --- status 0
    ");
    assert_snapshot!(scratch.run(change("a mounts only /t/in")), @"
    --- standard error
    error: `a mounts only /t/in` cannot be made: a tmpfs has no parts to mount
    --- status 2
    ");
}

#[test]
fn a_mistake_in_a_change_is_shown_by_every_command_that_takes_one() {
    let questions: [&[&str]; 12] = [
        &["identity", "b.yaml"],
        &["mounts", "b.yaml"],
        &["access", "b.yaml"],
        &["imprint", "b.yaml"],
        &["ask", "b.yaml", "cook writes /stores/log"],
        &["why", "b.yaml", "cook writes /stores/log"],
        &["remedy", "b.yaml", "cook writes /stores/log"],
        &["handoff", "b.yaml"],
        &["exposure", "b.yaml"],
        &["compare", "b.yaml"],
        &["compare", "b.yaml", "b.yaml"],
        &["uphold", "b.yaml", "--expect", "e.acts"],
    ];
    let mistakes = [
        ("mate umask rw", "`rw` is not an octal mode", 12),
        ("mate adds \"\"", "nothing is named where a capability is expected", 11),
        ("mate drops ,", "nothing is named where a capability is expected", 12),
    ];
    for words in questions {
        for quiet in [&[][..], &["-q"]] {
            for (change, mistake, column) in mistakes {
                let scratch = boats().and("e.acts", "cook reads /stores/log -> allowed\n");
                let said = scratch.run([words, &["--change", change], quiet].concat());
                let (mistake, place) = (format!("error: {mistake}\n"), format!(" --> change 1:1:{column}\n"));
                assert!(said.contains(&mistake) && said.contains(&place), "{words:?} {quiet:?}: {said}");
                assert!(
                    said.contains("  = help: ") && said.ends_with("--- status 2"),
                    "{words:?} {quiet:?}: {said}"
                );
            }
        }
    }
}
