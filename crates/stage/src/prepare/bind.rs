//! What runtimes make of the flags of a bind, and of the mounts below it (docs/facts/runtimes.md sections 4 and 10).

use mivask_model::mount::MountFlags;
use mivask_model::mount_kind::MountKind;

use super::prepared::Prepared;
use crate::runtime::{BindRules, Forgets, InNamespace};
use crate::scene::VolumeMount;

/// A mount as the runtime makes it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) struct Bound {
    /// Its flags.
    pub flags: MountFlags,
    /// Whether the mounts below stay behind.
    pub leaves: bool,
}

/// Flags that a user namespace keeps its root from clearing (`lock_mnt_tree` in fs/namespace.c).
const LOCKED: MountFlags =
    MountFlags::READ_ONLY.with(MountFlags::NO_EXEC).with(MountFlags::NO_SUID).with(MountFlags::NO_DEV);

/// How `mount` shows `volume`; `namespaced` where the container has a user namespace of its own, `rootless` where the engine is in
/// one.
///
/// # Errors
/// Why the container does not start, in words.
pub(super) fn bound(
    rules: &BindRules,
    (namespaced, rootless): (bool, bool),
    mount: &VolumeMount,
    volume: &Prepared,
) -> Result<Bound, String> {
    let below = mount.below;
    let host = volume.flags;
    let read_only = if mount.read_only { MountFlags::READ_ONLY } else { MountFlags::NONE };
    let asked = mount.flags.with(read_only);
    let ever_asked = asked.with(mount.engine.taken_back).with(below.set);
    // Mounts that come from a more privileged mount namespace are locked together (mount_namespaces(7)); without a
    // user namespace of its own there is no such boundary.
    let way = if namespaced { rules.in_namespace } else { InNamespace::AsAsked };
    let leaves = match way {
        // All that an engine without root has is locked together: nothing stays behind, and no flag goes (mount_namespaces(7)).
        InNamespace::LeavesBehind | InNamespace::CannotLeave | InNamespace::AsAsked if rootless => false,
        InNamespace::LeavesBehind => true,
        InNamespace::CannotLeave if below.left && !volume.nested.is_empty() => {
            return Err("in a user namespace no bind leaves out the mounts below it".to_owned());
        }
        InNamespace::CannotLeave | InNamespace::AsAsked => below.left && !rules.always_along,
    };
    let bind = volume.kind.is_bound();
    let bound = bind || volume.kind == MountKind::Volume;
    let flags = match rules.forgets {
        // Only what makes it read-only makes crun mount it again; what else is asked for is lost.
        _ if bound && way == InNamespace::LeavesBehind && !ever_asked.has(MountFlags::READ_ONLY) => {
            below.applied(host)
        }
        _ if bind && rootless => below.applied(host.with(asked)),
        Forgets::WhereAsked if bind && asked != MountFlags::NONE => {
            // Where the kernel refuses, runc tries again with `ro` if the host's mount is so, and with nothing else.
            let kept = if namespaced { host.both(MountFlags::READ_ONLY) } else { MountFlags::NONE };
            below.applied(asked.with(kept))
        }
        Forgets::Always if bind => ever_asked,
        Forgets::ReadOnly if bind => below.applied(host.without(MountFlags::READ_ONLY).with(asked)),
        Forgets::WhereAsked | Forgets::Always | Forgets::ReadOnly | Forgets::Nothing => {
            below.applied(host.with(asked))
        }
    };
    if bind && way == InNamespace::CannotLeave {
        let lost = host.without(flags);
        // A recursive bind is refused as a whole when one mount below would lose a flag.
        let inner = volume.nested.iter().map(|nested| nested.flags.without(below.applied(nested.flags)));
        let lost = inner.fold(lost, MountFlags::with).both(LOCKED);
        if lost != MountFlags::NONE {
            let words: Vec<&str> = lost.words().into_iter().filter(|word| *word != "rw").collect();
            return Err(format!(
                "in a user namespace no bind clears {}, which the host's mount has",
                words.join(" and ")
            ));
        }
    }
    Ok(Bound { flags, leaves })
}
