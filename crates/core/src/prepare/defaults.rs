//! What a runtime mounts into every container of a pod (facts/kubelet.md section 3).

use std::sync::Arc;

use super::volume::{Prepared, unknown_source};
use crate::fact::{Provenance, Unknown};
use crate::mode::FileKind;
use crate::mount::{MountFlags, Preparation, Source};
use crate::scene::{Container, Workload};
use crate::stage::Stage;
use crate::tree::{Certainty, Device, Doubt, Entry, Tree};

/// A default mount: where, what, and with which flags.
pub(super) struct DefaultMount {
    pub at: &'static [u8],
    pub volume: Prepared,
    pub kind: FileKind,
    pub from: Provenance,
}

const QUIET: MountFlags = MountFlags::NO_SUID.with(MountFlags::NO_DEV).with(MountFlags::NO_EXEC);

/// The default mounts of one container of a pod, outer ones first.
pub(super) fn mounts(stage: &mut Stage, workload: &Workload, container: &Container) -> Vec<DefaultMount> {
    let rule = || Provenance::rule("the runtime mounts it into every container");
    let mut all = Vec::new();
    let mut add = |at, volume, kind, from| all.push(DefaultMount { at, volume, kind, from });
    add(b"/proc", kernel_files(stage, "proc", QUIET), FileKind::Directory, rule());
    add(b"/dev", devices(stage), FileKind::Directory, rule());
    add(b"/dev/shm", shared(stage, "shm"), FileKind::Directory, rule());
    add(b"/dev/mqueue", shared(stage, "mqueue"), FileKind::Directory, rule());
    let sys = if container.privileged { QUIET } else { QUIET.with(MountFlags::READ_ONLY) };
    add(b"/sys", kernel_files(stage, "sysfs", sys), FileKind::Directory, rule());
    let with_root = if container.read_only_root { MountFlags::READ_ONLY } else { MountFlags::default() };
    let kubelet = || Provenance::rule("the kubelet binds it into every container");
    // The kubelet's own /etc/hosts stays writable when the root is read-only; the runtime's two do not.
    add(b"/etc/hosts", single_file(stage, "hosts", 0o644, MountFlags::default()), FileKind::File, kubelet());
    add(b"/etc/hostname", single_file(stage, "hostname", 0o644, with_root), FileKind::File, rule());
    add(b"/etc/resolv.conf", single_file(stage, "resolv.conf", 0o644, with_root), FileKind::File, rule());
    add(
        b"/dev/termination-log",
        single_file(stage, "termination-log", 0o666, MountFlags::default()),
        FileKind::File,
        kubelet(),
    );
    let token = workload.service_account_token.as_ref();
    if token.is_none_or(|told| told.value) {
        let from = token.map_or_else(
            || Provenance::Assumption("the service account mounts its token, as by default".into()),
            |told| told.from.clone(),
        );
        add(
            b"/var/run/secrets/kubernetes.io/serviceaccount",
            service_account(stage),
            FileKind::Directory,
            from,
        );
    }
    all
}

fn service_account(stage: &mut Stage) -> Prepared {
    let unknown = Unknown::new(
        "what the service account volume holds",
        "not possible yet: this version does not read it",
    );
    let mut volume = unknown_source(stage, "service account token", "projected", unknown);
    volume.flags = MountFlags::READ_ONLY;
    volume
}

fn place(
    stage: &mut Stage,
    name: &str,
    filesystem: Option<&str>,
    kind: &str,
    tree: Tree,
    flags: MountFlags,
) -> Prepared {
    let source = Source {
        name: Arc::from(name),
        filesystem: filesystem.map(Arc::from),
        tree: Arc::new(tree),
        read_only: false,
        native: Certainty::Known,
    };
    let source = stage.add_source(source);
    Prepared { flags, ..Prepared::single(source, kind, Preparation::default()) }
}

/// `/proc` and `/sys`: root 0555, the rest is the kernel's and not modelled.
fn kernel_files(stage: &mut Stage, filesystem: &str, flags: MountFlags) -> Prepared {
    let unknown =
        Unknown::new(&format!("what {filesystem} shows"), "not possible: the kernel decides file by file");
    let doubt = Doubt { attributes: Certainty::Known, contents: Certainty::Unknown(unknown) };
    let tree = Tree::new(Entry::directory(0, 0, 0o555).doubting(doubt), Provenance::rule("the kernel"));
    place(stage, filesystem, Some(filesystem), filesystem, tree, flags)
}

fn shared(stage: &mut Stage, name: &str) -> Prepared {
    let tree = Tree::new(Entry::directory(0, 0, 0o1777), Provenance::rule("the runtime makes it 0:0 1777"));
    let filesystem = if name == "mqueue" { "mqueue" } else { "tmpfs" };
    place(stage, name, Some(filesystem), filesystem, tree, QUIET)
}

/// `/dev`: a tmpfs with the devices every container has.
fn devices(stage: &mut Stage) -> Prepared {
    let mut tree = Tree::new(
        Entry::directory(0, 0, 0o755),
        Provenance::rule("the runtime makes /dev a tmpfs, 0:0 0755"),
    );
    let nodes =
        [("null", 1, 3), ("zero", 1, 5), ("full", 1, 7), ("random", 1, 8), ("urandom", 1, 9), ("tty", 5, 0)];
    for (name, major, minor) in nodes {
        let mut node = Entry::new(FileKind::CharDevice, 0, 0, crate::mode::Mode::new(0o666));
        node.device = Some(Device { major, minor });
        add(&mut tree, name, node);
    }
    for (name, target) in [
        ("fd", "/proc/self/fd"),
        ("stdin", "/proc/self/fd/0"),
        ("stdout", "/proc/self/fd/1"),
        ("stderr", "/proc/self/fd/2"),
        ("ptmx", "pts/ptmx"),
    ] {
        let mut link = Entry::new(FileKind::Link, 0, 0, crate::mode::Mode::new(0o777));
        link.target = target.as_bytes().into();
        add(&mut tree, name, link);
    }
    for name in ["shm", "mqueue", "pts"] {
        add(&mut tree, name, Entry::directory(0, 0, 0o755));
    }
    place(stage, "dev", Some("tmpfs"), "tmpfs", tree, MountFlags::NO_SUID)
}

fn add(tree: &mut Tree, name: &str, entry: Entry) {
    // The names are distinct and the root is a directory, so nothing can fail.
    let added = tree.add(Tree::ROOT, name.as_bytes(), entry);
    debug_assert!(added.is_ok(), "{name}");
}

/// A bind of one file; the mount shows the file itself.
fn single_file(stage: &mut Stage, name: &str, mode: u16, flags: MountFlags) -> Prepared {
    let rule = format!("the runtime's own {name}, 0:0 {mode:04o}");
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::Rule(rule.into()));
    let file = tree.add(Tree::ROOT, name.as_bytes(), Entry::file(0, 0, mode));
    let root = file.unwrap_or(Tree::ROOT);
    Prepared { root, ..place(stage, name, None, "bind", tree, flags) }
}
