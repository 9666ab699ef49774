//! `--rootless` and `--host-accounts`: whose engine it is.

use crate::scratch::Scratch;

const COMPOSE: &str = "services:
  app: { image: i, user: '405:1001', userns_mode: 'MODE', volumes: ['/srv/d:/in'] }
";

fn scratch(mode: &str) -> Scratch {
    let scene = "scene: 1\nruntime: podman\nworkloads: [c.yaml]\nhost: { tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, \
                 { path: /srv, kind: dir, owner: '0:0', mode: '0755' }, { path: /srv/d, kind: dir, owner: '1500:1500', mode: '0750' }] }\n";
    Scratch::with("c.yaml", &COMPOSE.replace("MODE", mode))
        .and("s.yaml", scene)
        .and("etc/passwd", "ada:x:1500:1500::/home/ada:/bin/sh\n")
        .and("etc/group", "ada:x:1500:\ncrew:x:1600:ada\n")
        .and("etc/subuid", "ada:300000:65536\n")
        .and("etc/subgid", "ada:300000:65536\n")
        .and("other/passwd", "bob:x:7:7::/:\n")
        .and("odd/passwd/x", "")
}

#[test]
fn who_starts_the_engine_is_named_on_the_command_line() {
    let scratch = scratch("host");
    let who = ["identity", "-q", "s.yaml", "--host-accounts", "etc", "--rootless", "ada", "--format", "json"];
    let actor = scratch.json(who)["actors"][0].clone();
    let numbers = ["uid", "gid", "host_uid", "host_gid"].map(|key| actor[key].as_u64());
    assert_eq!(numbers, [Some(405), Some(1001), Some(300_404), Some(301_000)], "{actor:#}");
    assert_eq!(actor["started_by"], "ada");
    let shown = scratch.run(["identity", "-q", "s.yaml", "--host-accounts", "etc", "--rootless", "ada"]);
    assert!(shown.contains("300404 (line 1 300000 65536)"), "{shown}");
}

#[test]
fn keep_id_makes_the_user_who_starts_it() {
    let scratch = scratch("keep-id:uid=405,gid=1001");
    let ask = |who: &str| {
        scratch.run(["ask", "-q", "s.yaml", "--host-accounts", "etc", "--rootless", who, "app creates /in/x"])
    };
    let known = ask("ada");
    assert!(known.contains("leaves 405:1001 0644, stored as 1500:1500"), "{known}");
    // By number, of whom no more is known than that: the ids are as those of a new account.
    let number = scratch.run(["ask", "-q", "s.yaml", "--rootless", "1500", "app creates /in/x"]);
    assert!(number.contains("stored as 1500:1500") && number.contains("100000-165535"), "{number}");
    let untold = scratch.run(["ask", "-q", "s.yaml", "app creates /in/x"]);
    assert!(untold.contains("depends") && untold.contains("--rootless USER"), "{untold}");
}

#[test]
fn whom_nobody_knows_starts_nothing() {
    let scratch = scratch("host");
    for (options, message) in [
        (&["--rootless", "ada"][..], "`ada` cannot be looked up: the host's accounts are not given"),
        (&["--rootless", "eve", "--host-accounts", "etc"], "no account of the host is called `eve`"),
        (
            &["--rootless", "ada", "--host-accounts", "none"],
            "there is no passwd, group, subuid or subgid in it",
        ),
        (&["--rootless", "7", "--host-accounts", "odd"], "odd/passwd: it is not a file"),
        (&["--rootless", ""], "a value is required"),
    ] {
        let told = scratch.run([&["identity", "s.yaml"], options].concat());
        assert!(told.contains(message) && told.ends_with("--- status 2"), "{options:?}: {told}");
    }
    // A copy that is missing says nothing: what is taken for granted instead is named.
    let told = scratch.run(["identity", "-q", "s.yaml", "--rootless", "bob", "--host-accounts", "other"]);
    assert!(told.contains("assumed: bob has the subordinate ids 100000-165535"), "{told}");
    assert!(told.contains("assumed: user 7 is in no further group of the host"), "{told}");
    // One that is there and has no line for the user is another matter: there is one id.
    let empty = scratch.and("other/subuid", "").and("other/subgid", "");
    let told = empty.run(["identity", "-q", "s.yaml", "--rootless", "bob", "--host-accounts", "other"]);
    assert!(told.contains("never runs: 405:1001 or one of its groups has no mapping"), "{told}");
}

#[test]
fn whoever_is_somebody_else_on_the_host_is_told_so() {
    let scratch = scratch("host");
    let told = scratch.run(["identity", "s.yaml", "--rootless", "1500"]);
    let warning = "warning: user 1500's own /srv/d on the host belongs to root in app, which runs as 405 (100404 on the host)";
    assert!(told.contains(warning), "{told}");
    assert!(told.contains("`--userns keep-id:uid=405,gid=1001` makes it user 1500"), "{told}");
    let kept = scratch.run(["identity", "c.yaml", "--runtime", "podman", "--rootless", "405"]);
    assert!(!kept.contains("own /srv/d"), "{kept}");
}

#[test]
fn owners_are_shown_inside_and_on_the_host() {
    let scratch = scratch("host");
    let access = scratch.run(["access", "-q", "s.yaml", "/in", "--rootless", "1500"]);
    assert!(access.contains("on the host") && access.contains("0:0    1500:1500"), "{access}");
    let mounts = scratch.json(["mounts", "-q", "s.yaml", "--rootless", "1500", "--format", "json"]);
    let mounts = mounts["mounts"].as_array().cloned().unwrap_or_default();
    let bound = mounts.iter().find(|mount| mount["at"] == "/in").cloned().unwrap_or_default();
    assert_eq!((&bound["inside_uid"], &bound["root"]["uid"]), (&0.into(), &1500.into()), "{bound:#}");
}

fn said(script: &str) -> String {
    Scratch::with("run.sh", script).run(["identity", "run.sh"])
}

#[test]
fn a_mode_and_a_map_exclude_one_another() {
    let told = said("podman run --userns=keep-id --uidmap 0:1:2 img\n");
    assert!(told.contains("`--uidmap` and `--userns` exclude one another"), "{told}");
    assert!(told.ends_with("--- status 2"), "{told}");
}

#[test]
fn maps_of_numbers_are_followed_and_others_are_not() {
    for (maps, known) in [
        ("--uidmap 0:100000:65536", true),
        ("--uidmap 0:100000:1000 --uidmap 1000:5000:1 --gidmap=0:200000:65536", true),
        ("--uidmap +0:100000:10", true),
        ("--uidmap 0:@1000:10", true),
        ("--uidmap 0:1:10 --uidmap 5:100:10", true),
        ("--subuidname tide --subgidname crew", false),
    ] {
        let told = said(&format!("podman run {maps} img\n"));
        assert_eq!(!told.contains("is not modelled: answers depend"), known, "{maps}: {told}");
    }
    let shared = said("podman run --uidmap 0:1:10 --uidmap 5:100:10 img\n");
    assert!(shared.contains("never runs: two lines of the map share ids"), "{shared}");
    for wrong in ["0:1", "a:b:c", "0:1:0", "0:1:2:3"] {
        let told = said(&format!("podman run --uidmap {wrong} img\n"));
        let refused = told.contains("is not INSIDE:FROM:COUNT") && told.ends_with("--- status 2");
        assert_eq!(refused, wrong != "0:1", "{wrong}: {told}");
    }
}

#[test]
fn a_remedy_keeps_the_id_or_is_made_as_who_starts_the_engine() {
    let scratch = scratch("host");
    let told = scratch.run([
        "remedy",
        "-q",
        "s.yaml",
        "app creates /in/x",
        "--host-accounts",
        "etc",
        "--rootless",
        "ada",
        "--most",
        "9",
    ]);
    let first = told.lines().find(|line| line.starts_with("1  ")).unwrap_or_default();
    assert_eq!(first, "1  process  app user-namespace keep-id:uid=405,gid=1001", "{told}");
    assert!(told.contains("userns_mode: \"keep-id:uid=405,gid=1001\""), "{told}");
    assert!(told.contains("# as ada, in the namespace of its engine: its ids there"), "{told}");
    assert!(told.contains("podman unshare chown 405 /srv/d"), "{told}");
    assert!(told.contains("app mounts /in with U") && told.contains("/srv/d:/in:U"), "{told}");
    // What is not the engine's to give is root's to change.
    let root = scratch.run(["remedy", "-q", "s.yaml", "app creates /in/x", "--rootless", "7", "--most", "9"]);
    assert!(!root.contains("podman unshare") && root.contains("on the host, as root"), "{root}");
}

#[test]
fn a_user_namespace_is_a_change() {
    let scratch = scratch("host");
    let asked = |mode: &str| {
        let change = format!("app user-namespace {mode}");
        let who = ["--host-accounts", "etc", "--rootless", "ada", "--change", &change];
        scratch.run([&["ask", "-q", "s.yaml", "app creates /in/x"], &who[..]].concat())
    };
    assert!(asked("keep-id:uid=405,gid=1001").contains("stored as 1500:1500"));
    assert!(asked("nomap").contains("denied EACCES"));
    let wrong = asked("keep-ids");
    assert!(
        wrong.contains("`keep-ids` is not a user namespace") && wrong.ends_with("--- status 2"),
        "{wrong}"
    );
}

#[test]
fn whoever_enters_has_what_the_engine_keeps_and_nothing_that_it_adds() {
    let scene = "scene: 1
runtime: podman
workloads: [c.yaml]
images: { i: { user: null, accounts: { passwd: \"root:x:0:0::/:\\nbob:x:1000:1000::/:\\n\", group: \"wheel:x:10:root,bob\\n\" } } }
host: { started-by: ada, accounts: { passwd: etc/passwd, group: etc/group }, subuid: etc/subuid, subgid: etc/subgid }
";
    let services = "services:
  plain: { image: i, userns_mode: keep-id }
  kept: { image: i, userns_mode: keep-id, group_add: [keep-groups] }
";
    let scratch = scratch("host").and("e.yaml", scene).and("c.yaml", services);
    let groups = |actor: &str| {
        let told = scratch.json(["identity", "-q", "e.yaml", "--actor", actor, "--format", "json"]);
        told["actors"][0]["groups"].clone()
    };
    assert_eq!(groups("plain as bob"), serde_json::json!([10]));
    assert_eq!(groups("kept as bob"), serde_json::json!([1500, 65534]));
    assert_eq!(groups("plain"), serde_json::json!([1500]));
}

#[test]
fn kept_groups_are_kept_in_what_confirm_rebuilds() {
    let scene = "scene: 1
runtime: podman
workloads: [c.yaml]
images: { i: { user: '405:1001', tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }] } }
volumes: { data: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '0:1600', mode: '2770' }] } }
host: { started-by: ada, accounts: { passwd: etc/passwd, group: etc/group }, subuid: etc/subuid, subgid: etc/subgid }
";
    let services = "services: { c: { image: i, group_add: [keep-groups], volumes: ['data:/in'] } }
volumes: { data: { external: true } }
";
    let scratch = scratch("host").and("e.yaml", scene).and("c.yaml", services);
    let told = scratch.run(["confirm", "-q", "e.yaml", "c creates /in/x"]);
    if told.contains("skipped") || told.contains("takes root") {
        return skipped(&told);
    }
    assert!(told.contains("1 the same, 0 different"), "{told}");
}

#[expect(clippy::print_stdout, reason = "a test says what it skips")]
fn skipped(why: &str) {
    println!("skipped: kept groups in confirm: {why}");
}

#[test]
fn a_pod_has_nobody_who_starts_its_engine() {
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: {name: p}\nspec: {containers: [{name: c, image: i}]}\n";
    let told = Scratch::with("p.yaml", pod).run(["identity", "p.yaml", "--rootless", "1500"]);
    assert!(told.contains("nothing here is one, so it changes nothing"), "{told}");
    assert!(!told.contains("on the host"), "{told}");
}

#[test]
fn an_engine_is_roots_with_other_ids_or_somebody_elses() {
    let scene = "scene: 1\nworkloads: [c.yaml]\nhost:\n  started-by: 1500\n  user-namespace: { uids: [\"0 100000 65536\"] }\n";
    let told = scratch("host").and("e.yaml", scene).run(["identity", "e.yaml"]);
    let message = "`started-by` and `user-namespace` of the host exclude one another";
    assert!(
        told.contains(message) && told.contains("e.yaml:4:15") && told.ends_with("--- status 2"),
        "{told}"
    );
}

#[test]
fn a_daemon_gives_the_ids_of_somebody() {
    let scene = "scene: 1\nruntime: docker\nworkloads: [c.yaml]\nhost: { remapped-to: 'ada:crew', accounts: { passwd: etc/passwd, group: etc/group }, \
                 subuid: etc/subuid, subgid: etc/subgid }\n";
    let scratch = scratch("").and("e.yaml", scene);
    let host = |words: &[&str]| {
        let actor = &scratch.json(words)["actors"][0];
        ["host_uid", "host_gid"].map(|key| actor[key].as_u64())
    };
    let ids = [Some(300_405), Some(301_001)];
    assert_eq!(host(&["identity", "-q", "e.yaml", "--format", "json"]), ids);
    // The same on the command line, and a member of the host's root has no other ids.
    let given = ["identity", "-q", "c.yaml", "--host-accounts", "etc", "--format", "json", "--remapped-to"];
    assert_eq!(host(&[given.as_slice(), &["1500"]].concat()), ids);
    assert_eq!(host(&[given.as_slice(), &["root"]].concat()), [Some(405), Some(1001)]);
    for (words, why) in [
        (
            &["--remapped-to", "ada"][..],
            "the subordinate ids of `ada` are not given; give them with --host-accounts",
        ),
        (&["--remapped-to", "eve", "--host-accounts", "etc"], "no account of the host is called `eve`"),
        (&["--remapped-to", "default", "--host-accounts", "other"], "--remapped-to default: "),
        (&["--remapped-to", "ada", "--rootless", "ada"], "cannot be used with"),
    ] {
        let told = scratch.run([&["identity", "c.yaml"], words].concat());
        assert!(told.contains(why) && told.ends_with("--- status 2"), "{words:?}: {told}");
    }
    let podman = scratch.run([
        "identity",
        "c.yaml",
        "--runtime",
        "podman",
        "--remapped-to",
        "ada",
        "--host-accounts",
        "etc",
    ]);
    assert!(podman.contains("warning: --remapped-to is about Docker's daemon"), "{podman}");
    let both = scene.replace("remapped-to", "started-by: ada, remapped-to");
    let told = Scratch::with("c.yaml", COMPOSE).and("e.yaml", &both).run(["identity", "e.yaml"]);
    assert!(told.contains("`started-by` and `remapped-to` of the host exclude one another"), "{told}");
}

#[test]
fn subordinate_ids_by_name_are_those_of_the_host() {
    let scratch = scratch("").and("run.sh", "podman run --subuidname ada --name c -u 5:5 i\n");
    let known = scratch.json(["identity", "-q", "run.sh", "--host-accounts", "etc", "--format", "json"]);
    let actor = &known["actors"][0];
    assert_eq!(["host_uid", "host_gid"].map(|key| actor[key].as_u64()), [Some(300_005); 2], "{actor:#}");
    let unknown = scratch.run(["identity", "run.sh"]);
    assert!(unknown.contains("not known: which ids `--subuidname ada` gives"), "{unknown}");
    let nobody = scratch.and("run.sh", "podman run --subuidname eve --name c i\n");
    let nobody = nobody.run(["identity", "run.sh", "--host-accounts", "etc"]);
    assert!(nobody.contains("no line of the host's subuid and subgid is that of `eve`"), "{nobody}");
}

#[test]
fn a_mount_with_the_ids_of_the_container_is_a_remedy_for_who_is_not_root() {
    let scene = "scene: 1\nworkloads: [run.sh]\nhost: { tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, \
                 { path: /srv, kind: dir, owner: '7101:7101', mode: '0750' }, { path: /own, kind: dir, owner: '0:0', mode: '0700' }] }\n";
    let script = "podman run --name app --uidmap 0:100000:65536 --gidmap 0:100000:65536 -u 7101:7101 -v /srv:/in i\n\
                  podman run --name root --uidmap 0:100000:65536 --gidmap 0:100000:65536 -u 0:0 -v /own:/in i\n";
    let scratch = Scratch::with("s.yaml", scene).and("run.sh", script);
    let order = |act: &str| -> Vec<usize> {
        let told = scratch.run(["remedy", "-q", "s.yaml", act, "--most", "20"]);
        let at = |what: &str| told.find(what).unwrap_or_else(|| panic!("{what}: {told}"));
        let name = act.split(' ').next().unwrap_or_default();
        vec![at(&format!("{name} mounts /in with idmap")), at(&format!("for {name} sets-owner"))]
    };
    assert!(order("app creates /in/x").is_sorted());
    // Root would be the host's root on that disk.
    assert!(!order("root creates /in/x").is_sorted());
}

#[test]
fn a_users_unit_has_the_ids_that_a_scene_gives() {
    let unit = "[Container]\nImage=tides/c:1\nUser=5:5\n";
    let maps = "scene: 1\nruntime: podman\nworkloads: [me/.config/containers/systemd/c.container]\nhost: { user-namespace: { uids: [\"0 1500 1\", \"1 200000 9\"], gids: [\"0 1500 1\", \"1 200000 9\"] } }\n";
    let scratch = Scratch::with("me/.config/containers/systemd/c.container", unit).and("s.yaml", maps);
    let told = scratch.json(["identity", "-q", "s.yaml", "--format", "json"])["actors"][0].clone();
    assert_eq!(
        (&told["host_uid"], &told["missing_facts"]),
        (&200_004.into(), &serde_json::json!([])),
        "{told:#}"
    );
    // Without them nobody knows whose it is.
    let alone =
        scratch.json(["identity", "-q", "me/.config/containers/systemd/c.container", "--format", "json"]);
    let alone = &alone["actors"][0];
    assert!(alone["host_uid"].is_null() && alone["missing_facts"] != serde_json::json!([]), "{alone:#}");
}
