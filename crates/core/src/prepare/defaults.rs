//! What a runtime mounts into every container of a pod (facts/kubelet.md section 3).

use std::sync::Arc;

use super::prepared::{Prepared, unknown_source};
use crate::fact::{Provenance, Unknown};
use crate::mode::{FileKind, Mode};
use crate::mount::{MountFlags, Preparation, Source};
use crate::personality::Personality;
use crate::scene::{Container, Workload};
use crate::stage::Stage;
use crate::tree::{Certainty, Device, Doubt, Entry, Tree};

/// A default mount: where and what.
pub(super) struct DefaultMount {
    pub at: Vec<u8>,
    pub volume: Prepared,
    pub from: Provenance,
    /// Whether the runtime makes it before everything the kubelet asks for.
    pub first: bool,
}

const QUIET: MountFlags = MountFlags::NO_SUID.with(MountFlags::NO_DEV).with(MountFlags::NO_EXEC);

/// The default mounts of one container of a pod, outer ones first.
pub(super) fn mounts(stage: &mut Stage, workload: &Workload, container: &Container) -> Vec<DefaultMount> {
    let mut all = runtime_mounts(stage, container);
    let rule = Provenance::rule("the kubelet binds it into every container");
    let mut add =
        |at: &[u8], volume, from| all.push(DefaultMount { at: at.to_vec(), volume, from, first: false });
    let with_root = if container.read_only_root { MountFlags::READ_ONLY } else { MountFlags::default() };
    // The kubelet's own /etc/hosts stays writable when the root is read-only; the runtime's two do not.
    add(b"/etc/hosts", single_file(stage, "hosts", 0o644, MountFlags::default()), rule.clone());
    add(b"/etc/hostname", single_file(stage, "hostname", 0o644, with_root), rule.clone());
    add(b"/etc/resolv.conf", single_file(stage, "resolv.conf", 0o644, with_root), rule.clone());
    let log = container.termination_log.as_ref();
    let at = log.map_or(&b"/dev/termination-log"[..], |path| path.value.as_slice());
    let from = log.map_or(rule, |path| path.from.clone());
    add(at, single_file(stage, "termination-log", 0o666, MountFlags::default()), from);
    let token = workload.service_account_token.as_ref();
    if token.is_none_or(|told| told.value) {
        let assumed = || Provenance::Assumption("the service account mounts its token, as by default".into());
        let from = token.map_or_else(assumed, |told| told.from.clone());
        add(b"/var/run/secrets/kubernetes.io/serviceaccount", service_account(stage), from);
    }
    all
}

/// What the runtime mounts before anything else.
fn runtime_mounts(stage: &mut Stage, container: &Container) -> Vec<DefaultMount> {
    let sys = if container.privileged { QUIET } else { QUIET.with(MountFlags::READ_ONLY) };
    let volumes = [
        (&b"/proc"[..], kernel_files(stage, "proc", QUIET)),
        (b"/dev", devices(stage, container.privileged)),
        (b"/dev/shm", shared(stage, "shm")),
        (b"/dev/mqueue", shared(stage, "mqueue")),
        (b"/sys", kernel_files(stage, "sysfs", sys)),
    ];
    let from = Provenance::rule("the runtime mounts it into every container");
    let mount =
        |(at, volume): (&[u8], _)| DefaultMount { at: at.to_vec(), volume, from: from.clone(), first: true };
    volumes.map(mount).into()
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
        personality: Personality::default(),
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
fn devices(stage: &mut Stage, privileged: bool) -> Prepared {
    let unlisted = |what: &str| {
        let unknown = Unknown::new(what, "not possible in a scene");
        Doubt { attributes: Certainty::Known, contents: Certainty::Unknown(unknown) }
    };
    let mut root = Entry::directory(0, 0, 0o755);
    if privileged {
        root = root.doubting(unlisted("which devices the host has"));
    }
    let mut tree = Tree::new(root, Provenance::rule("the runtime makes /dev a tmpfs, 0:0 0755"));
    let nodes =
        [("null", 1, 3), ("zero", 1, 5), ("full", 1, 7), ("random", 1, 8), ("urandom", 1, 9), ("tty", 5, 0)];
    for (name, major, minor) in nodes {
        let mut node = Entry::new(FileKind::CharDevice, 0, 0, Mode::new(0o666));
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
        let mut link = Entry::new(FileKind::Link, 0, 0, Mode::new(0o777));
        link.target = target.as_bytes().into();
        add(&mut tree, name, link);
    }
    add(&mut tree, "shm", Entry::directory(0, 0, 0o755));
    add(&mut tree, "mqueue", Entry::directory(0, 0, 0o755));
    add(&mut tree, "pts", Entry::directory(0, 0, 0o755).doubting(unlisted("which terminals there are")));
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
    let root = Some(file.unwrap_or(Tree::ROOT));
    Prepared { root, ..place(stage, name, None, "bind", tree, flags) }
}
