//! The changes of an image as a patch of its build file, tried by building it on the model.

use std::sync::Arc;

use mivask_core::act::Act;
use mivask_core::change::Change;
use mivask_core::fact::Provenance;
use mivask_core::mode::FileKind;
use mivask_core::prepare::built_image;
use mivask_core::recipe::BuildFile;
use mivask_core::remedy::{ChangedPlace, InPlace, Remedy, Situation, image_wanted, is_built};
use mivask_core::scene::Scene;
use mivask_core::tree::Tree;
use mivask_read::patch::build::{Copied, Edit, Edited, edited as edit};
use mivask_show::shell;

use crate::inputs::Files;

/// The images that `remedy` changes, in order.
pub(super) fn images(remedy: &Remedy) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for (image, _) in changes(remedy) {
        if !all.contains(&image) {
            all.push(image);
        }
    }
    all
}

fn changes(remedy: &Remedy) -> impl Iterator<Item = (String, &InPlace)> {
    remedy.steps.iter().filter(|step| matches!(step.change, Change::Image(_))).filter_map(|step| {
        let there = step.there.as_ref()?;
        match &there.place {
            ChangedPlace::Image(image, _) => Some((image.to_string(), there)),
            ChangedPlace::Host(_) | ChangedPlace::Volume(..) => None,
        }
    })
}

/// The build file of an image that is built here and not told of otherwise.
pub(super) fn file(scene: &Scene, image: &str) -> Option<Arc<BuildFile>> {
    scene.builds.get(image)?.file.clone()
}

/// `text`, the build file of `image`, with the changes of `remedy` to it; `None` where no one line does it.
pub(super) fn edited(
    situation: &Situation<'_>,
    (remedy, acts): (&Remedy, &[Act]),
    (image, text): (&str, &str),
    file: &BuildFile,
) -> Option<Edited> {
    let scene = situation.scene();
    let built = built_image(scene, image)?;
    let tree = built.tree.as_deref()?;
    let all: Vec<&InPlace> =
        changes(remedy).filter(|(name, _)| name == image).map(|(_, there)| there).collect();
    let commands: Vec<String> = all.iter().map(|one| shell::command(&one.verb, one.place.path())).collect();
    let first = all.first()?.place.path();
    let line = tree.find(first).and_then(|id| line(&tree.place(id), file));
    let edit_of = Edit {
        line,
        copied: copied(tree, &*image_wanted(situation, remedy, image)?, first, &all),
        commands: &commands,
        user: built.identity.user.known().and_then(|user| user.as_ref()).map(|user| user.value.as_str()),
    };
    edit(text, file, &edit_of, &Files::default(), &mut |recipe| {
        is_built(situation, remedy, acts, image, recipe)
    })
}

/// The line of `file` that left something as it is.
fn line(place: &Provenance, file: &BuildFile) -> Option<usize> {
    match place {
        Provenance::Document { file: known, line, .. } if **known == file.path => Some(*line),
        Provenance::Document { .. }
        | Provenance::Line { .. }
        | Provenance::Source(_)
        | Provenance::Rule(_)
        | Provenance::Assumption(_)
        | Provenance::Unknown(_)
        | Provenance::Act(_) => None,
    }
}

/// What a path is to have when it is copied, where nothing else is changed.
fn copied(tree: &Tree, wanted: &Tree, path: &[u8], all: &[&InPlace]) -> Option<Copied> {
    let id = tree.find(path)?;
    if all.iter().any(|one| one.place.path() != path) {
        return None;
    }
    // The option would give all that the copy makes away.
    let alone = tree.ids().filter(|other| tree.place(*other) == tree.place(id)).nth(1).is_none();
    let then = wanted.find(path)?;
    let owner = wanted.owner(then).value()?;
    let mode = wanted.mode(then).value()?;
    Some(Copied {
        alone: alone && tree.inode(id).kind == FileKind::File,
        owner: (tree.owner(id).value() != Some(owner)).then(|| owner.to_string()),
        mode: (tree.mode(id).value() != Some(mode)).then(|| format!("{:o}", mode.bits())),
    })
}
