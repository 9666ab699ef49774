//! From a scene to a stage: what kubelet and runtime do before the process starts.

mod container;
mod defaults;
mod fs_group;
mod host_path;
mod mount_point;
mod prepared;
mod sub_path;
mod volume;

use std::sync::Arc;

use crate::fact::Fact;
use crate::identity::{
    Credentials, IdentityFact, ImageFacts, Refusal, Resolved, kubernetes_identity, plain_identity,
};
use crate::ids::UserNamespace;
use crate::scene::{Container, Scene, Who, Workload};
use crate::stage::{Actor, Stage};

/// Applies every rule of identity and preparation and puts each actor before its mount table.
///
/// Never fails: an actor that cannot start carries a [`Refusal`](crate::identity::Refusal), a fact
/// that nobody told stays unknown.
#[must_use]
pub fn stage(scene: &Scene) -> Stage {
    let mut stage = Stage::default();
    stage.settings = scene.host.settings;
    let host = host_path::host_source(&mut stage, scene);
    for workload in &scene.workloads {
        let prepared = volume::prepare_all(&mut stage, scene, workload, host);
        let first = stage.actors.len();
        for container in &workload.containers {
            let actor = container::actor(&mut stage, scene, workload, container, &prepared);
            stage.actors.push(actor);
        }
        spread_refusals(&mut stage.actors[first..]);
    }
    stage
}

/// A refusal that hits the whole pod hits every container of it.
fn spread_refusals(actors: &mut [Actor]) {
    let refusals = actors.iter().filter_map(Actor::refusal);
    let Some(whole) = refusals.into_iter().find(|refusal| refusal.whole_pod).cloned() else {
        return;
    };
    for actor in actors {
        actor.blocked = Some(whole.clone());
        actor.identity.refusal = None;
    }
}

/// Who `container` is, with the same in kernel ids.
fn identify(scene: &Scene, workload: &Workload, container: &Container) -> (Resolved, Vec<Credentials>) {
    let image_name = image_name(container);
    let unknown = ImageFacts::default();
    let image = container.image.as_ref().and_then(|image| scene.images.get(&image.value));
    let image = image.map_or(&unknown, |image| &image.identity);
    let mut resolved = match &container.who {
        Who::Kubernetes(security) => kubernetes_identity(&workload.security, security, image, &image_name),
        Who::Plain(plain) => plain_identity(plain, image, &image_name),
    };
    if let Some(namespace) = user_namespace(scene, container) {
        enter_namespace(&mut resolved, namespace);
    }
    let credentials =
        resolved.possible.iter().filter_map(|(_, identity)| Credentials::of(identity)).collect();
    (resolved, credentials)
}

/// The user namespace of a container: its own, else the one the host puts all containers into.
fn user_namespace<'a>(scene: &'a Scene, container: &'a Container) -> Option<&'a Fact<Arc<UserNamespace>>> {
    let own = match &container.who {
        Who::Plain(plain) => plain.user_namespace.as_ref(),
        Who::Kubernetes(_) => None,
    };
    own.or(scene.host.user_namespace.as_ref())
}

/// Puts every possible identity into `namespace`; one whose user or groups it does not map cannot start.
fn enter_namespace(resolved: &mut Resolved, namespace: &Fact<Arc<UserNamespace>>) {
    let value = namespace.value.to_string();
    resolved.facts.push(IdentityFact { field: "user-namespace", value, from: namespace.from.clone() });
    for (_, identity) in &mut resolved.possible {
        identity.namespace = namespace.value.clone();
    }
    let first = resolved.possible.first().cloned();
    resolved.possible.retain(|(_, identity)| Credentials::of(identity).is_some());
    if resolved.possible.is_empty() {
        let ids = first.as_ref().map(|(_, identity)| format!("{}:{}", identity.uid, identity.gid));
        let ids = ids.unwrap_or_default();
        let reason =
            format!("{ids} or one of its groups has no mapping in its user namespace ({})", namespace.value);
        let from = namespace.from.clone();
        resolved.refusal.get_or_insert(Refusal { class: "start refused", reason, from, whole_pod: false });
        resolved.possible.extend(first);
    }
}

/// The image's name for words.
fn image_name(container: &Container) -> Arc<str> {
    match &container.image {
        Some(image) => Arc::from(image.value.as_str()),
        None => Arc::from(format!("of container {}", container.name)),
    }
}
