//! Machine output: field names and values stay as they are.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use insta::assert_snapshot;
use serde_json::Value;
use serde_json::json;

use crate::runtimes::COMPOSE;
use crate::scratch::{BOATS, SCENE, Scratch, TIDES, pod};

fn tides() -> Scratch {
    Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", SCENE)
}

#[test]
fn identity_as_json() {
    let document = tides().json(["identity", "s.yaml", "--format", "json"]);
    assert_eq!(document["mivask"], 1);
    let actor = &document["actors"][0];
    for (field, value) in [
        ("actor", json!("gauge")),
        ("starts", json!(true)),
        ("refusal", Value::Null),
        ("uid", json!(7101)),
        ("gid", json!(7200)),
        ("groups", json!([7200, 7300])),
        ("name", Value::Null),
        ("umask", json!("0022")),
        ("no_new_privileges", json!(false)),
    ] {
        assert_eq!(actor[field], value, "{field}");
    }
    assert_eq!(actor["capabilities"]["effective"], json!([]));
    assert_eq!(actor["capabilities"]["bounding"].as_array().unwrap().len(), 14);
    assert_eq!(actor["facts"][0]["from"], "pod.yaml:6:33 securityContext.runAsUser");
}

#[test]
fn without_a_security_context_and_user_it_is_root_alone() {
    let scratch = Scratch::with("pod.yaml", &pod("{}")).and("s.yaml", SCENE);
    let actor = &scratch.json(["identity", "s.yaml", "--format", "json"])["actors"][0];
    assert_eq!((&actor["uid"], &actor["gid"], &actor["groups"]), (&json!(0), &json!(0), &json!([0])));
}

#[test]
fn mounts_as_json() {
    let document = tides().json(["mounts", "s.yaml", "--format", "json"]);
    let mounts = document["mounts"].as_array().unwrap();
    let app = mounts.iter().find(|mount| mount["at"] == "/data/app").unwrap();
    assert_eq!(app["root"], json!({ "uid": 0, "gid": 7300, "mode": "2777", "ids": "stored" }));
    assert_eq!(app["prepared_from"], json!({ "uid": 0, "gid": 0, "mode": "0777", "ids": "stored" }));
    assert_eq!(
        (&app["kind"], &app["flags"], &app["touches"]),
        (&json!("emptyDir"), &json!(["rw"]), &json!(1))
    );
    assert!(mounts.iter().any(|mount| mount["at"] == "/dev/shm"), "the runtime's own mounts are there too");
}

#[test]
fn access_as_json() {
    let document = tides().json(["access", "s.yaml", "/closed/key", "/data/app", "--format", "json"]);
    let key = &document["rows"][0];
    assert_eq!(
        (&key["kind"], &key["mode"], &key["read"]),
        (&json!("file"), &json!("0400"), &json!("denied"))
    );
    assert_eq!((&key["errnos"]["read"], &key["list"]), (&json!("EACCES"), &Value::Null));
    assert_eq!(document["rows"][1]["create"], "allowed");
}

#[test]
fn imprint_as_json() {
    let document = tides().json(["imprint", "s.yaml", "/data/app", "/open", "--format", "json"]);
    let imprint = |row: usize| &document["rows"][row]["imprint"];
    let expected = json!({ "uid": 7101, "gid": 7300, "mode": "0644", "disk_uid": 7101, "disk_gid": 7300, "acl": null, "default_acl": null });
    assert_eq!(*imprint(0), expected);
    assert_eq!((&imprint(1)["mode"], &imprint(2)["gid"]), (&json!("2755"), &json!(7200)));
}

#[test]
fn ask_as_json_and_as_lines() {
    let acts = ["gauge reads /closed/key", "gauge creates /open/x"];
    let document = tides().json(["ask", "s.yaml", acts[0], acts[1], "--format", "json"]);
    assert_eq!(
        (&document["acts"][0]["outcome"], &document["acts"][0]["errno"]),
        (&json!("denied"), &json!("EACCES"))
    );
    let lines = tides().run(["ask", "s.yaml", acts[0], acts[1], "--format", "jsonl"]);
    let parsed: Vec<Value> = lines
        .lines()
        .filter(|line| line.starts_with('{'))
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
    assert_eq!(parsed.len(), 2);
    for (line, act) in parsed.iter().zip(document["acts"].as_array().unwrap()) {
        let mut line = line.clone();
        assert_eq!(line.as_object_mut().unwrap().remove("mivask"), Some(json!(1)));
        assert_eq!(line, *act);
    }
}

#[test]
fn why_as_json() {
    assert_snapshot!(tides().run(["why", "s.yaml", "gauge reads /closed/key", "--format", "json"]), @r#"
    {
      "mivask": 1,
      "act": "gauge reads /closed/key",
      "actor": "gauge",
      "outcome": "denied",
      "errno": "EACCES",
      "errnos": [
        "EACCES"
      ],
      "reason": {
        "path": "/closed",
        "check": "other-bits",
        "fact": "drwxr-x--- 0750 405:1001: other has ---, needed --x",
        "needed": "--x",
        "granted": "---",
        "from": {
          "text": "s.yaml:10:9 tree",
          "file": "s.yaml",
          "line": 10,
          "column": 9
        }
      },
      "nearest": null,
      "refusal": null,
      "imprint": null,
      "runs_as": null,
      "depends_on": [],
      "usually": null,
      "assumptions": [],
      "expected": null,
      "holds": null,
      "trace": [
        {
          "step": 1,
          "path": "/",
          "check": "other-bits",
          "fact": "drwxr-xr-x 0755 0:0: other has r-x, needed --x",
          "from": "s.yaml:8:9 tree",
          "result": "passed"
        },
        {
          "step": 2,
          "path": "/closed",
          "check": "other-bits",
          "fact": "drwxr-x--- 0750 405:1001: other has ---, needed --x",
          "from": "s.yaml:10:9 tree",
          "result": "EACCES"
        }
      ]
    }
    --- status 0
    "#);
}

#[test]
fn a_missing_fact_as_json() {
    let scratch = Scratch::with("pod.yaml", &pod("{}"));
    let document = scratch.json(["ask", "pod.yaml", "gauge writes /etc/hosts", "--format", "json"]);
    let act = &document["acts"][0];
    assert_eq!((&act["outcome"], &act["errno"]), (&json!("depends"), &Value::Null));
    let ways = act["depends_on"].as_array().unwrap();
    assert_eq!(ways.len(), 2);
    assert_eq!(
        (&ways[0]["when"], &ways[0]["outcome"]),
        (&json!("the image runs as root"), &json!("allowed"))
    );
    assert_eq!((&ways[1]["outcome"], &ways[1]["errno"]), (&json!("denied"), &json!("EACCES")));
}

/// The schema accepts the demo and the test scenes, and refuses what the reader refuses.
#[test]
fn the_schema_of_the_scene_file_describes_what_is_read() {
    let schema = tides().json(["schema", "scene"]);
    let published = include_str!("../../../../schemas/scene.schema.json");
    assert_eq!(
        serde_json::from_str::<Value>(published).unwrap(),
        schema,
        "run `mivask schema scene > schemas/scene.schema.json`"
    );
    let validator = jsonschema::validator_for(&schema).unwrap();
    let good = json!({ "scene": 1, "workloads": ["a.yaml"], "images": { "a": { "user": null, "tree": [{ "path": "/", "mode": 755 }] } } });
    assert!(validator.is_valid(&good));
    for bad in [
        json!({}),
        json!({ "scene": "one" }),
        json!({ "scene": 1, "containers": [{}] }),
        json!({ "scene": 1, "workloads": 3 }),
    ] {
        assert!(!validator.is_valid(&bad), "{bad}");
    }
}

/// One real answer or more for each published schema, and none is left out.
#[test]
fn every_machine_output_fits_its_schema() {
    let published = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../schemas");
    let scratch = Scratch::with("s.yaml", BOATS)
        .and("bad.acts", "mate writes /hold\n* never writes /hold/**\n")
        .and("some.acts", "mate writes /hold/log\nstowaway reads /hold/keys/id_rsa\ncook deletes /\n")
        .and("o.yaml", "scene: 1\ncontainers: [{ name: mate, image: a }]\nexpect: [mate reads /x]\n")
        .and("before.txt", "-rw-r--r-- 1 5 5 1 Nov 1 10:00 a\n-rw-r--r-- 1 5 5 1 Nov 1 10:00 b\n")
        .and("after.txt", "-rw-rw-r-- 1 5 5 1 Nov 1 10:00 a\ndrwxr-xr-x 1 5 5 1 Nov 1 10:00 c\n")
        .and("c.yaml", COMPOSE);
    let written = scratch.run(["schema", "--to", "schemas"]);
    assert_eq!(written, "--- status 0");
    let mut left: BTreeSet<String> = BTreeSet::new();
    for entry in std::fs::read_dir(scratch.path().join("schemas")).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_str().unwrap().to_owned();
        let same = std::fs::read(&path).unwrap() == std::fs::read(published.join(&name)).unwrap_or_default();
        assert!(same, "{name}: run `mivask schema --to schemas`");
        left.insert(name.strip_suffix(".schema.json").unwrap().to_owned());
    }
    left.remove("scene");
    let answers: &[(&str, &[&str])] = &[
        ("identity", &["identity", "s.yaml"]),
        ("identity", &["identity", "o.yaml"]),
        ("mounts", &["mounts", "s.yaml"]),
        ("access", &["access", "s.yaml"]),
        ("access", &["access", "s.yaml", "/hold", "--tree", "--list"]),
        ("access-tree", &["access", "s.yaml", "/hold", "--tree"]),
        (
            "ask",
            &["ask", "s.yaml", "mate creates /hold/x -> allowed", "cook reads /etc/x", "mate runs /bin/lend"],
        ),
        ("act", &["why", "s.yaml", "stowaway reads /hold/keys/id_rsa"]),
        ("imprint", &["imprint", "s.yaml"]),
        (
            "rehearse",
            &[
                "rehearse",
                "s.yaml",
                "mate creates /hold/x",
                "mate becomes 1:1",
                "mate deletes /hold/x",
                "cook reads /etc/x",
            ],
        ),
        ("handoff", &["handoff", "s.yaml"]),
        ("admits", &["admits", "s.yaml", "/hold/keys/id_rsa"]),
        ("reached", &["admits", "s.yaml", "--actor", "mate"]),
        ("exposure", &["exposure", "s.yaml", "--at-most", "/hold/log at-most 0600"]),
        ("compare", &["compare", "s.yaml", "--change", "mate becomes 900:900"]),
        ("drift", &["compare", "before.txt", "after.txt"]),
        ("remedy", &["remedy", "s.yaml", "stowaway reads /hold/keys/id_rsa"]),
        ("remedy-tree", &["remedy", "s.yaml", "stowaway reads /hold/**"]),
        ("remedy-together", &["remedy", "s.yaml", "--acts", "some.acts"]),
        ("decode", &["decode", "2750", "--umask", "0027"]),
        ("confirm", &["confirm", "s.yaml", "mate writes /hold/log", "cook reads /hold/log"]),
        ("confirm-random", &["confirm", "--random", "20", "--seed", "1"]),
        ("uphold", &["uphold", "s.yaml", "o.yaml", "none.yaml", "--expect", "bad.acts"]),
        ("runtimes", &["access", "c.yaml", "--runtime", "docker,podman"]),
    ];
    for (name, words) in answers {
        left.remove(*name);
        let output = Command::new(env!("CARGO_BIN_EXE_mivask"))
            .args(*words)
            .args(["--format", "json"])
            .current_dir(scratch.path())
            .output()
            .unwrap();
        // Where there is no privilege to try acts, that is said elsewhere.
        let Ok(document) = serde_json::from_slice::<Value>(&output.stdout) else {
            assert!(words[0] == "confirm", "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
            continue;
        };
        let schema = std::fs::read(published.join(format!("{name}.schema.json"))).unwrap();
        let validator = jsonschema::validator_for(&serde_json::from_slice(&schema).unwrap()).unwrap();
        let wrong: Vec<String> = validator.iter_errors(&document).map(|error| error.to_string()).collect();
        assert!(wrong.is_empty(), "{words:?}: {wrong:?}");
        assert!(!validator.is_valid(&json!({ "mivask": 1 })), "{name} takes anything");
    }
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn colour_is_for_those_who_ask() {
    let scratch = tides();
    assert!(!scratch.run(["ask", "s.yaml", "gauge reads /open"]).contains('\u{1b}'));
    assert!(scratch.run(["ask", "s.yaml", "gauge reads /open", "--color", "always"]).contains('\u{1b}'));
}

#[test]
fn help_has_an_example_for_every_command() {
    let scratch = tides();
    let commands = [
        "identity",
        "mounts",
        "access",
        "ask",
        "why",
        "imprint",
        "rehearse",
        "handoff",
        "admits",
        "exposure",
        "compare",
        "remedy",
        "decode",
        "survey",
        "uphold",
        "report",
        "confirm",
        "completions",
        "manual",
        "demo",
        "schema",
    ];
    for command in commands {
        let help = scratch.run([command, "--help"]);
        assert!(
            (help.contains(&format!("Example: mivask {command}"))
                || help.contains(&format!("  mivask {command} ")))
                && help.ends_with("status 0"),
            "{help}"
        );
    }
}

#[test]
fn help_lists_the_commands_in_the_order_of_work() {
    let help = tides().run(["--help"]);
    let (commands, options) = help.split_once("How it is shown").unwrap();
    assert_snapshot!(commands, @"
    Predicts what a containerised process can do to files, before anything is deployed, and says why.

    INPUT is a Kubernetes manifest, a Compose file, an OCI configuration, a folder of these, or a scene
    file that adds facts about images, volumes and the host; `-` is standard input. Inputs are
    recognised by content.

    Usage: mivask [OPTIONS] <COMMAND>

    Look around:
      identity     Which UID, GID, groups and capabilities each actor gets, and where each number comes
                   from
      mounts       What is mounted where, and who owns it before and after preparation
      access       Who can read, write, create, delete, list, enter and run what

    Try, and ask why not:
      ask          Whether acts succeed, and with which errno they fail
      why          Every check behind one act, with its fact and where the fact came from
      imprint      Owner, group and mode of new files and directories
      rehearse     Acts in order, on a copy: each sees what the earlier ones changed
      handoff      Which containers can use files another one creates on a shared volume

    Review:
      admits       Who can access a path, as the smallest conditions; or everything an actor reaches
      exposure     What is open wider than it needs to be, worst first, and what follows from it

    Change one thing:
      compare      Only what differs between two scenes, with a --change, or between two states of a
                   disk
      remedy       The smallest changes that make a denied act succeed

    Hold the result:
      uphold       Checks expectations against scenes, for CI
      report       One HTML page for the review, or a figure for a document
      confirm      Performs the same acts on the running kernel and reports whether it agrees

    Beside these:
      survey       Records who owns what on a disk, in an image or an archive, in a small file
      verdicts     What every actor can do to the volumes of a dataset, as tables that SQL joins with
                   its rows
      draft        A first scene for a description: what it asks for that nobody has said yet, as
                   comments to fill in
      decode       What a mode means, and what a change or a umask makes of it
      demo         Writes a demo scene and walks through it
      schema       The JSON Schema of the scene file, or of what a command prints
      completions  Prints the shell completion script: commands, options, and the actors, paths and acts
                   of the scene
      manual       Writes manual pages: mivask.1, and one for each command
    ");
    assert!(options.contains("--color <WHEN>") && options.contains("--pager <WHEN>"), "{options}");
}
