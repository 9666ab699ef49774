//! What deserves a second look about labels.

use mivask_model::act::quoted;
use mivask_model::fact::Fact;
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
        let help = "look at the type, and whether the policy is that of this host".to_owned();
        return Some(Remark { message, help: Some(help), from, note: false });
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
        let help = "look at the type, and whether the policy is that of this host".to_owned();
        return Some(Remark { message, help: Some(help), from: volume.from.clone(), note: false });
    }
    None
}

/// Folders that several containers have labelled, one of them at least for itself alone: whoever starts last takes them from the
/// others. Told of the first of them.
pub(super) fn contested(stage: &Stage, actor: &Actor, container: &Container) -> Vec<Remark> {
    let is = |mount: &&Mount| mount.facts.relabelled == Some(Relabelled::Contested);
    let mut all = Vec::new();
    for mount in actor.mounts.iter().map(|(_, mount)| mount).filter(is) {
        let asked = container.mounts.iter().find(|asked| *asked.at.value == *mount.facts.at);
        let Some(asked) = asked.and_then(|asked| asked.engine.relabel.as_ref()) else { continue };
        let same = |other: &&Mount| {
            let path = &other.facts.host_path;
            path.is_some() && *path == mount.facts.host_path
                || other.variants.iter().any(|one| one.source == mount.variants[0].source)
        };
        let has =
            |other: &&Actor| other.mounts.iter().map(|(_, mount)| mount).filter(is).any(|one| same(&one));
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
