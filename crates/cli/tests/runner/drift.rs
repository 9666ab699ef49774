//! Two states of one disk.

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::Scratch;

const BEFORE: &str = "\
.:
drwxr-xr-x 3 0 0 4096 Nov 1 10:00 .
drwxr-x--- 2 5102 5200 4096 Nov 1 10:00 notes
drwxr-x--- 2 5102 5200 4096 Nov 1 10:00 old
-rw------- 1 0 0 2 Nov 1 10:00 wax

./notes:
drwxr-x--- 2 5102 5200 4096 Nov 1 10:00 .
-rw-r----- 1 5102 5200 2 Nov 1 10:00 a
-rw-r----- 1 5102 5200 2 Nov 1 10:00 b
lrwxrwxrwx 1 5102 5200 1 Nov 1 10:00 l -> a

./old:
drwxr-x--- 2 5102 5200 4096 Nov 1 10:00 .
-rw-r----- 1 5102 5200 2 Nov 1 10:00 x
";

fn after() -> String {
    let owners = BEFORE.replace("5102 5200 2 Nov 1 10:00 a", "0 0 2 Nov 1 10:00 a");
    let owners = owners.replace("5102 5200 2 Nov 1 10:00 b", "0 0 2 Nov 1 10:00 b");
    let modes = owners.replace("-rw------- 1 0 0 2 Nov 1 10:00 wax", "-rw-rw-rw- 1 0 0 2 Nov 1 10:00 wax");
    modes.replace("l -> a", "l -> b").replace(" old\n", " new\n").replace("./old:", "./new:")
}

fn both() -> Scratch {
    Scratch::with("a.txt", BEFORE).and("b.txt", after())
}

#[test]
fn what_is_different_is_summed_and_listed() {
    assert_snapshot!(both().run(["compare", "a.txt", "b.txt"]), @"
      entries  what                    below
      2        appeared                /new
      2        gone                    /old
      2        owner 5102:5200 -> 0:0  /notes
      1        link to elsewhere       /notes/l
      1        mode 0600 -> 0666       /wax

    8 entries differ, 6 are in both: --list shows each path
    --- status 0
    ");
    assert_snapshot!(both().run(["compare", "a.txt", "b.txt", "--list"]), @"
            path      before                                 after
      new   /new      -                                      drwxr-x--- 0750 5102:5200 and 1 below
      gone  /old      drwxr-x--- 0750 5102:5200 and 1 below  -
      now   /wax      -rw------- 0600 0:0                    -rw-rw-rw- 0666 0:0
      now   /notes/a  -rw-r----- 0640 5102:5200              -rw-r----- 0640 0:0
      now   /notes/b  -rw-r----- 0640 5102:5200              -rw-r----- 0640 0:0
      now   /notes/l  lrwxrwxrwx 0777 5102:5200 -> a         lrwxrwxrwx 0777 5102:5200 -> b
    --- status 0
    ");
    assert_snapshot!(both().run(["compare", "a.txt", "a.txt"]), @"
    Nothing differs in 8 entries.
    --- status 0
    ");
    let answer = both().json(["compare", "a.txt", "b.txt", "--format", "json"]);
    let rows = answer["differences"].as_array().cloned().unwrap_or_default();
    let words: Vec<_> = rows.iter().map(|row| (row["path"].clone(), row["what"].clone())).collect();
    assert!(words.contains(&(json!("/notes/a"), json!("changed"))), "{words:?}");
    assert_eq!(rows.iter().find(|row| row["path"] == "/old").map(|row| row["below"].clone()), Some(json!(1)));
}

#[test]
fn a_volume_of_a_scene_and_the_disk_as_it_is() {
    let scene = json!({
        "scene": 1,
        "containers": [{ "name": "keeper", "user": "1:1", "mounts": [{ "volume": "comb", "at": "/c" }] }],
        "volumes": { "comb": { "tree": "a.txt" } },
    });
    let scratch = both().and("s.yaml", scene.to_string());
    let same = scratch.run(["compare", "s.yaml", "a.txt", "--volume", "comb"]);
    assert!(same.starts_with("Nothing differs"), "{same}");
    let other = scratch.run(["compare", "s.yaml", "b.txt", "--volume", "comb", "--list"]);
    assert!(other.contains("/notes/a"), "{other}");
    for (words, said) in [
        (vec!["compare", "s.yaml", "b.txt"], "b.txt is no description, and s.yaml is one"),
        (
            vec!["compare", "s.yaml", "b.txt", "--volume", "wax"],
            "what is on volume wax is not given: there is comb",
        ),
        (vec!["compare", "s.yaml", "s.yaml", "--volume", "comb"], "s.yaml is not a folder, a survey"),
    ] {
        let text = scratch.run(words);
        assert!(text.contains(said) && text.ends_with("--- status 2"), "{text}");
    }
}
