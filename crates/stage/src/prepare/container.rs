//! One container: its root, its mounts in order, and who it is.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::Fact;
use mivask_model::ids::{KernelOwner, MountIds};
use mivask_model::mode::FileKind;
use mivask_model::mount::{Mount, MountFacts, MountFlags, MountId, MountOrigin, MountTable, Preparation};
use mivask_model::mount_kind::MountKind;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::{InodeId, Tree};

use super::bind::{self, Bound};
use super::container_mounts::{Attachment, ContainerMounts, Filled};
use super::context::Context;
use super::defaults::{self, DefaultMount, TreeCache};
use super::image::{image_source, with_root};
use super::nested;
use super::path_parts::{depth, same_path};
use super::person;
use super::prepared::{Prepared, Ready, new_volume};
use super::{creator, identify, image_name, program, user_namespace};
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
    identity.facts.shrink_to_fit();
    // What the runtime itself provides belongs to the namespace's root: its ids are shifted with it.
    let namespace = user_namespace(context, container);
    let own_ids = namespace.as_ref().map_or_else(MountIds::default, |namespace| MountIds {
        uids: namespace.value.uids.clone(),
        gids: namespace.value.gids.clone(),
    });
    let only = if let [one] = credentials.as_slice() { Some(one) } else { None };
    let mut mounts = ContainerMounts {
        process: only.and_then(|one| Some(KernelOwner { uid: one.fsuid.id()?, gid: one.fsgid.id()? })),
        creator: creator(namespace.as_ref()),
        image: container.image.as_ref().and_then(|image| context.scene.images.get(&image.value)),
        image_table: MountTable::default(),
        stage,
        context,
        container,
        filled: &mut state.filled,
        mounts: MountTable::default(),
        blocked: container.refusal.clone(),
        needs: Vec::new(),
        own_ids,
    };
    mounts.blocked = mounts.blocked.or_else(|| mounts.image.and_then(|image| image.failure.clone()));
    mounts.blocked = mounts.blocked.or_else(|| state.cache.joins(context, container));
    mounts.all(&state.volumes, state.cache, runtime);
    let shared = state.volumes.values().filter_map(|volume| match volume {
        Ready::Shared(volume) => volume.blocked.clone(),
        Ready::Anonymous | Ready::Tmpfs(_) => None,
    });
    // A cluster holds the whole pod back, an engine only the container that mounts it.
    let blocked = mounts.blocked.or_else(|| shared.into_iter().find(|refusal| refusal.whole_pod));
    mounts.mounts.close();
    state.cache.share(mounts.stage, &mut mounts.mounts);
    let mut actor = Actor {
        name,
        workload: Arc::from(context.workload.name.as_str()),
        container: Arc::from(container.name.as_str()),
        role: container.role,
        image: container.image.as_ref().map(|image| Arc::from(image.value.as_str())),
        identity,
        credentials,
        mounts: mounts.mounts,
        all_devices: container.privileged,
        unmodelled: container.unmodelled.clone(),
        needs: mounts.needs,
        blocked,
        guest: false,
        from: container.from.clone(),
    };
    let image = container.image.as_ref().and_then(|image| context.scene.images.get(&image.value));
    program::follow(stage, &mut actor, container, image);
    actor
}

enum Wanted<'a> {
    Declared(&'a VolumeMount),
    Default(Box<DefaultMount>),
    /// A `VOLUME` of the image.
    Image(&'a Fact<Vec<u8>>),
}

impl ContainerMounts<'_> {
    /// Every mount, and the working directory.
    fn all(&mut self, volumes: &BTreeMap<String, Ready>, cache: &mut TreeCache, runtime: Runtime) {
        let container = self.container;
        let mut declared: Vec<&VolumeMount> = container.mounts.iter().collect();
        // A mount at `/` is the root itself, so it comes before the default mounts that go into it.
        let whole =
            declared.iter().position(|mount| depth(&mount.at.value) == 0).map(|at| declared.remove(at));
        self.root(whole, volumes, cache);
        let mut wanted: Vec<(usize, Wanted<'_>)> =
            declared.iter().map(|mount| (depth(&mount.at.value), Wanted::Declared(mount))).collect();
        let taken = |at: &[u8]| declared.iter().any(|mount| same_path(&mount.at.value, at));
        if runtime != Runtime::Bare {
            for default in defaults::mounts(self.stage, cache, self.context, container) {
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
            }
        }
        self.working_directory();
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
        let mut source = image_source(self.context.scene, &name);
        if let Some(root) = self.profile().root_directory {
            source.tree =
                cache.tree(format!("root {:o} {name}", root.mode), || with_root(&source.tree, root));
        }
        let source = self.stage.add_source(source);
        let from = container.image.as_ref().map_or(&container.from, |image| &image.from);
        let volume = Prepared::single(source, MountKind::Image, Preparation::default());
        let root = Some(Tree::ROOT);
        let origin = MountOrigin::Root;
        let ids = &self.own_ids.clone();
        self.push(None, &Attachment { at: b"/", volume: &volume, root, flags: read_only, origin, from, ids });
        // Volumes are filled from the image as it was before anything was mounted.
        self.image_table.push(self.mounts.get(MountTable::ROOT).clone());
    }

    fn declared(&mut self, mount: &VolumeMount, volumes: &BTreeMap<String, Ready>) {
        // Readers refuse mounts of undeclared volumes, so a missing one is only passed over here.
        let Some(ready) = volumes.get(&mount.volume.value) else { return };
        if let Some(word) = mount.engine.first.as_ref()
            && !self.profile().volumes.takes_options
        {
            let reason = format!("`{}` is not an option of a volume for this engine", word.value);
            return self.stop(RefusalClass::StartRefused, reason, word.from.clone());
        }
        // An idmapped mount takes its map from a user namespace, and the initial one cannot be used
        // (mount_setattr(2)).
        if mount.engine.id_mapped && self.own_ids.uids.is_identity() {
            let reason = "`idmap` needs a user namespace of the container's own".to_owned();
            return self.stop(RefusalClass::StartRefused, reason, mount.at.from.clone());
        }
        let Some(mut volume) = self.ready(ready, &mount.at, mount.no_copy) else { return };
        if mount.engine.take_over {
            self.take_over(&mut volume, &mount.at.value);
        }
        if let Some(refusal) = volume.blocked.as_ref().filter(|refusal| !refusal.whole_pod) {
            self.blocked.get_or_insert_with(|| refusal.clone());
        }
        let whole = volume.root;
        let Some(root) = self.shown(&mut volume, mount) else { return };
        let Some(bound) = self.bound(mount, &volume) else { return };
        // A part is mounted without what is below it (docs/facts/kubelet.md section 8).
        let of_it = mount.sub_path.is_some() && root != whole;
        if bound.leaves || of_it {
            nested::leave_behind(self.stage, &mut volume);
        }
        if of_it {
            // What the whole volume's root was before is not what this one was.
            for variant in &mut volume.variants {
                Arc::make_mut(&mut variant.preparation).before = None;
            }
        }
        let flags = bound.flags;
        let at = mount.at.value.as_slice();
        let from = &mount.at.from;
        let origin = MountOrigin::Declared;
        let of_pod = self.context.workload.own_users.is_some();
        // A tmpfs is made inside the namespace, so its 0:0 is the namespace's root.
        let shifted = of_pod || mount.engine.id_mapped || matches!(ready, Ready::Tmpfs(_));
        let ids = if shifted { self.own_ids.clone() } else { mount.ids.clone() };
        // `attach` adds nothing where the mount point cannot be made; then nothing can be mounted below either.
        let before = self.mounts.iter().count();
        self.attach(&Attachment { at, volume: &volume, root, flags, origin, from, ids: &ids });
        let made = self.mounts.iter().nth(before).map(|(id, _)| id);
        if let Some(outer) = made {
            self.nested(outer, &volume, mount, &ids);
        }
    }

    /// What is mounted below a host path comes along, with flags of its own: those of the outer mount are its alone.
    fn nested(&mut self, outer: MountId, volume: &Prepared, mount: &VolumeMount, ids: &MountIds) {
        for nested in &volume.nested {
            let path = [&mount.at.value, b"/".as_slice(), &nested.rest].concat();
            let inner = Prepared {
                root: Some(nested.shows),
                label: Some(nested.label.clone()),
                host_path: Some(nested.at.clone()),
                ..Prepared::single(nested.source, volume.kind.clone(), Preparation::default())
            };
            let root = inner.root;
            let flags = mount.below.applied(nested.flags);
            let origin = MountOrigin::Declared;
            let new = Attachment { at: &path, volume: &inner, root, flags, origin, from: &nested.from, ids };
            self.push(Some((outer, nested.inode)), &new);
        }
    }

    /// The volume as this container gets it at `at`: filled or made where that is its own.
    fn ready(&mut self, ready: &Ready, at: &Fact<Vec<u8>>, no_copy: bool) -> Option<Prepared> {
        match ready {
            Ready::Shared(volume) => {
                let mut volume = volume.clone();
                self.fill(&mut volume, at, no_copy);
                Some(volume)
            }
            Ready::Anonymous => {
                let name = format!("anonymous volume at {}", quoted(&at.value));
                let creator = self.creator;
                let mut volume = new_volume(self.stage, &name, MountKind::Volume, creator);
                let source = self.stage.storage.source_mut(volume.variants[0].source);
                Arc::make_mut(&mut source.facts).anonymous = true;
                volume.flags = self.context.profile.volumes.flags;
                self.fill(&mut volume, at, no_copy);
                Some(volume)
            }
            Ready::Tmpfs(asked) => self.tmpfs(asked, at),
        }
    }

    fn image_volume(&mut self, volume: &Fact<Vec<u8>>) {
        let Some(prepared) = self.ready(&Ready::Anonymous, volume, false) else { return };
        let at = volume.value.as_slice();
        let root = prepared.root;
        let flags = prepared.flags;
        let origin = MountOrigin::Declared;
        let from = &volume.from;
        let ids = &MountIds::default();
        self.attach(&Attachment { at, volume: &prepared, root, flags, origin, from, ids });
    }

    fn default(&mut self, default: &DefaultMount) {
        let at = Fact::new(default.at.clone(), default.from.clone());
        let Some(volume) = self.ready(&default.volume, &at, false) else { return };
        let ids = if default.shifted { self.own_ids.clone() } else { MountIds::default() };
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

    fn attach(&mut self, new: &Attachment<'_>) {
        if let Some(reason) = self.guards(new) {
            return self.stop(RefusalClass::StartError, reason, new.from.clone());
        }
        let tree = &self.stage.source(new.volume.variants[0].source).tree;
        let directory = new.root.map(|root| tree.inode(root).kind == FileKind::Directory);
        let wanted = if directory == Some(true) { FileKind::Directory } else { FileKind::File };
        match self.mount_point(new, wanted) {
            Ok(place) => {
                let Some(inode) = place.inode else { return };
                let there = self.stage.source(place.source).tree.inode(inode).kind;
                if directory.is_some_and(|directory| directory != (there == FileKind::Directory)) {
                    let at = quoted(new.at);
                    let there = there.word();
                    let wanted = wanted.word();
                    let reason = format!("{at} is a {there}, a {wanted} cannot be mounted on it");
                    return self.stop(RefusalClass::StartError, reason, new.from.clone());
                }
                self.push(Some((place.mount, inode)), new);
            }
            Err(reason) => {
                let reason = format!("the mount point {} cannot be made: {reason}", quoted(new.at));
                self.stop(RefusalClass::StartError, reason, new.from.clone());
            }
        }
    }

    fn push(&mut self, on: Option<(MountId, InodeId)>, new: &Attachment<'_>) {
        let facts = MountFacts {
            question: new.volume.question.clone(),
            ids: new.ids.clone(),
            host_path: new.volume.host_path.clone(),
            label: new.volume.label.clone(),
            ..MountFacts::plain(new.at, new.volume.kind.clone(), new.from.clone())
        };
        self.mounts.push(Mount {
            on,
            variants: new.volume.variants.clone(),
            root: new.root,
            flags: new.flags,
            origin: new.origin,
            facts: Arc::new(facts),
        });
    }

    /// How this container's runtime makes a mount, or `None` where it refuses.
    fn bound(&mut self, mount: &VolumeMount, volume: &Prepared) -> Option<Bound> {
        let namespaced = user_namespace(self.context, self.container).is_some();
        let bound = bind::bound(&self.profile().binds, namespaced, mount, volume);
        bound.map_err(|reason| self.stop(RefusalClass::StartRefused, reason, mount.at.from.clone())).ok()
    }
}
