//! Changes of files, made by an administrator.

use std::sync::Arc;

use mivask_model::act::{Act, Owner, Verb, quoted};
use mivask_model::glob::Globs;
use mivask_model::ids::{InsideGid, InsideUid, UserNamespace};
use mivask_model::mount::{MountFlags, MountTable, SourceFacts, SourceId};
use mivask_model::personality::{Personality, Squash};
use mivask_rules::decide::decide;
use mivask_rules::explore::explore;
use mivask_rules::lookup::root_credentials;
use mivask_rules::settle::{Outcome, settle};
use mivask_rules::view::Devices;
use mivask_rules::view::View;
use mivask_stage::stage::Stage;

use super::pattern::expanded;
use crate::carry::{Carried, carry_out};

/// Carries `act` out where its actor sees the path, as root with every capability and without regard to read-only
/// mounts. Ids are those the actor sees. What a server exports is changed on the server, which squashes nobody there. An actor
/// who is on another stage changes nothing here.
pub(super) fn administer(stage: &mut Stage, act: &Act, globs: &dyn Globs) -> Result<Vec<Act>, String> {
    if act.verb.only_looks() {
        return Err(format!("`{}` changes nothing", act.verb.word()));
    }
    if !stage.has(&act.actor) {
        return Ok(Vec::new());
    }
    let actor = stage.actor(&act.actor).map_err(|error| error.to_string())?;
    let namespace = actor.credentials.first().map(|who| who.namespace.clone());
    let namespace = namespace.unwrap_or_else(|| Arc::new(UserNamespace::initial()));
    let table = writable(&actor.mounts);
    let act = Act { verb: outside(&act.verb, &namespace)?, ..act.clone() };
    let all = expanded(&stage.storage, &table, &act, globs)?;
    let pattern = all.len() > 1;
    let exports = trusting(stage);
    let done = all.iter().try_for_each(|act| {
        single(stage, &table, act)
            .map_err(|reason| if pattern { format!("{}: {reason}", quoted(&act.path)) } else { reason })
    });
    for (source, facts) in exports {
        stage.storage.source_mut(source).facts = facts;
    }
    done.map(|()| all)
}

/// Lets every export squash nobody, for somebody on the server itself; what was known of each before.
fn trusting(stage: &mut Stage) -> Vec<(SourceId, Arc<SourceFacts>)> {
    let mut before = Vec::new();
    for id in stage.source_ids() {
        let facts = stage.source(id).facts.clone();
        let Personality::Nfs(mut nfs) = facts.personality else { continue };
        nfs.export.squash = Some(Squash::Nobody);
        let trusting = SourceFacts { personality: Personality::Nfs(nfs), ..SourceFacts::clone(&facts) };
        stage.storage.source_mut(id).facts = Arc::new(trusting);
        before.push((id, facts));
    }
    before
}

fn single(stage: &mut Stage, table: &MountTable, act: &Act) -> Result<(), String> {
    let root = root_credentials();
    let explored = explore(|w| {
        let view = View::new(&stage.storage, table, &root, "an administrator", Devices::All);
        decide(&view, &act.verb, &act.path, w)
    });
    let (outcome, effect, depends_on) = settle(&explored);
    match outcome {
        Outcome::Allowed => {}
        Outcome::Denied(errno) => {
            let step = explored.steps.last().map(|step| step.fact.clone()).unwrap_or_default();
            return Err(errno.map_or_else(
                || "what is there is not known".to_owned(),
                |errno| format!("{errno} even for an administrator ({step})"),
            ));
        }
        Outcome::Depends | Outcome::NeverRuns(_) => {
            let fact = depends_on.first().map(|one| one.fact.clone()).unwrap_or_default();
            return Err(format!("it depends on a missing fact: {fact}"));
        }
    }
    match carry_out(stage, table, &UserNamespace::initial(), act, &effect) {
        Carried::Nothing | Carried::Out => Ok(()),
        Carried::Open(reason) => Err(reason.to_string()),
    }
}

fn writable(table: &MountTable) -> MountTable {
    let mut all = MountTable::default();
    for (_, mount) in table.iter() {
        let mut mount = mount.clone();
        mount.flags = mount.flags.without(MountFlags::READ_ONLY);
        all.push(mount);
    }
    all
}

/// The same verb with ids as the host sees them.
fn outside(verb: &Verb, namespace: &UserNamespace) -> Result<Verb, String> {
    let uid = |uid: u32| {
        let kernel = namespace.to_kernel_uid(InsideUid::new(uid));
        kernel.map(|uid| uid.raw()).ok_or_else(|| format!("{uid} has no mapping in the user namespace"))
    };
    let gid = |gid: u32| {
        let kernel = namespace.to_kernel_gid(InsideGid::new(gid));
        kernel.map(|gid| gid.raw()).ok_or_else(|| format!("{gid} has no mapping in the user namespace"))
    };
    let owner = |owner: Owner| -> Result<Owner, String> {
        Ok(Owner { uid: owner.uid.map(uid).transpose()?, gid: owner.gid.map(gid).transpose()? })
    };
    if let Verb::SetsOwner(given) = verb {
        return Ok(Verb::SetsOwner(owner(*given)?));
    }
    if let Verb::SetsLinkOwner(given) = verb {
        return Ok(Verb::SetsLinkOwner(owner(*given)?));
    }
    if let Verb::SetsGroup(given) = verb {
        return Ok(Verb::SetsGroup(gid(*given)?));
    }
    if let Verb::SetsLinkGroup(given) = verb {
        return Ok(Verb::SetsLinkGroup(gid(*given)?));
    }
    if let Verb::SetsAcl(acl) = verb {
        let mut acl = acl.clone();
        for (id, _) in &mut acl.users {
            *id = uid(*id)?;
        }
        for (id, _) in &mut acl.groups {
            *id = gid(*id)?;
        }
        return Ok(Verb::SetsAcl(acl));
    }
    Ok(verb.clone())
}
