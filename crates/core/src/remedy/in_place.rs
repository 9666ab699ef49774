//! A change of files as it is made in the real world: where, and with the ids of that place.

use mivask_model::acl::AclText;
use mivask_model::act::{Act, Owner, Verb};
use mivask_model::ids::{DiskGid, DiskOwner, DiskUid, InsideGid, InsideUid, MountIds, UserNamespace};
use mivask_model::mode::Mode;
use mivask_model::personality::Personality;
use mivask_model::picked::is_picked;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;
use mivask_stage::runtime::Runtime;
use mivask_stage::stage::{Actor, Stage};

use crate::change::Change;
use crate::place::{ChangedPlace, place_of};
use crate::recursion::whole;

/// A change of files where they are.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct InPlace {
    /// Where it is made.
    pub place: ChangedPlace,
    /// What is done there, with stored ids; in an image with those of its build.
    pub verb: Verb,
    /// Whether those ids are others than the actor's inside, so that it has to be done outside of the actor's user
    /// namespace, and not through a mount with an id map.
    pub apart: bool,
    /// What who starts an engine without root does instead, in its namespace: the name, and the same with the ids there. `None`
    /// where that user may not.
    pub unshared: Option<(String, Verb)>,
    /// Whether that is on the server that exports it, who squashes nobody there.
    pub server: bool,
    /// Whether it is done to all below that place as well.
    pub recursive: bool,
    /// Owner, group and mode as they are stored now and once the whole remedy is made; `None` where nothing is there, or
    /// where that is not known.
    pub was: Option<Stored>,
    /// The same afterwards.
    pub is: Option<Stored>,
}

/// Owner, group and mode as a disk has them.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Stored {
    /// Stored user and group.
    pub owner: DiskOwner,
    /// Permission bits.
    pub mode: Mode,
}

impl Stored {
    fn of(stage: &Stage, act: &Act) -> Option<Self> {
        let actor = stage.actor(&act.actor).ok()?;
        let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, &act.path, Follow::Links) else {
            return None;
        };
        let tree = &stage.source(place.source).tree;
        let owner = tree.owner(place.inode?).value()?;
        Some(Self { owner, mode: tree.mode(place.inode?).value()? })
    }
}

impl InPlace {
    /// Where `change` is made, looked up on the stages before and behind the remedy; `None` where it changes no files, or where no one
    /// can make it: its ids have no form in that place.
    pub(super) fn of(base: &Stage, now: &Stage, change: &Change) -> Option<Self> {
        if let Change::Image(act) = change {
            let image = now.actor(&act.actor).ok()?.image.clone()?;
            let place = ChangedPlace::Image(image, act.path.clone());
            return Some(Self {
                place,
                verb: act.verb.clone(),
                apart: false,
                unshared: None,
                server: false,
                recursive: false,
                was: None,
                is: None,
            });
        }
        let Change::Files(act) = change else { return None };
        let actor = now.actor(&act.actor).ok()?;
        let named =
            matches!(look(&now.storage, &actor.mounts, &act.path, Follow::AllButLast), Ok(Sight::There(_)));
        let top = whole(&act.path).filter(|_| !named);
        let recursive = top.is_some();
        let act = &Act { path: top.unwrap_or(&act.path).to_vec(), ..act.clone() };
        let place = place_of(now, actor, &act.path)?;
        let ids = Ids::of(now, actor, act)?;
        let verb = ids.stored(&act.verb)?;
        let apart = verb != act.verb || !ids.namespace.is_initial();
        // Of a whole tree, its top says nothing of the rest.
        let stored = |stage| if recursive { None } else { Stored::of(stage, act) };
        let server = ids.served;
        let unshared = unshared(now, actor, act, &verb).filter(|_| apart && !recursive && !server);
        Some(Self { place, verb, apart, unshared, server, recursive, was: stored(base), is: stored(now) })
    }
}

/// Who starts a Podman without root has every right over what its namespace maps (`podman unshare`).
fn unshared(stage: &Stage, actor: &Actor, act: &Act, verb: &Verb) -> Option<(String, Verb)> {
    let starter = actor.starter.as_deref().filter(|_| actor.runtime == Runtime::Podman)?;
    let Ok(Sight::There(place)) = look(&stage.storage, &actor.mounts, &act.path, Follow::Links) else {
        return None;
    };
    if actor.mounts.get(place.mount).facts.ids != MountIds::default() {
        return None;
    }
    let owner = stage.source(place.source).tree.owner(place.inode?).value()?;
    let namespace = &starter.namespace;
    let uid = |uid: u32| namespace.uids.backward(uid);
    let gid = |gid: u32| namespace.gids.backward(gid);
    uid(owner.uid.raw()).and(gid(owner.gid.raw()))?;
    Some((starter.word(), renumbered(verb, uid, gid)?))
}

/// The two maps between an actor's ids and those on the disk.
struct Ids<'a> {
    namespace: &'a UserNamespace,
    mount: &'a MountIds,
    /// Whether a server exports it.
    served: bool,
}

impl<'a> Ids<'a> {
    fn of(stage: &'a Stage, actor: &'a Actor, act: &Act) -> Option<Self> {
        let Ok(Sight::There(Place { mount, source, .. })) =
            look(&stage.storage, &actor.mounts, &act.path, Follow::AllButLast)
        else {
            return None;
        };
        let namespace = &actor.credentials.first()?.namespace;
        let served = matches!(stage.source(source).facts.personality, Personality::Nfs(_));
        Some(Self { namespace, mount: &actor.mounts.get(mount).facts.ids, served })
    }

    /// `from_kuid(fs_userns, make_kuid(current_user_ns(), uid))` through the id map of the mount.
    fn uid(&self, uid: u32) -> Option<DiskUid> {
        let kernel = self.namespace.to_kernel_uid(InsideUid::new(uid))?;
        // Nobody can type the number of an id that an engine is still to pick.
        if is_picked(kernel.raw()) { None } else { self.mount.to_disk_uid(kernel) }
    }

    fn gid(&self, gid: u32) -> Option<DiskGid> {
        let kernel = self.namespace.to_kernel_gid(InsideGid::new(gid))?;
        if is_picked(kernel.raw()) { None } else { self.mount.to_disk_gid(kernel) }
    }

    /// `verb` with stored ids; verbs that name no ids are the same everywhere.
    fn stored(&self, verb: &Verb) -> Option<Verb> {
        let uid = |uid| Some(self.uid(uid)?.raw());
        let gid = |gid| Some(self.gid(gid)?.raw());
        renumbered(verb, uid, gid)
    }
}

/// `verb` with other ids; `None` where one has no other.
fn renumbered(
    verb: &Verb,
    uid: impl Fn(u32) -> Option<u32>,
    gid: impl Fn(u32) -> Option<u32>,
) -> Option<Verb> {
    let all = |acl: &AclText| acl.renumbered(&uid, &gid);
    let owned = |owner: &Owner| {
        let uid = owner.uid.map(|id| uid(id).ok_or(())).transpose().ok()?;
        let gid = owner.gid.map(|id| gid(id).ok_or(())).transpose().ok()?;
        Some(Owner { uid, gid })
    };
    Some(if let Verb::SetsOwner(owner) = verb {
        Verb::SetsOwner(owned(owner)?)
    } else if let Verb::SetsGroup(group) = verb {
        Verb::SetsGroup(gid(*group)?)
    } else if let Verb::SetsAcl(acl) = verb {
        Verb::SetsAcl(all(acl)?)
    } else if let Verb::SetsDefaultAcl(acl) = verb {
        Verb::SetsDefaultAcl(all(acl)?)
    } else {
        verb.clone()
    })
}
