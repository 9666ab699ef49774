//! What is nearly right is answered with the form that is.

use serde_json::json;

use crate::scratch::Scratch;

fn scene(options: &str) -> Scratch {
    let scene = json!({
        "scene": 1,
        "images": { "x": { "tree": [{ "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" }] } },
        "containers": [
            { "name": "gauge", "image": "x", "user": "5102:5200", "mounts": [{ "volume": "v", "at": "/v", "options": [options] }] },
        ],
        "volumes": { "v": { "filesystem": "vfat", "tree": [
            { "path": "/", "kind": "dir", "owner": "5101:5200", "mode": "0755" },
            { "path": "/honey.txt", "owner": "5101:5200", "mode": "0640" },
            { "path": "/combs", "kind": "dir", "owner": "5101:5200", "mode": "0755" },
            { "path": "/combs/first", "owner": "5101:5200", "mode": "0640" },
        ] } },
    });
    Scratch::with("s.yaml", &scene.to_string())
}

#[test]
fn a_missing_name_shows_the_one_that_is_nearly_it() {
    for (path, near) in [
        ("/v/hony.txt", json!("/v/honey.txt")),
        ("/v/Honey.TXT", json!("/v/honey.txt")),
        ("/v/comb/first", json!("/v/combs/first")),
        ("/w/honey.txt", json!("/v/honey.txt")),
        ("/v/comb/second", json!(null)),
        ("/v/wax", json!(null)),
        ("/v/honey.txt", json!(null)),
    ] {
        let answer = scene("rw").json(["ask", "s.yaml", &format!("gauge reads {path}"), "--format", "json"]);
        assert_eq!(answer["acts"][0]["nearest"], near, "{path}: {answer}");
    }
    let said = scene("rw").run(["ask", "s.yaml", "gauge deletes /v/hony.txt"]);
    assert!(said.contains("no such entry; nearest: /v/honey.txt"), "{said}");
}

#[test]
fn a_mount_option_that_is_nearly_one_is_no_option() {
    for (option, meant) in
        [("RO", "ro"), ("NoExec", "noexec"), ("nosiud", "nosuid"), ("nodve", "nodev"), ("no-exec", "noexec")]
    {
        let said = scene(option).run(["mounts", "s.yaml"]);
        let told = said.contains(&format!("there is no mount option `{option}`"))
            && said.contains(&format!("did you mean `{meant}`?"));
        assert!(told && said.ends_with("--- status 2"), "{option}: {said}");
    }
    // One that the kernel takes and that decides nothing here is a warning, no slip.
    let said = scene("errors=continue").run(["mounts", "s.yaml"]);
    assert!(!said.contains("did you mean") && said.ends_with("--- status 0"), "{said}");
}

#[test]
fn an_actor_that_is_left_out_among_the_paths() {
    let said =
        scene("rw").and("e", "* never reads /v/** except app\n").run(["uphold", "s.yaml", "--expect", "e"]);
    assert!(said.contains("`app` is not a path to leave out") && said.contains("e:1:28"), "{said}");
    assert!(said.contains("`* except app never reads PATHS`") && said.ends_with("--- status 2"), "{said}");
}

#[test]
fn a_mode_in_decimal_that_looks_octal() {
    let pod = |mode: u16| {
        let pod = json!({
            "apiVersion": "v1", "kind": "Pod", "metadata": { "name": "p" },
            "spec": {
                "containers": [{ "name": "app", "image": "x", "volumeMounts": [{ "name": "s", "mountPath": "/s" }] }],
                "volumes": [{ "name": "s", "secret": { "secretName": "k", "defaultMode": mode } }],
            },
        });
        Scratch::with("p.yaml", &pod.to_string()).run(["mounts", "p.yaml"])
    };
    let odd = pod(500);
    assert!(
        odd.contains("500 is a decimal number here: the mode is 0764") && odd.contains("write 0500 (or 320)"),
        "{odd}"
    );
    let refused = pod(755);
    assert!(
        refused.contains("the API refuses mode 755") && refused.contains("write 0755 (or 493)"),
        "{refused}"
    );
    for fine in [256, 288, 292, 384, 416, 420, 432, 438, 493, 511] {
        let said = pod(fine);
        assert!(!said.contains("decimal number") && said.ends_with("--- status 0"), "{fine}: {said}");
    }
}

#[test]
fn somebody_who_is_forgotten() {
    for (act, said) in [
        ("gauge as reads /v/honey.txt", "`reads` stands where a user is expected"),
        ("gauge as root:b:c reads /v/honey.txt", "`root:b:c` stands where a user is expected"),
        ("gauge as", "the act ends where a user is expected"),
    ] {
        let told = scene("rw").run(["ask", "s.yaml", act]);
        assert!(told.contains(said) && told.ends_with("--- status 2"), "{act}: {told}");
    }
    // A user may have the name of a verb.
    let told = scene("rw").run(["ask", "s.yaml", "gauge as reads reads /v/honey.txt"]);
    assert!(told.contains("gauge as reads reads /v/honey.txt"), "{told}");
    let told = scene("rw").and("e", "never reads /v/**\n").run(["uphold", "s.yaml", "--expect", "e"]);
    assert!(told.contains("`* never VERB PATHS` for everybody") && told.ends_with("--- status 2"), "{told}");
}
