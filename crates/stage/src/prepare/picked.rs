//! Whether it matters which range of ids an engine picks (`auto`): only where a file on the host may have one of them.

use mivask_model::mount::MountTable;
use mivask_model::mount_kind::MountKind;
use mivask_model::picked::is_picked;
use mivask_model::tree::{InodeId, Tree};
use mivask_model::unmodelled::Unmodelled;

use super::context::Context;
use crate::namespace::{Space, Starter};
use crate::stage::Stage;

/// Ids below it are given to nobody's subordinates (`SUB_UID_MIN` is 100000, and systemd's ranges begin above 65535).
const FIRST_SUBORDINATE: u32 = 65_536;

/// What is not known, where something mounted has an owner that may be of the range.
pub(super) fn matters(
    stage: &Stage,
    context: &Context<'_>,
    mounts: &MountTable,
    space: &Space,
) -> Option<Unmodelled> {
    let namespace = space.namespace.as_ref().filter(|_| space.picked)?;
    let (starter, _) = context.starter_of();
    let own = |map: &mivask_model::ids::IdMap, id: u32| is_picked(id) && map.backward(id).is_some();
    let user = |id: u32| !own(&namespace.value.uids, id) && may_be(starter, id, true);
    let group = |id: u32| !own(&namespace.value.gids, id) && may_be(starter, id, false);
    let shown = mounts.iter().filter(|(_, mount)| {
        matches!(mount.facts.kind, MountKind::Bind | MountKind::HostPath | MountKind::Volume)
    });
    let met = shown.into_iter().any(|(_, mount)| {
        let trees = mount.variants.iter().map(|variant| &stage.source(variant.source).tree);
        trees.into_iter().any(|tree| {
            mount.root.is_some_and(|root| tree.below(root).into_iter().any(|id| has(tree, id, &user, &group)))
        })
    });
    let settle = "give its maps under `host: { user-namespace: ... }` in a scene file: /proc/PID/uid_map has them once it runs";
    met.then(|| Unmodelled::ids("`auto`", settle, namespace.from.clone()))
}

fn has(tree: &Tree, id: InodeId, user: &impl Fn(u32) -> bool, group: &impl Fn(u32) -> bool) -> bool {
    let owner = tree.inode(id).stored_owner();
    let named = tree.extended(id).and_then(|extended| extended.access.as_ref()).is_some_and(|acl| {
        acl.users.iter().any(|(uid, _)| user(uid.raw())) || acl.groups.iter().any(|(gid, _)| group(gid.raw()))
    });
    user(owner.uid.raw()) || group(owner.gid.raw()) || named
}

/// Whether the engine may pick `id` of the host.
fn may_be(starter: Option<&Starter>, id: u32, user: bool) -> bool {
    let Some(starter) = starter else { return id >= FIRST_SUBORDINATE };
    let map = if user { &starter.namespace.uids } else { &starter.namespace.gids };
    is_picked(id) || map.backward(id).is_some_and(|inside| inside > 0)
}
