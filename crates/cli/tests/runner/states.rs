//! Expectations of what is at paths.

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::Scratch;

fn comb() -> Scratch {
    let tree = json!([
        { "path": "/", "kind": "dir", "owner": "5101:5200", "mode": "0750" },
        { "path": "/honey", "owner": "5101:5200", "mode": "0640" },
        { "path": "/wax", "owner": "5102:5200", "mode": "0600" },
        { "path": "/now", "kind": "link", "target": "honey", "owner": "5101:5200" },
        { "path": "/d", "kind": "dir", "owner": "5101:5200", "mode": "2770" },
        { "path": "/blank", "owner": "5101:5200" },
    ]);
    let mounts = json!([{ "volume": "comb", "at": "/comb" }]);
    let scene = json!({
        "scene": 1,
        "containers": [
            { "name": "keeper", "user": "5101:5200", "mounts": mounts },
            { "name": "scribe", "user": "5102:5200", "mounts": mounts },
        ],
        "volumes": { "comb": { "tree": tree } },
    });
    Scratch::with("s.yaml", &scene.to_string())
}

/// The standing of each line.
fn standings(lines: &[&str]) -> Vec<String> {
    let answer =
        comb().and("e", lines.join("\n")).json_of(["uphold", "s.yaml", "--expect", "e", "--format", "json"]);
    let held = answer["inputs"][0]["expectations"].as_array().cloned().unwrap_or_default();
    held.iter().map(|one| one["standing"].as_str().unwrap_or_default().to_owned()).collect()
}

#[test]
fn each_way_to_say_what_is_there() {
    for (line, wanted) in [
        ("/comb/honey is 5101:5200 0640", "holds"),
        ("/comb/honey is 0640", "holds"),
        ("/comb/honey is 5101:*", "holds"),
        ("/comb/honey is *:5200 0640", "holds"),
        ("/comb/honey is 5101:5200 0600", "broken"),
        ("/comb/honey is 5102:5200 0640", "broken"),
        ("/comb/honey is a file 5101:5200 0640", "holds"),
        ("/comb/honey is a directory", "broken"),
        ("/comb/d is a directory 2770", "holds"),
        ("/comb/d is a dir and is 5101:5200", "holds"),
        ("/comb/now is a link", "holds"),
        ("/comb/now is a file", "holds"),
        ("/comb/now is 5101:5200 0640", "holds"),
        ("/comb/none is missing", "holds"),
        ("/comb/none is a file", "broken"),
        ("/comb/none at-least 0400", "broken"),
        ("/comb/honey is missing", "broken"),
        ("/comb/*.bak is missing", "holds"),
        ("/comb/h* is missing", "broken"),
        ("/comb/honey at-least 0440", "holds"),
        ("/comb/wax at-least 0440", "broken"),
        ("/comb/honey at-least 0440 at-most 0660", "holds"),
        ("/comb/honey at-least 0440 at-most 0440", "broken"),
        ("/comb/honey owned-by 5101", "holds"),
        ("/comb/honey owned-by :5200", "holds"),
        ("/comb/** owned-by :5200", "holds"),
        ("/comb/** owned-by 5101", "broken"),
        ("/comb/** except /comb/wax owned-by 5101", "holds"),
        ("/comb/blank is 0640", "depends"),
        ("/comb/blank is 5101:5200", "holds"),
        ("/comb/blank is a directory 0640", "broken"),
        ("/comb/blank at-least 0400", "depends"),
        ("keeper /comb/honey is 0640", "holds"),
        ("keeper creates /comb/new mode 0600 -> leaves * 0600", "holds"),
        ("keeper inspects /comb/honey -> shows 5101:5200 0640", "holds"),
        ("keeper inspects /comb/honey -> shows * 0600", "broken"),
        ("/elsewhere/x is missing", "depends"),
        ("keeper never changes /comb/**", "broken"),
        ("scribe never changes /comb/honey", "holds"),
        ("scribe never changes /comb/wax", "broken"),
        ("only keeper changes /comb/honey", "holds"),
        ("only keeper changes /comb/**", "broken"),
        ("only keeper changes /comb/** except /comb/wax, /comb/d, /comb/blank", "holds"),
    ] {
        assert_eq!(standings(&[line]), [wanted], "{line}");
    }
}

#[test]
fn what_is_not_so_is_said_with_what_is() {
    let lines = "/comb/honey is 5102:5200 0600\n/comb/** is a file\n/comb/none is 0640\n/comb/wax is missing\n/comb/blank is 0640\n";
    assert_snapshot!(comb().and("e", lines).run(["uphold", "s.yaml", "--expect", "e"]), @"
    s.yaml
      BROKEN    /comb/honey is 5102:5200 0600
                expected at e:1:1
                /comb/honey as keeper sees it: not owned by 5102:5200 and not 0600
                  /comb/honey: -rw-r----- 0640 5101:5200
                  s.yaml:1:272 tree
      BROKEN    /comb/** is a file
                expected at e:2:1
                /comb as keeper sees it: not a file
                  /comb: drwxr-x--- 0750 5101:5200
                  s.yaml:1:212 tree
                /comb/d as keeper sees it: not a file
                  /comb/d: drwxrws--- 2770 5101:5200
                  s.yaml:1:441 tree
      BROKEN    /comb/none is 0640
                expected at e:3:1
                /comb/none as keeper sees it: missing
                  /comb/none: no such entry
                  nothing of that name is listed
                /comb/none as scribe sees it: missing
                  /comb/none: no such entry
                  nothing of that name is listed
      BROKEN    /comb/wax is missing
                expected at e:4:1
                /comb/wax as keeper sees it: there
                  /comb/wax: -rw------- 0600 5102:5200
                  s.yaml:1:324 tree
      depends   /comb/blank is 0640
                expected at e:5:1
                /comb/blank as keeper sees it: depends
                  a fact is missing: owner and mode of /comb/blank

    5 expectations in 1 input: 0 hold, 4 broken, 1 depends
    --- status 1
    ");
    assert_snapshot!(comb().and("e", "/comb/honey is blue\n").run(["uphold", "s.yaml", "--expect", "e"]), @"
    --- standard error
    error: `blue` is not an octal mode
     --> e:1:16
      |
    1 | /comb/honey is blue
      |                ^^^^
      |
      = help: write four digits from 0 to 7, such as 0640

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}
