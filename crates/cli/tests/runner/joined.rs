//! Containers that join the IPC namespace or the network of others, or the host's.

use serde_json::{Value, json};

use crate::scratch::Scratch;

/// The outcome of every step of a rehearsal.
fn outcomes(scratch: &Scratch, input: &str, acts: &[&str]) -> Vec<String> {
    let words = [&["rehearse", input], acts, &["--format", "json"]].concat();
    let answer = scratch.json(words);
    let steps = answer["steps"].as_array().cloned().unwrap_or_default();
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    steps
        .iter()
        .map(|step| step["errno"].as_str().map_or_else(|| text(&step["outcome"]), str::to_owned))
        .collect()
}

fn services(services: &[(&str, Value)]) -> String {
    let all: serde_json::Map<_, _> = services
        .iter()
        .map(|(name, given)| {
            let mut service = json!({ "image": "hive", "user": "5101:5200" });
            if let (Some(service), Some(given)) = (service.as_object_mut(), given.as_object()) {
                service.extend(given.clone());
            }
            ((*name).to_owned(), service)
        })
        .collect();
    json!({ "services": all }).to_string()
}

const LEAVES: &str = "comb creates /dev/shm/s mode 0600";
const READS: &str = "scout reads /dev/shm/s";

#[test]
fn who_joins_an_ipc_namespace_sees_what_is_left_there() {
    let cases = [
        (json!({ "ipc": "shareable" }), json!({ "ipc": "service:comb" }), "allowed"),
        (json!({ "ipc": "shareable", "container_name": "c1" }), json!({ "ipc": "container:c1" }), "allowed"),
        (json!({ "ipc": "shareable" }), json!({ "ipc": "shareable" }), "ENOENT"),
        (json!({ "ipc": "shareable" }), json!({ "ipc": "container:elsewhere" }), "depends"),
        (json!({}), json!({ "ipc": "service:comb" }), "never-runs"),
        (json!({ "ipc": "private" }), json!({ "ipc": "service:comb" }), "never-runs"),
        (json!({ "ipc": "host" }), json!({ "ipc": "private" }), "ENOENT"),
        (json!({ "ipc": "shareable" }), json!({ "ipc": "none" }), "ENOENT"),
    ];
    for (comb, scout, wanted) in cases {
        let scratch = Scratch::with("c.yaml", &services(&[("scout", scout.clone()), ("comb", comb.clone())]));
        assert_eq!(outcomes(&scratch, "c.yaml", &[LEAVES, READS])[1], wanted, "{comb} {scout}");
    }
    // A row of them, and one of an engine that lends what is not asked for.
    let row = [
        ("scout", json!({ "ipc": "service:middle" })),
        ("middle", json!({ "ipc": "service:comb" })),
        ("comb", json!({})),
    ];
    let scratch = Scratch::with("c.yaml", &services(&row))
        .and("p.yaml", json!({ "scene": 1, "runtime": "podman", "workloads": ["c.yaml"] }).to_string());
    assert_eq!(outcomes(&scratch, "p.yaml", &[LEAVES, READS]), ["allowed", "allowed"]);
}

#[test]
fn who_joins_a_network_has_its_files_where_the_engine_does_so() {
    let both = [("comb", json!({ "user": "0" })), ("scout", json!({ "network_mode": "service:comb" }))];
    let scene =
        |runtime: &str| json!({ "scene": 1, "runtime": runtime, "workloads": ["c.yaml"] }).to_string();
    let scratch = Scratch::with("c.yaml", &services(&both))
        .and("docker.yaml", scene("docker"))
        .and("podman.yaml", scene("podman"));
    let acts = ["comb sets-mode 0600 on /etc/hosts", "scout reads /etc/hosts"];
    assert_eq!(outcomes(&scratch, "docker.yaml", &acts), ["allowed", "EACCES"]);
    assert_eq!(outcomes(&scratch, "podman.yaml", &acts), ["allowed", "allowed"]);
}

#[test]
fn a_pod_has_the_nodes_memory_or_its_own() {
    let pod = |host: bool| {
        json!({ "apiVersion": "v1", "kind": "Pod", "metadata": { "name": "hive" }, "spec": {
            "hostIPC": host,
            "securityContext": { "runAsUser": 5101, "runAsGroup": 5200 },
            "containers": [{ "name": "comb", "image": "hive" }, { "name": "scout", "image": "hive" }],
        } })
        .to_string()
    };
    let tree = json!([
        { "path": "/dev", "owner": "0:0", "mode": "0755", "kind": "dir" },
        { "path": "/dev/shm", "owner": "0:0", "mode": "1777", "kind": "dir" },
        { "path": "/dev/shm/old", "owner": "0:0", "mode": "0600" },
    ]);
    let scratch = Scratch::with("own.json", &pod(false)).and("host.json", pod(true)).and(
        "s.yaml",
        json!({ "scene": 1, "workloads": ["host.json"], "host": { "tree": tree } }).to_string(),
    );
    assert_eq!(outcomes(&scratch, "own.json", &[LEAVES, READS]), ["allowed", "allowed"]);
    assert_eq!(outcomes(&scratch, "s.yaml", &[LEAVES, READS]), ["allowed", "allowed"]);
    assert_eq!(outcomes(&scratch, "s.yaml", &["comb reads /dev/shm/old"]), ["EACCES"]);
    assert_eq!(outcomes(&scratch, "host.json", &["comb reads /dev/shm/old"]), ["depends"]);
}

#[test]
fn a_service_that_is_not_there_cannot_be_joined() {
    let one =
        [("comb", json!({})), ("scout", json!({ "ipc": "service:combs" })), ("fly", json!({ "ipc": "own" }))];
    let scratch = Scratch::with("c.yaml", &services(&one));
    let said = scratch.run(["identity", "c.yaml"]);
    for words in
        ["there is no service `combs` to join", "did you mean `service:comb`?", "`ipc: own` is no IPC mode"]
    {
        assert!(said.contains(words), "{said}");
    }
}
