//! What deserves a second look about labels.

use mivask_model::act::quoted;
use mivask_model::fact::Fact;
use mivask_stage::scene::{Container, Relabel, Scene, VolumeKind, Workload};

use super::remark::Remark;

/// What a container asks of its label, where nothing is said of SELinux on the host.
pub(super) fn asked(scene: &Scene, container: &Container) -> Option<Remark> {
    let words = container.label.words.as_ref().filter(|_| scene.host.selinux.is_none())?;
    let message = format!("{} may refuse what all else permits: the host's policy is not given", words.value);
    let help =
        "give `host: { selinux: { policy: FILE } }` in a scene file, or `selinux: disabled`".to_owned();
    Some(Remark { message, help: Some(help), from: words.from.clone(), note: true })
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
