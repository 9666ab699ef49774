//! What someone must be to get in, in the words of the description, and which actors are that.

use mivask_model::caps::{Capability, CapabilitySet};
use mivask_model::credentials::Credentials;
use mivask_model::held::Held;
use mivask_model::ids::{KernelGid, KernelOwner, KernelUid};
use mivask_model::mode::Access;
use mivask_rules::lookup::{Sight, look};
use mivask_rules::settle::{Outcome, settle};
use mivask_rules::trace::{Check, Step};
use mivask_rules::walk::Follow;

use super::{Condition, Found, Ids, Site, Trial};
use crate::question::admits::Column;

/// Whether `held` has the capability, or a wider one: DAC_OVERRIDE gives all that DAC_READ_SEARCH does (capabilities(7)).
const fn holds(held: CapabilitySet, capability: Capability) -> bool {
    held.has(capability)
        || matches!(capability, Capability::DacReadSearch) && held.has(Capability::DacOverride)
}

impl Site<'_> {
    /// The conditions with the actors that meet them and get in; one meets the first that fits.
    pub(super) fn with_actors(&self, all: Vec<Found>, anybody: bool, nobody: KernelOwner) -> Vec<Condition> {
        let unnamed = nobody.uid.raw();
        let mut conditions: Vec<Condition> = all.iter().map(|found| self.condition(found, unnamed)).collect();
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
                && trial.capability.is_none_or(|capability| holds(who.effective, capability))
        };
        let is_meant = |found: &Found| meets(&found.trial) && !found.unless.iter().any(meets);
        if let Some(at) = all.iter().position(is_meant) {
            conditions[at].actors.push(self.actor.name.to_string());
        } else if !anybody {
            // What was tried goes without the mixtures of ids and capabilities that an actor may have.
            conditions.push(Condition { actors: vec![self.actor.name.to_string()], ..self.own(who, nobody) });
        }
        conditions
    }

    /// What lets an actor in that gets in: as little of its user, its groups and its capabilities as is enough.
    fn own(&self, who: &Credentials, nobody: KernelOwner) -> Condition {
        let mut least = Credentials { fsgid: Held::Id(nobody.gid), ..who.clone() };
        let primary = who.fsgid.id().into_iter();
        least.groups = primary.chain(who.groups.iter().copied()).collect();
        let gets_in = |one: &Credentials| settle(&self.explored(one)).0 == Outcome::Allowed;
        let narrow = |least: &mut Credentials, less: Credentials| {
            if gets_in(&less) {
                *least = less;
            }
        };
        let stranger = Credentials { fsuid: Held::Id(nobody.uid), ..least.clone() };
        narrow(&mut least, stranger);
        for capability in who.effective.iter() {
            let effective = least.effective.without(capability);
            let less = Credentials { effective, permitted: effective, ..least.clone() };
            narrow(&mut least, less);
        }
        for gid in least.groups.clone().iter() {
            let groups = least.groups.iter().copied().filter(|other| other != gid).collect();
            let less = Credentials { groups, ..least.clone() };
            narrow(&mut least, less);
        }
        let through = self.through(&self.explored(&least).steps);
        let groups = least.groups.iter().filter_map(|gid| least.namespace.to_inside_gid(*gid)).collect();
        let uid = least.fsuid.id().filter(|uid| *uid != nobody.uid);
        Condition {
            uid: uid.and_then(|uid| least.namespace.to_inside_uid(uid)),
            groups,
            capabilities: least.effective.iter().collect(),
            unless: Vec::new(),
            through,
            actors: Vec::new(),
        }
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

    fn ids(&self, trial: &Trial, unnamed: u32) -> Ids {
        let namespace = &self.actor.credentials[0].namespace;
        let uid =
            (trial.uid != unnamed).then(|| namespace.to_inside_uid(KernelUid::new(trial.uid))).flatten();
        let groups = trial.groups.iter().filter_map(|gid| namespace.to_inside_gid(KernelGid::new(*gid)));
        Ids { uid, groups: groups.collect() }
    }

    pub(super) fn condition(&self, found: &Found, unnamed: u32) -> Condition {
        let Ids { uid, groups } = self.ids(&found.trial, unnamed);
        let capabilities = found.trial.capability.into_iter().collect();
        let unless = found.unless.iter().map(|trial| self.ids(trial, unnamed)).collect();
        let through = self.through(&found.steps);
        Condition { uid, groups, capabilities, unless, through, actors: Vec::new() }
    }

    /// The checks that let it pass and would not let everybody.
    fn through(&self, steps: &[Step]) -> Vec<(Vec<u8>, String)> {
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
        through
    }
}
