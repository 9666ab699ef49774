//! The Jobs of packaging/fleet, and the script that makes one of each claim of a list.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::path::PathBuf;
use std::process::{Command, Output};

use crate::scratch::Scratch;

/// A cluster's client as far as the script asks it. The job of claim `bad` never ends well.
const CLIENT: &str = "#!/bin/sh
echo \"$*\" >> called
namespace=$2
case $3 in
    create) cp \"$5\" \"$namespace-$(sed -n 's/.*claimName: \\([a-z-]*\\), readOnly.*/\\1/p' \"$5\").yaml\" ;;
    wait) case $* in *survey-bad) exit 1 ;; esac ;;
esac
";

fn packaged(name: &str) -> PathBuf {
    PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../packaging/fleet")).join(name)
}

fn run(scratch: &Scratch, list: &str) -> Output {
    std::fs::write(scratch.path().join("list"), list).unwrap();
    let mut command = Command::new(packaged("survey-claims"));
    command.args(["list", "./client"]).current_dir(scratch.path()).output().unwrap()
}

/// What a cluster would make of them: no privilege but the one, and only the dataset can be written.
#[test]
fn jobs_see_everything_and_write_to_the_dataset_alone() {
    let scene = "scene: 1\nworkloads: [job.yaml]\nimages: { 'mivask:latest': { user: '65534:65534', accounts: null, tree: [{ path: /mivask, owner: '0:0', mode: '0755', content: program }] } }\n\
        host: { tree: [{ path: /srv/deep, kind: dir, owner: '7101:7101', mode: '0700' }, { path: /srv/deep/x, owner: '7101:7101', mode: '0600' }] }\n\
        volumes:\n  readings: { filesystem: ext4, tree: [{ path: /deep, kind: dir, owner: '7101:7101', mode: '0700' }, { path: /deep/x, owner: '7101:7101', mode: '0666' }] }\n\
        \x20 fleet: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }] }\n";
    for (name, root) in [("survey-claim.yaml", "/data"), ("survey-hosts.yaml", "/host")] {
        let job = std::fs::read_to_string(packaged(name)).unwrap();
        let scratch = Scratch::with("job.yaml", &job).and("s.yaml", scene);
        // A field that the API does not have would be warned about.
        let acts = [
            format!("survey lists {root}/deep"),
            format!("survey creates {root}/deep/y"),
            format!("survey writes {root}/deep/x"),
            "survey makes-directory /fleet/entries".to_owned(),
            "survey creates /x".to_owned(),
        ];
        let words: Vec<&str> = ["ask", "s.yaml", "--strict", "-q", "--format", "json"]
            .into_iter()
            .chain(acts.iter().map(String::as_str))
            .collect();
        let answers = scratch.json(&words);
        let outcomes: Vec<&str> =
            answers["acts"].as_array().unwrap().iter().map(|act| act["outcome"].as_str().unwrap()).collect();
        assert_eq!(outcomes, ["allowed", "denied", "denied", "allowed", "denied"], "{name}");
        let who = scratch.json(["identity", "s.yaml", "-q", "--format", "json"]);
        assert_eq!(
            who["actors"][0]["capabilities"]["effective"],
            serde_json::json!(["DAC_READ_SEARCH"]),
            "{name}"
        );
    }
}

#[test]
fn every_claim_of_a_list_has_a_job() {
    let scratch = Scratch::with("client", "").and_program("client", CLIENT);
    let done = run(&scratch, "# at night\nshop data\n\ndepot tide-gauge\n");
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let job = std::fs::read_to_string(scratch.path().join("depot-tide-gauge.yaml")).unwrap();
    assert!(job.contains("name: survey-tide-gauge") && job.contains("$(NAMESPACE).tide-gauge,"), "{job}");
    assert!(job.contains("claimName: tide-gauge, readOnly: true") && !job.contains("readings"), "{job}");
    let called = std::fs::read_to_string(scratch.path().join("called")).unwrap();
    for line in ["-n shop create", "-n shop delete job survey-data", "-n depot delete job survey-tide-gauge"]
    {
        assert!(called.contains(line), "{called}");
    }
    let done = run(&scratch, "shop bad\nshop data\n");
    assert_eq!(done.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&done.stderr).contains("not surveyed: shop bad"));
}

#[test]
fn a_list_with_a_mistake_makes_nothing() {
    let scratch = Scratch::with("client", "").and_program("client", CLIENT);
    for list in ["shop data\nshop\n", "shop data more\n", "shop a;b\n", "../x data\n", "shop Data\n"] {
        let done = run(&scratch, list);
        assert_eq!(done.status.code(), Some(2), "{list}");
        assert!(!scratch.path().join("called").exists(), "{list}");
    }
}
