//! Mount options of a volume that say whose its files are, where the file system keeps no owners: `uid=`, `gid=`, `umask=` and their kin.

use std::sync::Arc;

use mivask_model::path::trimmed;
use mivask_model::personality::Personality;
use mivask_stage::scene::{Scene, Workload};

use super::means;

/// Whether `option` says whose the files of a volume are, or what everybody has of them.
pub(super) fn is_one(option: &str) -> bool {
    matches!(option.split_once('='), Some(("uid" | "gid" | "umask" | "fmask" | "dmask", _)))
}

/// Sets `options`, those among them that say so, for the volume that the container `name` mounts at `at`.
pub(super) fn set(
    scene: &mut Scene,
    workloads: &[Arc<Workload>],
    (name, at): (&str, &[u8]),
    options: &[String],
) -> Result<(), String> {
    let meant = workloads.iter().find_map(|workload| {
        let container = workload.containers.iter().find(|one| means(name, &workload.name, &one.name))?;
        let mount = container.mounts.iter().find(|mount| trimmed(&mount.at.value) == trimmed(at))?;
        let volume = workload.volumes.iter().find(|volume| volume.name.value == mount.volume.value)?;
        Some((workload, volume))
    });
    let (workload, volume) = meant.ok_or("the description mounts nothing there")?;
    let key = volume.key().ok_or("that volume has no such options, or keeps owners of its own")?;
    let of_namespace = format!("{}/{key}", workload.namespace);
    let key = if scene.volumes.contains_key(&of_namespace) { &of_namespace } else { key };
    let facts = scene.volumes.get_mut(key).ok_or("the file system of that volume is not given")?;
    if !matches!(facts.personality, Personality::Fat(_) | Personality::Ntfs(_) | Personality::Cifs(_)) {
        return Err("its file system keeps owners of its own, so these options mean nothing to it".to_owned());
    }
    for option in options.iter().filter(|option| is_one(option)) {
        facts.personality.option(option).map_err(|error| format!("the mount option `{option}` {error}"))?;
    }
    Ok(())
}
