//! `--names`: accounts in place of ids, in every output.

use serde_json::json;

use crate::scratch::Scratch;

/// One number is keeper in the image and ada on the host; 9 is nobody's.
fn scratch() -> Scratch {
    let scene = json!({
        "scene": 1, "runtime": "docker",
        "host": {
            "accounts": { "passwd": "root:x:0:0::/root:/bin/sh\nada:x:5101:5101::/home/ada:/bin/sh", "group": "root:x:0:\nada:x:5101:\ncrew:x:5200:ada" },
            "people": ["ada"],
            "tree": [{ "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" }, { "path": "/srv", "kind": "dir", "owner": "5101:5200", "mode": "0750" }],
        },
        "images": { "hive": {
            "user": "keeper",
            "accounts": { "passwd": "root:x:0:0::/root:/bin/sh\nkeeper:x:5101:5200::/:/bin/sh\nodd:x:77:77::/:/bin/sh", "group": "root:x:0:\nbees:x:5200:keeper\nwax:x:5300:keeper" },
            "tree": [{ "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" }],
        } },
        "containers": [
            { "name": "gauge", "image": "hive", "mounts": [{ "volume": "comb", "at": "/comb" }] },
            { "name": "other", "image": "hive", "user": "7:8", "groups": [5200], "mounts": [{ "volume": "comb", "at": "/comb" }] },
        ],
        "volumes": { "comb": { "tree": [
            { "path": "/", "kind": "dir", "owner": "5101:5200", "mode": "2770" },
            { "path": "/honey", "owner": "5101:5300", "mode": "0640" },
            { "path": "/wax", "owner": "9:5200", "mode": "0600" },
        ] } },
    });
    Scratch::with("s.yaml", &scene.to_string())
}

#[test]
fn every_answer_for_people_has_them() {
    let scratch = scratch();
    for (words, wanted) in [
        (vec!["identity"], "5101 (keeper)"),
        (vec!["identity"], "5200 (crew)"),
        (vec!["mounts"], "ada:crew 2770"),
        (vec!["access"], "/comb/honey  keeper:wax"),
        (vec!["access"], "/comb/wax    9:bees"),
        (vec!["access", "--tree", "/comb", "--list"], "keeper:wax"),
        (vec!["ask", "gauge creates /comb/x"], "leaves keeper:bees 0644"),
        (vec!["ask", "gauge writes /comb/wax"], "9:bees: group bees has ---"),
        (vec!["ask", "ada creates /srv/x"], "leaves ada:ada 0644"),
        (vec!["why", "other writes /comb/honey"], "keeper:wax: other has ---"),
        (vec!["imprint"], "ada:crew"),
        (vec!["handoff"], "7:bees 0644"),
        (vec!["admits", "/comb/honey"], "any member of group bees and wax"),
        (vec!["exposure"], "keeper:bees on volume comb"),
        (vec!["compare", "--change", "gauge becomes 7:5300"], "5300 (wax)"),
        (vec!["compare", "--change", "for gauge sets-owner 0:5200 on /comb/honey"], "root:bees"),
        (vec!["remedy", "other writes /comb/honey"], "keeper:wax: other has ---"),
        (vec!["remedy", "/comb/honey at-most 0600"], "0640 keeper:wax, as gauge sees it"),
        (vec!["rehearse", "gauge creates /comb/x"], "-rw-r--r--  keeper:bees  x"),
        (vec!["uphold", "--expect", "e"], "-rw------- 0600 9:bees: group bees has ---"),
        (vec!["uphold", "--expect", "e", "--format", "junit"], "9:bees"),
        (vec!["ask", "gauge creates /comb/x", "--runtime", "docker,podman"], "the same under"),
    ] {
        std::fs::write(scratch.path().join("e"), "gauge writes /comb/wax\n").expect("ours");
        let all = [&words[..1], &["s.yaml", "-q", "--names"], &words[1..]].concat();
        let said = scratch.run(&all);
        assert!(said.contains(wanted), "{words:?}: {said}");
        let plain = scratch.run([&words[..1], &["s.yaml", "-q"], &words[1..]].concat());
        assert!(plain == said || !plain.contains(wanted), "{words:?}: {plain}");
    }
}

#[test]
fn documents_have_both() {
    let scratch = scratch();
    let row =
        &scratch.json(["access", "s.yaml", "-q", "--names", "/comb/wax", "--format", "json"])["rows"][0];
    assert_eq!([&row["uid"], &row["gid"], &row["gid_name"]], [&json!(9), &json!(5200), &json!("bees")]);
    assert!(row.get("uid_name").is_none(), "9 is nobody's: {row}");
    let act = ["ask", "s.yaml", "-q", "--names", "gauge creates /comb/x"];
    let left = &scratch.json([&act[..], &["--format", "json"]].concat())["acts"][0]["imprint"];
    let names = [&left["uid_name"], &left["gid_name"], &left["disk_uid_name"], &left["disk_gid_name"]];
    assert_eq!(names, [&json!("keeper"), &json!("bees"), &json!("ada"), &json!("crew")]);
    let lines = scratch.run([&act[..], &["gauge reads /comb/wax", "--format", "jsonl"]].concat());
    assert_eq!(
        lines.lines().filter(|line| line.starts_with('{') && line.ends_with('}')).count(),
        2,
        "{lines}"
    );
    let groups =
        scratch.json(["identity", "s.yaml", "-q", "--names", "--actor", "other", "--format", "json"]);
    assert_eq!(groups["actors"][0]["group_names"], json!([null, "bees"]), "{groups}");
}

#[test]
fn a_page_has_them() {
    let scratch = scratch();
    scratch.run(["report", "s.yaml", "-q", "--names", "-o", "r.html"]);
    let page = std::fs::read_to_string(scratch.path().join("r.html")).expect("written");
    for wanted in ["keeper:wax", "5101 (keeper)", "ada:crew 2770"] {
        assert!(page.contains(wanted), "{wanted}");
    }
}

#[test]
fn names_in_acts_count_whatever_says_them() {
    let scratch = scratch().and("acts", "# a comment\ngauge sets-group wax on /comb/honey\n");
    let act = "gauge sets-group wax on /comb/honey";
    for words in [
        vec!["ask", "s.yaml", "-q", act],
        vec!["ask", "s.yaml", "-q", "--acts", "acts"],
        vec!["ask", "s.yaml", "-q", "--acts", "acts", "--runtime", "docker,podman"],
        vec!["why", "s.yaml", "-q", act, "--runtime", "docker,podman"],
    ] {
        let said = scratch.run(&words);
        assert!(said.ends_with("--- status 0") && !said.contains("error"), "{words:?}: {said}");
    }
    let said = scratch.run(["ask", "s.yaml", "-q", "gauge sets-group wasps on /comb/honey"]);
    assert!(said.contains("`wasps` is not a numeric id") && said.ends_with("--- status 2"), "{said}");
}
