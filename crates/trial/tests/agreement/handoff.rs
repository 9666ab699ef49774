//! The matrix of `handoff` beside real files: each creator creates as itself, each consumer tries as itself, with ordinary
//! tools on the disk of this machine.

use std::os::unix::fs::{PermissionsExt, chown};
use std::path::Path;
use std::process::Command;

use fastrand::Rng;
use mivask_core::handoff::{PerUse, Use, UseOutcome, handoffs};
use mivask_core::outcome::Errno;
use mivask_core::settle::Outcome;
use mivask_kernel::unavailable;

use crate::support::{skipped, stage_of};

/// An actor of the scene, and the process it means.
struct Party {
    name: &'static str,
    uid: u32,
    gid: u32,
    groups: Vec<u32>,
    umask: &'static str,
}

impl Party {
    fn random(name: &'static str, rng: &mut Rng) -> Self {
        let groups = [500, 600].into_iter().filter(|_| rng.bool()).collect();
        let uid = *rng.choice(&[71_001, 71_002, 71_003]).unwrap_or(&71_001);
        let gid = if rng.u8(..4) == 0 { 500 } else { uid };
        let umask = rng.choice(&["0022", "0002", "0027", "0007", "0077", "0000"]).unwrap_or(&"0022");
        Self { name, uid, gid, groups, umask }
    }

    fn in_scene(&self) -> String {
        format!(
            "  - {{ name: {}, user: '{}:{}', groups: {:?}, umask: '{}', no-new-privileges: true, mounts: [{{ volume: v, at: /v }}] }}\n",
            self.name, self.uid, self.gid, self.groups, self.umask
        )
    }

    /// Runs a line of the shell as this party, in `directory`; what went wrong.
    fn does(&self, directory: &Path, line: &str) -> Result<(), String> {
        let groups: Vec<String> = self.groups.iter().map(ToString::to_string).collect();
        let groups = if groups.is_empty() {
            "--clear-groups".to_owned()
        } else {
            format!("--groups={}", groups.join(","))
        };
        let output = Command::new("setpriv")
            .args([&format!("--reuid={}", self.uid), &format!("--regid={}", self.gid), &groups])
            .args(["sh", "-c", &format!("umask {}; cd / && {line}", self.umask), "sh"])
            .arg(directory)
            .env("LC_ALL", "C")
            .output()
            .expect("setpriv, of util-linux");
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        if output.status.success() { Ok(()) } else { Err(said) }
    }
}

/// A directory made anew for each deed, so that none sees what another one left.
fn fresh(above: &Path, owner: (u32, u32), mode: u32) -> std::path::PathBuf {
    let directory = above.join("v");
    if directory.exists() {
        std::fs::remove_dir_all(&directory).expect("to remove it");
    }
    std::fs::create_dir(&directory).expect("to make it");
    chown(&directory, Some(owner.0), Some(owner.1)).expect("to give it away");
    std::fs::set_permissions(&directory, PermissionsExt::from_mode(mode)).expect("to set its mode");
    directory
}

const fn line(deed: Use, nested: bool) -> &'static str {
    match (deed, nested) {
        (Use::Read, false) => "cat $1/new >/dev/null",
        (Use::Read, true) => "cat $1/dir/file >/dev/null",
        // Without O_CREAT, which has rules of its own in sticky directories.
        (Use::Change, false) => "dd if=/dev/null of=$1/new conv=notrunc,nocreat status=none",
        (Use::Change, true) => "dd if=/dev/null of=$1/dir/file conv=notrunc,nocreat status=none",
        (Use::Delete, false) => "rm -f $1/new",
        (Use::Delete, true) => "rm -f $1/dir/file",
        (Use::Replace, false) => ": >$1/own && mv -f -T $1/own $1/new",
        (Use::Replace, true) => ": >$1/dir/own && mv -f -T $1/dir/own $1/dir/file",
    }
}

/// Whether it ended as predicted, errno included.
fn same(done: &UseOutcome, ended: &Result<(), String>) -> bool {
    match (&done.outcome, ended) {
        (Outcome::Allowed, Ok(())) => true,
        (Outcome::Denied(Some(Errno::EACCES)), Err(said)) => said.contains("Permission denied"),
        (Outcome::Denied(Some(Errno::EPERM)), Err(said)) => said.contains("Operation not permitted"),
        (
            Outcome::Allowed | Outcome::Denied(_) | Outcome::Depends | Outcome::NeverRuns(_),
            Ok(()) | Err(_),
        ) => false,
    }
}

#[test]
fn what_others_can_do_with_a_new_file_is_what_they_can_do() {
    if let Some(reason) = unavailable() {
        return skipped("hand-off", &reason);
    }
    let above = tempfile::tempdir().expect("a temporary directory");
    std::fs::set_permissions(above.path(), PermissionsExt::from_mode(0o755)).expect("to open it");
    let mut rng = Rng::with_seed(0x4a0d);
    let (mut held, mut denied) = (0, 0);
    for _ in 0..14 {
        let parties = ["ada", "ben", "cy"].map(|name| Party::random(name, &mut rng));
        let owner = *rng.choice(&[(0, 500), (0, 0), (71_001, 600), (71_002, 71_002)]).unwrap_or(&(0, 0));
        let mode = *rng.choice(&[0o2775, 0o3777, 0o1777, 0o777, 0o2770, 0o755, 0o1775]).unwrap_or(&0o777);
        let mut scene = format!(
            "scene: 1\nvolumes: {{ v: {{ filesystem: ext4, tree: [{{ path: /, kind: dir, owner: '{}:{}', mode: '0{mode:o}' }}] }} }}\ncontainers:\n",
            owner.0, owner.1
        );
        parties.iter().for_each(|party| scene.push_str(&party.in_scene()));
        let stage = stage_of(&scene);
        let matrix = handoffs(&stage, &[]).remove(0);
        let named = |name: &str| parties.iter().find(|party| party.name == name).expect("a party");
        for creation in &matrix.creations {
            let creator = named(&creation.creator);
            let created = creator.does(&fresh(above.path(), owner, mode), ": >$1/new");
            assert!(same(&creation.creates, &created), "{}: {created:?}\n{scene}", creation.creator);
            for one in &creation.consumers {
                for (nested, all) in [(false, &one.file), (true, &one.nested)] {
                    for (deed, done) in all.iter().flat_map(PerUse::iter) {
                        let directory = fresh(above.path(), owner, mode);
                        let made = creator.does(&directory, ": >$1/new && mkdir $1/dir && : >$1/dir/file");
                        assert_eq!(made, Ok(()), "{}\n{scene}", creation.creator);
                        let ended = named(&one.consumer).does(&directory, line(deed, nested));
                        assert!(
                            same(done, &ended),
                            "{} {} what {} created, in a subdirectory: {nested}: {:?}, but {ended:?}\n{scene}",
                            one.consumer,
                            deed.word(),
                            creation.creator,
                            done.outcome
                        );
                        held += 1;
                        denied += usize::from(ended.is_err());
                    }
                }
            }
        }
    }
    println!("{held} deeds with what others created end as predicted, {denied} of them denied");
    assert!(held > 300 && denied > 50 && denied < held, "{held} held, {denied} denied");
}
