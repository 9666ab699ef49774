//! A volume once it is ready to be mounted.

use mivask_model::ids::KernelOwner;
use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::labels::{Labels, Relabelled};
use mivask_model::mode::FileKind;
use mivask_model::mount::{MountFlags, Preparation, RootFacts, Source, SourceFacts, SourceId, Variant};
use mivask_model::mount_kind::MountKind;
use mivask_model::refusal::Refusal;
use mivask_model::tree::{Certainty, Doubt, Entry, InodeId, Tree};

use crate::scene::TmpfsAsked;
use crate::stage::Stage;

/// A declared volume, as far as it can be prepared before the containers are known.
#[derive(Clone, Debug)]
pub(super) enum Ready {
    /// One for all containers of the workload.
    Shared(Prepared),
    /// A new one for each container that mounts it.
    Anonymous,
    /// A new tmpfs for each container that mounts it.
    Tmpfs(TmpfsAsked),
}

/// A volume ready to be mounted.
#[derive(Clone, Debug)]
pub(super) struct Prepared {
    pub variants: Vec<Variant>,
    pub question: Option<Unknown>,
    /// What shows of it; `None` if unknown, not even its kind.
    pub root: Option<InodeId>,
    pub flags: MountFlags,
    pub kind: MountKind,
    /// The path of the host that shows.
    pub host_path: Option<Arc<[u8]>>,
    /// What the source is called, where it differs from the source's own name.
    pub label: Option<Arc<str>>,
    pub blocked: Option<Refusal>,
    /// Whether an engine may fill it from the image of the container that mounts it.
    pub fills: Fills,
    /// Mounts of the host below it, which come along.
    pub nested: Vec<Nested>,
    /// What the kubelet has made of its labels, where its files are the host's.
    pub relabelled: Option<Relabelled>,
}

/// A mount of the host that is below a host path.
#[derive(Clone, Debug)]
pub(super) struct Nested {
    /// Its path on the host.
    pub at: Arc<[u8]>,
    /// Its path below the host path.
    pub rest: Vec<u8>,
    /// Its mount point, in the tree of the host path.
    pub inode: InodeId,
    /// What shows there, in the tree of its own source.
    pub shows: InodeId,
    /// The host path in the tree of its own source.
    pub top: InodeId,
    pub source: SourceId,
    pub flags: MountFlags,
    pub label: Arc<str>,
    pub from: Provenance,
}

/// Whether a volume is filled from an image.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum Fills {
    /// Never.
    Never,
    /// It may be, and no one mounted it before.
    New,
    /// It may be, but it was there before, so it is taken to have been mounted already.
    Used,
}

impl Prepared {
    /// A volume with one source and no flags.
    pub(super) fn single(
        source: SourceId,
        kind: MountKind,
        preparation: impl Into<Arc<Preparation>>,
    ) -> Self {
        let preparation = preparation.into();
        Self {
            variants: vec![Variant { preparation, ..Variant::only(source) }],
            question: None,
            root: Some(Tree::ROOT),
            flags: MountFlags::default(),
            kind,
            host_path: None,
            label: None,
            blocked: None,
            fills: Fills::Never,
            nested: Vec::new(),
            relabelled: None,
        }
    }

    /// The same, of which `root` shows.
    pub(super) const fn rooted(mut self, root: Option<InodeId>) -> Self {
        self.root = root;
        self
    }

    /// Says that something was done to it.
    pub(super) fn note(&mut self, text: impl Into<Arc<str>>) {
        let text = text.into();
        for variant in &mut self.variants {
            Arc::make_mut(&mut variant.preparation).notes.push(text.clone());
        }
    }
}

/// Owner, group and mode of one inode.
pub(super) fn root_facts(tree: &Tree, id: InodeId) -> RootFacts {
    let inode = tree.inode(id);
    RootFacts {
        uid: inode.stored_owner().uid.raw(),
        gid: inode.stored_owner().gid.raw(),
        mode: inode.stored_mode(),
    }
}

/// A source of which nothing is known but that it keeps owners and modes itself.
pub(super) fn unknown_source(stage: &mut Stage, name: &str, kind: MountKind, unknown: Unknown) -> Prepared {
    let tree = Tree::of_unknown_kind(&unknown, FileKind::File, None);
    let facts = SourceFacts { native: Certainty::Unknown(unknown), ..SourceFacts::local(name) };
    let source = stage.add_source(Source::new(Arc::new(tree), facts));
    Prepared::single(source, kind, Preparation::default())
}

/// A source that keeps owners and modes itself.
pub(super) fn local_source(
    stage: &mut Stage,
    name: &str,
    filesystem: Option<Arc<str>>,
    (tree, labels): (Tree, Labels),
) -> SourceId {
    let facts = SourceFacts { filesystem, labels, ..SourceFacts::local(name) };
    stage.add_source(Source::new(Arc::new(tree), facts))
}

/// A new volume of an engine: its root 0:0 0755, or the namespace's root's, and nothing in it.
pub(super) fn new_volume(stage: &mut Stage, name: &str, kind: MountKind, creator: KernelOwner) -> Prepared {
    let text: Arc<str> = format!("{name} is new and empty when the container is made").into();
    let doubt = Doubt::new(Certainty::Assumed(text.clone()), Certainty::Assumed(text));
    let root = Entry::directory(creator.uid.raw(), creator.gid.raw(), 0o755).doubting(doubt);
    let tree = Tree::new(root, Provenance::rule("the engine makes a new volume 0:0 0755"));
    let before = Some(root_facts(&tree, Tree::ROOT));
    let source = local_source(stage, name, None, (tree, Labels::default()));
    let fills = Fills::New;
    Prepared { fills, ..Prepared::single(source, kind, Preparation { before, ..Preparation::default() }) }
}
