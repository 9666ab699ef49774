//! What each volume of a workload is before the containers that mount it are looked at.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::mount::{MountFlags, Preparation};
use mivask_model::mount_kind::MountKind;
use mivask_model::personality::Personality;
use mivask_model::refusal::{Refusal, RefusalClass};
use mivask_model::tree::{Entry, Tree};

use super::api_volume;
use super::asked::Asked;
use super::backed;
use super::context::Context;
use super::defaults;
use super::fs_group::{self, GroupStep, Masks, Policy};
use super::host_path;
use super::image::image_source;
use super::kubelet_labels;
use super::prepared::{Fills, Prepared, Ready, local_source, new_volume, root_facts, unknown_source};
use super::tree_cache::TreeCache;
use crate::scene::{Driver, HostPathCheck, Medium, Volume, VolumeKind};
use crate::stage::Stage;

/// Every volume of the workload, by its name in the description.
pub(super) fn prepare_all(
    stage: &mut Stage,
    context: &Context<'_>,
    cache: &mut TreeCache,
) -> BTreeMap<String, Ready> {
    let ready = |volume: &Volume| (volume.name.value.clone(), ready(stage, context, cache, volume));
    context.workload.volumes.iter().map(ready).collect()
}

fn ready(stage: &mut Stage, context: &Context<'_>, cache: &mut TreeCache, volume: &Volume) -> Ready {
    let name = &volume.name.value;
    let from = &volume.name.from;
    let pod = &context.workload.name;
    let host = |path, check, kind, waits| host_path::Wanted {
        path,
        check,
        kind,
        from,
        creator: context.creator,
        waits,
    };
    Ready::Shared(match &volume.kind {
        VolumeKind::EmptyDir(medium) => empty_dir(stage, context, volume, *medium),
        // A kubelet passes it on as it is, and no runtime takes it.
        VolumeKind::HostPath { path, .. } if path.first() != Some(&b'/') => not_absolute(stage, path, from),
        VolumeKind::HostPath { path, check } => {
            host_path::prepare(stage, context, &host(path, *check, &MountKind::HostPath, true))
        }
        VolumeKind::Claim { claim, read_only } => backed::claim(stage, context, claim, *read_only, from),
        VolumeKind::Ephemeral { class, access_modes } => {
            backed::ephemeral(stage, context, &format!("{pod}-{name}"), class.as_deref(), access_modes, from)
        }
        VolumeKind::Backed { backing, read_only } => {
            let shown = format!("{} volume {name}", backing.word());
            let asked = Asked {
                read_only: *read_only,
                backing: Some(backing),
                ..Asked::new(name, &shown, MountKind::of_key(backing.word()), from)
            };
            backed::prepare(stage, context, &asked)
        }
        VolumeKind::Api(api) => api_volume::prepare(stage, context, &volume.name, api),
        VolumeKind::Image(reference) => image(stage, context, reference),
        VolumeKind::Stored(key) => {
            // No one prepares the volumes of a scene's own containers unless the scene says so.
            let facts = context.scene.volumes.get(key);
            let wanted =
                facts.and_then(|facts| facts.group_ownership.as_ref()).is_some_and(|given| given.value);
            let shown = format!("volume {key}");
            backed::prepare(
                stage,
                context,
                &Asked { plain: !wanted, ..Asked::new(key, &shown, MountKind::Volume, from) },
            )
        }
        VolumeKind::Named { driver, external, flags, .. } => {
            named(stage, context, volume, (driver, *flags), *external)
        }
        VolumeKind::Anonymous => return Ready::Anonymous,
        VolumeKind::Tmpfs(asked) => return Ready::Tmpfs(asked.clone()),
        VolumeKind::Bind { path, make_missing } => {
            let make = *make_missing && context.profile.binds.makes_missing_source;
            let check = if make { HostPathCheck::None } else { HostPathCheck::MustExist };
            host_path::prepare(stage, context, &host(path, check, &MountKind::Bind, false))
        }
        VolumeKind::System(filesystem) => defaults::system(stage, cache, filesystem),
        VolumeKind::Other { kind, read_only } => other(stage, volume, kind, *read_only),
    })
}

/// 0777 on disk, 1777 in memory; with a filesystem group 2777 and 3777 (docs/facts/kubelet.md section 4).
/// What the scene tells of it is what it holds already, as in a pod that runs.
fn empty_dir(stage: &mut Stage, context: &Context<'_>, volume: &Volume, medium: Medium) -> Prepared {
    let (mode, filesystem, rule) = match medium {
        Medium::Disk => (0o777, None, "the kubelet makes an emptyDir 0:0 0777"),
        Medium::Memory => {
            (0o1777, Some(Arc::from("tmpfs")), "a Memory emptyDir is a tmpfs, 0:0 1777 (sticky)")
        }
    };
    let told = context.scene.volumes.get(&volume.name.value).and_then(|facts| facts.tree.as_deref());
    let made = || Tree::new(Entry::directory(0, 0, mode), Provenance::rule(rule));
    let mut tree = told.cloned().unwrap_or_else(made);
    let mut preparation =
        Preparation { before: Some(root_facts(&tree, Tree::ROOT)), ..Preparation::default() };
    preparation.notes.push(Arc::from(if told.is_some() {
        "its files are given: it is taken as it is then"
    } else {
        rule
    }));
    // The change policy counts for claims only.
    if let Some(group) = &context.workload.security.fs_group {
        let from = &group.from;
        let policy = Policy::Always;
        let group = group.value;
        let top = Tree::ROOT;
        let report =
            fs_group::apply(&mut tree, &GroupStep { top, group, policy, masks: Masks::WRITABLE, from });
        preparation.touches = report.touched;
        preparation.notes.extend(report.note);
    }
    let name = format!("emptyDir {}", volume.name.value);
    let labels = kubelet_labels::of_pods_own(context);
    let source = local_source(stage, &name, filesystem, (tree, labels));
    Prepared::single(source, MountKind::EmptyDir, preparation)
}

fn named(
    stage: &mut Stage,
    context: &Context<'_>,
    volume: &Volume,
    (driver, own): (&Driver, MountFlags),
    external: bool,
) -> Prepared {
    let key = volume.name.value.as_str();
    let shown = format!("volume {key}");
    let from = &volume.name.from;
    let flags = context.profile.volumes.flags;
    // Podman prepares whatever is behind a volume when it is first mounted, a directory of the host too (docs/facts/runtimes.md
    // section 14).
    let prepared_first =
        if context.profile.volumes.owns_root_at_first_mount && !external { Fills::New } else { Fills::Used };
    let mut ready = match driver {
        Driver::Bind(path) => {
            let check = HostPathCheck::Directory;
            let kind = &MountKind::Volume;
            let waits = false;
            let wanted = host_path::Wanted { path, check, kind, from, creator: context.creator, waits };
            let mut ready = host_path::prepare(stage, context, &wanted);
            ready.fills = prepared_first;
            ready
        }
        Driver::Tmpfs(_) | Driver::Nfs(_) | Driver::Unknown(_) => {
            let personality = match driver {
                Driver::Tmpfs(options) => Some(Personality::Tmpfs(*options)),
                Driver::Nfs(personality) => Some(personality.clone()),
                Driver::Unknown(_) | Driver::Bind(_) | Driver::Local => None,
            };
            let asked =
                Asked { plain: true, personality, ..Asked::new(key, &shown, MountKind::Volume, from) };
            let mut ready = backed::prepare(stage, context, &asked);
            if matches!(driver, Driver::Tmpfs(_)) && context.profile.volumes.owns_root_at_first_mount {
                ready.fills = Fills::New;
            }
            ready
        }
        Driver::Local if context.scene.volumes.contains_key(key) || external => {
            let asked = Asked { plain: true, ..Asked::new(key, &shown, MountKind::Volume, from) };
            let mut ready = backed::prepare(stage, context, &asked);
            ready.fills = Fills::Used;
            ready
        }
        Driver::Local => new_volume(stage, &shown, MountKind::Volume, context.creator),
    };
    ready.flags = ready.flags.with(flags).with(own);
    ready
}

/// Another image's files: read-only, without programs, never given to the filesystem group.
fn image(stage: &mut Stage, context: &Context<'_>, reference: &Fact<String>) -> Prepared {
    let source = image_source(stage, context.scene, &reference.value);
    let source = stage.add_source(source);
    let flags = MountFlags::READ_ONLY.with(MountFlags::NO_EXEC);
    Prepared { flags, ..Prepared::single(source, MountKind::Image, Preparation::default()) }
}

fn other(stage: &mut Stage, volume: &Volume, kind: &str, read_only: bool) -> Prepared {
    let name = format!("{kind} volume {}", volume.name.value);
    let settle = "not possible here: the rules of this kind of volume are not known";
    let unknown = Unknown::new(&format!("what {name} holds"), settle);
    let mut prepared = unknown_source(stage, &name, MountKind::of_key(kind), unknown);
    if read_only {
        prepared.flags = MountFlags::READ_ONLY;
    }
    prepared
}

/// A host path that no runtime takes.
fn not_absolute(stage: &mut Stage, path: &[u8], from: &Provenance) -> Prepared {
    let shown = quoted(path);
    let reason = format!("the host path {shown} is not absolute");
    let refusal = Refusal { class: RefusalClass::StartError, reason, from: from.clone(), whole_pod: false };
    let unknown = Unknown::new(&format!("what {shown} is"), "write an absolute path");
    let name = format!("host path {shown}");
    Prepared { blocked: Some(refusal), ..unknown_source(stage, &name, MountKind::HostPath, unknown) }
}
