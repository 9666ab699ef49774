//! What someone must be to get in, in the words of the description, and which actors are that.

use mivask_model::ids::{KernelGid, KernelUid};
use mivask_model::mode::Access;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::{Outcome, settle};
use mivask_rules::trace::{Check, Step};
use mivask_rules::walk::Follow;

use super::{Condition, Site, Trial};
use crate::question::admits::Column;

impl Site<'_> {
    /// The conditions with the actors that meet them and get in; one meets the first that fits.
    pub(super) fn with_actors(&self, all: Vec<(Trial, Vec<Step>)>, unnamed: u32) -> Vec<Condition> {
        let mut conditions: Vec<Condition> =
            all.iter().map(|(trial, steps)| self.condition(trial, steps, unnamed)).collect();
        let [who] = self.actor.credentials.as_slice() else { return conditions };
        if self.actor.refusal().is_some() || settle(&self.explored(who)).0 != Outcome::Allowed {
            return conditions;
        }
        let meets = |trial: &Trial| {
            (trial.uid == unnamed || who.fsuid.is(KernelUid::new(trial.uid)))
                && trial.groups.iter().all(|gid| {
                    let gid = KernelGid::new(*gid);
                    who.fsgid.is(gid) || who.groups.contains(&gid)
                })
                && trial.capability.is_none_or(|capability| who.effective.has(capability))
        };
        if let Some(at) = all.iter().position(|(trial, _)| meets(trial)) {
            conditions[at].actors.push(self.actor.name.to_string());
        }
        conditions
    }

    /// A directory on the way that everyone passes.
    fn open_to_all(&self, path: &[u8]) -> bool {
        let above = self.path.iter().rposition(|byte| *byte == b'/').map_or(0, |at| at.max(1));
        if path == self.path
            || path == &self.path[..above] && matches!(self.to, Column::Create | Column::Delete)
        {
            return false;
        }
        let path = if path.is_empty() { b"/" } else { path };
        let Ok(Sight::There(place)) = look(&self.stage.storage, &self.actor.mounts, path, Follow::Links)
        else {
            return false;
        };
        let tree = &self.stage.source(place.source).tree;
        place.inode.is_some_and(|id| {
            tree.acl(id).is_none() && tree.mode(id).is_some_and(|mode| mode.other().grants(Access::EXECUTE))
        })
    }

    pub(super) fn condition(&self, trial: &Trial, steps: &[Step], unnamed: u32) -> Condition {
        let namespace = &self.actor.credentials[0].namespace;
        let uid =
            (trial.uid != unnamed).then(|| namespace.to_inside_uid(KernelUid::new(trial.uid))).flatten();
        let groups = trial.groups.iter().filter_map(|gid| namespace.to_inside_gid(KernelGid::new(*gid)));
        let decisive = [
            Check::OwnerBits,
            Check::GroupBits,
            Check::AclUser,
            Check::AclGroup,
            Check::Owner,
            Check::Capability,
        ];
        let mut through: Vec<(Vec<u8>, String)> = Vec::new();
        for step in steps.iter().filter(|step| decisive.contains(&step.check)) {
            let one = (step.path.clone(), step.fact.clone());
            if !through.contains(&one) && !self.open_to_all(&step.path) {
                through.push(one);
            }
        }
        Condition { uid, groups: groups.collect(), capability: trial.capability, through, actors: Vec::new() }
    }
}
