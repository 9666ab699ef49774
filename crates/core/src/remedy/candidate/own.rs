//! What the actor is already: its user, its groups, and what they own.

use mivask_model::act::{Owner, Verb};
use mivask_model::ids::{InsideGid, InsideUid, KernelGid};
use mivask_model::mode::{Access, Mode};

use super::{Candidate, Met, process};
use crate::change::Process;

impl Met<'_> {
    /// The actor's user inside, where its number is given: nothing can be given to an account without one.
    pub(super) fn own_uid(&self) -> Option<u32> {
        self.actor.credentials[0].inside_uid()?.id().map(InsideUid::raw)
    }

    /// The change that gives the inode to the actor's user.
    pub(super) fn to_own(&self) -> Option<Verb> {
        self.own_uid().map(|uid| Verb::SetsOwner(Owner { uid: Some(uid), gid: None }))
    }

    /// The groups the actor is in, those it was given on purpose first.
    pub(super) fn own_groups(&self) -> Vec<u32> {
        let who = &self.actor.credentials[0];
        let inside = |gid: KernelGid| self.namespace().to_inside_gid(gid).map(InsideGid::raw);
        let mut all: Vec<u32> = Vec::new();
        let primary = who.fsgid.id().and_then(inside);
        let others = who.groups.iter().filter_map(|gid| inside(*gid)).filter(|gid| Some(*gid) != primary);
        // A group that was added on purpose comes first: it is the one a team shares. Group 0 is shared with every
        // image that names none.
        for gid in others.chain(primary).filter(|gid| *gid != 0) {
            if !all.contains(&gid) {
                all.push(gid);
            }
        }
        all
    }

    /// The user namespace in which the actor is who starts its engine, where the inode is that one's.
    pub(super) fn kept_id(&self, mode: Mode, needed: Access) -> Option<Candidate> {
        let starter = self.actor.starter.as_deref()?;
        let who = &self.actor.credentials[0];
        let uid = who.inside_uid()?.id()?.raw();
        // Without a group of its own, the starter's stays where it is.
        let gid = who.inside_gid().and_then(|gid| gid.id()).map(InsideGid::raw);
        let owner = self.inode.stored_owner();
        let ids = &self.mount.facts.ids;
        let own = ids.to_kernel_uid(owner.uid).is_some_and(|owner| owner.raw() == starter.uid);
        let group = ids.to_kernel_gid(owner.gid).is_some_and(|owner| owner.raw() == starter.gid);
        let helps =
            own && mode.owner().grants(needed) || group && gid.is_some() && mode.group().grants(needed);
        let already = who.fsuid.id().is_some_and(|uid| uid.raw() == starter.uid);
        if !helps || already || uid == 0 || gid == Some(0) {
            return None;
        }
        let group = gid.map(|gid| format!(",gid={gid}")).unwrap_or_default();
        let mode = format!("keep-id:uid={uid}{group}");
        Some(process(self.name, Process::UserNamespace(mode)))
    }

    pub(super) fn in_group(&self, gid: u32) -> bool {
        let kernel = self.namespace().to_kernel_gid(InsideGid::new(gid));
        let who = &self.actor.credentials[0];
        kernel.is_some_and(|gid| who.fsgid.is(gid) || who.groups.contains(&gid))
    }

    pub(super) fn is_mine(&self) -> bool {
        let owner = self.mount.facts.ids.to_kernel_uid(self.inode.stored_owner().uid);
        owner.is_some_and(|owner| self.actor.credentials[0].fsuid.is(owner))
    }
}
