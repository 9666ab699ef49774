//! What deserves a second look about labels.

use mivask_model::act::quoted;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::labels::{Labels, Relabelled};
use mivask_model::listed::listed;
use mivask_model::mount::Mount;
use mivask_model::tree::InodeId;
use mivask_stage::scene::{Container, Relabel, Scene, VolumeKind, Workload};

use mivask_stage::stage::{Actor, Stage};

use super::remark::Remark;

/// What a container asks of its label, where nothing is said of SELinux on the host.
pub(super) fn asked(scene: &Scene, container: &Container) -> Option<Remark> {
    let words = container.label.words.as_ref().filter(|_| scene.host.selinux.is_none())?;
    let message = format!("{} may refuse what all else permits: the host's policy is not given", words.value);
    let help =
        "give `host: { selinux: { policy: FILE } }` in a scene file, or `selinux: disabled`".to_owned();
    Some(Remark { message, help: Some(help), from: words.from.clone(), note: true })
}

/// A label that was told and that the host's policy does not know: to the kernel what has it is unlabeled
/// (`inode_doinit_use_xattr`), and nothing is mounted with it.
pub(super) fn unknown(scene: &Scene) -> Option<Remark> {
    let policy = scene.host.selinux.as_ref()?.policy.as_ref()?;
    let bad = |label: &&str| policy.context(label).is_err();
    let why =
        |label: &str| policy.context(label).err().map(|problem| problem.to_string()).unwrap_or_default();
    let images = scene.images.values().filter_map(|image| image.tree.as_deref());
    let volumes = scene.volumes.values().filter_map(|volume| volume.tree.as_deref());
    for tree in images.chain(volumes).chain(scene.host.tree.as_deref()) {
        let Some(label) = tree.labels().find(bad) else { continue };
        let has =
            |id: &InodeId| tree.extended(*id).and_then(|extended| extended.label.as_deref()) == Some(label);
        let from = tree.ids().find(has).map(|id| tree.place(id))?;
        let message = format!(
            "the host's policy does not know the label {} ({}): what has it is unlabeled",
            label.escape_debug(),
            why(label)
        );
        return Some(of_another_policy(message, from));
    }
    for volume in scene.volumes.values() {
        let label = match &volume.labels {
            Labels::Mounted(label) => Some(label),
            Labels::Stored(beside) => [&beside.rest, &beside.filesystem, &beside.root]
                .into_iter()
                .flatten()
                .find(|label| bad(&&***label)),
            Labels::Container | Labels::Open | Labels::ByPath => None,
        };
        let Some(label) = label.filter(|label| bad(&&***label)) else { continue };
        let message =
            format!("the host's policy does not know the label {} ({})", label.escape_debug(), why(label));
        return Some(of_another_policy(message, volume.from.clone()));
    }
    None
}

fn of_another_policy(message: String, from: Provenance) -> Remark {
    let help = "look at the type, and whether the policy is that of this host".to_owned();
    Remark { message, help: Some(help), from, note: false }
}

/// Folders that several containers have labelled, one of them at least for itself alone: whoever starts last takes them from the
/// others. Told of the first of them.
pub(super) fn contested(stage: &Stage, actor: &Actor, container: &Container) -> Vec<Remark> {
    let mut all = Vec::new();
    // Where it would only be logged nobody is kept out.
    if actor.confined.as_ref().is_none_or(|confined| confined.is_permissive()) {
        return all;
    }
    for mount in actor.mounts.iter().map(|(_, mount)| mount).filter(|mount| is_contested(mount)) {
        let asked = container.mounts.iter().find(|asked| *asked.at.value == *mount.facts.at);
        let Some(asked) = asked.and_then(|asked| asked.engine.relabel.as_ref()) else { continue };
        let has =
            |other: &&Actor| other.mounts.iter().any(|(_, other)| take_it_from_each_other(mount, other));
        let sharing: Vec<&str> =
            stage.actors.iter().filter(|other| !other.guest).filter(has).map(|other| &*other.name).collect();
        if sharing.first() != Some(&&*actor.name) || sharing.len() < 2 {
            continue;
        }
        let what = mount.facts.host_path.as_deref().map_or_else(|| quoted(&mount.facts.at), quoted);
        let message = format!(
            "{} share {what}, and `Z` labels it for one of them alone: whichever starts last keeps the others out",
            listed(&sharing)
        );
        let help =
            "write `z` for all of them; what each makes later has its own level, unless they have one together (`label=level:`)".to_owned();
        all.push(Remark { message, help: Some(help), from: asked.from.clone(), note: false });
    }
    all
}

fn is_contested(mount: &Mount) -> bool {
    mount.facts.relabelled == Some(Relabelled::Contested)
}

/// Whether two mounts show one folder that containers have labelled each for itself.
pub(crate) fn take_it_from_each_other(one: &Mount, other: &Mount) -> bool {
    let path = &one.facts.host_path;
    let same = path.is_some() && *path == other.facts.host_path
        || other.variants.iter().any(|variant| variant.source == one.variants[0].source);
    is_contested(one) && is_contested(other) && same
}

/// Home folders that an engine labels anew: everything else of the host that uses them loses them.
pub(super) fn homes(workload: &Workload, container: &Container) -> Vec<Remark> {
    let mut all = Vec::new();
    for mount in &container.mounts {
        let Some(asked) = &mount.engine.relabel else { continue };
        let volume = workload.volumes.iter().find(|volume| volume.name.value == mount.volume.value);
        let Some(VolumeKind::Bind { path, .. } | VolumeKind::HostPath { path, .. }) =
            volume.map(|one| &one.kind)
        else {
            continue;
        };
        all.extend(home(path, asked));
    }
    all
}

fn home(path: &[u8], asked: &Fact<Relabel>) -> Option<Remark> {
    let mut parts = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty());
    let (first, second, third) = (parts.next(), parts.next(), parts.next());
    let whole = first == Some(b"home") && second.is_some() && third.is_none();
    if !whole {
        return None;
    }
    let path = quoted(path);
    let (option, whose) = match asked.value {
        Relabel::Shared => ("z", "containers"),
        Relabel::Private => ("Z", "this container alone"),
    };
    let message = format!(
        "`{option}` labels everything below {path} for {whose}, where SELinux is on: logins, SSH keys and whatever else of the host \
         is confined lose it"
    );
    let help = "label a folder below it, or one elsewhere".to_owned();
    Some(Remark { message, help: Some(help), from: asked.from.clone(), note: false })
}
