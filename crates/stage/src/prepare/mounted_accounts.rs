//! Account files that a container mounts over the image's (docs/facts/runtimes.md section 1.2).

use mivask_model::path::cleaned;

use super::context::Context;
use crate::scene::{Container, Driver, VolumeKind, VolumeMount};

/// Account files where a container mounts something over the image's.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum MountedAccounts {
    /// There are none: a tmpfs covers `/etc`.
    None,
    /// They may be any.
    Unread,
}

/// What a container has mounted over the image's account files; `None` where those are the image's still, as in a new volume that is
/// filled from it.
pub(super) fn mounted_accounts(context: &Context<'_>, container: &Container) -> Option<MountedAccounts> {
    const WHERE: [&[u8]; 3] = [b"/etc/passwd", b"/etc/group", b"/etc"];
    let kind = |mount: &VolumeMount| {
        let mut volumes = context.workload.volumes.iter();
        volumes.find(|volume| volume.name.value == mount.volume.value).map(|volume| &volume.kind)
    };
    let over = container.mounts.iter().filter(|mount| WHERE.contains(&cleaned(&mount.at.value).as_slice()));
    let mut found = over.filter_map(|mount| match kind(mount)? {
        VolumeKind::Tmpfs(_) => Some(MountedAccounts::None),
        VolumeKind::Anonymous | VolumeKind::Named { driver: Driver::Local, external: false, .. } => {
            let used = context.scene.volumes.contains_key(&mount.volume.value);
            (used || mount.no_copy).then_some(MountedAccounts::Unread)
        }
        VolumeKind::EmptyDir(_)
        | VolumeKind::HostPath { .. }
        | VolumeKind::Claim { .. }
        | VolumeKind::Ephemeral { .. }
        | VolumeKind::Backed { .. }
        | VolumeKind::Api(_)
        | VolumeKind::Image(_)
        | VolumeKind::Stored(_)
        | VolumeKind::Named { .. }
        | VolumeKind::Bind { .. }
        | VolumeKind::System(_)
        | VolumeKind::Other { .. } => Some(MountedAccounts::Unread),
    });
    found.next_back()
}
