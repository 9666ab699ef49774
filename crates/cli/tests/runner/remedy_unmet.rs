//! One set of changes for all that is expected to be possible and is not.

use insta::assert_snapshot;

use crate::scratch::Scratch;

const SCENE: &str = "\
scene: 1
containers:
- { name: api, user: '7001:7001', mounts: [{ at: /spool, volume: spool }] }
- { name: mail, user: '7002:7002', mounts: [{ at: /spool, volume: spool }] }
volumes:
  spool:
    tree:
    - { path: /, kind: dir, owner: '7001:7300', mode: '0770' }
    - { path: /out, kind: dir, owner: '7001:7300', mode: '0750' }
    - { path: /out/a, owner: '7001:7300', mode: '0640' }
    - { path: /out/b, owner: '7001:7300', mode: '0640' }
    - { path: /key, owner: '7001:7001', mode: '0600' }
expect:
- api creates /spool/x
- mail reads /spool/out/*
- mail lists /spool
- mail never reads /spool/key
- api never writes /spool/key
";

#[test]
fn all_that_uphold_finds_refused_is_mended_at_once() {
    let scratch = Scratch::with("s.yaml", SCENE).and("more.acts", "mail creates /spool/out/done\n");
    assert_snapshot!(scratch.run(["remedy", "s.yaml", "--unmet", "-q"]), @"
    mended       mail reads /spool/out/a
    mended       mail reads /spool/out/b
    mended       mail lists /spool

    1  process  mail joins 7300
                opens 3 more: mail can create /spool; mail can delete /spool/key; mail can list /spool/out
                --- s.yaml
                +++ s.yaml
                @@ -2,5 +2,5 @@
                 containers:
                 - { name: api, user: '7001:7001', mounts: [{ at: /spool, volume: spool }] }
                -- { name: mail, user: '7002:7002', mounts: [{ at: /spool, volume: spool }] }
                +- { name: mail, user: '7002:7002', mounts: [{ at: /spool, volume: spool }], groups: [7300] }
                 volumes:
                   spool:
    --- status 0
    ");
    let found =
        scratch.json(["remedy", "s.yaml", "--unmet", "-q", "--format", "json", "--expect", "more.acts"]);
    let acts: Vec<&str> =
        found["acts"].as_array().into_iter().flatten().filter_map(|one| one["act"].as_str()).collect();
    assert!(acts.contains(&"mail creates /spool/out/done") && acts.len() == 4, "{acts:?}");
    assert_eq!(found["left"].as_array().map(Vec::len), Some(0));
}

#[test]
fn what_is_mended_is_upheld() {
    let scratch = Scratch::with("s.yaml", &SCENE.replace("- api never writes /spool/key\n", ""));
    let found = scratch.json(["remedy", "s.yaml", "--unmet", "-q", "--format", "json"]);
    let changes = found["remedy"]["changes"].as_array().cloned().unwrap_or_default();
    let mut again = vec!["uphold".to_owned(), "s.yaml".to_owned(), "-q".to_owned()];
    for change in &changes {
        again.extend(["--change".to_owned(), change["change"].as_str().unwrap_or_default().to_owned()]);
    }
    let said = scratch.run(again.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(said.contains("4 hold") && said.ends_with("--- status 0"), "{changes:?}: {said}");
    // What is mended is not looked for again.
    again[0] = "remedy".to_owned();
    again.push("--unmet".to_owned());
    let said = scratch.run(again.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(said.contains("There is nothing to mend."), "{said}");
}

#[test]
fn without_expectations_there_is_nothing_unmet() {
    let (bare, _) = SCENE.split_once("expect:").unwrap_or_default();
    let scratch = Scratch::with("s.yaml", bare).and("wrong.acts", "mail raeds /x\n");
    let said = scratch.run(["remedy", "s.yaml", "--unmet"]);
    assert!(said.contains("nothing is expected") && said.ends_with("--- status 2"), "{said}");
    for wrong in [
        &["remedy", "s.yaml", "--unmet", "mail reads /spool/key"][..],
        &["remedy", "s.yaml", "--unmet", "--acts", "wrong.acts"],
        &["remedy", "s.yaml", "--unmet", "--expect", "wrong.acts"],
        &["remedy", "s.yaml", "--unmet", "--expect", "none.acts"],
    ] {
        assert!(scratch.run(wrong).ends_with("--- status 2"), "{wrong:?}");
    }
}
