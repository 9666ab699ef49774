//! What `remedy` proposes, made for real: its commands are run where they say, and the kernel is asked.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::{Command, Stdio};

use serde_json::Value;

use crate::recursion;
use crate::scratch::Scratch;

/// Whether this machine can be changed and asked; says why not.
#[expect(clippy::print_stdout, reason = "what is skipped is said")]
fn is_root(test: &str) -> bool {
    let root = recursion::is_root();
    let tools = ["setpriv", "nsenter", "setfacl"];
    let lacking = tools.into_iter().find(|tool| {
        let found = Command::new(tool).arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status();
        !found.is_ok_and(|status| status.success())
    });
    match (root, lacking) {
        (true, None) => true,
        (false, _) => {
            println!("skipped: {test}: it takes root to give files away");
            false
        }
        (true, Some(tool)) => {
            println!("skipped: {test}: there is no {tool} here");
            false
        }
    }
}

/// Whether a shell script succeeds.
fn succeeds(script: &str) -> bool {
    let status = Command::new("sh").args(["-c", script]).stdout(Stdio::null()).stderr(Stdio::null()).status();
    status.unwrap().success()
}

/// The folder of `scratch`, with a way there for everybody.
fn open(scratch: &Scratch) -> &Path {
    fs::set_permissions(scratch.path(), fs::Permissions::from_mode(0o755)).unwrap();
    scratch.path()
}

/// The changes of a remedy, in words.
fn changes(remedy: &Value) -> Vec<&str> {
    remedy["changes"].as_array().unwrap().iter().map(|one| one["change"].as_str().unwrap()).collect()
}

/// Whether nothing but files is changed.
fn is_on_disk(remedy: &Value) -> bool {
    remedy["changes"].as_array().unwrap().iter().all(|one| one["side"] == "disk")
}

fn commands(remedy: &Value) -> String {
    let lines = remedy["commands"].as_array().unwrap().iter().map(|line| line.as_str().unwrap());
    lines.fold("set -e\n".to_owned(), |all, line| all + line + "\n")
}

#[test]
fn commands_under_a_user_namespace_have_the_ids_of_the_host() {
    if !is_root("commands under a user namespace") {
        return;
    }
    let scratch = Scratch::with("c.yaml", "");
    let top = open(&scratch).to_owned();
    let data = top.join("data").display().to_string();
    fs::write(
        top.join("c.yaml"),
        format!("services:\n  web: {{ image: i, user: '1000:1000', volumes: ['{data}:/data'] }}\n"),
    )
    .unwrap();
    let above: String = top
        .ancestors()
        .map(|path| format!("  - {{ path: {}, kind: dir, owner: '0:0', mode: 0755 }}\n", path.display()))
        .collect();
    let scene = format!(
        "scene: 1\nruntime: docker\nworkloads: [c.yaml]\nhost:\n  user-namespace: {{ uids: ['0 231072 65536'], gids: ['0 231072 65536'] }}\n  tree:\n{above}  - {{ path: {data}, kind: dir, owner: '0:0', mode: 0755 }}\n  - {{ path: {data}/f, owner: '0:0', mode: 0600 }}\n"
    );
    fs::write(top.join("s.yaml"), scene).unwrap();
    // As the container would, in a user namespace of its own with the map of the scene.
    let inside = |act: &str| {
        succeeds(&format!(
            "unshare -U sleep 60 & p=$!
            until [ \"$(readlink /proc/$p/ns/user)\" != \"$(readlink /proc/self/ns/user)\" ]; do :; done
            echo 0 231072 65536 > /proc/$p/uid_map; echo 0 231072 65536 > /proc/$p/gid_map
            nsenter -t $p -U -S 1000 -G 1000 sh -c '{act}'; r=$?; kill $p; exit $r"
        ))
    };
    let mut made = 0;
    for (act, real) in [
        ("web creates /data/x", format!(": > {data}/x")),
        ("web reads /data/f", format!("cat {data}/f")),
        ("web writes /data/f", format!(": >> {data}/f")),
    ] {
        let afresh = format!("rm -rf {data}; mkdir -m 0755 {data}; : > {data}/f; chmod 0600 {data}/f");
        assert!(succeeds(&afresh));
        if !inside("true") {
            println!("skipped: commands under a user namespace: none can be made here");
            return;
        }
        assert!(!inside(&real), "{act}: it is refused before");
        let found = scratch.json(["remedy", "s.yaml", act, "-q", "--format", "json"]);
        for remedy in found["remedies"].as_array().unwrap().iter().filter(|remedy| is_on_disk(remedy)) {
            assert!(succeeds(&afresh));
            assert!(succeeds(&commands(remedy)), "{}", commands(remedy));
            assert!(inside(&real), "{act}: after {}", commands(remedy));
            made += 1;
        }
    }
    assert!(made >= 6, "{made}");
}

/// `api` makes files under `/out`, `shipper` uses them.
pub(crate) fn handed_over(top: &Path, umask: &str) -> String {
    let out = top.join("out").display().to_string();
    format!(
        "scene: 1\ncontainers:\n- {{ name: api, user: '7001:7001', umask: '{umask}', mounts: [{{ at: {out}, volume: v }}] }}\n- {{ name: shipper, user: '7002:7002', groups: [7300], mounts: [{{ at: {out}, volume: v }}] }}\nvolumes:\n  v: {{ filesystem: ext4, tree: [{{ path: /, kind: dir, owner: '7001:7001', mode: 0755 }}] }}\n"
    )
}

/// Whoever a remedy makes of the reader, and the maker's umask, as `setpriv` and `umask` take them.
fn as_changed(remedy: &Value, umask: &str) -> (String, String) {
    let (mut user, mut groups, mut umask) = (7002, vec!["7300".to_owned()], umask.to_owned());
    for change in changes(remedy) {
        match change.split(' ').collect::<Vec<_>>().as_slice() {
            ["shipper", "joins", gid] => groups.push((*gid).to_owned()),
            ["shipper", "becomes", uid] => user = uid.parse().unwrap(),
            ["api", "umask", value] => umask = (*value).to_owned(),
            _ => assert!(change.starts_with("for api "), "{change}"),
        }
    }
    (format!("setpriv --reuid={user} --regid=7002 --groups={}", groups.join(",")), umask)
}

#[test]
fn what_lets_the_next_file_be_used_lasts() {
    if !is_root("what lets the next file be used") {
        return;
    }
    let scratch = Scratch::with("s.yaml", "");
    let top = open(&scratch).to_owned();
    let out = top.join("out").display().to_string();
    let mut made = 0;
    for (umask, verb, act) in
        [("0077", "reads", "cat"), ("0077", "writes", ": >>"), ("0022", "writes", ": >>")]
    {
        fs::write(top.join("s.yaml"), handed_over(&top, umask)).unwrap();
        let sentence = format!("shipper {verb} what api makes in {out}");
        let found = scratch.json(["remedy", "s.yaml", &sentence, "-q", "--format", "json"]);
        let ways: Vec<String> =
            found["remedies"].as_array().unwrap().iter().map(|one| changes(one).join("; ")).collect();
        for wanted in ["joins 7001", "sets-default-acl", "becomes 7001", "sets-group 7300"] {
            assert!(ways.iter().any(|way| way.contains(wanted)), "{sentence}: {wanted} in {ways:?}");
        }
        for remedy in found["remedies"].as_array().unwrap() {
            let way = changes(remedy).join("; ");
            assert!(!way.contains("777") && !way.contains("o+w"), "{way}");
            assert!(succeeds(&format!("rm -rf {out}; mkdir -m 0755 {out}; chown 7001:7001 {out}")));
            assert!(succeeds(&commands(remedy)), "{way}");
            let (reader, umask) = as_changed(remedy, umask);
            // Twice: the second file is as the first.
            for name in ["one", "two"] {
                let make = format!(
                    "setpriv --reuid=7001 --regid=7001 --clear-groups sh -c 'umask {umask}; echo > {out}/{name}'"
                );
                assert!(succeeds(&make), "{way}");
                assert!(succeeds(&format!("{reader} sh -c '{act} {out}/{name}'")), "{sentence}: {way}");
            }
            made += 1;
        }
    }
    assert!(made >= 12, "{made}");
}

#[test]
fn one_file_deep_in_a_closed_tree() {
    if !is_root("one file deep in a closed tree") {
        return;
    }
    let scratch = Scratch::with("s.yaml", "");
    let top = open(&scratch).to_owned();
    let ledger = top.join("ledger").display().to_string();
    let deep = "/a/b/c/d/e/f";
    let directories: Vec<&str> =
        std::iter::successors(Some(deep), |path| path.rsplit_once('/').map(|(above, _)| above)).collect();
    let tree: String = directories
        .iter()
        .map(|path| if path.is_empty() { "/" } else { *path })
        .map(|path| format!("  - {{ path: {path}, kind: dir, owner: '0:0', mode: 0700 }}\n"))
        .collect();
    let files = format!(
        "  - {{ path: {deep}/rates, owner: '0:0', mode: 0600 }}\n  - {{ path: {deep}/key, owner: '0:0', mode: 0600 }}\n"
    );
    let scene = format!(
        "scene: 1\ncontainers:\n- {{ name: app, user: '1000:1000', mounts: [{{ at: {ledger}, volume: v }}] }}\nvolumes:\n  v:\n    filesystem: ext4\n    tree:\n{tree}{files}"
    );
    fs::write(top.join("s.yaml"), scene.replace("\n  - {", "\n    - {")).unwrap();
    let path = format!("{ledger}{deep}");
    let afresh = format!(
        "rm -rf {ledger}; mkdir -p {path}; echo > {path}/rates; echo > {path}/key; chmod -R go= {ledger}"
    );
    assert!(succeeds(&afresh));
    let app = "setpriv --reuid=1000 --regid=1000 --clear-groups";
    let found =
        scratch.json(["remedy", "s.yaml", &format!("app reads {path}/rates"), "-q", "--format", "json"]);
    let first = &found["remedies"][0];
    assert_eq!(changes(first).len(), 8, "an entry on each directory and the file");
    assert_eq!(first["opens"], 0);
    assert!(!succeeds(&format!("{app} cat {path}/rates")));
    assert!(succeeds(&commands(first)));
    assert!(succeeds(&format!("{app} cat {path}/rates")));
    assert!(!succeeds(&format!("{app} cat {path}/key")), "nothing else is opened");
    assert!(!succeeds(&format!("{app} ls {path}")));
}

#[test]
fn a_script_looks_before_it_changes_and_runs_twice() {
    if !is_root("a script of a remedy") {
        return;
    }
    let scratch = Scratch::with("s.yaml", "");
    let top = open(&scratch).to_owned();
    let data = top.join("it's here").display().to_string();
    let tree: String = top
        .ancestors()
        .map(|path| format!("  - {{ path: {}, kind: dir, owner: '0:0', mode: 0755 }}\n", path.display()))
        .collect();
    let scene = format!(
        "scene: 1\nhost:\n  people: [{{ name: clerk, user: '1000:1000' }}]\n  tree:\n{tree}  - {{ path: \"{data}\", kind: dir, owner: '0:0', mode: 0755 }}\n"
    );
    fs::write(top.join("s.yaml"), scene).unwrap();
    let act = format!("clerk makes-directory \"{data}/new\"");
    let found = scratch.json(["remedy", "s.yaml", &act, "-q", "--format", "json"]);
    let quoted = data.replace('\'', "'\\''");
    let script = top.join("fix.sh").display().to_string();
    let mut made = 0;
    for (at, remedy) in found["remedies"].as_array().unwrap().iter().enumerate() {
        if !is_on_disk(remedy) {
            continue;
        }
        let pick = (at + 1).to_string();
        let said = scratch.run(["remedy", "s.yaml", &act, "--script", "fix.sh", "--pick", &pick]);
        assert!(
            said.contains(&format!("note: the commands of remedy {pick} are written to fix.sh: sh fix.sh"))
        );
        assert!(succeeds(&format!("mkdir -m 0755 '{quoted}'; sh {script} && sh {script}")), "{remedy}");
        let clerk = "setpriv --reuid=1000 --regid=1000 --clear-groups";
        assert!(succeeds(&format!("{clerk} mkdir '{quoted}/new'")), "{remedy}");
        // Somebody was faster.
        let other = format!("rm -rf '{quoted}'; mkdir -m 0700 '{quoted}'; chown 5:5 '{quoted}'");
        assert!(succeeds(&other));
        assert!(!succeeds(&format!("sh {script}")), "{remedy}");
        assert!(succeeds(&format!(
            "[ \"$(stat -c '%u:%g %a' '{quoted}')\" = '5:5 700' ] && rm -rf '{quoted}'"
        )));
        made += 1;
    }
    assert!(made >= 2, "{made}");
    let none = scratch.run(["remedy", "s.yaml", &act, "-q", "--script", "none.sh", "--pick", "99"]);
    assert!(none.contains("error: there is no remedy 99"), "{none}");
    assert!(!top.join("none.sh").exists());
}

#[test]
fn an_interpreter_reads_what_noexec_does_not_run() {
    if !is_root("an interpreter on a noexec mount") {
        return;
    }
    let scratch = Scratch::with("empty", "");
    let top = scratch.path().display().to_string();
    let mounted = format!("mount -t tmpfs -o noexec t {top}");
    let within =
        |script: &str| succeeds(&format!("unshare -m --propagation private sh -c '{mounted} && {script}'"));
    if !within("true") {
        println!("skipped: an interpreter on a noexec mount: none can be made here");
        return;
    }
    let made = format!("echo true > {top}/x && chmod 755 {top}/x");
    assert!(within(&format!("{made} && sh {top}/x")));
    assert!(!within(&format!("{made} && {top}/x")));
}
