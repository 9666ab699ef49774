//! Scripts that are handed to users.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::path::PathBuf;
use std::process::Command;

use crate::scratch::Scratch;

/// A cluster's client as far as the script asks it: it keeps what it is given, and its logs are a survey of a folder here.
const CLIENT: &str = "#!/bin/sh
echo \"$*\" >> called
[ \"$1\" = -n ] && shift 2
case $1 in
    create) [ ! -e taken ] && cp \"$3\" job.yaml ;;
    logs) \"$PROGRAM\" survey volume --to base64 ;;
esac
";

fn script() -> PathBuf {
    PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../packaging/survey-claim"))
}

fn client() -> Scratch {
    Scratch::with("volume/level", "3\n").and("volume/deep/x", "").and_program("client", CLIENT)
}

fn run(scratch: &Scratch, arguments: &[&str]) -> std::process::Output {
    let mut command = Command::new(script());
    command.args(arguments).current_dir(scratch.path()).env("PROGRAM", env!("CARGO_BIN_EXE_mivask"));
    command.output().unwrap()
}

#[test]
fn one_command_surveys_a_claim() {
    let scratch = client();
    let done = run(&scratch, &["tide-gauge", "./client", "-n", "tides"]);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    std::fs::write(scratch.path().join("claim.survey"), &done.stdout).unwrap();
    scratch.run(["survey", "volume", "-o", "here.survey"]);
    let here = scratch.run(["survey", "here.survey", "--to", "mtree"]);
    assert_eq!(scratch.run(["survey", "claim.survey", "--to", "mtree"]), here);
    // The job is of that claim, and goes again.
    let mounts = scratch.run(["mounts", "job.yaml", "-q"]);
    assert!(mounts.contains("/data  claim tide-gauge"), "{mounts}");
    let called = std::fs::read_to_string(scratch.path().join("called")).unwrap();
    let verbs: Vec<&str> = called.lines().filter_map(|line| line.split(' ').nth(2)).collect();
    assert_eq!(verbs, ["create", "wait", "logs", "delete"], "{called}");
    assert!(
        called.contains("job/survey-tide-gauge") && called.lines().all(|line| line.starts_with("-n tides "))
    );
}

#[test]
fn a_job_of_somebody_else_is_left_alone() {
    let scratch = client().and("taken", "");
    assert!(!run(&scratch, &["tide-gauge", "./client"]).status.success());
    let called = std::fs::read_to_string(scratch.path().join("called")).unwrap();
    assert!(called.starts_with("create") && !called.contains("delete"), "{called}");
    for arguments in
        [&["tide-gauge"][..], &["a;b", "./client"], &["../x", "./client"], &["", "./client"], &[]]
    {
        assert_eq!(run(&scratch, arguments).status.code(), Some(2), "{arguments:?}");
    }
}
