//! Somebody else in the place of an actor, and people on the host.

use insta::assert_snapshot;
use serde_json::{Value, json};

use crate::scratch::Scratch;

/// A hive: an image with accounts, programs that act as others, and three people on the machine it runs on.
fn hive() -> Scratch {
    let passwd = "root:x:0:0::/:/bin/sh\nkeeper:x:5101:5200::/:/bin/sh\nscribe:x:5102:5202::/:/bin/sh\n";
    let image = json!({
        "user": "keeper",
        "accounts": { "passwd": passwd, "group": "bees:x:5200:scribe\npens:x:5202:\n" },
        "tree": [
            { "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" },
            { "path": "/usr/bin/taste", "owner": "0:5200", "mode": "4755", "content": "program" },
            { "path": "/usr/bin/plain", "owner": "0:0", "mode": "0755", "content": "program" },
            { "path": "/usr/bin/shut", "owner": "0:0", "mode": "0700", "content": "program" },
            { "path": "/comb", "kind": "dir", "owner": "5101:5200", "mode": "0750" },
            { "path": "/comb/honey", "owner": "5101:5200", "mode": "0640" },
            { "path": "/comb/wax", "owner": "5101:5200", "mode": "0600" },
        ],
    });
    let scene = json!({
        "scene": 1,
        "runtime": "docker",
        "images": { "hive": image },
        "containers": [
            { "name": "gauge", "image": "hive" },
            { "name": "sealed", "image": "hive", "no-new-privileges": true, "capabilities": { "drop": ["ALL"] } },
        ],
        "host": {
            "accounts": { "passwd": "ada:x:7001:7001::/:/bin/sh\nbob:x:7002:7002::/:/bin/sh\n", "group": "crew:x:7100:bob\n" },
            "tree": [
                { "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" },
                { "path": "/srv", "kind": "dir", "owner": "7001:7100", "mode": "2770" },
                { "path": "/srv/plan", "owner": "7001:7100", "mode": "0640" },
            ],
            "people": ["ada", "bob", { "name": "guest", "user": "9:9", "groups": ["crew"], "umask": "0002" }],
        },
    });
    Scratch::with("s.yaml", &scene.to_string())
}

fn outcomes(command: &str, acts: &[&str]) -> Vec<String> {
    let words = [&[command, "s.yaml"], acts, &["--format", "json"]].concat();
    let answer = hive().json(words);
    let list = if command == "ask" { "acts" } else { "steps" };
    let rows = answer[list].as_array().cloned().unwrap_or_default();
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    rows.iter()
        .map(|row| row["errno"].as_str().map_or_else(|| text(&row["outcome"]), str::to_owned))
        .collect()
}

#[test]
fn somebody_else_has_the_same_mounts_and_an_identity_of_its_own() {
    for (act, outcome) in [
        ("gauge reads /comb/wax", "allowed"),
        ("gauge as scribe reads /comb/honey", "allowed"),
        ("gauge as scribe writes /comb/honey", "EACCES"),
        ("gauge as scribe:pens reads /comb/honey", "EACCES"),
        ("gauge as 5102 reads /comb/honey", "allowed"),
        ("gauge as 5102:5202 reads /comb/honey", "EACCES"),
        ("gauge as root writes /comb/wax", "allowed"),
        ("gauge as scrybe reads /comb/honey", "never-runs"),
        ("sealed as root reads /comb/wax", "EACCES"),
        ("host as bob reads /srv/plan", "allowed"),
        ("host as bob writes /srv/plan", "EACCES"),
        ("host as 0 writes /srv/plan", "allowed"),
        ("host as bob reads /comb/wax", "ENOENT"),
    ] {
        assert_eq!(outcomes("ask", &[act]), [outcome], "{act}");
    }
}

#[test]
fn what_a_program_that_is_run_does_next() {
    for (act, outcome) in [
        ("gauge running /usr/bin/taste writes /comb/wax", "allowed"),
        ("gauge as scribe running /usr/bin/taste writes /comb/wax", "allowed"),
        ("gauge as scribe running /usr/bin/plain writes /comb/wax", "EACCES"),
        ("sealed as scribe running /usr/bin/taste writes /comb/wax", "EACCES"),
        ("gauge running /usr/bin/shut reads /comb/wax", "never-runs"),
        ("gauge as root running /usr/bin/shut reads /comb/wax", "allowed"),
        ("gauge running /comb/none reads /comb/wax", "never-runs"),
    ] {
        assert_eq!(outcomes("ask", &[act]), [outcome], "{act}");
    }
    // What an earlier line changes about the program counts for who runs it afterwards.
    let lines = [
        "gauge as scribe running /usr/bin/taste writes /comb/wax",
        "gauge as root sets-mode 0755 on /usr/bin/taste",
        "gauge as scribe running /usr/bin/taste writes /comb/wax",
        "gauge as root sets-owner 5101 on /usr/bin/plain",
        "gauge as root sets-mode u+s on /usr/bin/plain",
        "gauge as scribe running /usr/bin/plain writes /comb/wax",
    ];
    let wanted = ["allowed", "allowed", "EACCES", "allowed", "allowed", "allowed"];
    assert_eq!(outcomes("rehearse", &lines), wanted);
}

#[test]
fn people_on_one_machine_see_what_the_others_make() {
    let words = [
        "rehearse",
        "s.yaml",
        "ada creates /srv/day mode 0660",
        "bob writes /srv/day",
        "ada umask 0007",
        "ada creates /srv/night mode 0666",
        "bob writes /srv/night -> allowed",
        "guest deletes /srv/day",
    ];
    assert_snapshot!(hive().run(words), @"
    allowed        ada creates /srv/day mode 0660
                   leaves 7001:7100 0640
    denied EACCES  bob writes /srv/day
                   /srv/day: -rw-r----- 0640 7001:7100: group 7100 has r--, needed -w-
    changed        ada umask 0007
    allowed        ada creates /srv/night
                   leaves 7001:7100 0660
    allowed        bob writes /srv/night  (as expected)
    allowed        guest deletes /srv/day

    /srv  as ada, bob, guest see it  (host)
           before                 after                  name
           drwxrws---  7001:7100  same                   .
      new  -                      -rw-rw----  7001:7100  night
           -rw-r-----  7001:7100  same                   plan
    --- status 0
    ");
}

#[test]
fn a_person_is_shown_as_one() {
    assert_snapshot!(hive().run(["identity", "s.yaml", "--actor", "guest", "--actor", "gauge as scribe"]), @"
    gauge as scribe  in the place of the app container of scene, image hive
      field      value   from
      uid        5102    who is to act there
      name       scribe  passwd of hive:3
      gid        5202    passwd of hive:3
      group      5200    group of hive:1
      umask      0022    the runtime's default umask
      effective  none    what execve leaves of it

    guest  on the host
      field      value  from
      uid        9      s.yaml:1:278 host.people
      name       none   no passwd line has that uid
      gid        9      s.yaml:1:278 host.people
      group      7100   s.yaml:1:288 host.people.groups
      umask      0002   s.yaml:1:320 containers.umask
      effective  none   a process that is not root starts with none
    --- status 0
    ");
    assert_snapshot!(hive().run(["remedy", "s.yaml", "guest as bob as x reads /"]), @"
    --- standard error
    error: `as` is not a verb
     --> act 1:1:14
      |
    1 | guest as bob as x reads /
      |              ^^
      |
      = help: the verbs are inspects, inspects-link, may-read, may-write, may-run, reads, writes, appends, truncates, updates, overwrites, extends, shortens, runs, lists, enters, creates, makes-directory, makes-fifo, makes-node, points, links, links-target, renames, renames-new, exchanges, deletes, removes-directory, sets-mode, sets-owner, sets-group, sets-link-owner, sets-link-group, sets-acl, sets-default-acl, removes-acl, removes-default-acl, stamps, backdates, tags, reads-tag

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(hive().run(["rehearse", "s.yaml", "ada becomes 7", "bob joins 7100"]), @"
    --- standard error
    error: `ada becomes 7` cannot be made: ada is a person on the host: write `ada as USER` for somebody else
     --> act 1:1:1
      |
    1 | ada becomes 7
      | ^^^^^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn who_else_may_stand_in_expectations() {
    let expect = "\
* as root never writes /srv/**
gauge as root reads /comb/wax
* as scribe never writes /comb/**
only gauge, gauge as root, sealed write /comb/wax
ada, bob as ada read /srv/plan
* never reads /srv/plan except /srv
";
    assert_snapshot!(hive().and("e", expect).run(["uphold", "s.yaml", "--expect", "e"]), @"
    s.yaml
      BROKEN    * never reads /srv/plan except /srv
                expected at e:6:1
                ada reads /srv/plan: allowed
                  /srv/plan: -rw-r----- 0640 7001:7100: the owner (ada) has rw-, needed r--
                  s.yaml:1:467 tree
                bob reads /srv/plan: allowed
                  /srv/plan: -rw-r----- 0640 7001:7100: group 7100 has r--, needed r--
                  s.yaml:1:467 tree
                guest reads /srv/plan: allowed
                  /srv/plan: -rw-r----- 0640 7001:7100: group 7100 has r--, needed r--
                  s.yaml:1:467 tree

    6 expectations in 1 input: 4 hold, 1 broken, 1 meets nothing
    --- standard error
    warning: `only gauge, gauge as root, sealed write /comb/wax` meets no actor or path
     --> e:4:1 expectation

    --- status 1
    ");
}

#[test]
fn names_stand_wherever_an_id_does() {
    for (act, outcome) in [
        ("gauge as root sets-owner scribe:pens on /comb/wax -> leaves scribe:pens 0600", "allowed"),
        ("gauge as root sets-group pens on /comb/wax -> leaves *:pens 0600", "allowed"),
        ("gauge as root sets-acl user:scribe:r--,group:pens:r-- on /comb/wax", "allowed"),
        ("ada creates /srv/new -> leaves ada:crew 0644", "allowed"),
    ] {
        let answer = hive().json(["ask", "s.yaml", act, "--format", "json"]);
        assert_eq!(
            (&answer["acts"][0]["outcome"], answer["acts"][0]["holds"] == json!(false)),
            (&json!(outcome), false),
            "{act}"
        );
    }
    let changed = hive().json([
        "identity",
        "s.yaml",
        "--actor",
        "gauge",
        "--change",
        "gauge becomes scribe",
        "--format",
        "json",
    ]);
    assert_eq!((&changed["actors"][0]["uid"], &changed["actors"][0]["gid"]), (&json!(5102), &json!(5202)));
    let expect = "gauge /comb/wax owned-by keeper\ngauge /comb/wax is keeper:bees 0600\n/srv/** owned-by :crew\nada never writes /comb/**\n";
    let upheld = hive().and("e", expect).run(["uphold", "s.yaml", "--expect", "e"]);
    assert!(upheld.ends_with("--- status 0"), "{upheld}");
    let unknown = hive().and("e", "/comb/wax owned-by zork\n").run(["uphold", "s.yaml", "--expect", "e"]);
    assert!(unknown.contains("know no such name") && unknown.ends_with("--- status 2"), "{unknown}");
    let said = hive().run(["ask", "s.yaml", "gauge sets-owner zork on /comb/wax"]);
    assert!(said.contains("or names that its account files have"), "{said}");
    let typed = hive().feed(
        ["rehearse", "s.yaml", "--interactive"],
        b"as gauge as root\nsets-owner scribe:bees on /comb/wax\n",
    );
    assert!(typed.contains("leaves 5102:5200 0600"), "{typed}");
}

#[test]
fn mistakes_of_people_are_pointed_at() {
    let scene = |people: &str| {
        format!("scene: 1\nhost:\n  accounts:\n    passwd: \"ada:x:1:1::/:\"\n  people: {people}\n")
    };
    for (people, said) in [
        ("[adda]", "did you mean `ada`?"),
        ("[zoe]", "the host has no account `zoe`"),
        ("everybody", "`everybody` is not a list of people"),
        ("[{ name: zoe, user: '3:4', umask: 9 }]", "`9` is not a umask"),
        ("[[ada]]", "the name of an account, or a mapping"),
    ] {
        let text = Scratch::with("s.yaml", &scene(people)).run(["identity", "s.yaml"]);
        assert!(text.contains(said) && text.ends_with("--- status 2"), "{people}: {text}");
    }
    let all = Scratch::with("s.yaml", &scene("accounts")).run(["identity", "s.yaml"]);
    assert!(all.contains("ada  on the host"), "{all}");
}
