//! Somebody else in the place of an actor: another user there, or what a program that is started makes of whoever starts it.

use std::borrow::Cow;
use std::sync::Arc;

use mivask_model::act::Subject;
use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::Credentials;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::ids::{InsideUid, KernelOwner};
use mivask_model::mount::MountTable;

use super::context::Context;
use super::drawn::Drawn;
use super::host_actor::{self, HOST};
use super::space::{self, keeps_groups};
use super::{identify, person, program};
use crate::identity::{IdentityFact, IdentityField, PlainIdentity, Resolved, set_in_words};
use crate::runtime::Entering;
use crate::scene::{Container, Scene, Who};
use crate::sharing::Sharing;
use crate::stage::{Actor, Stage};

/// Puts the guest of this name on the stage as it is now, anew where it was there; nobody where its place is not there.
pub fn admit(stage: &mut Stage, scene: &Scene, name: &str) {
    let scene = &*space::remapped(Cow::Borrowed(scene));
    let subject = Subject::named(name);
    let Ok(own) = stage.actor(&subject.actor).cloned() else { return };
    let guest = if *own.workload == *HOST && *own.container == *HOST {
        person(stage, scene, own.mounts, &subject)
    } else {
        let found = scene.workloads.iter().filter(|workload| *workload.name == *own.workload);
        let containers =
            found.flat_map(|workload| workload.containers.iter().map(move |container| (workload, container)));
        let mut named = containers.filter(|(_, container)| *container.name == *own.container);
        let Some((workload, container)) = named.next() else { return };
        let sharing = Sharing::default();
        let drawn = Drawn::of(scene, &sharing);
        let runtime = scene.runtime_of(workload);
        let profile = runtime.profile();
        let starter = &if runtime.has_starter() { scene.host.starter() } else { Ok(None) };
        let (sharing, creator) = (&sharing, KernelOwner::ROOT);
        let before = scene.workloads.iter().take_while(|one| one.name != workload.name);
        let first = before.map(|one| one.containers.len()).sum();
        let context = Context {
            scene,
            workload,
            first,
            sharing,
            runtime,
            profile,
            starter,
            host: None,
            entering: true,
            creator,
            drawn: &drawn,
        };
        actor(stage, (&context, container), &own, &subject)
    };
    let actors = Arc::make_mut(&mut stage.actors);
    actors.retain(|actor| !(actor.guest && *actor.name == *name));
    actors.push(guest);
}

/// Every guest in the place of one of `actors`, which are those of one workload.
pub(super) fn of(stage: &Stage, context: &Context<'_>, actors: &[Actor]) -> Vec<Actor> {
    let mut all = Vec::new();
    if context.scene.guests.is_empty() {
        return all;
    }
    for (own, container) in actors.iter().zip(&context.workload.containers) {
        all.extend(
            subjects(context.scene, own).map(|subject| actor(stage, (context, container), own, &subject)),
        );
    }
    all
}

/// Every guest in the place of root on the host.
pub(super) fn on_host(stage: &mut Stage, scene: &Scene) -> Vec<Actor> {
    let subjects: Vec<Subject> = scene.guests.iter().map(|name| Subject::named(name)).collect();
    let mut meant =
        subjects.into_iter().filter(|subject| subject.actor == HOST && subject.is_guest()).peekable();
    // A container that is called so keeps its name.
    if meant.peek().is_none()
        || stage.actors.iter().any(|actor| *actor.container == *HOST && *actor.workload != *HOST)
    {
        return Vec::new();
    }
    let mounts = host_actor::mounts(stage, scene);
    meant.map(|subject| person(stage, scene, mounts.clone(), &subject)).collect()
}

/// Somebody on the host, root where no user is named.
fn person(stage: &Stage, scene: &Scene, mounts: MountTable, subject: &Subject) -> Actor {
    let user = subject.user.as_deref().unwrap_or("0");
    let mut guest = person::guest(scene, mounts, user, subject.name().into());
    if let Some(path) = &subject.program {
        program::run(stage, &mut guest, path);
    }
    guest
}

/// Every one of the scene's guests who is in the place of `actor`.
pub(super) fn subjects<'a>(scene: &'a Scene, actor: &'a Actor) -> impl Iterator<Item = Subject> + use<'a> {
    scene.guests.iter().filter_map(|name| {
        let mut subject = Subject::named(name);
        let full = subject.actor.split_once('/');
        let meant = subject.actor == "*"
            || *subject.actor == *actor.name
            || *subject.actor == *actor.container
            || full == Some((&*actor.workload, &*actor.container));
        (subject.is_guest() && meant).then(|| {
            if subject.actor == "*" {
                subject.actor = actor.name.to_string();
            }
            subject
        })
    })
}

/// The actor that `subject` is in the place of `own`.
pub(super) fn actor(
    stage: &Stage,
    (context, container): (&Context<'_>, &Container),
    own: &Actor,
    subject: &Subject,
) -> Actor {
    let mut guest = beside(own, subject);
    if let Some(user) = subject.user.as_ref().filter(|_| container.on_host) {
        guest = person::guest(context.scene, own.mounts.clone(), user, guest.name);
    } else if let Some(user) = &subject.user {
        guest.identity = entering(context, container, own, user);
        guest.credentials = credentials(&guest.identity);
    }
    if let Some(path) = &subject.program {
        program::run(stage, &mut guest, path);
    }
    guest
}

/// Somebody without an identity of its own yet, who sees what `own` sees.
fn beside(own: &Actor, subject: &Subject) -> Actor {
    Actor {
        name: subject.name().into(),
        // Where the container never runs there is no place to be in.
        blocked: own.refusal().cloned(),
        guest: true,
        ..own.clone()
    }
}

fn credentials(identity: &Resolved) -> Vec<Credentials> {
    identity.possible.iter().filter_map(|(_, identity)| Credentials::of(identity)).collect()
}

/// Who `user` is in a container that runs.
fn entering(context: &Context<'_>, container: &Container, own: &Actor, user: &str) -> Resolved {
    let how = context.profile.entering;
    let from = Provenance::rule("who is to act there");
    let mut plain = match &container.who {
        Who::Plain(plain) => (**plain).clone(),
        Who::Kubernetes(_) | Who::Process(_) | Who::Running(_) => PlainIdentity::default(),
    };
    let own_user = plain.user.replace(Fact::new(user.to_owned(), from));
    let same = own_user.is_some_and(|own| own.value == *user);
    (plain.effective, plain.filesystem_group) = (None, None);
    // Those of who starts the engine stay with every process (`run.oci.keep_original_groups`).
    let kept = how == Entering::AccountAlone && keeps_groups(&plain);
    if how != Entering::LikeAtStart && !kept {
        plain.groups.clear();
    }
    let other = Container { who: Who::Plain(Box::new(plain)), ..container.clone() };
    let (mut resolved, _) = identify(&Context { entering: true, ..*context }, &other);
    if how == Entering::AccountAlone && !kept {
        without_primary_group(&mut resolved);
    }
    let Some((_, base)) = own.identity.possible.first() else { return resolved };
    let described = matches!(container.who, Who::Plain(_)) && how != Entering::FromTheNode;
    for (_, identity) in &mut resolved.possible {
        // Maps and limits are the place's; whoever comes is in it.
        identity.namespace = base.namespace.clone();
        identity.no_new_privileges = base.no_new_privileges;
        identity.umask = base.umask;
        let cut = how == Entering::LikeAtStart && base.no_new_privileges;
        // Podman gives what was added to the user that it was added for.
        let lost = how == Entering::AccountAlone && !same && !identity.uid.is(InsideUid::new(0));
        if !described || lost {
            identity.bounding = base.bounding;
            (identity.ambient, identity.inheritable) = (CapabilitySet::EMPTY, CapabilitySet::EMPTY);
            identity.effective =
                if identity.uid.is(InsideUid::new(0)) { base.bounding } else { CapabilitySet::EMPTY };
        }
        if cut && identity.uid.is(InsideUid::new(0)) {
            identity.effective = identity.effective.intersection(base.permitted);
        }
        identity.permitted = identity.effective;
    }
    if how == Entering::FromTheNode {
        let words = if base.no_new_privileges {
            "whoever is there as another user is started from the node: under no-new-privileges no program in the container \
             changes users"
        } else {
            "whoever is there as another user has the groups of its account, as after a login, and as root what the bounding \
             set allows"
        };
        resolved.assumptions.push(Arc::from(words));
    }
    say_effective(&mut resolved);
    resolved
}

/// What is listed is what the group file lists.
fn without_primary_group(resolved: &mut Resolved) {
    for (_, identity) in &mut resolved.possible {
        let own = identity.gid;
        let twice = identity.groups.iter().filter(|gid| **gid == own).count();
        if let Some(at) = identity.groups.iter().position(|gid| *gid == own)
            && twice == 1
        {
            identity.groups.remove(at);
        }
    }
}

fn say_effective(resolved: &mut Resolved) {
    let mut sets = resolved.possible.iter().map(|(_, identity)| identity.effective);
    let Some(first) = sets.next().filter(|first| sets.all(|set| set == *first)) else { return };
    resolved.facts.retain(|fact| fact.field != IdentityField::Effective);
    resolved.facts.push(IdentityFact {
        field: IdentityField::Effective,
        value: set_in_words(first),
        from: Provenance::rule("what execve leaves of it"),
    });
}
