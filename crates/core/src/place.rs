//! Where files that an actor sees are in the real world.

use std::sync::Arc;

use mivask_model::mode::FileKind;
use mivask_model::mount::MountOrigin;
use mivask_model::mount_kind::MountKind;
use mivask_model::path::parent;
use mivask_model::tree::{InodeId, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Role, Stage};

/// Where files are changed in the real world.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ChangedPlace {
    /// On the host, at this path.
    Host(Vec<u8>),
    /// On a volume, called so, at the path where the actor sees it.
    Volume(Arc<str>, Vec<u8>),
    /// In an image, called so, when it is built.
    Image(Arc<str>, Vec<u8>),
}

impl ChangedPlace {
    /// The path that it is at: on the host, or where the actor or the build sees it.
    #[must_use]
    pub const fn path(&self) -> &[u8] {
        match self {
            Self::Host(path) | Self::Volume(_, path) | Self::Image(_, path) => path.as_slice(),
        }
    }
}

/// One name that `file` has in `tree`, from its root.
fn name_of(tree: &Tree, file: InodeId) -> Option<Vec<u8>> {
    let within = |directory: InodeId| {
        let name = tree.children(directory).find(|(_, child)| *child == file)?.0;
        Some([tree.path_of(directory).as_slice(), b"/", name].concat())
    };
    tree.ids().filter(|id| tree.inode(*id).kind == FileKind::Directory).find_map(within)
}

/// Where `path` of `actor` is; where nothing is there, where it would be. `None` where that is not known.
#[must_use]
pub fn place_of(stage: &Stage, actor: &Actor, path: &[u8]) -> Option<ChangedPlace> {
    let there = |path: &[u8], follow| match look(&stage.storage, &actor.mounts, path, follow) {
        Ok(Sight::There(place)) => Some(place),
        Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
    };
    let own = there(path, Follow::AllButLast);
    // The mount decides at its own point, the directory above anywhere else.
    let place = match own {
        Some(place) => place,
        None => there(parent(path), Follow::Links)?,
    };
    let mount = actor.mounts.get(place.mount);
    let source = stage.source(place.source);
    if actor.role == Role::Person {
        return Some(ChangedPlace::Host(path.to_vec()));
    }
    if mount.origin == MountOrigin::Root && mount.facts.kind != MountKind::Host {
        let image = actor.image.clone().unwrap_or_else(|| source.facts.name.clone());
        return Some(ChangedPlace::Image(image, path.to_vec()));
    }
    if mount.facts.host_path.is_none() && mount.facts.kind != MountKind::Host {
        let label = mount.facts.label.clone().unwrap_or_else(|| source.facts.name.clone());
        return Some(ChangedPlace::Volume(label, path.to_vec()));
    }
    // Sources of host paths hold the host's whole tree.
    let on_host = |place: Place| place.inode.map(|id| source.tree.path_of(id));
    let is_directory = |id| source.tree.inode(id).kind == FileKind::Directory;
    let directory = own.filter(|place| place.inode.is_some_and(is_directory));
    if let Some(directory) = directory {
        return on_host(directory).map(ChangedPlace::Host);
    }
    // The directory above a file that is mounted by itself is in another mount.
    if let Some(file) = mount.root.filter(|root| own.and_then(|place| place.inode) == Some(*root)) {
        return name_of(&source.tree, file).map(ChangedPlace::Host);
    }
    let above = on_host(there(parent(path), Follow::Links)?)?;
    let end = path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
    Some(ChangedPlace::Host([above.as_slice(), &path[end..]].concat()))
}
