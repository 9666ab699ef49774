//! What is in the mounts that every container has: devices, terminals, the kernel's own files.

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Device, Doubt, Entry, Marks, Tree};

/// Which of the paths below are files.
pub(super) fn is_file(at: &str) -> bool {
    const FILES: [&str; 15] = [
        "cpuinfo",
        "diskstats",
        "kcore",
        "keys",
        "latency_stats",
        "loadavg",
        "meminfo",
        "sched_debug",
        "stat",
        "swaps",
        "sysrq-trigger",
        "timer_list",
        "timer_stats",
        "uptime",
        "version",
    ];
    at.strip_prefix("/proc/").is_some_and(|name| FILES.contains(&name))
}

/// Paths of `/proc` and `/sys` that are there to mount on: runtimes mount something over them, or every kernel that runs containers
/// has them (`/sys/fs/cgroup` is made by `cgroup_init`).
const SHIELDED: [(&str, &[&str]); 2] = [
    (
        "proc",
        &[
            "acpi",
            "asound",
            "bus",
            "cpuinfo",
            "diskstats",
            "fs",
            "irq",
            "kcore",
            "keys",
            "latency_stats",
            "loadavg",
            "meminfo",
            "scsi",
            "stat",
            "swaps",
            "sys",
            "sysrq-trigger",
            "timer_list",
            "uptime",
            "version",
        ],
    ),
    (
        "sysfs",
        &["block", "bus", "class", "dev/block", "devices", "firmware", "fs/cgroup", "kernel", "module"],
    ),
];

pub(super) fn kernel_tree(filesystem: &str) -> Tree {
    let unknown =
        Unknown::new(&format!("what {filesystem} shows"), "not possible: the kernel decides file by file");
    let doubt = Doubt::new(Certainty::Known, Certainty::Unknown(unknown.clone()));
    let root = Entry::directory(0, 0, 0o555).doubting(doubt.clone());
    let mut tree = Tree::new(root, Provenance::rule("the kernel"));
    for path in SHIELDED.iter().filter(|(of, _)| *of == filesystem).flat_map(|(_, paths)| *paths) {
        // Whether this kernel has it, and a file's mode, differ: only a directory's is the same everywhere.
        let file = is_file(&format!("/{filesystem}/{path}"));
        // Directories of sysfs are 0755, but for those that are there to be mounted on (`sysfs_create_mount_point`).
        let bits = if filesystem == "sysfs" && !path.ends_with("cgroup") { 0o755 } else { 0o555 };
        let directory = |bits: u16| Entry::directory(0, 0, bits).doubting(doubt.clone());
        let unsure = Doubt::new(Certainty::Unknown(unknown.clone()), Certainty::Known);
        let entry = if file { Entry::file(0, 0, 0o400).doubting(unsure) } else { directory(bits) };
        let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
        let added = tree
            .ensure(above.as_bytes(), |_, _| directory(if filesystem == "sysfs" { 0o755 } else { 0o555 }))
            .and_then(|dir| tree.add(dir, name.as_bytes(), entry));
        debug_assert!(added.is_ok(), "{path}");
    }
    tree
}

/// The devices that every container has, by name and number.
pub(super) const DEVICES: [(&str, u32, u32); 6] =
    [("null", 1, 3), ("zero", 1, 5), ("full", 1, 7), ("random", 1, 8), ("urandom", 1, 9), ("tty", 5, 0)];

/// What decides which devices there are, and whose they are.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub(super) struct DeviceTree {
    /// Whether those of the host are there.
    pub privileged: bool,
    /// Whether there is a directory for `/dev/shm`.
    pub memory: bool,
    /// Owner and group of `/dev/null`, inside ids.
    pub null: (u32, u32),
}

impl DeviceTree {
    pub(super) fn tree(self) -> Tree {
        device_tree(self)
    }
}

fn device_tree(DeviceTree { privileged, memory, null: (user, group) }: DeviceTree) -> Tree {
    let unlisted = |what: &str| {
        let unknown = Unknown::new(what, "not possible in a scene");
        Doubt::new(Certainty::Known, Certainty::Unknown(unknown))
    };
    // Every device of the host is bound into a privileged container, and which there are is not in any description.
    let mut root = Entry::directory(0, 0, 0o755);
    if privileged {
        root = root.doubting(unlisted("which devices the host has"));
        root.marks = root.marks.with(Marks::DEVICES);
    }
    let mut tree = Tree::new(root, Provenance::rule("the runtime makes /dev a tmpfs, 0:0 0755"));
    for (name, major, minor) in DEVICES {
        let (user, group) = if name == "null" { (user, group) } else { (0, 0) };
        let mut node = Entry::new(FileKind::CharDevice, user, group, Mode::new(0o666));
        node.device = Some(Device { major, minor });
        if (user, group) != (0, 0) {
            node = node
                .at(Provenance::rule("the runtime gives the process its standard input, which is /dev/null"));
        }
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
    if memory {
        add(&mut tree, "shm", Entry::directory(0, 0, 0o755));
    }
    add(&mut tree, "mqueue", Entry::directory(0, 0, 0o755));
    add(&mut tree, "pts", Entry::directory(0, 0, 0o755));
    tree
}

pub(super) fn file_tree(name: &str, mode: u16) -> Tree {
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

/// A devpts of the container's own.
pub(super) fn terminal_tree() -> Tree {
    let unknown = Unknown::new("which terminals there are", "not possible in a scene");
    let doubt = Doubt::new(Certainty::Known, Certainty::Unknown(unknown));
    let root = Entry::directory(0, 0, 0o755).doubting(doubt);
    let mut tree = Tree::new(root, Provenance::rule("the runtime mounts a devpts"));
    let mut multiplexer = null();
    multiplexer.device = Some(Device { major: 5, minor: 2 });
    add(&mut tree, "ptmx", multiplexer);
    tree
}

/// One device of the host.
pub(super) fn host_device_tree(name: &str, (major, minor): (u32, u32), (uid, gid): (u32, u32)) -> Tree {
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("the host's device, bound"));
    let mut node = Entry::new(FileKind::CharDevice, uid, gid, Mode::new(0o666));
    node.device = Some(Device { major, minor });
    add(&mut tree, name, node);
    tree
}

/// A file hidden behind `/dev/null`.
pub(super) fn masked_file() -> Tree {
    let root = Entry::directory(0, 0, 0o755);
    let mut tree = Tree::new(root, Provenance::rule("the runtime masks it"));
    add(&mut tree, "null", null());
    tree
}

/// The process's terminal, as `/dev/console` shows it: a device of its user and of group 5.
pub(super) fn console_tree(owner: Option<u32>) -> Tree {
    let mut tree = Tree::new(
        Entry::directory(0, 0, 0o755),
        Provenance::rule("the runtime binds the terminal of the process, group 5, 0620"),
    );
    let mut console = Entry::new(FileKind::CharDevice, owner.unwrap_or(0), 5, Mode::new(0o620));
    console.device = Some(Device { major: 136, minor: 0 });
    if owner.is_none() {
        let unknown = Unknown::new("whose terminal it is", "tell who the process is");
        console = console.doubting(Doubt { owner: Certainty::Unknown(unknown), ..Doubt::default() });
    }
    add(&mut tree, "console", console);
    tree
}
