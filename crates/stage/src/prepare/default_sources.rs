//! Sources of what a runtime mounts into every container.

use std::sync::Arc;

use mivask_model::fact::Provenance;
use mivask_model::labels::Labels;
use mivask_model::mount::{MountFlags, Source, SourceFacts};
use mivask_model::mount_kind::MountKind;
use mivask_model::personality::Personality;
use mivask_model::tree::{Entry, Tree};

use super::default_trees::{
    DeviceTree, console_tree, file_tree, host_device_tree, kernel_tree, masked_file, terminal_tree,
};
use super::prepared::{Prepared, Ready};
use super::tree_cache::TreeCache;
use crate::stage::Stage;

/// The last component of a path.
pub(super) fn last(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// Makes sources for the stage out of the cache's trees.
pub(super) struct Placement<'a> {
    pub stage: &'a mut Stage,
    pub cache: &'a mut TreeCache,
    /// Whose `/dev/shm`, message queues and files of the network these are, unless it joins others: the pod has no name.
    pub own: &'a str,
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
            let labels = if matches!(personality, Personality::Kernel(_)) {
                Labels::ByPath
            } else {
                Labels::Container
            };
            Arc::new(SourceFacts { filesystem, personality, labels, ..SourceFacts::local(name.clone()) })
        });
        let source = self.stage.add_source(Source { tree, facts: facts.clone() });
        Prepared { flags, ..Prepared::single(source, kind, self.cache.unprepared.clone()) }
    }

    /// `/proc` and `/sys`: root 0555, the rest is the kernel's and not modelled.
    pub(super) fn kernel_files(&mut self, filesystem: &str, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(filesystem.to_owned(), || kernel_tree(filesystem));
        let kind = MountKind::Runtime(self.cache.word(filesystem));
        self.place(filesystem, Some(filesystem), kind, tree, flags)
    }

    /// `/dev/pts`: a devpts of the container's own.
    pub(super) fn terminals(&mut self, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree("devpts".to_owned(), terminal_tree);
        let kind = MountKind::Runtime(self.cache.word("devpts"));
        self.place("devpts", Some("devpts"), kind, tree, flags)
    }

    pub(super) fn shared_memory(&mut self, at: &str, mode: u16, flags: MountFlags) -> Prepared {
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
    pub(super) fn of(
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
    pub(super) fn devices(&mut self, of: DeviceTree, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(format!("dev {of:?}"), || of.tree());
        self.place("dev", Some("tmpfs"), MountKind::Tmpfs, tree, flags)
    }

    /// `/dev/console`: the process's own terminal.
    pub(super) fn console(&mut self, owner: Option<u32>, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(format!("console {owner:?}"), || console_tree(owner));
        let root = tree.find(b"console").or(Some(Tree::ROOT));
        let kind = MountKind::Runtime(self.cache.word("console"));
        Prepared { root, ..self.place("console", Some("devpts"), kind, tree, flags) }
    }

    /// A device of the host, with its owner there.
    pub(super) fn host_device(&mut self, name: &str, number: (u32, u32), owner: (u32, u32)) -> Prepared {
        let tree =
            self.cache.tree(format!("host {name} {owner:?}"), || host_device_tree(name, number, owner));
        let root = tree.find(name.as_bytes()).or(Some(Tree::ROOT));
        let kind = MountKind::Runtime(self.cache.word("device"));
        self.place(name, Some("devtmpfs"), kind, tree, MountFlags::NO_SUID.with(MountFlags::NO_EXEC))
            .rooted(root)
    }

    /// Message queues of this kernel uid and the host's group 0.
    pub(super) fn queues(&mut self, uid: u32, mode: u16) -> Prepared {
        let kind = MountKind::Runtime(self.cache.word("mqueue"));
        let tree = self.cache.tree(format!("queues {uid} {mode:o}"), || {
            let rule = "the namespace's root mounts them, without a group of it";
            Tree::new(Entry::directory(uid, 0, mode), Provenance::rule(rule))
        });
        self.place("mqueue", Some("mqueue"), kind, tree, MountFlags::NONE)
    }

    /// A bind of one file; the mount shows the file itself.
    pub(super) fn single_file(&mut self, name: &str, mode: u16, flags: MountFlags) -> Prepared {
        let tree = self.cache.tree(format!("file {name} {mode:o}"), || file_tree(name, mode));
        let root = tree.find(name.as_bytes()).or(Some(Tree::ROOT));
        Prepared { root, ..self.place(name, None, MountKind::Bind, tree, flags) }
    }

    /// A directory hides behind an empty read-only tmpfs, a file behind `/dev/null`.
    pub(super) fn mask(&mut self, file: bool, of_file: MountFlags) -> Ready {
        let kind = MountKind::Runtime(self.cache.word("masked"));
        Ready::Shared(if file {
            let tree = self.cache.tree("masked file".to_owned(), masked_file);
            let root = tree.find(b"null").or(Some(Tree::ROOT));
            Prepared { root, ..self.place("null", Some("tmpfs"), kind, tree, of_file) }
        } else {
            let tree = self.cache.tree("masked directory".to_owned(), || {
                Tree::new(
                    Entry::directory(0, 0, 0o1777),
                    Provenance::rule("the runtime hides it behind an empty tmpfs"),
                )
            });
            self.place("masked", Some("tmpfs"), kind, tree, MountFlags::READ_ONLY)
        })
    }
}
