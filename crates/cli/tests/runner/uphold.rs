//! Expectations held against scenes, in every format that mentions them.

use std::io::BufRead;
use std::io::BufReader;
use std::io::Read;
use std::process::Command;
use std::process::Stdio;

use insta::assert_snapshot;

use crate::scratch::{BOATS, Scratch};

const RULES: &str = "\
# The rules of the harbour.
mate writes /hold/log
only mate writes /hold/log  # and nobody else
* never writes /hold/old/**
mate reads /hold/cargo -> denied ENOENT
/hold/keys/id_rsa at-most 0600
";

pub(crate) fn harbour() -> Scratch {
    Scratch::with("s.yaml", BOATS).and("rules.acts", RULES)
}

#[test]
fn all_that_is_wrong_is_told_with_both_places() {
    assert_snapshot!(harbour().run(["uphold", "s.yaml", "--expect", "rules.acts"]), @"
    s.yaml
      holds     only mate writes /hold/log
                assumed: the root of image of container cook is 0:0 0755
                assumed: the root of image of container stowaway is 0:0 0755
      depends   * never writes /hold/old/**
                expected at rules.acts:4:1
                cook writes /hold/old: depends (allowed or denied EACCES or denied ENOENT)
                  a fact is missing: what image of container cook holds
                  to settle it: give cook an `image:`, and its `tree:` under `images:` in a scene file
                assumed: the root of image of container cook is 0:0 0755
                assumed: the root of image of container stowaway is 0:0 0755
                assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
      BROKEN    /hold/keys/id_rsa at-most 0600
                expected at rules.acts:6:1
                /hold/keys/id_rsa as mate sees it: wider than 0600
                  /hold/keys/id_rsa: -rw-r----- 0640 101:500
                  s.yaml:10:9 tree
                /hold/keys/id_rsa as cook sees it: depends
                  a fact is missing: what is at /hold/keys/id_rsa

    5 expectations in 1 input: 3 hold, 1 broken, 1 depends
    --- status 1
    ");
}

#[test]
fn with_all_those_that_hold_are_told_too() {
    let scratch = Scratch::with(
        "s.yaml",
        &format!("{BOATS}expect: |\n  mate writes /hold/log\n  * never runs /hold/**\n"),
    );
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--all"]), @"
    s.yaml
      holds     mate writes /hold/log
      depends   * never runs /hold/**
                expected at s.yaml:24:3
                cook runs /hold: depends (allowed or denied EACCES or denied ENOENT)
                  a fact is missing: what image of container cook holds
                  to settle it: give cook an `image:`, and its `tree:` under `images:` in a scene file
                assumed: /hold is a program the kernel can run
                assumed: the root of image of container cook is 0:0 0755
                assumed: the root of image of container stowaway is 0:0 0755
                assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only

    2 expectations in 1 input: 1 holds, 1 depends
    --- status 1
    ");
}

#[test]
fn what_depends_does_not_hold_unless_that_is_accepted() {
    let scratch = Scratch::with(
        "s.yaml",
        "scene: 1\ncontainers: [{ name: mate, user: '1:1' }]\nexpect: [mate reads /etc/motd]\n",
    );
    assert_snapshot!(scratch.run(["uphold", "s.yaml"]), @"
    s.yaml
      depends   mate reads /etc/motd
                expected at s.yaml:3:10
                mate reads /etc/motd: depends (allowed or denied EACCES or denied ENOENT)
                  a fact is missing: what image of container mate holds
                  to settle it: give mate an `image:`, and its `tree:` under `images:` in a scene file
                assumed: the root of image of container mate is 0:0 0755
                assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only

    1 expectation in 1 input: 0 hold, 1 depends
    --- status 1
    ");
    let accepted = scratch.run(["uphold", "s.yaml", "--accept-depends"]);
    assert!(
        accepted.contains("depends   mate reads /etc/motd") && accepted.ends_with("status 0"),
        "{accepted}"
    );
}

#[test]
fn a_limit_of_the_scene_is_an_expectation() {
    let scratch = Scratch::with("s.yaml", &format!("{BOATS}at-most: [/hold/keys/id_rsa at-most 0600]\n"));
    assert_snapshot!(scratch.run(["uphold", "s.yaml"]), @"
    s.yaml
      BROKEN    /hold/keys/id_rsa at-most 0600
                expected at s.yaml:22:11
                /hold/keys/id_rsa as mate sees it: wider than 0600
                  /hold/keys/id_rsa: -rw-r----- 0640 101:500
                  s.yaml:10:9 tree
                /hold/keys/id_rsa as cook sees it: depends
                  a fact is missing: what is at /hold/keys/id_rsa

    1 expectation in 1 input: 0 hold, 1 broken
    --- status 1
    ");
}

#[test]
fn names_that_nobody_has_are_mistakes() {
    let scratch = harbour()
        .and("own.yaml", format!("{BOATS}expect: [maet writes /hold/log]\n"))
        .and("odd.acts", "cok reads /x\n");
    assert_snapshot!(scratch.run(["uphold", "own.yaml"]), @"
    own.yaml
      unusable  there is no actor `maet` (own.yaml:22:10 expect)

    0 expectations in 1 input: 0 hold; 1 input cannot be used
    --- standard error
    error: there is no actor `maet`
     --> own.yaml:22:10 expect
      = help: did you mean `mate`?

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--expect", "odd.acts"]), @"
    1 expectation in 1 input: 0 hold, 1 meets nothing
    --- standard error
    error: there is no actor `cok`
     --> odd.acts:1:1 expectation
      = help: did you mean `cook`?

    --- status 2
    ");
}

#[test]
fn inputs_that_cannot_be_used_do_not_hide_the_others() {
    let scratch = harbour().and("bad.yaml", "scene: 1\ncontainers: [{ nam: mate }]\n");
    assert_snapshot!(scratch.run(["uphold", "bad.yaml", "none.yaml", "s.yaml", "--expect", "rules.acts", "--format", "tap"]), @r#"
    TAP version 14
    1..7
    not ok 1 - bad.yaml can be used
      ---
      why: "`name` is missing (bad.yaml:2:14)"
      ...
    not ok 2 - none.yaml can be used
      ---
      why: "none.yaml cannot be read: No such file or directory (os error 2)"
      ...
    ok 3 - s.yaml: mate writes /hold/log
    ok 4 - s.yaml: only mate writes /hold/log
      ---
      standing: "holds"
      at: "rules.acts:3:1"
      rests-on:
        - "assumed: the root of image of container cook is 0:0 0755"
        - "assumed: the root of image of container stowaway is 0:0 0755"
      ...
    not ok 5 - s.yaml: * never writes /hold/old/**
      ---
      standing: "depends"
      at: "rules.acts:4:1"
      against:
        - "cook writes /hold/old: depends (allowed or denied EACCES or denied ENOENT), because a fact is missing: what image of container cook holds"
        - "assumed: the root of image of container cook is 0:0 0755"
        - "assumed: the root of image of container stowaway is 0:0 0755"
        - "assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only"
      ...
    ok 6 - s.yaml: mate reads /hold/cargo -> denied ENOENT
    not ok 7 - s.yaml: /hold/keys/id_rsa at-most 0600
      ---
      standing: "broken"
      at: "rules.acts:6:1"
      against:
        - "/hold/keys/id_rsa as mate sees it: wider than 0600, because /hold/keys/id_rsa: -rw-r----- 0640 101:500 (s.yaml:10:9 tree)"
        - "/hold/keys/id_rsa as cook sees it: depends, because a fact is missing: what is at /hold/keys/id_rsa"
      ...
    --- standard error
    warning: unknown key `nam`, ignored
     --> bad.yaml:2:16
      |
    2 | containers: [{ nam: mate }]
      |                ^^^
      |
      = help: did you mean `name`?

    error: `name` is missing
     --> bad.yaml:2:14
      |
    2 | containers: [{ nam: mate }]
      |              ^^^^^^^^^^^

    error: the input cannot be used: 1 error above
    error: none.yaml cannot be read: No such file or directory (os error 2)
    --- status 2
    "#);
}

#[test]
fn mistakes_in_expectations_are_all_told() {
    let scratch =
        harbour().and("bad.acts", "mate wrotes /x\n* never writes /x -> allowed\n* never writes /[x\n");
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--expect", "bad.acts"]), @"
    --- standard error
    error: `wrotes` is not a verb
     --> bad.acts:1:6
      |
    1 | mate wrotes /x
      |      ^^^^^^
      |
      = help: did you mean `writes`?

    error: `->` is not expected here
     --> bad.acts:2:19
      |
    2 | * never writes /x -> allowed
      |                   ^^
      |
      = help: write `ACTORS never VERB PATHS [except PATHS], or ACTORS never change PATHS [except PATHS]`

    error: the input cannot be used: 2 errors above
    --- status 2
    ");
    let scratch = scratch.and("bad.acts", "* never writes /hold/[x\n");
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--expect", "bad.acts"]), @"
    --- standard error
    error: bad.acts:1:1 expectation: `/hold/[x` is not a pattern: unclosed character class; missing ']'
    --- status 2
    ");
    assert_snapshot!(scratch.run(["uphold", "s.yaml"]), @"
    --- standard error
    warning: s.yaml expects nothing
    error: nothing is expected: write expectations under `expect:` in the scene, or name a file of them with --expect
    --- status 2
    ");
    let starred = scratch.and("star.yaml", format!("{BOATS}expect:\n  - * never writes /x\n"));
    assert_snapshot!(starred.run(["uphold", "star.yaml"]), @"
    star.yaml
      unusable  not valid YAML: a `*` begins an alias (star.yaml:23:5)

    0 expectations in 1 input: 0 hold; 1 input cannot be used
    --- standard error
    error: not valid YAML: a `*` begins an alias
      --> star.yaml:23:5
       |
    23 |   - * never writes /x
       |     ^
       |
       = help: put the text in quotes

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

/// Files from other editors and systems: a mark at the beginning, other line ends, other encodings.
#[test]
fn files_of_expectations_are_text() {
    let scratch = harbour()
        .and("dos.acts", "\u{feff}mate writes /hold/log\r\n\r\n# so\r\nonly mate writes /hold/log\r\n")
        .and("bytes.acts", b"mate writes /hold/log\nmate reads /hold/\xff\n");
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--expect", "dos.acts", "--all"]), @"
    s.yaml
      holds     mate writes /hold/log
      holds     only mate writes /hold/log
                assumed: the root of image of container cook is 0:0 0755
                assumed: the root of image of container stowaway is 0:0 0755

    2 expectations in 1 input: 2 hold
    --- status 0
    ");
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--expect", "bytes.acts"]), @r#"
    --- standard error
    error: bytes.acts:2: byte 0xff is not UTF-8: in a path write it in double quotes, as "/a\xff"
    --- status 2
    "#);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "--acts", "bytes.acts"]), @r#"
    --- standard error
    error: bytes.acts:2: byte 0xff is not UTF-8: in a path write it in double quotes, as "/a\xff"
    --- status 2
    "#);
    assert_snapshot!(scratch.feed(["uphold", "-", "--expect", "dos.acts"], BOATS.as_bytes()), @"
    standard input
      holds     only mate writes /hold/log
                assumed: the root of image of container cook is 0:0 0755
                assumed: the root of image of container stowaway is 0:0 0755

    2 expectations in 1 input: 2 hold
    --- status 0
    ");
}

/// In the order they were named, however many there are at a time.
#[test]
fn many_inputs_are_told_in_their_order() {
    let mut scratch = harbour();
    let names: Vec<String> = (0..60).map(|number| format!("s{number:02}.yaml")).collect();
    for name in &names {
        scratch = scratch.and(name, format!("{BOATS}expect: [stowaway writes /hold/log]\n"));
    }
    let output = Command::new(env!("CARGO_BIN_EXE_mivask"))
        .arg("uphold")
        .args(&names)
        .current_dir(scratch.path())
        .output()
        .unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    let told: Vec<&str> = text.lines().filter(|line| line.ends_with(".yaml")).collect();
    assert_eq!(told, names);
    assert!(text.ends_with("60 expectations in 60 inputs: 0 hold, 60 broken\n"), "{text}");
}

#[test]
fn watching_does_it_again_when_a_file_changes() {
    let scratch = harbour().and("w.acts", "cook writes /stores/log\n");
    let mut child = Command::new(env!("CARGO_BIN_EXE_mivask"))
        .args(["uphold", "s.yaml", "--expect", "w.acts", "--watch"])
        .current_dir(scratch.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut said = BufReader::new(child.stderr.take().unwrap()).lines();
    let mut until =
        |wanted: &str| said.by_ref().map(Result::unwrap).find(|line| line.contains(wanted)).unwrap();
    until("watching 2 files");
    // As an editor saves: beside it, then in its place.
    std::fs::write(scratch.path().join("new"), "mate writes /hold/log\n").unwrap();
    std::fs::rename(scratch.path().join("new"), scratch.path().join("w.acts")).unwrap();
    assert!(until("changed").contains("w.acts changed"));
    until("watching");
    // What cannot be read is reported, and does not end it.
    std::fs::write(scratch.path().join("w.acts"), "mate wrotes\n").unwrap();
    until("is not a verb");
    until("watching");
    child.kill().unwrap();
    child.wait().unwrap();
    let mut text = String::new();
    child.stdout.take().unwrap().read_to_string(&mut text).unwrap();
    let sums: Vec<&str> = text.lines().filter(|line| line.contains(" in 1 input: ")).collect();
    assert_eq!(sums, ["1 expectation in 1 input: 0 hold, 1 broken", "1 expectation in 1 input: 1 holds"]);
}

/// In two namespaces there may be two pods of one name: each is looked at as itself.
#[test]
fn two_pods_of_one_name_are_two() {
    let one = |namespace: &str, user: u32| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p, namespace: {namespace} }}\nspec:\n  automountServiceAccountToken: false\n  \
             containers:\n  - {{ name: c, image: i, securityContext: {{ runAsUser: {user}, runAsGroup: {user} }}, volumeMounts: [{{ name: d, mountPath: /d }}] }}\n  \
             volumes: [{{ name: d, hostPath: {{ path: /srv }} }}]\n---\n"
        )
    };
    let scene = "scene: 1\nworkloads: [pods.yaml]\nhost: { tree: [{ path: /srv, kind: dir, owner: '1:1', mode: 0755 }] }\n\
        images: { i: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\nexpect: ['* never writes /d/**']\n";
    let scratch = Scratch::with("s.yaml", scene).and("pods.yaml", format!("{}{}", one("a", 1), one("b", 2)));
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "-q"]), @"
    s.yaml
      BROKEN    * never writes /d/**
                expected at s.yaml:5:10
                p/c creates /d/new: allowed
                  /d: drwxr-xr-x 0755 1:1: the owner (p/c) has rwx, needed -wx
                  s.yaml:3:16 tree

    1 expectation in 1 input: 0 hold, 1 broken
    --- status 1
    ");
    assert_eq!(scratch.run(["report", "s.yaml", "-o", "p.html", "-q"]), "--- status 0");
}
