//! The label of an inode.

use mivask_label::{Behavior, Context};
use mivask_model::act::quoted;
use mivask_model::fact::Unknown;
use mivask_model::labels::{Labels, Relabelled};
use mivask_model::mode::FileKind;
use mivask_model::mount::SourceFacts;
use mivask_model::tree::{Extended, Tree};

use crate::confined::{Confined, class_of};
use crate::view::{Place, View};
use crate::witness::Witness;

/// The label of the inode at `place`; `None` where nobody told it.
pub(crate) fn label_of(view: &View<'_>, confined: &Confined, place: Place) -> Option<Context> {
    let source = view.source(place);
    // Stored labels count where the policy says that the file system has them (`fs_use_xattr`), or makes them: nobody
    // can change any on others.
    let behavior = |name: &str| confined.policy().file_system(name).behavior;
    if let Some(label) = by_option(view, place) {
        // No mount is made with a label that the policy does not know: what is there then is not told.
        return confined.context(label).ok();
    }
    if !matches!(source.facts.labels, Labels::Mounted(_) | Labels::Container)
        && source.facts.filesystem.as_deref().is_some_and(|name| behavior(name) == Behavior::Paths)
    {
        return by_path(confined, &source.facts, place);
    }
    // What was made since an engine labelled the rest has the label that it was made with.
    if let Some(extended) = since(view, place) {
        return extended.label.as_ref().and_then(|label| read(confined, label));
    }
    let relabelled = view.mount(place.mount).facts.relabelled;
    let anew = match (&source.facts.labels, relabelled) {
        // The mount option wins: there is no attribute to change.
        (Labels::Mounted(_), _) | (_, None) => None,
        (_, Some(Relabelled::Contested | Relabelled::Overlaid)) => return None,
        (_, Some(Relabelled::Shared)) => Some(confined.shared_files()?),
        (_, Some(Relabelled::Private)) => Some(confined.files()?),
    };
    if let Some(label) = anew {
        return Some(label.clone());
    }
    given(view, confined, place)
}

/// The label that a mount option gives the inode at `place` where nothing changes it: that of the root (`selinux_set_mnt_opts`), or
/// of all of a file system whose inodes take after it (`inode_doinit_with_dentry`).
fn by_option<'a>(view: &View<'a>, place: Place) -> Option<&'a str> {
    let source = view.source(place);
    let Labels::Stored(beside) = &source.facts.labels else { return None };
    let confined = view.confined?;
    let name = source.facts.filesystem.as_deref()?;
    if confined.policy().file_system(name).behavior != Behavior::Paths {
        return None;
    }
    let root = beside.root.as_deref().filter(|_| place.inode == Some(Tree::ROOT));
    root.or_else(|| beside.filesystem.as_deref().filter(|_| !LABELLED_BY_PATH.contains(&name)))
}

/// File systems whose inodes have labels by their paths, whatever the file system's own is (`SE_SBGENFS`).
const LABELLED_BY_PATH: [&str; 11] = [
    "proc",
    "sysfs",
    "debugfs",
    "tracefs",
    "binder",
    "bpf",
    "pstore",
    "securityfs",
    "cgroup",
    "cgroup2",
    "functionfs",
];

/// What the inode at `place` has besides its mode, where an act made or labelled it.
fn since<'a>(view: &View<'a>, place: Place) -> Option<&'a Extended> {
    matches!(view.source(place).facts.labels, Labels::Stored(_)).then_some(())?;
    view.source(place).tree.extended(place.inode?).filter(|extended| extended.labelled_since)
}

/// The label as it is before any engine labels it anew.
fn given(view: &View<'_>, confined: &Confined, place: Place) -> Option<Context> {
    let source = view.source(place);
    match &source.facts.labels {
        Labels::Mounted(label) => return confined.context(label).ok(),
        Labels::Container => return confined.files().cloned(),
        Labels::ByPath => return by_path(confined, &source.facts, place),
        Labels::Open => return None,
        Labels::Stored(_) => {}
    }
    let own =
        place.inode.and_then(|id| source.tree.extended(id)).and_then(|extended| extended.label.as_ref());
    let Labels::Stored(beside) = &source.facts.labels else { return None };
    let root = beside.root.as_ref().filter(|_| place.inode == Some(Tree::ROOT));
    if let Some(label) = root {
        return confined.context(label).ok();
    }
    own.or(beside.rest.as_ref()).and_then(|label| read(confined, label))
}

/// Every label that the inode may have where several containers have its mount labelled, and who started last is not known;
/// `None` where that is not so, or not even these are known.
pub(crate) fn possible(view: &View<'_>, confined: &Confined, place: Place) -> Option<Vec<Context>> {
    if view.mount(place.mount).facts.relabelled != Some(Relabelled::Contested) {
        return None;
    }
    let made = [confined.shared_files(), confined.files(), confined.files_of_others()];
    let made = made.into_iter().map(Option::<&Context>::cloned);
    std::iter::once(given(view, confined, place)).chain(made).collect()
}

/// A label that was told; what the policy does not know is unlabeled. Of one that is not given nobody knows whether it does.
fn read(confined: &Confined, label: &str) -> Option<Context> {
    let unknown = || (!confined.is_bounded()).then(|| confined.policy().unlabeled().clone());
    confined.context(label).ok().or_else(unknown)
}

/// What the policy labels by path: all alike, or the root; where in it another inode is, the tree does not tell.
fn by_path(confined: &Confined, facts: &SourceFacts, place: Place) -> Option<Context> {
    let policy = confined.policy();
    let name = facts.filesystem.as_deref()?;
    if let Some(label) = policy.uniform_label(name) {
        return Some(label.clone());
    }
    let class = policy.class(class_of(FileKind::Directory))?;
    (place.inode == Some(Tree::ROOT)).then(|| policy.path_label(name, b"/", class.id()).cloned())?
}

/// The label of the file system at `place`, on which new inodes are judged (`superblock_security_struct.sid`).
pub(crate) fn of_filesystem<W: Witness>(
    view: &View<'_>,
    confined: &Confined,
    place: Place,
    w: &mut W,
) -> Context {
    let facts = &view.source(place).facts;
    match &facts.labels {
        Labels::Mounted(label) => {
            return read(confined, label).unwrap_or_else(|| confined.policy().unlabeled().clone());
        }
        Labels::Container => {
            if let Some(files) = confined.files() {
                return files.clone();
            }
        }
        Labels::Stored(beside) => {
            if let Some(label) = &beside.filesystem {
                return read(confined, label).unwrap_or_else(|| confined.policy().unlabeled().clone());
            }
        }
        Labels::Open | Labels::ByPath => {}
    }
    let policy = confined.policy();
    match facts.filesystem.as_deref() {
        Some(name) => policy.file_system(name).label,
        None => {
            let name = facts.name.clone();
            w.assume(|| format!("the file system of {name} has the label that the policy gives ext4").into());
            policy.file_system("ext4").label
        }
    }
}

/// Whether inodes of the source keep labels of their own (`SBLABEL_MNT`): on others a new one has what the file
/// system's type or mount says.
pub(crate) fn keeps_labels(view: &View<'_>, confined: &Confined, place: Place) -> bool {
    let facts = &view.source(place).facts;
    match &facts.labels {
        Labels::Mounted(_) | Labels::Container | Labels::Open | Labels::ByPath => false,
        Labels::Stored(_) => facts.filesystem.as_deref().is_none_or(|name| {
            let behavior = confined.policy().file_system(name).behavior;
            matches!(behavior, Behavior::Attribute | Behavior::Transition | Behavior::Task)
        }),
    }
}

/// What the labels are of, in words: the path of the host that shows, or the source.
pub(crate) fn named(view: &View<'_>, place: Place) -> String {
    let path = view.mount(place.mount).facts.host_path.as_ref();
    path.map_or_else(|| view.source(place).facts.name.to_string(), |path| quoted(path))
}

/// The label that was told of the inode, whatever a policy makes of it.
fn told<'a>(view: &View<'a>, place: Place) -> Option<&'a str> {
    let source = view.source(place);
    match &source.facts.labels {
        Labels::Mounted(label) => Some(label),
        Labels::Stored(beside) => {
            let own = place.inode.and_then(|id| source.tree.extended(id)?.label.as_deref());
            let root = beside.root.as_deref().filter(|_| place.inode == Some(Tree::ROOT));
            root.or(own).or(beside.rest.as_deref())
        }
        Labels::Container | Labels::Open | Labels::ByPath => None,
    }
}

/// What is missing where no label is given.
pub(super) fn missing(view: &View<'_>, place: Place) -> Unknown {
    let name = named(view, place);
    if view.mount(place.mount).facts.relabelled == Some(Relabelled::Contested) {
        let fact = format!("which container started last of those that have {name} labelled");
        return Unknown::new(
            &fact,
            "label it with `z` in all of them, with `Z` in one alone, or give all of them one level",
        );
    }
    if let Some(label) = told(view, place).filter(|_| view.confined.is_some_and(Confined::is_bounded)) {
        let fact =
            format!("what the host's policy permits with the label {} of {name}", label.escape_debug());
        return Unknown::new(&fact, "give `host: { selinux: { policy: FILE } }`");
    }
    let over = view.mount(place.mount).facts.relabelled == Some(Relabelled::Overlaid);
    let over = if over { " under the engine's overlay" } else { "" };
    let fact = format!("the SELinux labels of {name}{over}");
    let settle = match view.source(place).facts.labels {
        // What is told of the disk is not what is there once it is mounted.
        Labels::Open | Labels::Mounted(_) => {
            "give `options: [context=LABEL]` for the volume, if it is mounted so"
        }
        Labels::Stored(_) | Labels::Container | Labels::ByPath => {
            "give `label:` in its tree, or for the whole of a volume, in a scene file"
        }
    };
    Unknown::new(&fact, settle)
}
