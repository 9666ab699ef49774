//! From a scene to a stage: what kubelet and runtime do before the process starts.

mod api_volume;
mod apparmor;
mod asked;
mod attach;
mod backed;
mod bind;
mod container;
mod container_mounts;
mod context;
mod declared;
mod default_sources;
mod default_trees;
mod defaults;
mod drawn;
mod engine;
mod fs_group;
mod given_files;
mod group_step;
mod group_variants;
mod guest;
mod host_actor;
mod host_path;
mod image;
mod joined;
mod kubelet_labels;
mod lent;
mod mount_point;
mod mounted_accounts;
mod nested;
mod path_parts;
mod person;
mod picked;
mod prepared;
mod program;
mod reach;
mod rights;
mod selinux;
mod shared;
mod shields;
mod shown;
mod space;
mod sub_path;
mod take_over;
mod tree_cache;
mod usual_policy;
mod volume;
mod working_directory;

use drawn::Drawn;
pub use drawn::draws_anew;
pub use guest::admit;
pub use host_actor::{HOST, stage_with_host};
pub use usual_policy::read_by as readable_policy;

use mivask_model::refusal::RefusalClass;
use std::borrow::Cow;
use std::sync::Arc;

use crate::actor_names::ActorNames;
use crate::builder::built;
pub use crate::builder::{built as with_builds, image as built_image};
use crate::identity::GroupName;
use crate::identity::{
    ImageFacts, Knowledge, Resolved, kubernetes_identity, plain_identity, process_identity,
};
use crate::namespace::{Starter, UnknownStarter};
use crate::runtime::Flavour;
use crate::scene::{Container, Scene, Who, Workload};
use crate::sharing::Sharing;
use crate::stage::{Actor, Stage};
use container::WorkloadState;
use context::Context;
use mivask_model::accounts::Accounts;
use mivask_model::credentials::Credentials;
use mivask_model::ids::KernelOwner;
use mivask_model::mount::{Source, SourceId};
use mivask_model::refusal::Refusal;
use mounted_accounts::{MountedAccounts, mounted_accounts};
use space::{root_of, space_of};
use tree_cache::TreeCache;

/// Applies every rule of identity and preparation and puts each actor before its mount table.
///
/// Never fails: an actor that cannot start carries a [`Refusal`], a fact
/// that is not given stays unknown.
#[must_use]
pub fn stage(scene: &Scene) -> Stage {
    staged(scene, |_| {})
}

/// The scene on one stage; `more` adds those who belong to no workload. Guests come last.
fn staged(scene: &Scene, more: impl FnOnce(&mut Stage)) -> Stage {
    let sharing = Sharing::of(&scene.workloads);
    let mut staging = Staging::new(scene, Arc::new(scene.actor_names()), Arc::new(sharing));
    let mut stage = staging.empty();
    let host = staging.host.take().map(|host| stage.add_source(host));
    let mut guests = Vec::new();
    for workload in &scene.workloads {
        guests.extend(staging.add(&mut stage, workload, host));
    }
    more(&mut stage);
    guests.extend(guest::on_host(&mut stage, scene));
    Arc::make_mut(&mut stage.actors).extend(guests);
    stage
}

/// The workloads of a scene one after the other, each on a stage of its own: what one takes is free before the next.
///
/// What an earlier one makes on the host is there for the later ones.
#[derive(Debug)]
pub struct Staging<'a> {
    scene: Cow<'a, Scene>,
    actor_names: Arc<ActorNames>,
    sharing: Arc<Sharing>,
    host: Option<Source>,
    cache: TreeCache,
    actors: usize,
    /// Who starts the engine, where that is not root.
    starter: Result<Option<Starter>, UnknownStarter>,
    /// What stands for levels that engines draw.
    drawn: Drawn,
}

impl<'a> Staging<'a> {
    /// Begins before the first workload; `actor_names` and `sharing` are those of all workloads: the ones that `scene` holds
    /// itself do not count.
    #[must_use]
    pub fn new(scene: &'a Scene, actor_names: Arc<ActorNames>, sharing: Arc<Sharing>) -> Self {
        let host = host_path::host_source(scene);
        let starter = scene.host.starter();
        let cache = TreeCache::default();
        let drawn = Drawn::of(scene, &sharing);
        let scene = space::remapped(built(scene));
        Self { scene, actor_names, sharing, host, cache, actors: 0, starter, drawn }
    }

    /// The next workload on a stage of its own.
    pub fn next(&mut self, workload: &Workload) -> Stage {
        let mut stage = self.empty();
        let host = self.host.take().map(|host| stage.add_source(host));
        let guests = self.add(&mut stage, workload, host);
        Arc::make_mut(&mut stage.actors).extend(guests);
        self.host = host.map(|host| stage.source(host).clone());
        stage
    }

    /// Those in the place of root on the host, on a stage of their own behind all workloads.
    #[must_use]
    pub fn on_host(&mut self) -> Stage {
        let mut stage = self.empty();
        if let Some(host) = self.host.take() {
            stage.add_source(host);
        }
        let guests = guest::on_host(&mut stage, &self.scene);
        Arc::make_mut(&mut stage.actors).extend(guests);
        stage
    }

    fn empty(&self) -> Stage {
        let settings = self.scene.host.settings;
        let mut stage = Stage::default();
        (stage.storage.settings, stage.actor_names, stage.first) =
            (settings, self.actor_names.clone(), self.actors);
        stage
    }

    /// Puts a workload on the stage; those in the places of its containers come back.
    fn add(&mut self, stage: &mut Stage, given: &Workload, host: Option<SourceId>) -> Vec<Actor> {
        let scene = &*self.scene;
        let cache = &mut self.cache;
        let workload = &*assigned(scene, given);
        let runtime = scene.runtime_of(workload);
        // A daemon whose containers live in a user namespace makes what is missing as that namespace's root; a
        // kubelet makes it as the host's.
        let creator = match workload.flavour {
            Flavour::Compose => engine_root(scene, &self.starter),
            Flavour::Pod | Flavour::Scene | Flavour::Bundle => KernelOwner::ROOT,
        };
        let sharing = &*self.sharing;
        let profile = runtime.profile();
        let starter = if runtime.has_starter() { &self.starter } else { &Ok(None) };
        let first = self.actors;
        let context = Context {
            scene,
            workload,
            first,
            sharing,
            runtime,
            profile,
            starter,
            host,
            entering: false,
            creator,
            drawn: &self.drawn,
        };
        cache.next_workload();
        let volumes = volume::prepare_all(stage, &context, cache);
        let mut state = WorkloadState { volumes, cache, filled: container_mounts::Filled::default() };
        let first = stage.actors.len();
        for container in &workload.containers {
            // Where an input changed while it was read a second time, the container's own name has to do.
            let known = self.actor_names.names().get(self.actors).cloned();
            let name = known.unwrap_or_else(|| Arc::from(container.name.as_str()));
            self.actors += 1;
            let actor = container::actor(stage, &context, container, &mut state, (runtime, name));
            Arc::make_mut(&mut stage.actors).push(actor);
        }
        spread_refusals(&mut Arc::make_mut(&mut stage.actors)[first..]);
        guest::of(stage, &context, &stage.actors[first..])
    }
}

/// The workload with the ids that its platform gives to pods that name none.
fn assigned<'a>(scene: &Scene, given: &'a Workload) -> Cow<'a, Workload> {
    let mut workload = Cow::Borrowed(given);
    let ids = &scene.assigned;
    let any = ids.user.is_some() || ids.group.is_some() || ids.filesystem_group.is_some();
    if any && given.flavour == Flavour::Pod {
        let security = &mut workload.to_mut().security;
        security.run_as_user = security.run_as_user.take().or_else(|| scene.assigned.user.clone());
        security.run_as_group = security.run_as_group.take().or_else(|| scene.assigned.group.clone());
        security.fs_group = security.fs_group.take().or_else(|| scene.assigned.filesystem_group.clone());
    }
    workload
}

/// Who an engine's daemon is on the host: root, the root of the namespace that it puts its containers into, or who starts it.
fn engine_root(scene: &Scene, starter: &Result<Option<Starter>, UnknownStarter>) -> KernelOwner {
    match starter {
        Ok(Some(starter)) => root_of(Some(&starter.namespace)),
        Ok(None) | Err(_) => root_of(scene.host.user_namespace.as_ref().map(|namespace| &*namespace.value)),
    }
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
fn identify(context: &Context<'_>, container: &Container) -> (Resolved, Vec<Credentials>) {
    let scene = context.scene;
    let profile = context.profile;
    let image_name = image_name(container);
    let given = container.image.as_ref().and_then(|image| scene.images.get(&image.value));
    let mut image = given.map_or_else(ImageFacts::default, |image| image.identity.clone());
    let mounted = mounted_accounts(context, container);
    image.covered = mounted.is_some();
    let captured = profile.identity.captures_group_names && mounted == Some(MountedAccounts::Unread);
    let mounted = mounted.filter(|_| profile.identity.reads_mounted_accounts);
    let replaced = mounted == Some(MountedAccounts::Unread);
    match mounted {
        Some(MountedAccounts::Unread) => image.accounts = Knowledge::Unknown,
        Some(MountedAccounts::None) => image.accounts = Knowledge::Known(Accounts::default()),
        None => {}
    }
    let space = space_of(context, container);
    let terms = space::terms(context, &space);
    let plain = match &container.who {
        Who::Plain(plain) => Some(&**plain),
        Who::Kubernetes(_) | Who::Process(_) | Who::Running(_) => None,
    };
    let mut resolved = match &container.who {
        Who::Kubernetes(security) => {
            kubernetes_identity(&context.workload.security, security, &image, &image_name, profile)
        }
        Who::Plain(plain) => plain_identity(plain, &image, &image_name, profile, &terms),
        Who::Process(process) => process_identity(process, &image.accounts, profile),
        Who::Running(resolved) => (**resolved).clone(),
    };
    if replaced {
        let text = "the account files that are mounted over the image's are those looked into, and they were not read";
        resolved.assumptions.push(text.into());
    }
    if let (Some(reason), Some(_)) =
        (added_by_name(container), mounted.filter(|_| profile.identity.reads_mounted_accounts))
    {
        let from = container.from.clone();
        resolved.refusal.get_or_insert(Refusal {
            class: RefusalClass::StartRefused,
            reason,
            from,
            whole_pod: false,
        });
    }
    if captured {
        let text = "no group in the account files that are mounted over the image's is named like the number of one it has";
        resolved.assumptions.push(text.into());
    }
    resolved.assumptions.extend(given.into_iter().flat_map(|image| image.assumptions.iter().cloned()));
    resolved.assumptions.extend(container.assumes.iter().cloned());
    space::enter(&mut resolved, &space, (plain, &terms), &container.from);
    too_many_groups(&mut resolved, container);
    resolved.facts.shrink_to_fit();
    let credentials =
        resolved.possible.iter().filter_map(|(_, identity)| Credentials::of(identity)).collect();
    (resolved, credentials)
}

/// Why Podman refuses a group that is added by name where other account files are mounted: it finds none in either.
fn added_by_name(container: &Container) -> Option<String> {
    let Who::Plain(plain) = &container.who else { return None };
    let name = plain.groups.iter().find_map(|group| match &group.value {
        GroupName::Name(name) if name != "keep-groups" && name.parse::<u32>().is_err() => Some(name),
        GroupName::Name(_) | GroupName::Number(_) => None,
    })?;
    Some(format!(
        "the group `{name}` is looked up in the account files that are mounted over the image's, which fails"
    ))
}

/// Supplementary groups of a process at most (`NGROUPS_MAX`, setgroups(2)).
const MOST_GROUPS: usize = 65_536;

fn too_many_groups(resolved: &mut Resolved, container: &Container) {
    let fewest = resolved.possible.iter().map(|(_, identity)| identity.groups.len()).min();
    if let Some(count) = fewest.filter(|count| *count > MOST_GROUPS) {
        resolved.refusal.get_or_insert(Refusal {
            class: RefusalClass::StartError,
            reason: format!("it has {count} groups, and no process can have more than {MOST_GROUPS}"),
            from: container.from.clone(),
            whole_pod: false,
        });
    }
}

/// The image's name for words.
fn image_name(container: &Container) -> Arc<str> {
    match &container.image {
        Some(image) => Arc::from(image.value.as_str()),
        None => Arc::from(format!("{}{}", image::NAMELESS, container.name)),
    }
}
