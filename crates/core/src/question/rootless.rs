//! What surprises people about engines without root: who is who on the host.

use mivask_model::act::quoted;
use mivask_model::fact::Provenance;
use mivask_model::ids::{InsideUid, KernelUid};
use mivask_model::listed::listed;
use mivask_model::mount::{MountFlags, MountOrigin};
use mivask_model::picked::in_words;
use mivask_stage::namespace::Starter;
use mivask_stage::stage::{Actor, Stage};

/// A warning with what to do about it, and what it is about.
pub(super) struct Surprise {
    pub message: String,
    pub help: String,
    pub from: Provenance,
}

/// Binds of the host in which `actor` is somebody else than who starts the engine.
pub(super) fn surprise(stage: &Stage, actor: &Actor) -> Option<Surprise> {
    let starter = actor.starter.as_deref()?;
    let [(_, identity)] = actor.identity.possible.as_slice() else { return None };
    let [credentials] = actor.credentials.as_slice() else { return None };
    let (inside, outside) = (identity.uid.id()?, credentials.fsuid.id()?);
    if outside.raw() == starter.uid {
        return None;
    }
    let binds: Vec<_> = actor
        .mounts
        .iter()
        .map(|(_, mount)| mount)
        .filter(|mount| mount.origin == MountOrigin::Declared && mount.facts.kind.is_bound())
        .filter(|mount| !mount.flags.has(MountFlags::READ_ONLY))
        .collect();
    let first = binds.first()?;
    let who = starter.word();
    let host = in_words(outside.raw());
    let named: Vec<String> = binds.iter().map(|mount| quoted(&mount.facts.at)).collect();
    let own = binds.iter().find(|mount| {
        let tree = &stage.source(mount.variants[0].source).tree;
        mount.root.is_some_and(|root| tree.inode(root).stored_owner().uid.raw() == starter.uid)
    });
    let is = seen(actor, starter);
    let message = match own {
        Some(own) => format!(
            "{who}'s own {} on the host belongs to {is} in {}, which runs as {inside} ({host} on the host): the owner's bits are not its, and what it makes there is {host}'s",
            own.facts.host_path.as_deref().map_or_else(|| quoted(&own.facts.at), quoted),
            actor.name
        ),
        None => format!(
            "{} runs as {inside}, which is {host} on the host and not {who}: what it makes in {} belongs to {host} there",
            actor.name,
            listed(&named)
        ),
    };
    let group = identity.gid.id().map_or_else(String::new, |gid| format!(",gid={gid}"));
    let help = format!(
        "with Podman `--userns keep-id:uid={inside}{group}` makes it {who}; `podman unshare` lets {who} work on what is there already"
    );
    Some(Surprise { message, help, from: first.facts.from.clone() })
}

/// What the starter is inside.
fn seen(actor: &Actor, starter: &Starter) -> String {
    let namespace = actor.identity.possible.first().map(|(_, identity)| &identity.namespace);
    let inside = namespace.and_then(|namespace| namespace.to_inside_uid(KernelUid::new(starter.uid)));
    match inside {
        Some(uid) if uid == InsideUid::new(0) => "root".to_owned(),
        Some(uid) => uid.to_string(),
        None => "nobody (65534)".to_owned(),
    }
}
