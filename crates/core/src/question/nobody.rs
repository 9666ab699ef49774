//! Files of an image that are nobody's in a container, since its user namespace lacks their ids.

use mivask_model::act::quoted;
use mivask_model::ids::{DiskOwner, InsideGid, InsideUid, MountIds};
use mivask_model::mount::MountTable;
use mivask_model::tree::{InodeId, Tree};
use mivask_stage::stage::{Actor, Stage};

use super::rootless::Surprise;

/// How many files of the image are 65534's inside `actor`, and what to do about it.
pub(super) fn nobodys(stage: &Stage, actor: &Actor) -> Option<Surprise> {
    let credentials = actor.credentials.first()?;
    if credentials.namespace.is_initial() {
        return None;
    }
    let (_, root) = actor.mounts.iter().find(|(id, _)| *id == MountTable::ROOT)?;
    let tree = &stage.source(root.variants.first()?.source).tree;
    let ids = &root.facts.ids;
    let Unmapped { count, path, owner } = unmapped(tree, ids)?;
    let files = if count == 1 { "1 file".to_owned() } else { format!("{count} files") };
    let image =
        actor.image.as_deref().map_or_else(|| "its root".to_owned(), |image| format!("image {image}"));
    let (shown, name) = (quoted(&path), &actor.name);
    let (such, belong) = if count == 1 { ("", "belongs") } else { ("such as ", "belong") };
    let mut message = format!(
        "{files} of {image}, {such}{shown} ({owner}), {belong} to ids that the user namespace of {name} lacks: nobody's (65534) there, and no capability helps"
    );
    let mut help = "map more ids, or give them other owners in the image".to_owned();
    if let Some(starter) = &actor.starter {
        let engine = &starter.namespace;
        let beyond = engine.to_kernel_uid(InsideUid::new(owner.uid.raw())).is_none()
            || engine.to_kernel_gid(InsideGid::new(owner.gid.raw())).is_none();
        if beyond {
            message.push_str("; an engine whose own ids lack them unpacks such an image only where its store ignores owners");
            help = format!(
                "give {} more subordinate ids (/etc/subuid, /etc/subgid), or the files other owners in the image",
                starter.word()
            );
        } else {
            help = "another `--userns` maps them, or other owners in the image help".to_owned();
        }
    }
    Some(Surprise { message, help, from: actor.from.clone() })
}

/// Files whose user or group is not mapped.
struct Unmapped {
    count: usize,
    /// One of them.
    path: Vec<u8>,
    owner: DiskOwner,
}

fn unmapped(tree: &Tree, ids: &MountIds) -> Option<Unmapped> {
    let lacks = |id: InodeId| {
        let owner = tree.owner(id).value()?;
        let known = ids.to_kernel_uid(owner.uid).is_some() && ids.to_kernel_gid(owner.gid).is_some();
        (!known).then_some(owner)
    };
    let count = tree.ids().filter(|id| lacks(*id).is_some()).count();
    if count == 0 {
        return None;
    }
    // The one that is met first, from the root on.
    let mut open = vec![(Tree::ROOT, b"/".to_vec())];
    while let Some((id, path)) = open.pop() {
        if let Some(owner) = lacks(id) {
            return Some(Unmapped { count, path, owner });
        }
        let below = tree.children(id).map(|(name, child)| {
            let above: &[u8] = if id == Tree::ROOT { b"" } else { &path };
            (child, [above, b"/", name].concat())
        });
        let below: Vec<_> = below.collect();
        open.extend(below.into_iter().rev());
    }
    None
}
