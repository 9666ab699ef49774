//! What an expectation rests on, and what it says where nothing is there.

use insta::assert_snapshot;

use super::uphold::harbour;
use crate::scratch::Scratch;

/// In a file for many inputs a line need not concern each, but one.
#[test]
fn a_shared_line_concerns_those_it_meets() {
    let other = "scene: 1\ncontainers: [{ name: bosun, user: '0:0' }]\n";
    let scratch = harbour()
        .and("b.yaml", other)
        .and("two.acts", "mate writes /hold/log\nmate never reads /hold/nets/**\n")
        .and("three.acts", "mate reads /hold/nets/**\n");
    assert_snapshot!(scratch.run(["uphold", "b.yaml", "s.yaml", "--expect", "two.acts", "--all"]), @"
    b.yaml

    s.yaml
      holds     mate writes /hold/log
      holds     mate never reads /hold/nets/**
                nothing is there

    2 expectations in 2 inputs: 2 hold
    --- status 0
    ");
    let strict = scratch.run(["uphold", "s.yaml", "--expect", "three.acts", "--strict"]);
    assert!(strict.contains("--strict allows none") && strict.ends_with("status 2"), "{strict}");
}

/// What an expectation rests on stands beside it, and `--strict` takes nothing for granted.
#[test]
fn an_expectation_names_what_it_rests_on() {
    let scratch = Scratch::with(
        "c.yaml",
        "services:\n  a: { image: x, user: '7', volumes: ['v:/etc/a'] }\nvolumes: { v: {} }\n",
    )
    .and("e.acts", "a never deletes /etc/*\na never creates /etc/**\n* never writes /dev/shm/none*\n");
    assert_snapshot!(scratch.run(["uphold", "c.yaml", "--expect", "e.acts", "-q", "--strict"]), @"
    c.yaml
      depends   a never deletes /etc/*
                expected at e.acts:1:1
                it is only assumed that no group of image x lists the user as a member (its group file is not given)
                it is only assumed that the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)
                it is only assumed that what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
      depends   a never creates /etc/**
                expected at e.acts:2:1
                a creates /etc/*/*: depends (denied EEXIST or allowed or denied EACCES or denied ENOENT)
                  a fact is missing: what image x holds
                  to settle it: give `images: { x: { tree: ... } }` in a scene file, or let it be looked for with --images-from
                a creates /etc/a/new: depends (denied EEXIST or allowed or denied EACCES)
                  a fact is missing: what image x has at /etc/a
                  to settle it: list /etc/a under `images: { x: { tree: ... } }` in a scene file, or let it be looked for with --images-from
                a creates /etc/a/*: depends (denied EEXIST or allowed or denied EACCES)
                  a fact is missing: what image x has at /etc/a
                  to settle it: list /etc/a under `images: { x: { tree: ... } }` in a scene file, or let it be looked for with --images-from
                assumed: no group of image x lists the user as a member (its group file is not given)
                assumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)
                assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
      holds     * never writes /dev/shm/none*
                nothing is there

    3 expectations in 1 input: 1 holds, 2 depend
    --- status 1
    ");
    let uphold = |format| scratch.run(["uphold", "c.yaml", "--expect", "e.acts", "-q", "--format", format]);
    assert_snapshot!(uphold("text"), @"
    c.yaml
      holds     a never deletes /etc/*
                assumed: no group of image x lists the user as a member (its group file is not given)
                assumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)
                assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
      depends   a never creates /etc/**
                expected at e.acts:2:1
                a creates /etc/*/*: depends (denied EEXIST or allowed or denied EACCES or denied ENOENT)
                  a fact is missing: what image x holds
                  to settle it: give `images: { x: { tree: ... } }` in a scene file, or let it be looked for with --images-from
                a creates /etc/a/new: depends (denied EEXIST or allowed or denied EACCES)
                  a fact is missing: what image x has at /etc/a
                  to settle it: list /etc/a under `images: { x: { tree: ... } }` in a scene file, or let it be looked for with --images-from
                a creates /etc/a/*: depends (denied EEXIST or allowed or denied EACCES)
                  a fact is missing: what image x has at /etc/a
                  to settle it: list /etc/a under `images: { x: { tree: ... } }` in a scene file, or let it be looked for with --images-from
                assumed: no group of image x lists the user as a member (its group file is not given)
                assumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)
                assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
      holds     * never writes /dev/shm/none*
                nothing is there

    3 expectations in 1 input: 2 hold, 1 depends
    --- status 1
    ");
    assert_snapshot!(uphold("junit"), @r#"
    <?xml version="1.0" encoding="UTF-8"?>
    <testsuites name="mivask uphold" tests="3" skipped="0" failures="1" errors="0">
        <testsuite name="c.yaml" tests="3" skipped="0" errors="0" failures="1">
            <testcase name="a never deletes /etc/*" classname="c.yaml" assertions="5" file="e.acts" line="1">
                <system-out>assumed: no group of image x lists the user as a member (its group file is not given)
    assumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)
    assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only</system-out>
            </testcase>
            <testcase name="a never creates /etc/**" classname="c.yaml" assertions="4" file="e.acts" line="2">
                <failure message="a creates /etc/*/*: depends (denied EEXIST or allowed or denied EACCES or denied ENOENT), because a fact is missing: what image x holds" type="depends">e.acts:2:1
    a creates /etc/*/*: depends (denied EEXIST or allowed or denied EACCES or denied ENOENT), because a fact is missing: what image x holds
    a creates /etc/a/new: depends (denied EEXIST or allowed or denied EACCES), because a fact is missing: what image x has at /etc/a
    a creates /etc/a/*: depends (denied EEXIST or allowed or denied EACCES), because a fact is missing: what image x has at /etc/a
    assumed: no group of image x lists the user as a member (its group file is not given)
    assumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)
    assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only</failure>
            </testcase>
            <testcase name="* never writes /dev/shm/none*" classname="c.yaml" assertions="0" file="e.acts" line="3">
                <system-out>nothing is there</system-out>
            </testcase>
        </testsuite>
    </testsuites>
    --- status 1
    "#);
    assert_snapshot!(uphold("tap"), @r#"
    TAP version 14
    1..3
    ok 1 - c.yaml: a never deletes /etc/*
      ---
      standing: "holds"
      at: "e.acts:1:1"
      rests-on:
        - "assumed: no group of image x lists the user as a member (its group file is not given)"
        - "assumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)"
        - "assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only"
      ...
    not ok 2 - c.yaml: a never creates /etc/**
      ---
      standing: "depends"
      at: "e.acts:2:1"
      against:
        - "a creates /etc/*/*: depends (denied EEXIST or allowed or denied EACCES or denied ENOENT), because a fact is missing: what image x holds"
        - "a creates /etc/a/new: depends (denied EEXIST or allowed or denied EACCES), because a fact is missing: what image x has at /etc/a"
        - "a creates /etc/a/*: depends (denied EEXIST or allowed or denied EACCES), because a fact is missing: what image x has at /etc/a"
        - "assumed: no group of image x lists the user as a member (its group file is not given)"
        - "assumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)"
        - "assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only"
      ...
    ok 3 - c.yaml: * never writes /dev/shm/none*
      ---
      standing: "holds"
      at: "e.acts:3:1"
      rests-on:
        - "nothing is there"
      ...
    --- status 1
    "#);
    assert_snapshot!(uphold("annotations"), @"
    ::notice file=e.acts,line=1,col=1,title=holds%3A a never deletes /etc/*::assumed: no group of image x lists the user as a member (its group file is not given)%0Aassumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)%0Aassumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    ::error file=e.acts,line=2,col=1,title=depends%3A a never creates /etc/**::a creates /etc/*/*: depends (denied EEXIST or allowed or denied EACCES or denied ENOENT), because a fact is missing: what image x holds%0Aa creates /etc/a/new: depends (denied EEXIST or allowed or denied EACCES), because a fact is missing: what image x has at /etc/a%0Aa creates /etc/a/*: depends (denied EEXIST or allowed or denied EACCES), because a fact is missing: what image x has at /etc/a%0Aassumed: no group of image x lists the user as a member (its group file is not given)%0Aassumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)%0Aassumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    ::notice file=e.acts,line=3,col=1,title=holds%3A * never writes /dev/shm/none*::nothing is there
    --- status 1
    ");
    let sarif = uphold("sarif");
    let (document, _) = sarif.rsplit_once("--- status").expect("a status");
    let sarif: serde_json::Value = serde_json::from_str(document).expect("JSON");
    let results = sarif.pointer("/runs/0/results").and_then(serde_json::Value::as_array).expect("results");
    let told: Vec<String> = results
        .iter()
        .map(|one| format!("{} {}: {}", one["ruleId"], one["level"], one["message"]["text"]))
        .collect();
    assert_snapshot!(told.join("\n"), @r#"
    "holds" "note": "holds in c.yaml: a never deletes /etc/*\nassumed: no group of image x lists the user as a member (its group file is not given)\nassumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)\nassumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only"
    "depends" "error": "depends in c.yaml: a never creates /etc/**\na creates /etc/*/*: depends (denied EEXIST or allowed or denied EACCES or denied ENOENT), because a fact is missing: what image x holds\na creates /etc/a/new: depends (denied EEXIST or allowed or denied EACCES), because a fact is missing: what image x has at /etc/a\na creates /etc/a/*: depends (denied EEXIST or allowed or denied EACCES), because a fact is missing: what image x has at /etc/a\nassumed: no group of image x lists the user as a member (its group file is not given)\nassumed: the directories above mount points in image x let everyone pass (0:0 0755 where the runtime makes them)\nassumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only"
    "holds" "note": "holds in c.yaml: * never writes /dev/shm/none*\nnothing is there"
    "#);
}

/// A link leads to another volume, of which something is taken for granted: a line about the link names it.
#[test]
fn what_a_link_leads_to_is_named_with_what_is_assumed_of_it() {
    let scene = "\
scene: 1
volumes:
  data: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '7101:7200', mode: '0755' }, { path: /to, kind: link, target: /other/f }] }
  other: { filesystem: ext4, tree: other.mtree }
containers:
  - { name: gauge, user: '7101:7200', no-new-privileges: true, mounts: [{ volume: data, at: /data }, { volume: other, at: /other }] }
";
    let listing =
        "#mtree\n. type=dir uid=7101 gid=7200 mode=0755\n./f type=file uid=7101 gid=7200 mode=0644\n";
    let scratch =
        Scratch::with("s.yaml", scene).and("other.mtree", listing).and("lines", "gauge writes /data/t*\n");
    let held = scratch.run(["uphold", "-q", "s.yaml", "--expect", "lines", "--all"]);
    assert!(held.contains("holds     gauge writes /data/t*"), "{held}");
    assert!(
        held.contains("assumed: no file is immutable or append-only: mtree does not show that"),
        "{held}"
    );
}
