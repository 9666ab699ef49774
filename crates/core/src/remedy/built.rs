//! Whether another recipe leaves an image as a remedy wants it.

use std::sync::Arc;

use mivask_model::act::Act;
use mivask_model::ids::DiskOwner;
use mivask_model::mode::Mode;
use mivask_model::tree::Tree;
use mivask_stage::prepare::built_image;
use mivask_stage::recipe::Recipe;
use mivask_stage::scene::Scene;

use super::situation::{Situation, staged};
use super::{Remedy, goal};
use crate::change::{Change, Changes};
use crate::question::ask;

/// Whether the build `recipe` of the image `name` does what the changes of `remedy` to that image do: the files that it changes
/// have the same owners and modes, and every one of `acts` succeeds as far as the whole remedy lets it.
#[must_use]
pub fn is_built(
    situation: &Situation<'_>,
    remedy: &Remedy,
    acts: &[Act],
    name: &str,
    recipe: &Recipe,
) -> bool {
    let of_image = |change: &&Change| matches!(change, Change::Image(_));
    let all: Vec<Change> = remedy.steps.iter().map(|step| step.change.clone()).collect();
    let rest = all.iter().filter(|change| !of_image(change)).cloned().collect();
    let mut scene = situation.scene.clone();
    scene.builds.insert(name.to_owned(), recipe.clone());
    let Some(scene) = changed(&scene, rest) else { return false };
    let Some(built) = built_image(&scene, name).and_then(|image| image.tree) else { return false };
    let Some(wanted) = image_wanted(situation, remedy, name) else { return false };
    let paths = all.iter().filter_map(|change| match change {
        Change::Image(act) => Some(act.path.as_slice()),
        Change::Files(_)
        | Change::Process(..)
        | Change::FilesystemGroup(_)
        | Change::Joins(_)
        | Change::Security(_)
        | Change::Accounts(..) => None,
    });
    let same = |path: &[u8]| {
        let is = stored(&built, path);
        is.is_some() && is == stored(&wanted, path)
    };
    if !paths.into_iter().all(same) {
        return false;
    }
    let files = all.into_iter().filter(|change| matches!(change, Change::Files(_)));
    let now = staged(&scene, &situation.changes.and(files));
    acts.iter().all(|act| ask(&now, act).is_ok_and(|answer| goal(&answer)))
}

/// The files of the image `name` as `remedy` wants them; `None` where they are not known.
#[must_use]
pub fn image_wanted(situation: &Situation<'_>, remedy: &Remedy, name: &str) -> Option<Arc<Tree>> {
    let all = remedy.steps.iter().map(|step| step.change.clone()).collect();
    changed(situation.scene, all)?.images.get(name)?.tree.clone()
}

fn changed(scene: &Scene, changes: Vec<Change>) -> Option<Scene> {
    let mut scene = scene.clone();
    Changes::new(changes).apply_to_scene(&mut scene).ok()?;
    Some(scene)
}

/// Owner, group and mode of what is at `path` of an image.
fn stored(tree: &Tree, path: &[u8]) -> Option<(DiskOwner, Mode)> {
    let id = tree.find(path)?;
    Some((tree.owner(id).value()?, tree.mode(id).value()?))
}
