//! Changes of accounts, as the account tools make them.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::BTreeMap;
use std::process::Command;

use insta::assert_snapshot;
use serde_json::json;

use crate::recursion::is_root;
use crate::scratch::Scratch;

const PASSWD: &str =
    "root:x:0:0::/root:/bin/sh\nada:x:1000:1000::/home/ada:/bin/sh\nbob:x:1001:1001::/home/bob:/bin/sh\n";
const GROUP: &str = "root:x:0:\nada:x:1000:\nbob:x:1001:\ncrew:x:1100:bob,ada\nold:x:1200:ada\n";

/// A user's number and groups, by name.
type Users = BTreeMap<String, (u32, Vec<u32>)>;

/// The accounts of two files.
fn users(passwd: &str, group: &str) -> Users {
    let mut all = Users::new();
    for line in passwd.lines() {
        let parts: Vec<&str> = line.split(':').collect();
        let (name, uid, gid): (&str, u32, u32) =
            (parts[0], parts[2].parse().unwrap(), parts[3].parse().unwrap());
        let mut groups: Vec<u32> = group
            .lines()
            .map(|line| line.split(':').collect::<Vec<_>>())
            .filter(|parts| parts[3].split(',').any(|member| member == name))
            .map(|parts| parts[2].parse().unwrap())
            .chain([gid])
            .collect();
        groups.sort_unstable();
        groups.dedup();
        all.insert(name.to_owned(), (uid, groups));
    }
    all
}

/// What the tool leaves, over a scratch `/etc` in a mount namespace of its own; `None` where it cannot be run, and the status.
fn by_tool(scratch: &Scratch, words: &str) -> Option<(Users, i32)> {
    let script = format!(
        "mount -t tmpfs t /mnt && mkdir /mnt/u /mnt/w && \
         mount -t overlay o -o lowerdir=/etc,upperdir=/mnt/u,workdir=/mnt/w /etc && mount -t tmpfs h /home && \
         cp passwd group /etc && sed 's/:.*/:*:1:0:99999:7:::/' passwd > /etc/shadow && \
         sed 's/^\\([^:]*\\):x:[0-9]*:\\(.*\\)/\\1:*::\\2/' group > /etc/gshadow && echo ready && \
         {{ {words}; echo $? > status; cp /etc/passwd /etc/group out/; }}"
    );
    std::fs::create_dir_all(scratch.path().join("out")).unwrap();
    let done = Command::new("unshare")
        .args(["-m", "sh", "-c", &script])
        .current_dir(scratch.path())
        .output()
        .ok()?;
    if !String::from_utf8_lossy(&done.stdout).contains("ready") {
        return None;
    }
    let read = |name: &str| std::fs::read_to_string(scratch.path().join(name)).unwrap();
    Some((users(&read("out/passwd"), &read("out/group")), read("status").trim().parse().unwrap()))
}

/// What the sentence leaves of these users.
fn by_sentence(scratch: &Scratch, sentence: &str, names: &Users) -> Users {
    let mut words =
        vec!["identity".to_owned(), "s.yaml".to_owned(), "--change".to_owned(), sentence.to_owned()];
    for name in names.keys() {
        words.extend(["--actor".to_owned(), format!("host as {name}")]);
    }
    words.extend(["--format".to_owned(), "json".to_owned()]);
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let answer = scratch.json_of(words);
    let rows = answer["actors"].as_array().cloned().unwrap_or_default();
    let found = rows.iter().filter(|row| row["starts"] == true).map(|row| {
        let number = |value: &serde_json::Value| u32::try_from(value.as_u64().unwrap()).unwrap();
        let mut groups: Vec<u32> = row["groups"].as_array().unwrap().iter().map(number).collect();
        groups.push(number(&row["gid"]));
        groups.sort_unstable();
        groups.dedup();
        let name = row["actor"].as_str().unwrap().trim_start_matches("host as ").to_owned();
        (name, (number(&row["uid"]), groups))
    });
    found.collect()
}

#[test]
fn sentences_leave_what_the_account_tools_leave() {
    let test = "sentences_leave_what_the_account_tools_leave";
    if !is_root() {
        println!("skipped: {test}: it takes root");
        return;
    }
    let scene = json!({
        "scene": 1,
        "containers": [{ "name": "any", "user": "1:1" }],
        "host": { "accounts": { "passwd": "passwd", "group": "group" }, "tree": [{ "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" }] },
    });
    let scratch = Scratch::with("s.yaml", &scene.to_string()).and("passwd", PASSWD).and("group", GROUP);
    let mut compared = 0;
    for (sentence, tool, refuses) in [
        ("host adds user eve", "useradd eve", false),
        ("host adds user eve as 5000:crew", "useradd -u 5000 -g crew eve", false),
        ("host adds user eve as 1200", "useradd -u 1200 eve", false),
        ("host adds user eve as 1001", "useradd -u 1001 eve", true),
        ("host removes user ada", "userdel ada", false),
        ("host renames user ada to eve", "usermod -l eve ada", false),
        ("host renumbers user ada to 3000", "usermod -u 3000 ada", false),
        ("host renumbers user ada to 1001", "usermod -u 1001 ada", true),
        ("host sets-primary-group crew of ada", "usermod -g crew ada", false),
        ("host sets-groups old of bob", "usermod -G old bob", false),
        ("host joins ada,bob to old,crew", "usermod -a -G old,crew ada && usermod -a -G old,crew bob", false),
        ("host parts ada from crew", "gpasswd -d ada crew", false),
        ("host renumbers group ada to 1101", "groupmod -g 1101 ada", false),
        ("host removes group old", "groupdel old", false),
        ("host removes group ada", "groupdel ada", true),
        ("host adds group new as 1100", "groupadd -g 1100 new", true),
    ] {
        let Some((real, status)) = by_tool(&scratch, tool) else {
            println!("skipped: {test}: the account tools cannot be run over a scratch /etc here");
            return;
        };
        let refused = scratch
            .run(["identity", "s.yaml", "--change", sentence])
            .contains("the account tools refuse that");
        assert_eq!((status != 0, refused), (refuses, refuses), "{tool}: status {status}");
        if !refuses {
            assert_eq!(by_sentence(&scratch, sentence, &real), real, "{sentence}");
        }
        compared += 1;
    }
    println!("{compared} changes of accounts agree with the tools");
}

fn hive() -> Scratch {
    let image = json!({
        "user": "keeper",
        "accounts": {
            "passwd": "root:x:0:0::/root:\nkeeper:x:5101:5101::/:\nscribe:x:5102:5102::/:\n",
            "group": "root:x:0:\nkeeper:x:5101:\nscribe:x:5102:\nbees:x:5200:scribe\npens:x:5202:scribe,keeper\n",
        },
        "tree": [
            { "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" },
            { "path": "/home", "kind": "dir", "owner": "0:0", "mode": "0755" },
            { "path": "/home/keeper", "kind": "dir", "owner": "5101:5101", "mode": "0755" },
            { "path": "/comb", "kind": "dir", "owner": "0:5200", "mode": "0770" },
            { "path": "/old", "owner": "5101:5101", "mode": "0640" },
        ],
    });
    let scene = json!({
        "scene": 1,
        "runtime": "docker",
        "images": { "hive": image },
        "containers": [{ "name": "gauge", "image": "hive" }, { "name": "fixed", "image": "hive", "user": "5101:5101" }],
    });
    Scratch::with("s.yaml", &scene.to_string())
}

#[test]
fn memberships_count_for_what_is_started_afterwards() {
    let words = [
        "rehearse",
        "s.yaml",
        "host joins keeper to bees",
        "gauge creates /comb/x",
        "gauge starts again",
        "gauge creates /comb/x",
        "gauge creates /home/keeper/new",
        "gauge is made again",
        "gauge reads /home/keeper/new",
        "fixed creates /comb/y",
    ];
    assert_snapshot!(hive().run(words), @"
    changed        host joins keeper to bees
                   `host joins keeper to bees` is made in the accounts of image hive
                   fixed runs as 5101:5101: the group beside the user leaves out what the group file says of keeper
                   it counts for what is started afterwards: `gauge starts again`
    denied EACCES  gauge creates /comb/x
                   /comb: drwxrwx--- 0770 0:5200: other has ---, needed --x
    changed        gauge starts again
    allowed        gauge creates /comb/x
                   leaves 5101:5101 0644
    allowed        gauge creates /home/keeper/new
                   leaves 5101:5101 0644
    changed        gauge is made again
    denied ENOENT  gauge reads /home/keeper/new
                   /home/keeper/new: no such entry
    denied EACCES  fixed creates /comb/y
                   /comb: drwxrwx--- 0770 0:5200: other has ---, needed --x

    No directory looks different afterwards.
    --- status 0
    ");
}

#[test]
fn what_the_tools_do_besides_is_done_and_said() {
    let said = |change: &str| {
        let text = hive().run(["identity", "s.yaml", "--actor", "gauge", "--change", change]);
        text.lines()
            .filter(|line| line.starts_with("note") || line.starts_with("error"))
            .collect::<Vec<_>>()
            .join("\n")
    };
    let all: Vec<String> = [
        "host renumbers user keeper to 6000",
        "host renumbers group bees to 6000",
        "host sets-primary-group bees of keeper",
        "host sets-groups bees of keeper",
        "host adds group ants",
        "host adds system group ants",
        "host removes user keeper",
        "host joins keeper to bees",
        "host adds user keeper",
    ]
    .map(said)
    .into();
    assert_snapshot!(all.join("\n\n"), @"
    note: `host renumbers user keeper to 6000` is made in the accounts of image hive
    note: 1 of /home/keeper on image hive follow, as with usermod
    note: 1 file keeps the user 5101: 1 on image hive; `find / -xdev -uid 5101 -exec chown -h 6000 {} +` gives them the new one

    note: `host renumbers group bees to 6000` is made in the accounts of image hive
    note: 1 file keeps the group 5200: 1 on image hive; `find / -xdev -gid 5200 -exec chgrp -h 6000 {} +` gives them the new one

    note: `host sets-primary-group bees of keeper` is made in the accounts of image hive
    note: 1 of /home/keeper on image hive follow, as with usermod

    note: `host sets-groups bees of keeper` is made in the accounts of image hive
    note: keeper loses pens: `usermod -G` without -a, where `joins` adds to what is there

    note: `host adds group ants` is made in the accounts of image hive
    note: ants gets 5203, as groupadd picks it

    note: `host adds system group ants` is made in the accounts of image hive
    note: ants gets 999, as groupadd picks it

    note: `host removes user keeper` is made in the accounts of image hive
    note: 2 files keep the user 5101: 2 on image hive; `find / -xdev -uid 5101` lists them

    note: `host joins keeper to bees` is made in the accounts of image hive

    error: `host adds user keeper` cannot be made: there is a user keeper already (image hive)
    ");
}
