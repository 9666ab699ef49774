//! One container: its root, its mounts in order, and who it is.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::credentials::Credentials;
use mivask_model::fact::Fact;
use mivask_model::ids::{KernelOwner, MountIds, UserNamespace};
use mivask_model::mount::{MountFlags, MountOrigin, MountTable, Preparation};
use mivask_model::mount_kind::MountKind;
use mivask_model::refusal::Refusal;
use mivask_model::tree::Tree;
use mivask_model::unmodelled::Unmodelled;

use super::bind::Bound;
use super::container_mounts::{Attachment, ContainerMounts, Filled};
use super::context::Context;
use super::defaults::{self, DefaultIds, DefaultMount};
use super::image::{image_source, renumbered, with_accounts, with_added, with_root};
use super::lent::Lending;
use super::path_parts::{depth, same_path};
use super::person;
use super::prepared::{Prepared, Ready};
use super::space::{root_of, space_of};
use super::tree_cache::TreeCache;
use super::{apparmor, identify, image_name, picked, program, selinux};
use crate::identity::Resolved;
use crate::runtime::{Flavour, Runtime};
use crate::scene::{Container, VolumeMount};
use crate::stage::{Actor, Stage};

/// What containers of one workload share while they are made, one after the other.
pub(super) struct WorkloadState<'a> {
    pub volumes: BTreeMap<String, Ready>,
    pub cache: &'a mut TreeCache,
    pub filled: Filled,
}

/// The actor that `container` becomes.
pub(super) fn actor(
    stage: &mut Stage,
    context: &Context<'_>,
    container: &Container,
    state: &mut WorkloadState<'_>,
    (runtime, name): (Runtime, Arc<str>),
) -> Actor {
    if container.on_host {
        let mounts = state.cache.host_mounts(stage, context.scene);
        return person::actor(context.scene, container, mounts, name);
    }
    let (mut identity, credentials) = identify(context, container);
    // What the runtime itself provides belongs to the namespace's root: its ids are shifted with it.
    let space = space_of(context, container);
    let namespace = space.namespace.as_ref();
    let own_ids = namespace.map_or_else(MountIds::default, |namespace| ids_of(&namespace.value));
    let storage_ids = storage_ids(context, namespace, &own_ids);
    let image = container.image.as_ref().and_then(|image| context.scene.images.get(&image.value));
    let mut mounts = ContainerMounts {
        inside: inside(&identity),
        process: only_owner(&credentials),
        creator: root_of(namespace.map(|namespace| &*namespace.value)),
        image,
        image_table: MountTable::default(),
        stage,
        context,
        container,
        filled: &mut state.filled,
        mounts: MountTable::default(),
        blocked: container.refusal.clone(),
        needs: Vec::new(),
        assumptions: Vec::new(),
        unmodelled: Vec::new(),
        own_namespace: space.own,
        own_ids,
        storage_ids,
    };
    mounts.made(&state.volumes, state.cache, runtime);
    let confinement = selinux::of(context, container);
    let blocked = mounts.blocked.or_else(|| of_whole_pod(&state.volumes)).or(confinement.refusal.clone());
    identity.assumptions.append(&mut mounts.assumptions);
    state.cache.share(mounts.stage, &mut mounts.mounts);
    let picked = picked::matters(mounts.stage, context, &mounts.mounts, &space);
    identity.facts.extend(confinement.fact(container));
    let (profile, own_profile) = apparmor::of(context, container);
    let found = [space.unmodelled.or(picked), confinement.unmodelled, own_profile];
    let mut actor = Actor {
        name,
        workload: Arc::from(context.workload.name.as_str()),
        container: Arc::from(container.name.as_str()),
        role: container.role,
        image: container.image.as_ref().map(|image| image.value.as_str().into()),
        identity,
        credentials,
        mounts: mounts.mounts,
        all_devices: container.privileged,
        unmodelled: unfollowed(container, found, mounts.unmodelled),
        confined: confinement.confined,
        profile,
        needs: mounts.needs,
        blocked,
        runtime,
        starter: context.starter_of().0.map(|starter| Arc::new(starter.clone())),
        guest: false,
        from: container.from.clone(),
    };
    program::follow(stage, &mut actor, container, image);
    actor
}

/// Who owns what the process makes, where that is settled.
fn only_owner(credentials: &[Credentials]) -> Option<KernelOwner> {
    let [one] = credentials else { return None };
    Some(KernelOwner { uid: one.fsuid.id()?, gid: one.fsgid.id()? })
}

/// What no rule follows: what the description asks for itself, what was found here, and what its mounts bring.
fn unfollowed(
    container: &Container,
    found: [Option<Unmodelled>; 3],
    of_mounts: Vec<Unmodelled>,
) -> Vec<Unmodelled> {
    container.unmodelled.iter().cloned().chain(found.into_iter().flatten()).chain(of_mounts).collect()
}

/// A cluster holds the whole pod back, an engine only the container that mounts it.
fn of_whole_pod(volumes: &BTreeMap<String, Ready>) -> Option<Refusal> {
    let mut shared = volumes.values().filter_map(|volume| match volume {
        Ready::Shared(volume) => volume.blocked.clone(),
        Ready::Anonymous | Ready::Tmpfs(_) => None,
    });
    shared.find(|refusal| refusal.whole_pod)
}

/// The ids of the engine's storage: a remapped one's own, also for a container that it leaves out of its namespace.
fn storage_ids(
    context: &Context<'_>,
    own: Option<&Fact<Arc<UserNamespace>>>,
    own_ids: &MountIds,
) -> MountIds {
    let inside = own.is_some_and(|own| !own.value.uids.is_identity());
    let of_engine = context.scene.host.user_namespace.as_ref().filter(|_| !inside);
    of_engine.map_or_else(|| own_ids.clone(), |of_engine| ids_of(&of_engine.value))
}

fn ids_of(namespace: &UserNamespace) -> MountIds {
    MountIds { uids: namespace.uids.clone(), gids: namespace.gids.clone() }
}

/// The process's user and group inside, each where every possibility has the same.
fn inside(identity: &Resolved) -> (Option<u32>, Option<u32>) {
    let same = |ids: Vec<Option<u32>>| {
        let first = ids.first().copied().flatten();
        first.filter(|_| ids.iter().all(|id| *id == first))
    };
    let possible = identity.possible.iter().map(|(_, one)| one);
    let users = possible.clone().map(|one| one.uid.id().map(|id| id.raw()));
    let groups = possible.map(|one| one.gid.id().map(|id| id.raw()));
    (same(users.collect()), same(groups.collect()))
}

enum Wanted<'a> {
    Declared(&'a VolumeMount),
    Default(Box<DefaultMount>),
    /// A `VOLUME` of the image.
    Image(&'a Fact<Vec<u8>>),
    /// One of another container's image.
    Lent(Lending),
}

impl ContainerMounts<'_> {
    /// What keeps it from starting before anything is mounted, then every mount.
    fn made(&mut self, volumes: &BTreeMap<String, Ready>, cache: &mut TreeCache, runtime: Runtime) {
        self.refuses_privileges();
        let of_image = || self.image.and_then(|image| image.failure.clone());
        let blocked = self.blocked.take().or_else(of_image);
        self.blocked = blocked.or_else(|| cache.joins(self.context, self.container));
        self.all(volumes, cache, runtime);
        self.mounts.close();
    }

    /// Every mount, and the working directory.
    fn all(&mut self, volumes: &BTreeMap<String, Ready>, cache: &mut TreeCache, runtime: Runtime) {
        let container = self.container;
        let mut declared: Vec<&VolumeMount> = container.mounts.iter().collect();
        // A mount at `/` is the root itself, so it comes before the default mounts that go into it.
        let whole =
            declared.iter().position(|mount| depth(&mount.at.value) == 0).map(|at| declared.remove(at));
        self.root(whole, volumes, cache);
        self.working_directory_of_image();
        let mut wanted: Vec<(usize, Wanted<'_>)> =
            declared.iter().map(|mount| (depth(&mount.at.value), Wanted::Declared(mount))).collect();
        let taken = |at: &[u8]| declared.iter().any(|mount| same_path(&mount.at.value, at));
        if runtime != Runtime::Bare {
            for default in defaults::mounts(self.stage, cache, self.context, (container, self.inside)) {
                // What the description mounts at the same place replaces the runtime's own mount: both would be
                // stacked otherwise.
                if !taken(&default.at) {
                    let rank = if default.first { 0 } else { depth(&default.at) };
                    wanted.push((rank, Wanted::Default(Box::new(default))));
                }
            }
        }
        if matches!(self.context.workload.flavour, Flavour::Pod | Flavour::Compose) {
            let own = self.image.map(|image| image.volumes.as_slice()).unwrap_or_default();
            // A VOLUME of the image is an anonymous volume only where nothing else is mounted.
            let left = own.iter().filter(|volume| !taken(&volume.value));
            wanted.extend(left.map(|volume| (depth(&volume.value), Wanted::Image(volume))));
            let lent = self.lent_by_images().into_iter().filter(|lent| !taken(&lent.at.value));
            // What another container lends comes before what the image would have made.
            let lent: Vec<Lending> = lent.collect();
            wanted.retain(|(_, wanted)| match wanted {
                Wanted::Image(volume) => !lent.iter().any(|lent| same_path(&volume.value, &lent.at.value)),
                Wanted::Declared(_) | Wanted::Default(_) | Wanted::Lent(_) => true,
            });
            wanted.extend(lent.into_iter().map(|lent| (depth(&lent.at.value), Wanted::Lent(lent))));
        }
        // What the runtime needs comes first, then outer mounts before inner ones, whatever the description's
        // order; a bundle lists its mounts in the order they are made.
        if self.context.workload.flavour != Flavour::Bundle {
            wanted.sort_by_key(|(rank, _)| *rank);
        }
        for (_, wanted) in &wanted {
            match wanted {
                Wanted::Declared(mount) => self.declared(mount, volumes),
                Wanted::Default(default) => self.default(default),
                Wanted::Image(volume) => self.image_volume(volume),
                Wanted::Lent(lent) => self.lent(lent),
            }
        }
        self.given_files();
        self.working_directory();
        self.shields(cache);
    }

    /// The root: the image, or the volume that is mounted at `/`.
    fn root(
        &mut self,
        whole: Option<&VolumeMount>,
        volumes: &BTreeMap<String, Ready>,
        cache: &mut TreeCache,
    ) {
        let container = self.container;
        let read_only = if container.read_only_root { MountFlags::READ_ONLY } else { MountFlags::default() };
        if let Some(mount) = whole
            && let Some(Ready::Shared(volume)) = volumes.get(&mount.volume.value)
        {
            let Some(Bound { flags, .. }) = self.bound(mount, volume) else { return };
            let root = volume.root;
            let from = &mount.at.from;
            let ids = &mount.ids;
            let at = &b"/"[..];
            let origin = MountOrigin::Root;
            return self.push(None, &Attachment { at, volume, root, flags, origin, from, ids });
        }
        let name = image_name(container);
        let mut source = image_source(self.stage, self.context.scene, &name);
        let (root, added) = (self.profile().root_directory, self.profile().added);
        if let Some(root) = root {
            let key = format!("root {:o} {name}", root.mode);
            source.tree = cache.tree(key, || with_added(with_root(&source.tree, root), added));
        }
        if self.profile().makes_accounts && self.names_a_user() {
            let mode = if container.read_only_root { 0o644 } else { 0o600 };
            source.tree =
                cache.tree(format!("accounts {mode:o} {name}"), || with_accounts(&source.tree, mode));
        }
        if self.is_left_out() {
            source.tree = Arc::new(renumbered(&source.tree, &self.renumbering()));
        }
        let source = self.stage.add_source(source);
        let from = container.image.as_ref().map_or(&container.from, |image| &image.from);
        let volume = Prepared::single(source, MountKind::Image, Preparation::default());
        let root = Some(Tree::ROOT);
        let origin = MountOrigin::Root;
        // An engine shifts the files of an image for the namespace; those of a bundle are as they are stored.
        let bundle = self.context.workload.flavour == Flavour::Bundle;
        // Where a remapped engine leaves the container out of its namespace, that is a matter of numbers on disk alone.
        let ids = &if bundle || self.is_left_out() { MountIds::default() } else { self.own_ids.clone() };
        self.push(None, &Attachment { at: b"/", volume: &volume, root, flags: read_only, origin, from, ids });
        // Volumes are filled from the image as it was before anything was mounted.
        self.image_table.push(self.mounts.get(MountTable::ROOT).clone());
    }

    /// The volume as this container gets it at `at`: filled or made where that is its own.
    pub(super) fn ready(
        &mut self,
        ready: &Ready,
        (name, at): (&str, &Fact<Vec<u8>>),
        no_copy: bool,
    ) -> Option<Prepared> {
        match ready {
            Ready::Shared(volume) => {
                let mut volume = volume.clone();
                self.fill(&mut volume, at, no_copy);
                Some(volume)
            }
            Ready::Anonymous => {
                let mut volume = self.anonymous(name, at);
                self.fill(&mut volume, at, no_copy);
                Some(volume)
            }
            Ready::Tmpfs(asked) => self.tmpfs(asked, at),
        }
    }

    fn image_volume(&mut self, volume: &Fact<Vec<u8>>) {
        let name = format!("{}:{}", self.container.name, String::from_utf8_lossy(&volume.value));
        let Some(prepared) = self.ready(&Ready::Anonymous, (&name, volume), false) else { return };
        let at = self.profile().mount_points.place(&volume.value);
        let at = at.as_slice();
        let root = prepared.root;
        let flags = self.volume_flags(&prepared);
        let origin = MountOrigin::Declared;
        let from = &volume.from;
        let ids = &MountIds::default();
        self.attach(&Attachment { at, volume: &prepared, root, flags, origin, from, ids });
    }

    fn default(&mut self, default: &DefaultMount) {
        let at = Fact::new(default.at.clone(), default.from.clone());
        let Some(mut volume) = self.ready(&default.volume, ("", &at), false) else { return };
        let ids = match default.ids {
            DefaultIds::Storage if self.is_left_out() => {
                self.as_stored(&mut volume);
                MountIds::default()
            }
            DefaultIds::Inside | DefaultIds::Storage => self.own_ids.clone(),
            DefaultIds::Host => MountIds::default(),
        };
        let root = volume.root;
        let flags = volume.flags;
        let origin = default.origin;
        self.attach(&Attachment {
            at: &default.at,
            volume: &volume,
            root,
            flags,
            origin,
            from: &default.from,
            ids: &ids,
        });
    }
}
