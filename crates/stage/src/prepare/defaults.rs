//! What a runtime, and a kubelet, mount into every container (docs/facts/runtimes.md section 6, docs/facts/kubelet.md section 3).

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{MountFlags, MountOrigin, Preparation, Source};
use mivask_model::mount_kind::MountKind;
use mivask_model::personality::Personality;
use mivask_model::tree::{Certainty, Device, Doubt, Entry, Tree};

use super::api_volume;
use super::context::Context;
use super::prepared::{Prepared, Ready};
use crate::runtime::{DefaultKind, DefaultRow, Flavour};
use crate::scene::{Container, TmpfsAsked};
use crate::stage::Stage;

/// A default mount: where and what.
pub(super) struct DefaultMount {
    pub at: Vec<u8>,
    pub volume: Ready,
    pub from: Provenance,
    /// Whether the runtime makes it before everything the description asks for.
    pub first: bool,
    pub origin: MountOrigin,
    /// Whether its owners are the namespace's root's; the kernel's own files are not.
    pub shifted: bool,
}

/// Trees that are the same in every container, made once.
#[derive(Debug, Default)]
pub(super) struct TreeCache {
    trees: BTreeMap<String, Arc<Tree>>,
    token: Option<Prepared>,
}

impl TreeCache {
    /// Forgets what belongs to one workload.
    pub(super) fn next_workload(&mut self) {
        self.token = None;
    }

    fn tree(&mut self, key: String, make: impl FnOnce() -> Tree) -> Arc<Tree> {
        self.trees.entry(key).or_insert_with(|| Arc::new(make())).clone()
    }
}

/// The default mounts of one container, outer ones first.
pub(super) fn mounts(
    stage: &mut Stage,
    cache: &mut TreeCache,
    context: &Context<'_>,
    container: &Container,
) -> Vec<DefaultMount> {
    let mut making = DefaultMounts { placing: Placement { stage, cache }, container, all: Vec::new() };
    // Rows come in the order in which the runtime mounts them; a later one covers an earlier one.
    for row in context.profile.defaults.iter().copied().flatten() {
        making.row(row);
    }
    if context.workload.flavour == Flavour::Pod {
        making.kubelet(context);
    }
    making.all
}

/// A file system of the kernel's that a bundle lists itself.
pub(super) fn system(stage: &mut Stage, cache: &mut TreeCache, filesystem: &str) -> Prepared {
    let mut placing = Placement { stage, cache };
    match filesystem {
        "dev" => placing.devices(false, MountFlags::NONE),
        "mqueue" => placing.shared("/dev/mqueue", 0o1777, MountFlags::NONE),
        other => placing.kernel_files(other, MountFlags::NONE),
    }
}

struct DefaultMounts<'a> {
    placing: Placement<'a>,
    container: &'a Container,
    all: Vec<DefaultMount>,
}

/// Makes sources for the stage out of the cache's trees.
struct Placement<'a> {
    stage: &'a mut Stage,
    cache: &'a mut TreeCache,
}

impl DefaultMounts<'_> {
    fn row(&mut self, row: &DefaultRow) {
        let privileged = self.container.privileged;
        let read_only =
            |flags: MountFlags, when: bool| if when { flags.with(MountFlags::READ_ONLY) } else { flags };
        let (volume, first) = match row.kind {
            DefaultKind::Proc => (self.placing.kernel_files("proc", row.flags), true),
            // A privileged container gets a writable /sys, as device managers need it.
            DefaultKind::Sys => (self.placing.kernel_files("sysfs", read_only(row.flags, !privileged)), true),
            DefaultKind::Devices => (self.placing.devices(privileged, row.flags), true),
            DefaultKind::Shared(mode) => (self.placing.shared(row.at, mode, row.flags), true),
            DefaultKind::File { mode, follows_root } => {
                let flags = read_only(row.flags, follows_root && self.container.read_only_root);
                (self.placing.single_file(row.at.rsplit('/').next().unwrap_or(row.at), mode, flags), false)
            }
            DefaultKind::ScratchUnderReadOnlyRoot => {
                if !self.container.read_only_root {
                    return;
                }
                let mode = Some(Mode::new(0o1777));
                let asked = TmpfsAsked { mode, added: row.flags, ..TmpfsAsked::default() };
                return self.push(row.at, Ready::Tmpfs(asked), false, MountOrigin::Default);
            }
            // Neither `privileged` nor `procMount: Unmasked` leaves anything hidden.
            DefaultKind::Masked | DefaultKind::ReadOnly if privileged || self.container.unmasked => return,
            DefaultKind::Masked => {
                let volume = self.placing.mask(row.at);
                return self.push(row.at, volume, true, MountOrigin::Shield);
            }
            DefaultKind::ReadOnly => {
                let volume = self.placing.read_only_part(row.at);
                return self.push(row.at, volume, true, MountOrigin::Shield);
            }
        };
        self.push(row.at, Ready::Shared(volume), first, MountOrigin::Default);
    }

    fn push(&mut self, at: &str, volume: Ready, first: bool, origin: MountOrigin) {
        let from = Provenance::rule("the runtime mounts it into every container");
        // The kernel makes the inodes of proc and sysfs itself, owned by its own root whatever the namespace maps.
        let shifted = !(at.starts_with("/proc") || at.starts_with("/sys"));
        self.all.push(DefaultMount { at: at.as_bytes().to_vec(), volume, from, first, origin, shifted });
    }

    /// What the kubelet adds. Its own /etc/hosts stays writable when the root is read-only; the runtime's two do not.
    fn kubelet(&mut self, context: &Context<'_>) {
        let rule = Provenance::rule("the kubelet binds it into every container");
        let with_root =
            if self.container.read_only_root { MountFlags::READ_ONLY } else { MountFlags::default() };
        for (name, flags) in
            [("hosts", MountFlags::default()), ("hostname", with_root), ("resolv.conf", with_root)]
        {
            let volume = self.placing.single_file(name, 0o644, flags);
            self.add(format!("/etc/{name}").as_bytes(), volume, rule.clone());
        }
        let log = self.container.termination_log.as_ref();
        let at = log.map_or(&b"/dev/termination-log"[..], |path| path.value.as_slice());
        let from = log.map_or(rule, |path| path.from.clone());
        let volume = self.placing.single_file("termination-log", 0o666, MountFlags::default());
        self.add(at, volume, from);
        let token = context.workload.service_account_token.as_ref();
        // `automountServiceAccountToken` may also be set on the service account, which the manifest does not hold.
        if token.is_none_or(|given| given.value) {
            let assumed =
                || Provenance::Assumption("the service account mounts its token, as by default".into());
            let from = token.map_or_else(assumed, |given| given.from.clone());
            // One volume for all containers of the pod: the kubelet writes it once.
            let volume = match &self.placing.cache.token {
                Some(volume) => volume.clone(),
                None => {
                    let name = Fact::new("service account token".to_owned(), from.clone());
                    let volume = api_volume::prepare(
                        self.placing.stage,
                        context,
                        &name,
                        &api_volume::service_account(),
                    );
                    self.placing.cache.token.insert(volume).clone()
                }
            };
            self.add(b"/var/run/secrets/kubernetes.io/serviceaccount", volume, from);
        }
    }

    fn add(&mut self, at: &[u8], volume: Prepared, from: Provenance) {
        let at = at.to_vec();
        let volume = Ready::Shared(volume);
        let origin = MountOrigin::Default;
        self.all.push(DefaultMount { at, volume, from, first: false, origin, shifted: true });
    }
}

impl Placement<'_> {
    fn place(
        &mut self,
        name: &str,
        filesystem: Option<&str>,
        kind: MountKind,
        tree: Arc<Tree>,
        flags: MountFlags,
    ) -> Prepared {
        let source = Source {
            name: Arc::from(name),
            filesystem: filesystem.map(Arc::from),
            disk: None,
            tree,
            read_only: false,
            native: Certainty::Known,
            personality: Personality::default(),
            anonymous: false,
        };
        let source = self.stage.add_source(source);
        Prepared { flags, ..Prepared::single(source, kind, Preparation::default()) }
    }

    /// `/proc` and `/sys`: root 0555, the rest is the kernel's and not modelled.
    fn kernel_files(&mut self, filesystem: &str, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(filesystem.to_owned(), || kernel_tree(filesystem));
        self.place(filesystem, Some(filesystem), MountKind::Runtime(filesystem.into()), tree, flags)
    }

    fn shared(&mut self, at: &str, mode: u16, flags: MountFlags) -> Prepared {
        let name = at.rsplit('/').next().unwrap_or(at);
        let filesystem = if name == "mqueue" { "mqueue" } else { "tmpfs" };
        let tree = self.cache.tree(format!("shared {mode:o}"), || {
            let rule = format!("the runtime makes it 0:0 {mode:04o}");
            Tree::new(Entry::directory(0, 0, mode), Provenance::Rule(rule.into()))
        });
        {
            let kind =
                if filesystem == "tmpfs" { MountKind::Tmpfs } else { MountKind::Runtime(filesystem.into()) };
            self.place(name, Some(filesystem), kind, tree, flags)
        }
    }

    /// `/dev`: a tmpfs with the devices every container has.
    fn devices(&mut self, privileged: bool, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(format!("dev {privileged}"), || device_tree(privileged));
        self.place("dev", Some("tmpfs"), MountKind::Tmpfs, tree, flags)
    }

    /// A bind of one file; the mount shows the file itself.
    fn single_file(&mut self, name: &str, mode: u16, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(format!("file {name} {mode:o}"), || file_tree(name, mode));
        let root = tree.find(name.as_bytes()).or(Some(Tree::ROOT));
        Prepared { root, ..self.place(name, None, MountKind::Bind, tree, flags) }
    }

    /// A directory hides behind an empty read-only tmpfs, a file behind `/dev/null`.
    fn mask(&mut self, at: &str) -> Ready {
        Ready::Shared(if is_file(at) {
            let tree = self.cache.tree("masked file".to_owned(), || {
                let mut tree =
                    Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("the runtime masks it"));
                add(&mut tree, "null", null());
                tree
            });
            let root = tree.find(b"null").or(Some(Tree::ROOT));
            Prepared {
                root,
                ..self.place(
                    "null",
                    Some("tmpfs"),
                    MountKind::Runtime("masked".into()),
                    tree,
                    MountFlags::NONE,
                )
            }
        } else {
            let tree = self.cache.tree("masked directory".to_owned(), || {
                Tree::new(
                    Entry::directory(0, 0, 0o755),
                    Provenance::rule("the runtime hides it behind an empty tmpfs"),
                )
            });
            self.place(
                "masked",
                Some("tmpfs"),
                MountKind::Runtime("masked".into()),
                tree,
                MountFlags::READ_ONLY,
            )
        })
    }

    /// A part of `/proc`, mounted again and read-only.
    fn read_only_part(&mut self, at: &str) -> Ready {
        let tree = self.cache.tree("proc".to_owned(), || kernel_tree("proc"));
        let root = tree.find(at.trim_start_matches("/proc").as_bytes()).or(Some(Tree::ROOT));
        Ready::Shared(Prepared {
            root,
            ..self.place("proc", Some("proc"), MountKind::Runtime("proc".into()), tree, MountFlags::READ_ONLY)
        })
    }
}

/// Which of the shielded paths are files.
fn is_file(at: &str) -> bool {
    ["kcore", "keys", "latency_stats", "timer_list", "timer_stats", "sched_debug", "sysrq-trigger"]
        .iter()
        .any(|name| at.strip_prefix("/proc/") == Some(name))
}

/// Paths of `/proc` and `/sys` that runtimes mount something over, so that they are there to mount on.
const SHIELDED: [(&str, &[&str]); 2] = [
    (
        "proc",
        &[
            "acpi",
            "asound",
            "bus",
            "fs",
            "irq",
            "kcore",
            "keys",
            "latency_stats",
            "scsi",
            "sys",
            "sysrq-trigger",
            "timer_list",
        ],
    ),
    ("sysfs", &["firmware", "dev/block"]),
];

fn kernel_tree(filesystem: &str) -> Tree {
    let unknown =
        Unknown::new(&format!("what {filesystem} shows"), "not possible: the kernel decides file by file");
    let doubt = Doubt::new(Certainty::Known, Certainty::Unknown(unknown.clone()));
    let root = Entry::directory(0, 0, 0o555).doubting(doubt.clone());
    let mut tree = Tree::new(root, Provenance::rule("the kernel"));
    for path in SHIELDED.iter().filter(|(of, _)| *of == filesystem).flat_map(|(_, paths)| *paths) {
        // Whether this kernel has it, and a file's mode, differ: only a directory's is the same everywhere.
        let file = is_file(&format!("/{filesystem}/{path}"));
        let directory = || Entry::directory(0, 0, 0o555).doubting(doubt.clone());
        let unsure = Doubt::new(Certainty::Unknown(unknown.clone()), Certainty::Known);
        let entry = if file { Entry::file(0, 0, 0o400).doubting(unsure) } else { directory() };
        let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
        let added = tree
            .ensure(above.as_bytes(), |_, _| directory())
            .and_then(|dir| tree.add(dir, name.as_bytes(), entry));
        debug_assert!(added.is_ok(), "{path}");
    }
    tree
}

fn device_tree(privileged: bool) -> Tree {
    let unlisted = |what: &str| {
        let unknown = Unknown::new(what, "not possible in a scene");
        Doubt::new(Certainty::Known, Certainty::Unknown(unknown))
    };
    // Every device of the host is bound into a privileged container, and which there are is not in any description.
    let mut root = Entry::directory(0, 0, 0o755);
    if privileged {
        root = root.doubting(unlisted("which devices the host has"));
    }
    let mut tree = Tree::new(root, Provenance::rule("the runtime makes /dev a tmpfs, 0:0 0755"));
    let nodes =
        [("null", 1, 3), ("zero", 1, 5), ("full", 1, 7), ("random", 1, 8), ("urandom", 1, 9), ("tty", 5, 0)];
    for (name, major, minor) in nodes {
        let mut node = null();
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
    tree
}

fn file_tree(name: &str, mode: u16) -> Tree {
    let rule = format!("the runtime's own {name}, 0:0 {mode:04o}");
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::Rule(rule.into()));
    add(&mut tree, name, Entry::file(0, 0, mode));
    tree
}

/// `/dev/null`.
fn null() -> Entry {
    let mut node = Entry::new(FileKind::CharDevice, 0, 0, Mode::new(0o666));
    node.device = Some(Device { major: 1, minor: 3 });
    node
}

fn add(tree: &mut Tree, name: &str, entry: Entry) {
    // The names are distinct and the root is a directory, so nothing can fail.
    let added = tree.add(Tree::ROOT, name.as_bytes(), entry);
    debug_assert!(added.is_ok(), "{name}");
}
