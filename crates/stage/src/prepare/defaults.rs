//! What a runtime, and a kubelet, mount into every container (docs/facts/runtimes.md section 6, docs/facts/kubelet.md section 3).

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance};
use mivask_model::mode::Mode;
use mivask_model::mount::{MountFlags, MountOrigin, MountTable, Preparation, Source, SourceFacts};
use mivask_model::mount_kind::MountKind;
use mivask_model::path::trimmed;
use mivask_model::personality::Personality;
use mivask_model::refusal::Refusal;
use mivask_model::tree::{Entry, Tree};

use super::api_volume;
use super::context::Context;
use super::default_trees::{device_tree, file_tree, is_file, kernel_tree, masked_file, terminal_tree};
use super::host_actor;
use super::joined::{self, Lenders};
use super::prepared::{Prepared, Ready};
use super::shared::Shared;
use crate::runtime::{DefaultKind, DefaultRow, Flavour};
use crate::scene::{Container, Ipc, Scene, TmpfsAsked};
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

/// Trees and words that are the same in every container, made once.
#[derive(Debug, Default)]
pub(super) struct TreeCache {
    trees: BTreeMap<String, Arc<Tree>>,
    words: BTreeSet<Arc<str>>,
    /// What containers may have together: by whose it is, nobody's where it is the pod's, and by its name.
    joined: BTreeMap<(String, String), Prepared>,
    lenders: Lenders,
    /// What people on the host see.
    host: Option<MountTable>,
    facts: BTreeMap<(Arc<str>, Option<String>), Arc<SourceFacts>>,
    unprepared: Arc<Preparation>,
    shared: Shared,
}

impl TreeCache {
    /// Forgets what belongs to one workload.
    pub(super) fn next_workload(&mut self) {
        self.joined.clear();
        self.lenders = Lenders::default();
        self.host = None;
    }

    /// Lets a container's mounts hold what those of another one hold that is equal.
    pub(super) fn share(&mut self, stage: &mut Stage, table: &mut MountTable) {
        self.shared.share(stage, table);
    }

    /// The host's own mounts, the same for everybody there.
    pub(super) fn host_mounts(&mut self, stage: &mut Stage, scene: &Scene) -> MountTable {
        self.host.get_or_insert_with(|| host_actor::mounts(stage, scene)).clone()
    }

    /// Why `container` cannot have what it asks another one for.
    pub(super) fn joins(&mut self, context: &Context<'_>, container: &Container) -> Option<Refusal> {
        self.lenders.next(context, container)
    }

    fn word(&mut self, word: &str) -> Arc<str> {
        if let Some(known) = self.words.get(word) {
            return known.clone();
        }
        let new: Arc<str> = Arc::from(word);
        self.words.insert(new.clone());
        new
    }

    pub(super) fn tree(&mut self, key: String, make: impl FnOnce() -> Tree) -> Arc<Tree> {
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
    let pod = context.workload.flavour == Flavour::Pod;
    let own = if pod { "" } else { container.name.as_str() };
    let mut making =
        DefaultMounts { placing: Placement { stage, cache, own }, container, proc: None, all: Vec::new() };
    // Rows come in the order in which the runtime mounts them; a later one covers an earlier one.
    for row in context.profile.defaults.iter().copied().flatten() {
        making.row(context, row);
    }
    if pod {
        making.kubelet(context);
    }
    making.all
}

/// A file system of the kernel's that a bundle lists itself.
pub(super) fn system(stage: &mut Stage, cache: &mut TreeCache, filesystem: &str) -> Prepared {
    let mut placing = Placement { stage, cache, own: "" };
    match filesystem {
        "dev" => placing.devices(false, false, MountFlags::NONE),
        "mqueue" => placing.shared_memory("/dev/mqueue", 0o1777, MountFlags::NONE),
        "devpts" => placing.terminals(MountFlags::NONE),
        other => placing.kernel_files(other, MountFlags::NONE),
    }
}

struct DefaultMounts<'a> {
    placing: Placement<'a>,
    container: &'a Container,
    /// The container's `/proc`, parts of which are mounted again.
    proc: Option<Prepared>,
    all: Vec<DefaultMount>,
}

/// The files that go with a network, in the order in which the kubelet binds them.
const NETWORK_FILES: [&str; 3] = ["hosts", "hostname", "resolv.conf"];

fn last(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// Makes sources for the stage out of the cache's trees.
struct Placement<'a> {
    stage: &'a mut Stage,
    cache: &'a mut TreeCache,
    /// Whose `/dev/shm`, message queues and files of the network these are, unless it joins others: the pod has no name.
    own: &'a str,
}

impl DefaultMounts<'_> {
    fn row(&mut self, context: &Context<'_>, row: &DefaultRow) {
        let privileged = self.container.privileged;
        let read_only =
            |flags: MountFlags, when: bool| if when { flags.with(MountFlags::READ_ONLY) } else { flags };
        let (volume, first) = match row.kind {
            DefaultKind::Proc => {
                (self.proc.insert(self.placing.kernel_files("proc", row.flags)).clone(), true)
            }
            // A privileged container gets a writable /sys, as device managers need it.
            DefaultKind::Sys => (self.placing.kernel_files("sysfs", read_only(row.flags, !privileged)), true),
            DefaultKind::Devices => {
                // What is mounted on `/dev/shm` in its place finds nothing there.
                let own = self.container.mounts.iter().any(|mount| trimmed(&mount.at.value) == b"/dev/shm");
                let memory = self.container.ipc != Ipc::None && !own;
                (self.placing.devices(privileged, memory, row.flags), true)
            }
            DefaultKind::Terminals => (self.placing.terminals(row.flags), true),
            DefaultKind::Shared(mode) => match self.memory(context, row, mode) {
                Some(volume) => (volume, true),
                None => return,
            },
            DefaultKind::File { mode, follows_root } => {
                let flags = read_only(row.flags, follows_root && self.container.read_only_root);
                (self.network_file(context, row.at, mode, flags), false)
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
                let volume = self.read_only_part(row.at);
                return self.push(row.at, volume, true, MountOrigin::Shield);
            }
        };
        self.push(row.at, Ready::Shared(volume), first, MountOrigin::Default);
    }

    /// A part of `/proc`, mounted again and read-only.
    fn read_only_part(&mut self, at: &str) -> Ready {
        let whole = match &self.proc {
            Some(proc) => proc.clone(),
            None => self.proc.insert(self.placing.kernel_files("proc", MountFlags::NONE)).clone(),
        };
        let tree = &self.placing.stage.source(whole.variants[0].source).tree;
        let root = tree.find(at.trim_start_matches("/proc").as_bytes()).or(Some(Tree::ROOT));
        Ready::Shared(Prepared { root, flags: MountFlags::READ_ONLY, ..whole })
    }

    /// `/dev/shm` or `/dev/mqueue`, from whom the container has it.
    fn memory(&mut self, context: &Context<'_>, row: &DefaultRow, mode: u16) -> Option<Prepared> {
        let name = last(row.at);
        let own = self.placing.own;
        let volume = match &self.container.ipc {
            Ipc::Default | Ipc::Private | Ipc::Shareable => {
                self.placing
                    .of(own, name, row.flags, |placing| placing.shared_memory(row.at, mode, row.flags))
            }
            // The message queues are those of a namespace of its own.
            Ipc::None if name == "shm" => return None,
            Ipc::None => self.placing.shared_memory(row.at, mode, row.flags),
            Ipc::Host(from) => {
                let volume = joined::of_host(self.placing.stage, context, (row.at, from));
                let added = if name == "shm" { context.profile.joins.host_flags } else { row.flags };
                Prepared { flags: volume.flags.with(added), ..volume }
            }
            // One that lends what it does not have itself gives a new one.
            Ipc::Of(lender) if self.placing.cache.lenders.has(&lender.value) => {
                self.placing.of(&lender.value, name, row.flags, |placing| {
                    placing.shared_memory(row.at, mode, row.flags)
                })
            }
            Ipc::Of(lender) | Ipc::Elsewhere(lender) => {
                let volume = joined::elsewhere(self.placing.stage, (row.at, lender));
                Prepared { flags: row.flags, ..volume }
            }
        };
        if !own.is_empty() {
            self.placing.cache.joined.insert((own.to_owned(), name.to_owned()), volume.clone());
        }
        Some(volume)
    }

    /// A file that goes with the network; the rest of `/etc` is the container's own.
    fn network_file(&mut self, context: &Context<'_>, at: &str, mode: u16, flags: MountFlags) -> Prepared {
        let name = last(at);
        let own = self.placing.own;
        let make = |placing: &mut Placement<'_>| placing.single_file(name, mode, flags);
        if own.is_empty() || !NETWORK_FILES.contains(&name) {
            return make(&mut self.placing);
        }
        let lender = self.container.network_of.as_ref().filter(|_| context.profile.joins.network_files);
        let lender = lender.map_or(own, |lender| lender.value.as_str());
        let volume = self.placing.of(lender, name, flags, make);
        self.placing.cache.joined.insert((own.to_owned(), name.to_owned()), volume.clone());
        volume
    }

    fn push(&mut self, at: &str, volume: Ready, first: bool, origin: MountOrigin) {
        let from = Provenance::Rule(self.placing.cache.word("the runtime mounts it into every container"));
        // The kernel makes the inodes of proc and sysfs itself, owned by its own root whatever the namespace maps.
        let shifted = !(at.starts_with("/proc") || at.starts_with("/sys"));
        self.all.push(DefaultMount { at: at.as_bytes().to_vec(), volume, from, first, origin, shifted });
    }

    /// What the kubelet adds. Its own /etc/hosts stays writable when the root is read-only; the runtime's two do not.
    fn kubelet(&mut self, context: &Context<'_>) {
        let rule = Provenance::Rule(self.placing.cache.word("the kubelet binds it into every container"));
        let with_root =
            if self.container.read_only_root { MountFlags::READ_ONLY } else { MountFlags::default() };
        for (name, flags) in NETWORK_FILES.into_iter().zip([MountFlags::default(), with_root, with_root]) {
            let volume = self.placing.of("", name, flags, |placing| placing.single_file(name, 0o644, flags));
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
            let volume = self.placing.of("", "token", MountFlags::READ_ONLY, |placing| {
                let name = Fact::new("service account token".to_owned(), from.clone());
                api_volume::prepare(placing.stage, context, &name, &api_volume::service_account())
            });
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
        let key = (self.cache.word(name), filesystem.map(str::to_owned));
        let facts = self.cache.facts.entry(key).or_insert_with_key(|(name, filesystem)| {
            let personality = filesystem.as_deref().and_then(Personality::of).unwrap_or_default();
            let filesystem = filesystem.as_deref().map(Arc::from);
            Arc::new(SourceFacts { filesystem, personality, ..SourceFacts::local(name.clone()) })
        });
        let source = self.stage.add_source(Source { tree, facts: facts.clone() });
        Prepared { flags, ..Prepared::single(source, kind, self.cache.unprepared.clone()) }
    }

    /// `/proc` and `/sys`: root 0555, the rest is the kernel's and not modelled.
    fn kernel_files(&mut self, filesystem: &str, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(filesystem.to_owned(), || kernel_tree(filesystem));
        let kind = MountKind::Runtime(self.cache.word(filesystem));
        self.place(filesystem, Some(filesystem), kind, tree, flags)
    }

    /// `/dev/pts`: a devpts of the container's own.
    fn terminals(&mut self, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree("devpts".to_owned(), terminal_tree);
        let kind = MountKind::Runtime(self.cache.word("devpts"));
        self.place("devpts", Some("devpts"), kind, tree, flags)
    }

    fn shared_memory(&mut self, at: &str, mode: u16, flags: MountFlags) -> Prepared {
        let name = last(at);
        let filesystem = if name == "mqueue" { "mqueue" } else { "tmpfs" };
        let kind = if filesystem == "tmpfs" {
            MountKind::Tmpfs
        } else {
            MountKind::Runtime(self.cache.word(filesystem))
        };
        let tree = self.cache.tree(format!("shared {mode:o}"), || {
            let rule = format!("the runtime makes it 0:0 {mode:04o}");
            Tree::new(Entry::directory(0, 0, mode), Provenance::Rule(rule.into()))
        });
        self.place(name, Some(filesystem), kind, tree, flags)
    }

    /// What `owner` has under this name: made once (docs/facts/kubelet.md section 3, docs/facts/runtimes.md section 12).
    fn of(
        &mut self,
        owner: &str,
        name: &str,
        flags: MountFlags,
        make: impl FnOnce(&mut Self) -> Prepared,
    ) -> Prepared {
        let key = (owner.to_owned(), name.to_owned());
        if let Some(known) = self.cache.joined.get(&key) {
            return Prepared { flags, ..known.clone() };
        }
        let made = make(self);
        self.cache.joined.insert(key, made.clone());
        made
    }

    /// `/dev`: a tmpfs with the devices every container has.
    fn devices(&mut self, privileged: bool, memory: bool, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(format!("dev {privileged} {memory}"), || device_tree(privileged, memory));
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
        let kind = MountKind::Runtime(self.cache.word("masked"));
        Ready::Shared(if is_file(at) {
            let tree = self.cache.tree("masked file".to_owned(), masked_file);
            let root = tree.find(b"null").or(Some(Tree::ROOT));
            Prepared { root, ..self.place("null", Some("tmpfs"), kind, tree, MountFlags::NONE) }
        } else {
            let tree = self.cache.tree("masked directory".to_owned(), || {
                Tree::new(
                    Entry::directory(0, 0, 0o755),
                    Provenance::rule("the runtime hides it behind an empty tmpfs"),
                )
            });
            self.place("masked", Some("tmpfs"), kind, tree, MountFlags::READ_ONLY)
        })
    }
}
