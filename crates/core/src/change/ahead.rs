//! Changes of files before anything is prepared: those of images, and of the host.

use std::sync::Arc;

use mivask_model::act::Act;
use mivask_model::glob::Globs;
use mivask_stage::prepare::{HOST, built_image, stage_with_host};
use mivask_stage::scene::{Host, Scene, Workload};

use super::{administer, means};

/// Makes a change of an image's files before anything is prepared.
pub(super) fn image(
    scene: &mut Scene,
    workloads: &[Arc<Workload>],
    act: &Act,
    globs: &dyn Globs,
) -> Result<(), String> {
    let containers = workloads.iter().flat_map(|workload| {
        workload.containers.iter().map(move |container| (workload.name.as_str(), container))
    });
    let mut named = containers.filter(|(workload, container)| means(&act.actor, workload, &container.name));
    let name =
        named.next().and_then(|(_, container)| container.image.as_ref()).map(|image| image.value.clone());
    let name = name.ok_or_else(|| format!("the image that {} runs is not given", act.actor))?;
    let unknown =
        || format!("the files of image {name} are not given: add `images: {{ {name}: {{ tree: ... }} }}`");
    // Of an image that is built here, what its build leaves is changed.
    if scene.builds.contains_key(&name)
        && let Some(built) = built_image(scene, &name)
    {
        scene.images.insert(name.clone(), built);
    }
    // A change of files that are not given would invent all of them.
    let given = scene.images.get_mut(&name).ok_or_else(unknown)?;
    let tree = given.tree.clone().ok_or_else(unknown)?;
    // Root alone before the image's files.
    let alone = Scene { host: Host { tree: Some(tree), ..Default::default() }, ..Scene::default() };
    let mut stage = stage_with_host(&alone);
    let act = Act { actor: HOST.to_owned(), ..act.clone() };
    administer::administer(&mut stage, &act, globs)?;
    given.tree = stage.source_ids().next().map(|source| stage.source(source).tree.clone());
    Ok(())
}

/// Makes a change of the host's files before anything is prepared.
pub(super) fn on_host(scene: &mut Scene, act: &Act, globs: &dyn Globs) -> Result<(), String> {
    let workloads = std::mem::take(&mut scene.workloads);
    let mut stage = stage_with_host(scene);
    scene.workloads = workloads;
    if scene.host.tree.is_none() {
        return Err("the host's files are not given: add `host: { tree: ... }` in a scene file".to_owned());
    }
    administer::administer(&mut stage, act, globs)?;
    let first = stage.source_ids().next();
    scene.host.tree = first.map(|source| stage.source(source).tree.clone());
    Ok(())
}
