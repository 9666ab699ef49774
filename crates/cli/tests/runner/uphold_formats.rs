//! Upheld expectations in every format that mentions them.

use insta::assert_snapshot;
use serde_json::Value;
use serde_json::json;

use crate::scratch::Scratch;
use crate::uphold::harbour;

#[test]
fn junit() {
    assert_snapshot!(harbour().run(["uphold", "s.yaml", "--expect", "rules.acts", "--format", "junit"]), @r#"
    <?xml version="1.0" encoding="UTF-8"?>
    <testsuites name="mivask uphold" tests="5" skipped="0" failures="2" errors="0">
        <testsuite name="s.yaml" tests="5" skipped="0" errors="0" failures="2">
            <testcase name="mate writes /hold/log" classname="s.yaml" assertions="1" file="rules.acts" line="2"/>
            <testcase name="only mate writes /hold/log" classname="s.yaml" assertions="2" file="rules.acts" line="3">
                <system-out>assumed: the root of image of container cook is 0:0 0755
    assumed: the root of image of container stowaway is 0:0 0755</system-out>
            </testcase>
            <testcase name="* never writes /hold/old/**" classname="s.yaml" assertions="3" file="rules.acts" line="4">
                <failure message="cook writes /hold/old: depends (allowed or denied EACCES or denied ENOENT), because a fact is missing: what image of container cook holds" type="depends">rules.acts:4:1
    cook writes /hold/old: depends (allowed or denied EACCES or denied ENOENT), because a fact is missing: what image of container cook holds
    assumed: the root of image of container cook is 0:0 0755
    assumed: the root of image of container stowaway is 0:0 0755
    assumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only</failure>
            </testcase>
            <testcase name="mate reads /hold/cargo -&gt; denied ENOENT" classname="s.yaml" assertions="1" file="rules.acts" line="5"/>
            <testcase name="/hold/keys/id_rsa at-most 0600" classname="s.yaml" assertions="2" file="rules.acts" line="6">
                <failure message="/hold/keys/id_rsa as mate sees it: wider than 0600, because /hold/keys/id_rsa: -rw-r----- 0640 101:500 (s.yaml:10:9 tree)" type="broken">rules.acts:6:1
    /hold/keys/id_rsa as mate sees it: wider than 0600, because /hold/keys/id_rsa: -rw-r----- 0640 101:500 (s.yaml:10:9 tree)
    /hold/keys/id_rsa as cook sees it: depends, because a fact is missing: what is at /hold/keys/id_rsa</failure>
            </testcase>
        </testsuite>
    </testsuites>
    --- status 1
    "#);
}

#[test]
fn annotations() {
    assert_snapshot!(harbour().run(["uphold", "s.yaml", "--expect", "rules.acts", "--format", "annotations"]), @"
    ::notice file=rules.acts,line=3,col=1,title=holds%3A only mate writes /hold/log::assumed: the root of image of container cook is 0:0 0755%0Aassumed: the root of image of container stowaway is 0:0 0755
    ::error file=rules.acts,line=4,col=1,title=depends%3A * never writes /hold/old/**::cook writes /hold/old: depends (allowed or denied EACCES or denied ENOENT), because a fact is missing: what image of container cook holds%0Aassumed: the root of image of container cook is 0:0 0755%0Aassumed: the root of image of container stowaway is 0:0 0755%0Aassumed: what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    ::error file=rules.acts,line=6,col=1,title=broken%3A /hold/keys/id_rsa at-most 0600::/hold/keys/id_rsa as mate sees it: wider than 0600, because /hold/keys/id_rsa: -rw-r----- 0640 101:500 (s.yaml:10:9 tree)%0A/hold/keys/id_rsa as cook sees it: depends, because a fact is missing: what is at /hold/keys/id_rsa
    ::notice file=s.yaml,line=10,col=9,title=/hold/keys/id_rsa as mate sees it%3A wider than 0600::breaks `/hold/keys/id_rsa at-most 0600` (rules.acts:6:1)
    --- status 1
    ");
}

/// Both places of a broken expectation: its own and the fact's.
#[test]
fn json_and_sarif_point_at_both() {
    let scratch = harbour().and("one.acts", "* never writes /hold/log\n");
    // The exit status is 1, so standard output is read by itself.
    let read = |format: &str| -> Value {
        let run = scratch.run(["uphold", "s.yaml", "--expect", "one.acts", "--format", format]);
        serde_json::from_str(run.strip_suffix("--- status 1").unwrap()).unwrap()
    };
    let json = read("json");
    assert_eq!(
        json["summary"],
        json!({ "inputs": 1, "unusable": 0, "expectations": 1, "holds": 0, "broken": 1, "depends": 0, "meets_nothing": 0 })
    );
    let expectation = &json["inputs"][0]["expectations"][0];
    assert_eq!((&expectation["standing"], &expectation["from"]["line"]), (&json!("broken"), &json!(1)));
    assert_eq!(expectation["against"][0]["from"]["line"], 8);
    let sarif = read("sarif");
    assert_eq!(sarif["version"], "2.1.0");
    let result = &sarif["runs"][0]["results"][0];
    assert_eq!((&result["ruleId"], &result["level"]), (&json!("broken"), &json!("error")));
    let line = |location: &Value| location["physicalLocation"]["region"]["startLine"].clone();
    assert_eq!((line(&result["locations"][0]), line(&result["relatedLocations"][0])), (json!(1), json!(8)));
    let rules: Vec<&Value> = sarif["runs"][0]["tool"]["driver"]["rules"]
        .as_array()
        .unwrap()
        .iter()
        .map(|rule| &rule["id"])
        .collect();
    assert!(rules.contains(&&result["ruleId"]), "{rules:?}");
}

#[test]
fn several_formats_are_written_at_once_and_whole() {
    let scratch = harbour();
    let run = scratch.run([
        "uphold",
        "s.yaml",
        "--expect",
        "rules.acts",
        "--also",
        "junit=u.xml",
        "--also",
        "json=u.json",
    ]);
    assert!(run.ends_with("status 1"), "{run}");
    let written = |name: &str| std::fs::read_to_string(scratch.path().join(name)).unwrap();
    assert!(written("u.xml").trim_end().ends_with("</testsuites>"));
    assert_eq!(serde_json::from_str::<Value>(&written("u.json")).unwrap()["mivask"], 1);
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--also", "xml=u.xml"]), @"
    --- standard error
    error: invalid value 'xml=u.xml' for '--also <FORMAT=FILE>': `xml` is not a format: write one of text, json, junit, sarif, tap, annotations

    For more information, try '--help'.
    --- status 2
    ");
}

#[test]
fn hostile_names_stay_within_their_fields() {
    let scene = "scene: 1\nvolumes: { v: { tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: \"/a\\n::error::b\\e[31m,%\", owner: '0:0', mode: 0666 }] } }\ncontainers: [{ name: mate, user: '1:1', mounts: [{ volume: v, at: /v }] }]\nexpect: ['* never writes /v/**']\n";
    let scratch = Scratch::with("s.yaml", scene);
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--format", "annotations"]), @r#"
    ::error file=s.yaml,line=4,col=10,title=broken%3A * never writes /v/**::mate writes "/v/a\x0a::error::b\x1b[31m,%25": allowed, because "/v/a\x0a::error::b\x1b[31m,%25": -rw-rw-rw- 0666 0:0: other has rw-, needed -w- (s.yaml:2:74 tree)%0Aassumed: the root of image of container mate is 0:0 0755
    ::notice file=s.yaml,line=2,col=74,title=mate writes "/v/a\x0a%3A%3Aerror%3A%3Ab\x1b[31m%2C%25"%3A allowed::breaks `* never writes /v/**` (s.yaml:4:10)
    --- status 1
    "#);
    assert_snapshot!(scratch.run(["uphold", "s.yaml", "--format", "tap"]), @r#"
    TAP version 14
    1..1
    not ok 1 - s.yaml: * never writes /v/**
      ---
      standing: "broken"
      at: "s.yaml:4:10"
      against:
        - "mate writes \"/v/a\\x0a::error::b\\x1b[31m,%\": allowed, because \"/v/a\\x0a::error::b\\x1b[31m,%\": -rw-rw-rw- 0666 0:0: other has rw-, needed -w- (s.yaml:2:74 tree)"
        - "assumed: the root of image of container mate is 0:0 0755"
      ...
    --- status 1
    "#);
}
