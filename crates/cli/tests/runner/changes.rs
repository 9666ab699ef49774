//! Changing one thing: rehearsals, `--change`, `compare`.

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::{BOATS, SCENE, Scratch, TIDES, pod};

fn boats() -> Scratch {
    Scratch::with("b.yaml", BOATS)
}

#[test]
fn each_line_of_a_rehearsal_sees_what_the_earlier_ones_changed() {
    let words = [
        "rehearse",
        "b.yaml",
        "mate creates /hold/new",
        "cook reads /stores/new -> allowed",
        "cook writes /stores/new",
        "mate sets-mode g+w on /hold/new",
        "cook writes /stores/new -> allowed",
        "stowaway deletes /hold/new",
        "cook renames /stores/log to /stores/log.1",
    ];
    assert_snapshot!(boats().run(words), @"
    allowed        mate creates /hold/new
                   leaves 101:500 0644
    allowed        cook reads /stores/new  (as expected)
    denied EACCES  cook writes /stores/new
                   /stores/new: -rw-r--r-- 0644 101:500: group 500 has r--, needed -w-
    allowed        mate sets-mode g+w on /hold/new
                   leaves 101:500 0664
    allowed        cook writes /stores/new  (as expected)
    denied EROFS   stowaway deletes /hold/new
                   /hold: the mount is read-only
    allowed        cook renames /stores/log to /stores/log.1

    /hold  as mate sees it  (volume hold)
            before               after                name
            drwxrwsr-x  0:500    same                 .
            drwxrwxrwx  0:0      same                 drop
            drwxr-x---  101:101  same                 keys
      gone  -rw-r--r--  101:500  -                    log
      new   -                    -rw-r--r--  101:500  log.1
      new   -                    -rw-rw-r--  101:500  new
            drwxr-S---  0:500    same                 old

    /stores  as cook sees it  (volume hold)
            before               after                name
            drwxrwsr-x  0:500    same                 .
            drwxrwxrwx  0:0      same                 drop
            drwxr-x---  101:101  same                 keys
      gone  -rw-r--r--  101:500  -                    log
      new   -                    -rw-r--r--  101:500  log.1
      new   -                    -rw-rw-r--  101:500  new
            drwxr-S---  0:500    same                 old

    Assumed
      the root of image of container cook is 0:0 0755
      the root of image of container stowaway is 0:0 0755
    --- status 0
    ");
}

#[test]
fn a_broken_expectation_and_changes_in_between() {
    let acts = "# a file of acts\nhost makes-directory /srv/x mode 0700\n  cook creates /stores/a -> leaves 102:500 0644\n\n\
                cook umask 0022\ncook creates /stores/b -> leaves 102:500 0644\nmate joins 900\n";
    let scratch = boats().and("day.acts", acts);
    assert_snapshot!(scratch.run(["rehearse", "b.yaml", "day.acts", "--host"]), @"
    allowed        host makes-directory /srv/x mode 0700
                   leaves 0:0 0700
    allowed        cook creates /stores/a
                   leaves 102:500 0664
                   NOT as expected: leaves 102:500 0644
    changed        cook umask 0022
    allowed        cook creates /stores/b  (as expected)
                   leaves 102:500 0644
    changed        mate joins 900

    /srv  ids as stored  (host)
           before           after            name
           drwxr-xr-x  0:0  same             .
      new  -                drwx------  0:0  x

    /stores  ids as stored  (volume hold)
           before               after                name
           drwxrwsr-x  0:500    same                 .
      new  -                    -rw-rw-r--  102:500  a
      new  -                    -rw-r--r--  102:500  b
           drwxrwxrwx  0:0      same                 drop
           drwxr-x---  101:101  same                 keys
           -rw-r--r--  101:500  same                 log
           drwxr-S---  0:500    same                 old

    Assumed
      a directory that the tree does not list is 0:0 0755
      the root of image of container cook is 0:0 0755
      whoever sets things up on the host is root there, with umask 0022
    --- status 1
    ");
}

#[test]
fn mistakes_in_a_rehearsal_are_pointed_at() {
    let scratch = boats().and("day.acts", "mate reads /hold/log\nmate reeds /hold\n");
    assert_snapshot!(scratch.run(["rehearse", "b.yaml", "day.acts", "nobody reads /x", "mate renumbers crew"]), @"
    --- standard error
    error: there is no actor `nobody` in this scene; there is mate, cook, stowaway, host
     --> act 1:1:1
      |
    1 | nobody reads /x
      | ^^^^^^

    error: `crew` is not expected here
     --> act 2:1:16
      |
    1 | mate renumbers crew
      |                ^^^^
      |
      = help: write `host renumbers group NAME to GID`

    error: `reeds` is not a verb
     --> day.acts:2:6
      |
    2 | mate reeds /hold
      |      ^^^^^
      |
      = help: did you mean `reads`?

    error: the input cannot be used: 3 errors above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["rehearse", "b.yaml", "mate mounts /none with ro"]), @"
    --- standard error
    error: `mate mounts /none with ro` cannot be made: the description mounts nothing there (its mounts: /hold)
     --> act 1:1:1
      |
    1 | mate mounts /none with ro
      | ^^^^^^^^^^^^^^^^^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["rehearse", "b.yaml"]), @"
    --- standard error
    error: no act was given: write one, such as 'gauge writes /data/level.csv', or name a file with --acts
    --- status 2
    ");
}

#[test]
fn a_rehearsal_line_by_line() {
    let typed =
        b"undo\nwhy\nmate creates /hold/new\nmate creates /hold/new\nundo\nlist\nundo\nlist\nmate reeds /x\n\
                  nobody reads /x\nmate joins 7\nlist-host\nhelp\nquit\nmate creates /hold/late\n";
    assert_snapshot!(boats().feed(["rehearse", "b.yaml", "--interactive"], typed), @"
    there is nothing to take back
    nothing was done yet
    allowed        mate creates /hold/new
                   leaves 101:500 0644
    denied EEXIST  mate creates /hold/new
                   /hold/new: something of that name is there already
    taken back: mate creates /hold/new

    /hold  as mate sees it  (volume hold)
           before               after                name
           drwxrwsr-x  0:500    same                 .
           drwxrwxrwx  0:0      same                 drop
           drwxr-x---  101:101  same                 keys
           -rw-r--r--  101:500  same                 log
      new  -                    -rw-r--r--  101:500  new
           drwxr-S---  0:500    same                 old
    taken back: mate creates /hold/new

    No directory looks different afterwards.
    changed        mate joins 7

    No directory looks different afterwards.
    Type acts, such as `gauge creates /data/x`, or a change, such as `gauge becomes 7102`. Tab completes.
      why        every check of the last act
      undo       takes the last line back
      list       the directories that changed, as the actors see them
      list-host  the same with owners as stored
      help       what can be typed
      quit       ends the rehearsal
    --- standard error
    error: `reeds` is not a verb
     --> line 1:1:6
      |
    1 | mate reeds /x
      |      ^^^^^
      |
      = help: did you mean `reads`?

    error: there is no actor `nobody` in this scene; there is mate, cook, stowaway, host
    --- status 0
    ");
}

#[test]
fn a_rehearsal_as_json() {
    let document =
        boats().json(["rehearse", "b.yaml", "mate creates /hold/new", "mate umask 0077", "--format", "json"]);
    let (act, change) = (&document["steps"][0], &document["steps"][1]);
    assert_eq!((&act["outcome"], &act["carried_out"]), (&json!("allowed"), &json!(true)));
    assert_eq!(change["change"], "mate umask 0077");
    let listing = &document["listings"][0];
    assert_eq!((&listing["directory"], &listing["actor"]), (&json!("/hold"), &json!("mate")));
    let new = listing["entries"].as_array().unwrap().iter().find(|entry| entry["name"] == "new").unwrap();
    assert_eq!((&new["before"], &new["changed"]), (&json!(null), &json!(true)));
    assert_eq!(new["after"]["mode"], "0644");
}

#[test]
fn what_depends_is_not_carried_out() {
    let scene = "scene: 1\nvolumes: { v: {} }\ncontainers:\n  - { name: a, user: '5:5', mounts: [{ volume: v, at: /v }] }\n";
    let scratch = Scratch::with("s.yaml", scene);
    assert_snapshot!(scratch.run(["rehearse", "s.yaml", "a creates /v/x"]), @"
    depends        a creates /v/x
                   denied EACCES    when owner and mode of /v do not give a --x, or owner and mode of /v do not give a -wx
                   denied EEXIST    when /v/x is there
                   leaves 5:? ????  otherwise
                   to settle it: give `volumes: { v: { tree: ... } }` in a scene file
                   not carried out for the lines below: its outcome depends on a missing fact

    No directory looks different afterwards.

    Assumed
      the root of image of container a is 0:0 0755
    --- status 0
    ");
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
    note: 4 files keep the group 500: 4 on volume hold
    note: `host adds group deck as 101` is made in the accounts of image boats/mate:1
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
    note: `mate sets-primary-group deck of mate` is made in the accounts of image boats/mate:1
    note: `mate parts mate from deck` is made in the accounts of image boats/mate:1
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
    Nothing differs: identities, mounts and access are the same.
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
        let wanted = shell_matches(real.path(), pattern);
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
                   allowed        when /hold/keys is there; owner and mode of /hold/keys give stowaway r--
                   denied EACCES  when /hold/keys is there; owner and mode of /hold/keys do not give stowaway r--
                   denied ENOENT  when /hold/keys is missing
                   to settle it: give stowaway an `image:`, and its `tree:` under `images:` in a scene file

    Assumed
      the directories above mount points in image of container stowaway let everyone pass (0:0 0755 where the runtime makes them)
      the root of image of container stowaway is 0:0 0755
      what is not listed is of the kind the act needs: a file or a directory
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
