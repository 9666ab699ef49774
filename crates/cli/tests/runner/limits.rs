//! How wide a path may be: held, and mended.

use serde_json::json;

use crate::scratch::Scratch;

/// A pod whose claim holds a data directory below its root, and whose key comes from a secret.
fn pod(user: u32) -> Scratch {
    let pod = json!({
        "apiVersion": "v1", "kind": "Pod", "metadata": { "name": "hives" },
        "spec": {
            "securityContext": { "runAsUser": user, "fsGroup": 5200 },
            "containers": [{
                "name": "keeper", "image": "x",
                "volumeMounts": [{ "name": "comb", "mountPath": "/comb" }, { "name": "key", "mountPath": "/key" }],
            }],
            "volumes": [
                { "name": "comb", "persistentVolumeClaim": { "claimName": "comb" } },
                { "name": "key", "secret": { "secretName": "k" } },
            ],
        },
    });
    let secret = json!({
        "apiVersion": "v1", "kind": "Secret", "metadata": { "name": "k" }, "data": { "id_ed25519": "aGVsbG8=" },
    });
    let scene = json!({
        "scene": 1,
        "workloads": ["pod.yaml"],
        "volumes": { "comb": { "group-ownership": "apply", "tree": [
            { "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" },
            { "path": "/data", "kind": "dir", "owner": "5101:5200", "mode": "0700" },
            { "path": "/data/PG_VERSION", "owner": "5101:5200", "mode": "0600" },
        ] } },
    });
    Scratch::with("s.yaml", &scene.to_string()).and("pod.yaml", format!("{pod}\n---\n{secret}\n"))
}

/// The changes of each remedy, and what each closes is not looked at.
fn remedies(scratch: &Scratch, limit: &str) -> Vec<String> {
    let found = scratch.json(["remedy", "-q", "s.yaml", limit, "--format", "json"]);
    let all = found["remedies"].as_array().expect("a list");
    all.iter()
        .map(|one| {
            let changes = one["changes"].as_array().expect("a list");
            changes.iter().filter_map(|one| one["change"].as_str()).collect::<Vec<_>>().join("; ")
        })
        .collect()
}

#[test]
fn a_data_directory_that_the_filesystem_group_widens() {
    let found = remedies(&pod(5101), "/comb/data at-most 0750");
    let off = "keeper filesystem-group none";
    let kept = "keeper filesystem-group on-root-mismatch; for keeper sets-mode g-ws on /comb/data";
    // Without the group the volume's own root is closed to the program.
    assert_eq!(found, [kept, off]);
    // The root of a volume that is narrowed is a mismatch itself, so only having no filesystem group helps.
    let found = remedies(&pod(0), "/comb at-most 0755");
    assert_eq!(found.first().map(String::as_str), Some(off), "{found:?}");
    assert!(found.iter().all(|one| one.contains(off)), "{found:?}");
}

#[test]
fn what_is_proposed_keeps_the_reader() {
    // Root's key at 0600 is none that user 5101 reads.
    let found = pod(5101).run(["remedy", "-q", "s.yaml", "/key/id_ed25519 at-most 0600"]);
    assert!(found.contains("Nothing narrow helps") && found.contains("an init container"), "{found}");
    let found = remedies(&pod(0), "/key/id_ed25519 at-most 0600");
    assert_eq!(found, ["keeper filesystem-group none; keeper mounts /key with mode=0600"]);
}

#[test]
fn a_remedy_that_is_applied_holds() {
    let scratch = pod(5101);
    for (pick, rest) in [("2", None), ("1", Some("for keeper sets-mode g-ws on /comb/data"))] {
        let scratch = pod(5101);
        scratch.run([
            "remedy",
            "-q",
            "s.yaml",
            "/comb/data at-most 0750",
            "--pick",
            pick,
            "--apply-to",
            "pod.yaml",
        ]);
        let mut asked = vec!["remedy", "-q", "s.yaml", "/comb/data at-most 0750"];
        asked.extend(rest.into_iter().flat_map(|change| ["--change", change]));
        let said = scratch.run(asked);
        assert!(said.contains("There is nothing to mend."), "{pick}: {said}");
    }
    let said = scratch.run(["remedy", "-q", "s.yaml", "/comb/data at-most 0770"]);
    assert!(said.contains("the filesystem-group step widens it"), "2770 has a bit more: {said}");
}

#[test]
fn a_data_directory_and_a_key_are_known_without_being_told() {
    let said = pod(5101).run(["exposure", "-q", "s.yaml"]);
    assert!(said.contains("too-wide /comb/data") && said.contains("checkDataDir"), "{said}");
    assert!(said.contains("the filesystem-group step is what widened it"), "{said}");
    // ssh takes a key of root's that a group may read.
    assert!(!said.contains("sshkey_perm_ok") && said.ends_with("--- status 0"), "{said}");
    assert!(pod(0).run(["exposure", "-q", "s.yaml"]).contains("sshkey_perm_ok"));
}

#[test]
fn a_limit_that_is_no_limit_and_a_path_that_is_not_there() {
    let scratch = pod(5101);
    for (limit, said) in [
        ("/comb/* at-most 0700", "stands for several paths"),
        ("/comb at-most", "is not a limit"),
        ("nobody /comb at-most 0700", "there is no actor `nobody`"),
    ] {
        let told = scratch.run(["remedy", "-q", "s.yaml", limit]);
        assert!(told.contains(said) && told.ends_with("--- status 2"), "{limit}: {told}");
    }
    let told = scratch.run(["remedy", "-q", "s.yaml", "/comb/none at-most 0700"]);
    assert!(told.starts_with("missing") && told.contains("no such entry"), "{told}");
    let told = scratch.run(["remedy", "-q", "s.yaml", "/etc/x at-most 0700"]);
    assert!(told.starts_with("depends") && told.contains("what is at /etc/x"), "{told}");
}

/// Modes without owners are what a listing with names tells where nobody knows the names.
#[test]
fn a_mode_that_is_too_wide_is_so_whoever_owns_it() {
    let listing = ".:\ntotal 8\ndrwxr-xr-x 2 keeper bees 10 Nov 30 03:09 .\n-rw-r----- 1 keeper bees 10 Nov 30 03:09 key\n";
    let scene = json!({
        "scene": 1,
        "images": { "x": { "tree": [{ "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" }] } },
        "containers": [{ "name": "a", "image": "x", "user": "5:5", "mounts": [{ "volume": "v", "at": "/v" }] }],
        "volumes": { "v": { "tree": "ls.txt" } },
    });
    let scratch = Scratch::with("s.yaml", &scene.to_string()).and("ls.txt", listing);
    for (limit, status, outcome) in [
        ("/v/key at-most 0600", 1, "broken"),
        ("/v/key at-most 0640", 0, "holds"),
        ("/v/key at-most 0640 owned-by 5", 1, "depends"),
        ("/v/key at-most 0600 owned-by 5", 1, "broken"),
    ] {
        std::fs::write(scratch.path().join("e"), format!("{limit}\n")).expect("ours");
        let said = scratch.run(["uphold", "-q", "s.yaml", "--expect", "e"]);
        let word = if outcome == "depends" { "1 depends" } else { outcome };
        assert!(said.contains(word) && said.ends_with(&format!("--- status {status}")), "{limit}: {said}");
        let said = scratch.run(["exposure", "-q", "s.yaml", "--at-most", limit]);
        assert!(said.ends_with(&format!("--- status {status}")), "{limit}: {said}");
    }
}
