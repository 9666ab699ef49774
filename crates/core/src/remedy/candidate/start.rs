//! What keeps a container from starting, as far as a description mends it.

use mivask_stage::scene::{Scene, Who};
use mivask_stage::stage::Actor;

use super::{Candidate, process};
use crate::change::Process;

/// `runAsNonRoot` with an image's USER by name: the number that the image's accounts have for it.
pub(super) fn candidates(scene: &Scene, actor: &Actor) -> Vec<Candidate> {
    let mut workloads = scene.workloads.iter().filter(|workload| *workload.name == *actor.workload);
    let container = workloads.next().and_then(|workload| {
        workload.containers.iter().find(|one| actor.name.rsplit('/').next() == Some(one.name.as_str()))
    });
    let Some(container) = container else { return Vec::new() };
    let demanded = matches!(&container.who, Who::Kubernetes(security) if security.run_as_user.is_none());
    let image = actor.image.as_deref().filter(|_| demanded).and_then(|name| scene.images.get(name));
    let Some(image) = image.map(|image| &image.identity) else { return Vec::new() };
    let user = image.user.known().and_then(|user| user.as_ref()).map(|user| user.value.as_str());
    let name = user.map(|user| user.split(':').next().unwrap_or_default());
    let line = name.and_then(|name| image.accounts.known()?.user_by_name(name));
    let uid = line.map(|(line, _)| line.uid).filter(|uid| *uid != 0);
    uid.map(|uid| process(&actor.name, Process::Becomes(uid, None))).into_iter().collect()
}
