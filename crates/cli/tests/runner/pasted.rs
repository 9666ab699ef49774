//! The commands a remedy prints, run as they are printed, on real files.

use std::fs::{self, Permissions};
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::Path;
use std::process::Command;

use mivask_kernel::unavailable;

use crate::scratch::Scratch;

/// Files of many owners in `directory`, which others may reach.
fn lay_out(directory: &Path) {
    let make = |path: &str, kind: &str, owner: (u32, u32), mode: u32| {
        let path = directory.join(path);
        if kind == "dir" {
            fs::create_dir_all(&path).expect("to lay it out")
        } else {
            fs::write(&path, kind).expect("to lay it out")
        }
        chown(&path, Some(owner.0), Some(owner.1)).expect("to lay it out");
        fs::set_permissions(&path, Permissions::from_mode(mode)).expect("to lay it out");
    };
    make("", "dir", (0, 0), 0o755);
    make("team", "dir", (0, 71_500), 0o2740);
    make("team/plan", "text", (71_001, 71_500), 0o640);
    make("vault", "dir", (0, 0), 0o700);
    make("vault/in", "dir", (0, 0), 0o711);
    make("vault/in/key", "text", (0, 0), 0o600);
    make("odd name's \u{1b}$(x)", "text", (0, 0), 0o600);
    make("mine", "dir", (71_009, 71_009), 0o500);
}

/// Runs a line of the shell as uid and gid 71009, who is in group 71500.
fn as_user(line: &str) -> bool {
    let ids = ["--reuid=71009", "--regid=71009", "--groups=71500"];
    Command::new("setpriv")
        .args(ids)
        .args(["sh", "-c", line])
        .output()
        .expect("setpriv, of util-linux")
        .status
        .success()
}

#[test]
fn commands_that_are_pasted_do_what_was_promised() {
    let reason = unavailable().or_else(|| {
        let found = Command::new("setfacl").arg("--version").output().is_ok();
        (!found).then(|| "the package acl is not installed".to_owned())
    });
    if let Some(reason) = reason {
        println!("skipped: commands_that_are_pasted_do_what_was_promised: {reason}");
        return;
    }
    // The acts, and what does the same for real.
    let acts = [
        ("reads", "team/plan", "cat"),
        ("reads", "vault/in/key", "cat"),
        ("writes", "vault/in/key", "dd if=/dev/null conv=notrunc,nocreat status=none of="),
        ("reads", "odd name's \u{1b}$(x)", "cat"),
        ("creates", "mine/new", ": >"),
        ("lists", "vault", "ls"),
        ("deletes", "team/plan", "rm -f"),
    ];
    let mut pasted = 0;
    for (verb, name, tool) in acts {
        for pick in 0..3 {
            let scratch = Scratch::with("empty", "");
            let disk = scratch.path().join("disk");
            lay_out(&disk);
            fs::set_permissions(scratch.path(), Permissions::from_mode(0o755)).unwrap();
            let text = disk.display();
            let compose = format!(
                "services:\n  one: {{ image: i, user: '71009:71009', group_add: ['71500'], volumes: ['{text}:/d'] }}\n"
            );
            let scene = "scene: 1\nworkloads: [compose.yaml]\nimages: { i: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n";
            let scratch = scratch.and("compose.yaml", compose).and("s.yaml", scene);
            let act = format!("one {verb} \"/d/{}\"", name.replace('\u{1b}', "\\x1b"));
            let laid = format!("host:{text}={text}");
            let document = scratch.json(["remedy", "s.yaml", &act, "--disk", &laid, "--format", "json"]);
            assert_eq!(document["act"]["outcome"], "denied", "{act}: {document:#}");
            let Some(remedy) = document["remedies"].get(pick) else { break };
            // Whoever is someone else is not tried here.
            let Some(commands) = on_disk(remedy) else { continue };
            let path = disk.join(name);
            let quoted = format!("'{}'", path.display().to_string().replace('\'', "'\\''"));
            let real =
                if tool.ends_with('=') { format!("{tool}{quoted}") } else { format!("{tool} {quoted}") };
            assert!(!as_user(&real), "{act} is denied at first");
            let done = Command::new("sh").args(["-e", "-c", &commands]).output().unwrap();
            assert!(done.status.success(), "{commands}\n{done:?}");
            assert!(as_user(&real), "{act} after\n{commands}");
            pasted += 1;
        }
    }
    assert!(pasted >= 10, "{pasted} remedies were pasted");
}

/// The commands of a remedy that changes files alone.
fn on_disk(remedy: &serde_json::Value) -> Option<String> {
    let changes = remedy["changes"].as_array().expect("changes");
    if changes.iter().any(|change| change["side"] != "disk") {
        return None;
    }
    let commands = remedy["commands"].as_array().expect("commands");
    Some(commands.iter().map(|line| format!("{}\n", line.as_str().expect("a line"))).collect())
}
