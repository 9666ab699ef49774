//! The policies that are compared.

use std::path::{Path, PathBuf};
use std::process::Command;

use mivask_label::Policy;
use tempfile::TempDir;

use super::judge::skipped;

/// A policy in a file, and as Mivask read it.
pub(crate) struct Found {
    pub(crate) name: String,
    pub(crate) file: PathBuf,
    pub(crate) policy: Policy,
    /// Booleans that are not as the policy has them.
    pub(crate) booleans: Vec<(&'static str, bool)>,
    _folder: TempDir,
}

fn found(name: String, folder: TempDir, booleans: &[(&'static str, bool)]) -> Found {
    let file = folder.path().join("policy");
    let mut policy =
        Policy::read(&std::fs::read(&file).unwrap()).unwrap_or_else(|problem| panic!("{name}: {problem}"));
    for (boolean, on) in booleans {
        assert!(policy.set_boolean(boolean, *on), "{boolean}");
    }
    Found { name, file, policy, booleans: booleans.to_vec(), _folder: folder }
}

/// Debian's reference policy, written in a version.
pub(crate) fn debian(version: u32) -> Option<Found> {
    let whole = Path::new("/etc/selinux/default/policy/policy.33");
    if !whole.exists() {
        skipped("Debian's selinux-policy-default is not installed");
        return None;
    }
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("policy");
    let made = if version == 33 {
        std::fs::copy(whole, &file).is_ok()
    } else {
        let number = version.to_string();
        run(
            Command::new("checkpolicy").args(["-b", "-M", "-c", &number, "-o"]).arg(&file).arg(whole),
            "checkpolicy",
        )
    };
    made.then(|| found(format!("Debian's policy of version {version}"), folder, &[]))
}

/// The tests' own policy, in a version and with booleans set.
pub(crate) fn own(version: u32, booleans: &[(&'static str, bool)]) -> Option<Found> {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("policy");
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/policy/containers.cil");
    let number = version.to_string();
    let made = run(
        Command::new("secilc").args(["-c", &number, "-f", "/dev/null", "-o"]).arg(&file).arg(source),
        "secilc",
    );
    made.then(|| found(format!("our policy of version {version}, with {booleans:?}"), folder, booleans))
}

/// Whether a compiler ran; that it is not there is said.
fn run(command: &mut Command, name: &str) -> bool {
    match command.output() {
        Ok(output) => {
            assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
            true
        }
        Err(_) => {
            skipped(&format!("{name} is not installed"));
            false
        }
    }
}
