//! `confirm` for a plain user with subordinate ids, on user namespaces of the actors' own.

#![expect(clippy::print_stdout, reason = "CI counts the lines that say `skipped`")]

use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use mivask_kernel::{has_tool, unavailable};

use crate::scratch::Scratch;

/// Runs the program as a user 1500 that the account files of `etc` know, in a mount namespace where they are the machine's.
const AS_ADA: &str = "set -e
for file in passwd group subuid subgid; do [ -e /etc/$file ] || exit 77; mount --bind etc/$file /etc/$file; done
exec setpriv --reuid=1500 --regid=1500 --groups=1500,1600 --inh-caps=-all ./mivask \"$@\"
";

const SERVICES: &str = "services:
  root: { image: i, user: '0:0', volumes: ['/srv/in:/in', 'v:/v'], tmpfs: /t }
  app: { image: i, user: '405:1001', volumes: ['/srv/in:/in', 'v:/v'] }
  keep: { image: i, user: '405:1001', userns_mode: 'keep-id:uid=405,gid=1001', volumes: ['/srv/in:/in:ro', 'v:/v'] }
  kept: { image: i, userns_mode: keep-id, volumes: ['/srv/in:/in'], cap_add: [DAC_OVERRIDE, FOWNER, CHOWN] }
  nomap: { image: i, user: '405:1001', userns_mode: nomap, volumes: ['/srv/in:/in'] }
  crew: { image: i, user: '405:1001', group_add: [keep-groups], volumes: ['/srv/in:/in'] }
volumes: { v: }
";

const SCENE: &str = "scene: 1
runtime: podman
workloads: [c.yaml]
host: { started-by: ada, accounts: { passwd: etc/passwd, group: etc/group }, subuid: etc/subuid, subgid: etc/subgid,
  tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, { path: /srv, kind: dir, owner: '0:0', mode: '0755' },
    { path: /srv/in, kind: dir, owner: '1500:1500', mode: '0777' }, { path: /srv/in/own, owner: '1500:1500', mode: '0640' },
    { path: /srv/in/sub, owner: '300404:301000', mode: '0640' }, { path: /srv/in/host, owner: '7:7', mode: '0666' },
    { path: /srv/in/crew, kind: dir, owner: '0:1600', mode: '2770' }, { path: /srv/in/suid, owner: '300000:300000', mode: '4755' },
    { path: /srv/in/acl, kind: dir, owner: '1500:1500', mode: '0770',
      acl: 'user::rwx,user:300404:rwx,group::---,group:1600:r-x,mask::rwx,other::---' }] }
images: { i: { user: '', tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, { path: /etc, kind: dir, owner: '0:0', mode: '0755' },
  { path: /v, kind: dir, owner: '405:1001', mode: '0750' }, { path: /v/a, owner: '5:5', mode: '0664' }] } }
";

fn scratch(ids: &str) -> Option<Scratch> {
    let missing = ["unshare", "setpriv", "newuidmap", "newgidmap"].into_iter().find(|tool| !has_tool(tool));
    if let Some(why) = unavailable().or_else(|| missing.map(|tool| format!("{tool} is not installed"))) {
        println!("skipped: a plain user's confirm: {why}");
        return None;
    }
    let scratch = Scratch::with("c.yaml", SERVICES)
        .and("s.yaml", SCENE)
        .and("as-ada.sh", AS_ADA)
        .and("etc/passwd", "root:x:0:0::/root:/bin/sh\nada:x:1500:1500::/home/ada:/bin/sh\n")
        .and("etc/group", "ada:x:1500:\ncrew:x:1600:ada\n")
        .and("etc/subuid", ids)
        .and("etc/subgid", ids);
    let program = scratch.path().join("mivask");
    std::fs::copy(env!("CARGO_BIN_EXE_mivask"), &program).expect("the program is copied");
    for path in [scratch.path(), &program, &scratch.path().join("etc")] {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).expect("the mode is set");
    }
    for file in ["c.yaml", "s.yaml", "etc/passwd", "etc/group", "etc/subuid", "etc/subgid"] {
        let readable = std::fs::Permissions::from_mode(0o644);
        std::fs::set_permissions(scratch.path().join(file), readable).expect("the mode is set");
    }
    Some(scratch)
}

/// What the program says to her; `None` where this machine lets no plain user try.
fn confirmed(scratch: &Scratch, acts: &[String]) -> Option<String> {
    let told = Command::new("unshare")
        .args(["--mount", "--propagation", "private", "sh", "as-ada.sh", "confirm", "s.yaml"])
        .args(acts)
        .current_dir(scratch.path())
        .output()
        .expect("unshare starts");
    let said = String::from_utf8_lossy(&told.stderr).into_owned();
    if told.status.code() == Some(77) || said.contains("unshare of the user namespace") {
        println!("skipped: a plain user's confirm: no account files or user namespaces here");
        return None;
    }
    assert!(said.contains("note: without root, it is rebuilt in a user namespace"), "{said}");
    Some(String::from_utf8_lossy(&told.stdout).into_owned())
}

#[test]
fn a_plain_user_has_actors_of_namespaces_of_their_own_rebuilt() {
    let Some(scratch) = scratch("ada:300000:65536\n") else { return };
    let mut acts = Vec::new();
    for actor in ["root", "app", "keep", "kept", "nomap", "crew"] {
        for path in ["own", "sub", "host", "suid"] {
            acts.extend(
                ["reads", "writes", "deletes", "runs"].map(|verb| format!("{actor} {verb} /in/{path}")),
            );
            acts.push(format!("{actor} sets-mode 6755 on /in/{path}"));
            acts.push(format!("{actor} sets-owner 405:1001 on /in/{path}"));
        }
        acts.push(format!("{actor} sets-owner 70000 on /in/own"));
        acts.push(format!(
            "{actor} sets-acl user::rwx,user:405:r-x,group::---,mask::r-x,other::--- on /in/own"
        ));
        acts.extend(
            ["/in", "/in/crew", "/in/acl", "/dev/shm", "/etc", "/v"]
                .map(|at| format!("{actor} creates {at}/x")),
        );
    }
    let Some(printed) = confirmed(&scratch, &acts) else { return };
    let counted = format!("no difference: {} the same, 0 different, 0 not checked", acts.len());
    assert!(printed.contains(&counted), "{printed}");
    // The kernel is asked about what the ids are stored as, too.
    assert!(
        printed.contains("crew creates /in/x  allowed, leaves 405:1001 0644, stored as 300404:301000"),
        "{printed}"
    );
}

#[test]
fn who_has_too_few_ids_is_told_so() {
    let Some(scratch) = scratch("ada:300000:65536\n") else { return };
    for file in ["etc/subuid", "etc/subgid"] {
        // The scene has the ids that it had; the user has lost hers since.
        std::fs::copy(scratch.path().join(file), scratch.path().join(format!("{file}.then")))
            .expect("a copy");
        std::fs::write(scratch.path().join(file), "ada:300000:9\n").expect("fewer ids");
    }
    let scene = SCENE.replace(
        "subuid: etc/subuid, subgid: etc/subgid",
        "subuid: etc/subuid.then, subgid: etc/subgid.then",
    );
    std::fs::write(scratch.path().join("s.yaml"), scene).expect("a scene");
    for file in ["etc/subuid.then", "etc/subgid.then"] {
        let readable = std::fs::Permissions::from_mode(0o644);
        std::fs::set_permissions(scratch.path().join(file), readable).expect("the mode is set");
    }
    let Some(printed) = confirmed(&scratch, &["app reads /in/own".to_owned()]) else { return };
    let why = "without root it takes 65541 user ids, and 10 are yours (/etc/subuid)";
    assert!(printed.contains(why), "{printed}");
}
