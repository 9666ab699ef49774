//! Options of a tmpfs in a Compose file, against the kernel that mounts one with them (`shmem_fs_parameters`).
//!
//! Where root is missing the test says `skipped` and why.

use std::path::Path;
use std::process::Command;

use mivask_core::prepare;
use mivask_core::scene::Scene;
use mivask_core::tree::Tree;
use mivask_read::compose;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::Disk;
use mivask_read::text::SourceText;
use mivask_read::yaml;

/// mount(8) looks names of accounts up itself, which engines do not: none here is one.
const OPTIONS: [&str; 34] = [
    "mode=700",
    "mode=0700",
    "mode=17777",
    "mode=+755",
    "mode=999",
    "mode=",
    "mode",
    "mode=u+x",
    "mode=0x1ff",
    "mode=0,mode=2750",
    "uid=405",
    "uid=010",
    "uid=0x10",
    "uid=app",
    "uid=-1",
    "uid=4294967295",
    "uid=4294967294",
    "uid=4294967296",
    "gid=50,uid=0",
    "gid=",
    "gid=tides",
    "size=1m",
    "size=1T",
    "size=50%",
    "size=abc",
    "size=10x",
    "size=",
    "nr_inodes=1k",
    "nr_inodes=x",
    "noatime",
    "ro,noexec,mode=500",
    "bogus",
    "bogus=1",
    "mode=700,bogus",
];

/// Mode and owner of the mounted root, or `refused`.
fn foretold(options: &str) -> String {
    let text = format!("services: {{ app: {{ image: i, tmpfs: ['/t:{options}'] }} }}\n");
    let source = SourceText::new("compose.yaml", &text);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let mut scene = Scene::default();
    compose::add(&[(nodes[0].clone(), &source, Path::new(""))], &Disk, &mut scene, &mut diagnostics);
    let stage = prepare::stage(&scene);
    let [app] = stage.actors.as_slice() else { panic!("{text}") };
    if app.refusal().is_some() {
        return "refused".to_owned();
    }
    let (_, mount) = app.mounts.iter().find(|(_, mount)| *mount.facts.at == *b"/t").expect("it is mounted");
    let root = stage.source(mount.variants[0].source).tree.inode(Tree::ROOT);
    let owner = root.stored_owner();
    format!("{:o} {}:{}", root.stored_mode().bits(), owner.uid.raw(), owner.gid.raw())
}

fn really(options: &str, at: &Path) -> String {
    let script = "mount -t tmpfs -o \"$1\" t \"$2\" 2>/dev/null && stat -c '%a %u:%g' \"$2\" || echo refused";
    let mut unshare = Command::new("unshare");
    let run =
        unshare.args(["--mount", "--propagation", "private", "sh", "-c", script, "sh", options]).arg(at);
    String::from_utf8_lossy(&run.output().expect("unshare").stdout).trim().to_owned()
}

#[test]
fn options_of_a_tmpfs_are_the_kernels() {
    if let Some(reason) = mivask_kernel::unavailable() {
        return println!("skipped: options of a tmpfs: {reason}");
    }
    let folder = tempfile::tempdir().expect("a folder");
    if really("size=1m", folder.path()) == "refused" {
        return println!("skipped: options of a tmpfs: none can be mounted here");
    }
    for options in OPTIONS {
        assert_eq!(foretold(options), really(options, folder.path()), "{options}");
    }
}
