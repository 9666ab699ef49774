//! The image as the source of a container's root.

use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::{DiskGid, DiskOwner, DiskUid};
use mivask_model::mode::Mode;
use mivask_model::mount::{Source, SourceFacts};
use mivask_model::personality::Personality;
use mivask_model::tree::{Certainty, Tree};

use crate::runtime::RootDirectory;
use crate::scene::Scene;

/// What is before a container's name where it names no image.
pub(super) const NAMELESS: &str = "of container ";

/// The files of the image called `name`.
pub(super) fn image_source(scene: &Scene, name: &str) -> Source {
    let image = scene.images.get(name);
    let tree = image.and_then(|image| image.tree.clone()).unwrap_or_else(|| {
        let settle = match name.strip_prefix(NAMELESS) {
            Some(container) => {
                format!("give {container} an `image:`, and its `tree:` under `images:` in a scene file")
            }
            None => format!("give `images: {{ {name}: {{ tree: ... }} }}` in a scene file"),
        };
        let unknown = Unknown::new(&format!("what image {name} holds"), &settle);
        let root = Certainty::Assumed(format!("the root of image {name} is 0:0 0755").into());
        Arc::new(Tree::unlisted(root, &unknown))
    });
    let facts = SourceFacts {
        filesystem: Some(Arc::from("overlay")),
        personality: Personality::Overlay,
        ..SourceFacts::local(format!("image {name}"))
    };
    Source::new(tree, facts)
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
