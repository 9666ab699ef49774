//! Acts and changes rehearsed line by line.

use insta::assert_snapshot;
use serde_json::json;

use crate::changes::boats;
use crate::scratch::Scratch;

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
      = help: write `host renumbers group NAME to GID, or host renumbers user NAME to UID`

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
      as         `as NAME`: who acts in lines that begin with a verb
      why        every check of the last act, or of `why ACT`, which is not done
      undo       takes the last line back, or the last N of them
      list       the directories that changed, or everything in `list DIRECTORY`
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
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
}

#[test]
fn containers_share_what_their_sandbox_has_and_nothing_else() {
    let container = |name: &str| {
        format!("{{ name: {name}, image: i, securityContext: {{ runAsUser: 0, runAsGroup: 0 }} }}")
    };
    let pod = |name: &str, containers: &[&str]| {
        let containers: Vec<String> = containers.iter().map(|name| container(name)).collect();
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: {name} }}\nspec:\n  containers: [{}]\n---\n",
            containers.join(", ")
        )
    };
    let scratch = Scratch::with("pods.yaml", &(pod("p", &["a", "b"]) + &pod("q", &["c"])))
        .and("compose.yaml", "services: { a: { image: i, user: '0:0' }, b: { image: i, user: '0:0' } }");
    let outcomes = |input: &str, acts: &[&str]| {
        let shown = scratch.run([&["rehearse", input], acts].concat());
        let lines = shown.lines().take_while(|line| !line.is_empty());
        lines.filter(|line| !line.starts_with(' ')).map(str::to_owned).collect::<Vec<_>>()
    };
    // One /dev/shm, one set of message queues and one /etc/hosts for the containers of a pod; /dev for each container alone.
    for shared in ["/dev/shm/x", "/dev/mqueue/x"] {
        let acts = ["a creates", "b deletes", "a creates", "c reads"].map(|act| format!("{act} {shared}"));
        let acts: Vec<&str> = acts.iter().map(String::as_str).collect();
        let outcomes = outcomes("pods.yaml", &acts);
        assert!(outcomes[..3].iter().all(|line| line.starts_with("allowed")), "{outcomes:?}");
        assert!(outcomes[3].starts_with("denied ENOENT"), "{outcomes:?}");
    }
    let acts =
        ["a sets-owner 7 on /etc/hosts", "b sets-mode 0600 on /etc/hosts", "c sets-mode 0640 on /etc/hosts"];
    let shown = scratch.run([&["rehearse", "pods.yaml"], acts.as_slice()].concat());
    assert!(shown.contains("-rw-------  7:0  hosts"), "{shown}");
    for input in ["pods.yaml", "compose.yaml"] {
        let outcomes = outcomes(input, &["a creates /dev/x", "b reads /dev/x"]);
        assert!(outcomes[1].starts_with("denied ENOENT"), "{outcomes:?}");
    }
    // Services are containers of their own, whatever their engine makes alike.
    let outcomes = outcomes("compose.yaml", &["a creates /dev/shm/x", "b reads /dev/shm/x"]);
    assert!(outcomes[1].starts_with("denied ENOENT"), "{outcomes:?}");
}

#[test]
fn claims_that_begin_with_the_same_files_are_two_disks() {
    let scratch = Scratch::with("data.mtree", "#mtree\n. type=dir uid=0 gid=0 mode=0755\n").and(
        "scene.yaml",
        "
scene: 1
containers: [{ name: a, user: '0:0', mounts: [{ volume: one, at: /one }, { volume: two, at: /two }] }]
volumes: { one: { tree: data.mtree }, two: { tree: data.mtree } }
",
    );
    let shown =
        scratch.run(["rehearse", "scene.yaml", "a creates /one/x", "a reads /one/x", "a reads /two/x"]);
    assert!(shown.contains("allowed        a reads /one/x"), "{shown}");
    assert!(shown.contains("denied ENOENT  a reads /two/x"), "{shown}");
}
