//! The image as the source of a container's root.

use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::{DiskGid, DiskOwner, DiskUid};
use mivask_model::labels::Labels;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{Source, SourceFacts};
use mivask_model::personality::Personality;
use mivask_model::tree::{Certainty, Doubt, Entry, Spot, Tree};
use mivask_model::usual::{Usual, UsualRule, image_directories};

use crate::runtime::{Added, RootDirectory};
use crate::scene::Scene;
use crate::stage::Stage;

/// What is before a container's name where it names no image.
pub(super) const NAMELESS: &str = "of container ";

/// The files of the image called `name`.
pub(super) fn image_source(stage: &mut Stage, scene: &Scene, name: &str) -> Source {
    let image = scene.images.get(name);
    let tree = image.and_then(|image| image.tree.clone()).unwrap_or_else(|| {
        let settle = match name.strip_prefix(NAMELESS) {
            Some(container) => {
                format!("give {container} an `image:`, and its `tree:` under `images:` in a scene file")
            }
            None => format!("give `images: {{ {name}: {{ tree: ... }} }}` in a scene file, or let it be looked for with --images-from"),
        };
        let usual = Usual::shared(UsualRule::ImageDirectory, &format!("image {name}: "));
        let unknown = Unknown::new(&format!("what image {name} holds"), &settle).usually(Some(usual));
        let root = Certainty::Assumed(format!("the root of image {name} is 0:0 0755").into());
        let tree = Tree::unlisted(root, &unknown);
        Arc::new(if scene.as_usual { with_usual_directories(stage, tree, name, &unknown) } else { tree })
    });
    let facts = SourceFacts {
        filesystem: Some(Arc::from("overlay")),
        personality: Personality::Overlay,
        labels: Labels::Container,
        ..SourceFacts::local(format!("image {name}"))
    };
    Source::new(tree, facts)
}

/// An image of which nothing is told, with the directories that every image has.
fn with_usual_directories(stage: &mut Stage, mut tree: Tree, name: &str, unknown: &Unknown) -> Tree {
    for (path, mode) in image_directories() {
        let (above, last) = path.rsplit_once('/').unwrap_or_default();
        let mut parts = above.split('/').filter(|part| !part.is_empty());
        let Some(dir) = parts.try_fold(Tree::ROOT, |dir, part| tree.lookup(dir, part.as_bytes())) else {
            continue;
        };
        let says = format!("image {name}: {path} is there, 0:0 {mode}");
        let usual = Usual::new(UsualRule::ImageDirectory, &says);
        let doubt = Doubt::new(Certainty::Assumed(usual.assumption()), Certainty::Unknown(unknown.clone()));
        stage.take_usual(&format!("image {name}"), usual);
        let entry = Entry::new(FileKind::Directory, 0, 0, mode).doubting(doubt);
        let added = tree.add(dir, last.as_bytes(), entry);
        debug_assert!(added.is_ok(), "{path}: {added:?}");
    }
    tree
}

/// The image's files below the root directory that the engine's storage makes.
pub(super) fn with_root(tree: &Tree, directory: RootDirectory) -> Tree {
    let RootDirectory { mode, of_default_storage } = directory;
    let mut tree = tree.clone();
    let rule =
        format!("the engine's storage makes the root directory 0:0 {mode:04o}, whatever the image has");
    let root = DiskOwner { uid: DiskUid::new(0), gid: DiskGid::new(0) };
    tree.own(Tree::ROOT, root, Mode::new(mode), Provenance::Rule(rule.into()));
    let assumed =
        format!("the engine keeps images in its default storage, whose root directories are 0:0 {mode:04o}");
    let certainty = if of_default_storage { Certainty::Assumed(assumed.into()) } else { Certainty::Known };
    tree.doubt_attributes(Tree::ROOT, certainty);
    tree
}

/// The files that an engine puts beside the image's own. A directory above one is made where the image has none; a link gives way
/// to what the image has.
pub(super) fn with_added(mut tree: Tree, added: &[Added]) -> Tree {
    for Added { path, mode, target } in added {
        let from = || Provenance::rule("the engine makes it");
        let mut entry = match target {
            Some(_) => Entry::new(FileKind::Link, 0, 0, Mode::new(0o777)),
            None => Entry::file(0, 0, *mode),
        }
        .at(from());
        if let Some(target) = target {
            entry.target = target.as_bytes().into();
        }
        let there = tree.find(path.as_bytes());
        if there.is_some() && target.is_some() {
            continue;
        }
        let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
        // A directory that nobody listed may be there, with the same in it.
        if !above.is_empty() && tree.find(above.as_bytes()).is_none() && tree.is_unlisted(Tree::ROOT) {
            continue;
        }
        let Ok(directory) = tree.ensure(above.as_bytes(), |_, _| Entry::directory(0, 0, 0o755).at(from()))
        else {
            continue;
        };
        // Of a directory nobody listed, a file may hide the link.
        if target.is_some() && tree.is_unlisted(directory) {
            continue;
        }
        if there.is_some() {
            let root = DiskOwner { uid: DiskUid::new(0), gid: DiskGid::new(0) };
            if let Some(inode) = there {
                tree.own(inode, root, Mode::new(*mode), from());
            }
            continue;
        }
        // Only a full table can refuse.
        let _full = tree.add(directory, name.as_bytes(), entry);
    }
    tree
}

/// The same files with other owners.
pub(super) fn renumbered(tree: &Tree, renumber: &dyn Fn(DiskOwner) -> DiskOwner) -> Tree {
    let mut new = Tree::new(Entry::directory(0, 0, 0o755), tree.origin().clone());
    // What there was fits again.
    let grafted = new.graft(Tree::ROOT, tree, Tree::ROOT, renumber);
    debug_assert!(grafted.is_ok());
    new.take_after(Tree::ROOT, tree, Tree::ROOT, renumber);
    if let Some(doubt) = tree.doubt(Tree::ROOT) {
        new.set_doubt(Tree::ROOT, doubt.clone());
    }
    new
}

/// The account files that Podman makes where the image has none; nothing is said of directories that nobody listed.
pub(super) fn with_accounts(tree: &Tree, mode: u16) -> Tree {
    let mut tree = tree.clone();
    for name in [&b"passwd"[..], b"group"] {
        let path = [b"etc/", name].concat();
        if !matches!(tree.resolve(&path, true), Spot::Missing { .. }) {
            continue;
        }
        let rule = || Provenance::rule("the engine makes account files that the image has not");
        let Ok(etc) = tree.ensure(b"etc", |_, _| Entry::directory(0, 0, 0o755).at(rule())) else { continue };
        // Only a full table can refuse.
        let _full = tree.add(etc, name, Entry::file(0, 0, mode).at(rule()));
    }
    tree
}
