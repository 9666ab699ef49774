//! A running process as a scene.

use std::sync::Arc;

use mivask_core::act::{Act, Verb};
use mivask_core::fact::Provenance;
use mivask_core::mode::Mode;
use mivask_core::outcome::Errno;
use mivask_core::prepare;
use mivask_core::question::ask;
use mivask_core::settle::Outcome;
use mivask_core::storage::Settings;
use mivask_core::tree::{Entry, Tree};
use mivask_disk::mounts::{self, MountLine};
use mivask_disk::process::{Process, ProcessMount};
use mivask_read::process;

/// Names of mount points may be any bytes, and mounts whose names look alike as text stay apart.
#[test]
fn mount_points_keep_their_bytes() {
    let table = b"1 0 8:1 / / rw - ext4 /dev/a rw\n2 1 0:2 / /odd\xff ro - tmpfs x rw\n3 1 0:3 / /odd\xfe rw - tmpfs y rw\n";
    let lines = mounts::read("mountinfo", &mut &table[..]).unwrap();
    let new = || Tree::new(Entry::directory(0, 0, 0o755), Provenance::Source("a process".into()));
    let mut root = new();
    for name in [b"odd\xff", b"odd\xfe"] {
        root.add(Tree::ROOT, name, Entry::directory(0, 0, 0o755)).unwrap();
    }
    let one = |line: MountLine| {
        let tree = if line.at == b"/" { root.clone() } else { new() };
        ProcessMount { line, tree: Some(Arc::new(tree)), file: None }
    };
    let running = Process {
        pid: 4711,
        name: "gauge".to_owned(),
        uid: 0,
        gid: 0,
        groups: Vec::new(),
        capabilities: [u64::MAX; 5],
        umask: Some(0o022),
        no_new_privileges: false,
        security: None,
        uid_map: Vec::new(),
        gid_map: Vec::new(),
        same_mounts: true,
        mounts: mounts::visible(lines).into_iter().map(one).collect(),
    };
    let stage = prepare::stage(&process::scene(running, Settings::default()));
    let outcome = |path: &[u8]| {
        let verb = Verb::Creates(Mode::new(0o666));
        let act = Act { actor: "process".to_owned(), verb, path: path.to_vec(), expectation: None };
        ask(&stage, &act).unwrap().outcome
    };
    assert_eq!(outcome(b"/odd\xff/x"), Outcome::Denied(Some(Errno::EROFS)));
    assert_eq!(outcome(b"/odd\xfe/x"), Outcome::Allowed);
}
