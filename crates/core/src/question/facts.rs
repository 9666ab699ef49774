//! What is at a path inside, whoever asks.

use mivask_model::ids::DiskOwner;
use mivask_model::ids::{InsideGid, InsideUid, OVERFLOW_ID};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::MountOrigin;
use mivask_model::mount_kind::MountKind;
use mivask_model::path::trimmed;
use mivask_model::tree::Attribute;
use mivask_model::unmodelled::Touches;
use mivask_rules::lookup::{Sight, look, root_credentials};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

/// The facts of one path as the actor would see them with `stat`.
///
/// Where owner and mode are unknown they are `None`.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct PathFacts {
    /// What it is.
    pub kind: FileKind,
    /// Owner as the actor sees it; 65534 where it has no mapping.
    pub uid: Option<InsideUid>,
    /// Group as the actor sees it; 65534 where it has no mapping.
    pub gid: Option<InsideGid>,
    /// Permission bits.
    pub mode: Option<Mode>,
    /// Owner as the disk has it, of what the description mounts: what somebody on the host sees.
    pub disk: Option<DiskOwner>,
}

/// What is at `path`, links followed; `None` where nothing is, or no one knows.
#[must_use]
pub fn facts_at(stage: &Stage, actor: &Actor, path: &[u8]) -> Option<PathFacts> {
    match look(&stage.storage, &actor.mounts, path, Follow::Links) {
        Ok(Sight::There(place)) => facts_of(stage, actor, place),
        Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
    }
}

/// A path directly in `directory` where the actor has nothing: `new`, or `new-1` and so on.
///
/// # Panics
/// Never: a directory has fewer names than there are numbers.
#[must_use]
pub fn free_path(stage: &Stage, actor: &Actor, directory: &[u8]) -> Vec<u8> {
    let path = |name: &str| [trimmed(directory), b"/", name.as_bytes()].concat();
    let is_free = |path: &Vec<u8>| {
        !matches!(look(&stage.storage, &actor.mounts, path, Follow::AllButLast), Ok(Sight::There(_)))
    };
    let names = std::iter::once("new".to_owned()).chain((1..).map(|number: u64| format!("new-{number}")));
    names.map(|name| path(&name)).find(is_free).expect("there are more numbers than names")
}

/// The facts of the inode at `place`.
#[must_use]
pub fn facts_of(stage: &Stage, actor: &Actor, place: Place) -> Option<PathFacts> {
    let root = root_credentials();
    let view = stage.view(actor, &root, "");
    let inode = view.inode(place)?;
    // What is mounted there may as well be a file.
    if view.is_of_either_kind(place) || view.is_of_unknown_kind(place) {
        return None;
    }
    if view.mount(place.mount).variants.len() > 1 {
        return Some(PathFacts { kind: inode.kind, uid: None, gid: None, mode: None, disk: None });
    }
    let mount = view.mount(place.mount);
    let made = matches!(mount.facts.kind, MountKind::Tmpfs | MountKind::Image);
    let disk = if mount.origin == MountOrigin::Declared && !made {
        view.owner(place).and_then(Attribute::value)
    } else {
        None
    };
    // Of a namespace that nobody knows there is no telling what an owner is inside.
    if actor.unmodelled.iter().any(|one| one.touches == Touches::Ids) {
        let mode = view.mode(place).and_then(Attribute::value);
        return Some(PathFacts { kind: inode.kind, uid: None, gid: None, mode, disk });
    }
    let namespace = &actor.credentials.first()?.namespace;
    let owner = view.owner(place).and_then(Attribute::value).map(|owner| view.kernel_owner(place, owner));
    let uid = owner.map(|(uid, _)| {
        uid.and_then(|uid| namespace.to_inside_uid(uid)).unwrap_or(InsideUid::new(OVERFLOW_ID))
    });
    let gid = owner.map(|(_, gid)| {
        gid.and_then(|gid| namespace.to_inside_gid(gid)).unwrap_or(InsideGid::new(OVERFLOW_ID))
    });
    let mode = view.mode(place).and_then(Attribute::value);
    Some(PathFacts { kind: inode.kind, uid, gid, mode, disk })
}
