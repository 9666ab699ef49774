//! Running processes, as the kernel mentions them.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

mod fixtures;

use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};

use mivask_disk::process::{Process, ProcessMount, Reach, look};
use mivask_model::tree::Tree;

use fixtures::is_root;

/// A process with other ids than ours that sleeps until it is dropped.
struct Sleeper(std::process::Child);

impl Sleeper {
    fn new(uid: u32, gid: u32) -> Self {
        let mut command = Command::new("sleep");
        command.arg("600").stdin(Stdio::null()).stdout(Stdio::null()).uid(uid).gid(gid);
        Self(command.spawn().unwrap())
    }
}

impl Drop for Sleeper {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The tree of the mount that `path` is on, and the path within it.
fn tree_of<'p>(process: &'p Process, path: &'p str) -> (&'p ProcessMount, &'p str) {
    let at = |mount: &&ProcessMount| {
        let at = String::from_utf8_lossy(&mount.line.at).into_owned();
        at == "/"
            || path.strip_prefix(at.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    let mount = process.mounts.iter().filter(at).max_by_key(|mount| mount.line.at.len()).unwrap();
    let length = if mount.line.at == b"/" { 0 } else { mount.line.at.len() };
    (mount, &path[length..])
}

#[test]
fn a_process_is_read_as_far_as_it_is_asked_about() {
    if !is_root() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let file = folder.path().join("level.csv");
    std::fs::write(&file, "1\n").unwrap();
    chown(&file, Some(7102), Some(7200)).unwrap();
    std::os::unix::fs::symlink(&file, folder.path().join("link")).unwrap();
    std::fs::create_dir_all(folder.path().join("unasked/inner")).unwrap();
    let sleeper = Sleeper::new(7101, 7200);
    let link = folder.path().join("link").display().to_string();
    let reach = Reach { paths: vec![link.clone().into_bytes(), b"/nowhere/x".to_vec()], whole: false };
    let process = look(sleeper.0.id(), &reach).unwrap();
    assert_eq!((process.uid, process.gid, process.name.as_str()), (7101, 7200, "sleep"));
    assert_eq!((process.capabilities[0], process.same_mounts), (0, true));
    let (mount, rest) = tree_of(&process, &link);
    let tree: &Tree = mount.tree.as_ref().unwrap();
    let here = rest.trim_end_matches("/link");
    let inode = tree.inode(tree.find(format!("{here}/level.csv").as_bytes()).unwrap());
    assert_eq!((inode.stored_owner().uid.raw(), inode.stored_owner().gid.raw()), (7102, 7200));
    let unasked = tree.find(format!("{here}/unasked").as_bytes()).unwrap();
    assert_eq!(tree.child_count(unasked), 0);
    assert!(tree.doubt(unasked).unwrap().contents != mivask_model::tree::Certainty::Known);
    let whole = Reach { paths: vec![folder.path().display().to_string().into_bytes()], whole: true };
    let process = look(sleeper.0.id(), &whole).unwrap();
    let (mount, _) = tree_of(&process, &link);
    assert!(mount.tree.as_ref().unwrap().find(format!("{here}/unasked/inner").as_bytes()).is_some());
}

#[test]
fn a_process_that_is_not_there() {
    let error = look(4_194_304, &Reach::default()).unwrap_err();
    assert_eq!(error.to_string(), "process:4194304: there is no such process");
    assert!(look(u32::MAX, &Reach::default()).is_err());
}
