//! Keys that `exposure` says a program refuses, against the program itself (docs/facts/tools.md section 4).
//!
//! Where root or ssh-keygen is missing the test says `skipped` and why.

use std::fs::{Permissions, copy, set_permissions};
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::Path;
use std::process::Command;

use mivask_core::exposure::{Kind, exposure};
use mivask_core::glob::NoGlobs;
use mivask_core::prepare;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin};
use mivask_read::scene_file::read_scene;
use mivask_read::text::SourceText;
use mivask_read::yaml;

/// Users that every account file here has: ssh-keygen does nothing for one without a name.
const USERS: [u32; 3] = [0, 1, 65534];
const MODES: [u32; 11] = [0o400, 0o600, 0o700, 0o604, 0o610, 0o620, 0o640, 0o644, 0o660, 0o777, 0o2600];

/// Whether `reader` is told that the key is too wide.
fn foretold(owner: u32, mode: u32, reader: u32) -> bool {
    let text = format!(
        "scene: 1\nimages: {{ i: {{ tree: [{{ path: /, kind: dir, owner: '0:0', mode: 0755 }}] }} }}\n\
         containers: [{{ name: app, image: i, user: '{reader}:7', capabilities: {{ drop: [ALL] }}, mounts: [{{ volume: v, at: /v }}] }}]\n\
         volumes:\n  v:\n    tree:\n      - {{ path: /, kind: dir, owner: '0:0', mode: 0755 }}\n      \
         - {{ path: /id_ed25519, owner: '{owner}:7', mode: {mode:04o} }}\n"
    );
    let source = SourceText::new("key.yaml", &text);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let scene = read_scene(&nodes[0], &source, &Origin::Standard, &Disk, &mut diagnostics).expect(&text);
    let found = exposure(&prepare::stage(&scene), &[], &[], &NoGlobs).expect("no patterns");
    found.iter().any(|finding| finding.kind == Kind::TooWide)
}

/// Whether ssh-keygen, started by `reader` without capabilities, refuses the key for its mode.
fn really(key: &Path, reader: u32) -> bool {
    let reader = reader.to_string();
    let alone = ["--reuid", &reader, "--regid", "7", "--clear-groups", "--bounding-set", "-all"];
    let mut command = Command::new("setpriv");
    let out = command.args(alone).args(["ssh-keygen", "-y", "-f"]).arg(key).output().expect("setpriv");
    String::from_utf8_lossy(&out.stderr).contains("bad permissions")
}

#[test]
fn keys_that_ssh_refuses() {
    if let Some(reason) = mivask_kernel::unavailable() {
        return println!("skipped: keys that ssh refuses: {reason}");
    }
    let folder = tempfile::tempdir().expect("a folder");
    let base = folder.path().join("base");
    let mut make = Command::new("ssh-keygen");
    let made = make.args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&base).status();
    if !made.is_ok_and(|status| status.success()) {
        return println!("skipped: keys that ssh refuses: there is no ssh-keygen");
    }
    set_permissions(folder.path(), Permissions::from_mode(0o755)).expect("ours");
    let key = folder.path().join("id_ed25519");
    let mut refused = 0;
    for owner in USERS {
        for mode in MODES {
            copy(&base, &key).expect("a copy");
            chown(&key, Some(owner), Some(7)).expect("as root");
            set_permissions(&key, Permissions::from_mode(mode)).expect("as root");
            for reader in USERS {
                let said = foretold(owner, mode, reader);
                assert_eq!(said, really(&key, reader), "{mode:04o} {owner}:7, read by {reader}");
                refused += u32::from(said);
            }
        }
    }
    assert!(refused > 10, "{refused} were refused");
}
