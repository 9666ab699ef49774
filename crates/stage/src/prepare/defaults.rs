//! What a runtime, and a kubelet, mount into every container (docs/facts/runtimes.md section 6, docs/facts/kubelet.md section 3).

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance};
use mivask_model::mode::Mode;
use mivask_model::mount::{MountFlags, MountOrigin, MountTable, Preparation, Source, SourceFacts};
use mivask_model::mount_kind::MountKind;
use mivask_model::personality::Personality;
use mivask_model::tree::{Entry, Tree};

use super::api_volume;
use super::context::Context;
use super::default_trees::{device_tree, file_tree, is_file, kernel_tree, masked_file, terminal_tree};
use super::prepared::{Prepared, Ready};
use super::shared::Shared;
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

/// Trees and words that are the same in every container, made once.
#[derive(Debug, Default)]
pub(super) struct TreeCache {
    trees: BTreeMap<String, Arc<Tree>>,
    words: BTreeSet<Arc<str>>,
    /// What all containers of a pod mount, by its name.
    of_pod: BTreeMap<String, Prepared>,
    facts: BTreeMap<(Arc<str>, Option<String>), Arc<SourceFacts>>,
    unprepared: Arc<Preparation>,
    shared: Shared,
}

impl TreeCache {
    /// Forgets what belongs to one workload.
    pub(super) fn next_workload(&mut self) {
        self.of_pod.clear();
    }

    /// Lets a container's mounts hold what those of another one hold that is equal.
    pub(super) fn share(&mut self, stage: &mut Stage, table: &mut MountTable) {
        self.shared.share(stage, table);
    }

    fn word(&mut self, word: &str) -> Arc<str> {
        if let Some(known) = self.words.get(word) {
            return known.clone();
        }
        let new: Arc<str> = Arc::from(word);
        self.words.insert(new.clone());
        new
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
    let pod = context.workload.flavour == Flavour::Pod;
    let mut making =
        DefaultMounts { placing: Placement { stage, cache, pod }, container, proc: None, all: Vec::new() };
    // Rows come in the order in which the runtime mounts them; a later one covers an earlier one.
    for row in context.profile.defaults.iter().copied().flatten() {
        making.row(row);
    }
    if pod {
        making.kubelet(context);
    }
    making.all
}

/// A file system of the kernel's that a bundle lists itself.
pub(super) fn system(stage: &mut Stage, cache: &mut TreeCache, filesystem: &str) -> Prepared {
    let mut placing = Placement { stage, cache, pod: false };
    match filesystem {
        "dev" => placing.devices(false, MountFlags::NONE),
        "mqueue" => placing.shared("/dev/mqueue", 0o1777, MountFlags::NONE),
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

/// Makes sources for the stage out of the cache's trees.
struct Placement<'a> {
    stage: &'a mut Stage,
    cache: &'a mut TreeCache,
    /// Whether the containers share a sandbox, with its `/dev/shm`, its message queues and the files of its network.
    pod: bool,
}

impl DefaultMounts<'_> {
    fn row(&mut self, row: &DefaultRow) {
        let privileged = self.container.privileged;
        let read_only =
            |flags: MountFlags, when: bool| if when { flags.with(MountFlags::READ_ONLY) } else { flags };
        let (volume, first) = match row.kind {
            DefaultKind::Proc => {
                (self.proc.insert(self.placing.kernel_files("proc", row.flags)).clone(), true)
            }
            // A privileged container gets a writable /sys, as device managers need it.
            DefaultKind::Sys => (self.placing.kernel_files("sysfs", read_only(row.flags, !privileged)), true),
            DefaultKind::Devices => (self.placing.devices(privileged, row.flags), true),
            DefaultKind::Terminals => (self.placing.terminals(row.flags), true),
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
        for (name, flags) in
            [("hosts", MountFlags::default()), ("hostname", with_root), ("resolv.conf", with_root)]
        {
            let volume =
                self.placing.of_sandbox(name, flags, |placing| placing.single_file(name, 0o644, flags));
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
            let volume = self.placing.of_sandbox("token", MountFlags::READ_ONLY, |placing| {
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

    fn shared(&mut self, at: &str, mode: u16, flags: MountFlags) -> Prepared {
        let name = at.rsplit('/').next().unwrap_or(at);
        let filesystem = if name == "mqueue" { "mqueue" } else { "tmpfs" };
        let kind = if filesystem == "tmpfs" {
            MountKind::Tmpfs
        } else {
            MountKind::Runtime(self.cache.word(filesystem))
        };
        self.of_sandbox(name, flags, |placing| {
            let tree = placing.cache.tree(format!("shared {mode:o}"), || {
                let rule = format!("the runtime makes it 0:0 {mode:04o}");
                Tree::new(Entry::directory(0, 0, mode), Provenance::Rule(rule.into()))
            });
            placing.place(name, Some(filesystem), kind, tree, flags)
        })
    }

    /// What `make` makes, once for all containers of a pod (docs/facts/kubelet.md section 3).
    fn of_sandbox(
        &mut self,
        name: &str,
        flags: MountFlags,
        make: impl FnOnce(&mut Self) -> Prepared,
    ) -> Prepared {
        if let Some(known) = self.cache.of_pod.get(name) {
            return Prepared { flags, ..known.clone() };
        }
        let made = make(self);
        if self.pod {
            self.cache.of_pod.insert(name.to_owned(), made.clone());
        }
        made
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
