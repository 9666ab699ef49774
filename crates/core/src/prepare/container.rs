//! One container: its root, its mounts in order, and who it is.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::defaults::{self, DefaultMount};
use super::mount_point::{MakeMode, find_or_make};
use super::prepared::Prepared;
use super::{identify, image_name, sub_path, user_namespace};
use crate::act::quoted;
use crate::fact::{Provenance, Unknown};
use crate::identity::Refusal;
use crate::ids::MountIds;
use crate::mode::FileKind;
use crate::mount::{Mount, MountFlags, MountId, MountOrigin, MountTable, Preparation, Source};
use crate::personality::Personality;
use crate::scene::{Container, Scene, VolumeMount, Who, Workload};
use crate::stage::{Actor, Stage};
use crate::tree::{Certainty, InodeId, Tree};

/// The actor that `container` becomes.
pub(super) fn actor(
    stage: &mut Stage,
    scene: &Scene,
    workload: &Workload,
    container: &Container,
    volumes: &BTreeMap<String, Prepared>,
) -> Actor {
    let (identity, credentials) = identify(scene, workload, container);
    // What the runtime itself provides belongs to the namespace's root: its ids are shifted with it.
    let shift = user_namespace(scene, container).map(|namespace| &namespace.value);
    let own_ids = shift.map_or_else(MountIds::default, |namespace| MountIds {
        uids: namespace.uids.clone(),
        gids: namespace.gids.clone(),
    });
    let mut builder = Builder { stage, mounts: MountTable::default(), blocked: None, own_ids };
    let mut declared: Vec<&VolumeMount> = container.mounts.iter().collect();
    let whole = declared.iter().position(|mount| depth(&mount.at.value) == 0).map(|at| declared.remove(at));
    builder.root(scene, container, whole, volumes);
    let mut wanted: Vec<(usize, Wanted<'_>)> =
        declared.iter().map(|mount| (depth(&mount.at.value), Wanted::Declared(mount))).collect();
    if matches!(container.who, Who::Kubernetes(_)) {
        for default in defaults::mounts(builder.stage, workload, container) {
            if !declared.iter().any(|mount| same_path(&mount.at.value, &default.at)) {
                let rank = if default.first { 0 } else { depth(&default.at) };
                wanted.push((rank, Wanted::Default(Box::new(default))));
            }
        }
    }
    // What the runtime needs comes first, then outer mounts before inner ones, whatever the description's order.
    wanted.sort_by_key(|(rank, _)| *rank);
    for (_, wanted) in &wanted {
        match wanted {
            Wanted::Declared(mount) => builder.declared(mount, volumes),
            Wanted::Default(default) => builder.default(default),
        }
    }
    builder.working_directory(container);
    let blocked = builder.blocked.or_else(|| volumes.values().find_map(|volume| volume.blocked.clone()));
    Actor {
        workload: Arc::from(workload.name.as_str()),
        container: Arc::from(container.name.as_str()),
        role: container.role,
        image: container.image.as_ref().map(|image| Arc::from(image.value.as_str())),
        identity,
        credentials,
        mounts: builder.mounts,
        all_devices: container.privileged,
        blocked,
        from: container.from.clone(),
    }
}

enum Wanted<'a> {
    Declared(&'a VolumeMount),
    Default(Box<DefaultMount>),
}

/// One mount about to be made.
struct Attachment<'a> {
    at: &'a [u8],
    volume: &'a Prepared,
    root: Option<InodeId>,
    flags: MountFlags,
    origin: MountOrigin,
    from: &'a Provenance,
    ids: &'a MountIds,
}

struct Builder<'a> {
    stage: &'a mut Stage,
    mounts: MountTable,
    blocked: Option<Refusal>,
    own_ids: MountIds,
}

impl Builder<'_> {
    /// The root: the image, or the volume that is mounted at `/`.
    fn root(
        &mut self,
        scene: &Scene,
        container: &Container,
        whole: Option<&VolumeMount>,
        volumes: &BTreeMap<String, Prepared>,
    ) {
        let read_only = if container.read_only_root { MountFlags::READ_ONLY } else { MountFlags::default() };
        if let Some((mount, volume)) =
            whole.and_then(|mount| Some((mount, volumes.get(&mount.volume.value)?)))
        {
            let flags = flags_of(mount, volume);
            let (root, from, ids) = (volume.root, &mount.at.from, &mount.ids);
            self.push(
                None,
                &Attachment { at: b"/", volume, root, flags, origin: MountOrigin::Root, from, ids },
            );
            return;
        }
        let source = image_source(scene, container);
        let source = self.stage.add_source(source);
        let from = container.image.as_ref().map_or(&container.from, |image| &image.from);
        let volume = Prepared::single(source, "image", Preparation::default());
        let (root, origin) = (Some(Tree::ROOT), MountOrigin::Root);
        let ids = &self.own_ids.clone();
        self.push(None, &Attachment { at: b"/", volume: &volume, root, flags: read_only, origin, from, ids });
    }

    fn declared(&mut self, mount: &VolumeMount, volumes: &BTreeMap<String, Prepared>) {
        // Readers refuse mounts of undeclared volumes, so a missing one is only passed over here.
        let Some(volume) = volumes.get(&mount.volume.value) else {
            return;
        };
        let root = match &mount.sub_path {
            None => Ok(volume.root),
            Some(path) => sub_path::resolve(self.stage, volume, &path.value),
        };
        let root = match root {
            Ok(root) => root,
            Err(reason) => return self.block("CreateContainerConfigError", reason, mount),
        };
        let flags = flags_of(mount, volume);
        let (at, from, origin) = (mount.at.value.as_slice(), &mount.at.from, MountOrigin::Declared);
        self.attach(&Attachment { at, volume, root, flags, origin, from, ids: &mount.ids });
    }

    fn default(&mut self, default: &DefaultMount) {
        let volume = &default.volume;
        let (root, flags, origin) = (volume.root, volume.flags, MountOrigin::Default);
        let ids = &self.own_ids.clone();
        self.attach(&Attachment { at: &default.at, volume, root, flags, origin, from: &default.from, ids });
    }

    /// A working directory that is missing is made by root, whoever the process is.
    fn working_directory(&mut self, container: &Container) {
        let Some(path) = &container.working_directory else { return };
        let made = find_or_make(self.stage, &self.mounts, &path.value, FileKind::Directory, MakeMode::RUNC);
        if let Err(reason) = made {
            let reason = format!("the working directory {} cannot be made: {reason}", quoted(&path.value));
            self.stop("StartError", reason, path.from.clone());
        }
    }

    fn attach(&mut self, new: &Attachment<'_>) {
        let tree = &self.stage.source(new.volume.variants[0].source).tree;
        let directory = new.root.map(|root| tree.inode(root).kind == FileKind::Directory);
        let wanted = if directory == Some(true) { FileKind::Directory } else { FileKind::File };
        match find_or_make(self.stage, &self.mounts, new.at, wanted, MakeMode::RUNC) {
            Ok(place) => {
                let Some(inode) = place.inode else { return };
                let there = self.stage.source(place.source).tree.inode(inode).kind;
                if directory.is_some_and(|directory| directory != (there == FileKind::Directory)) {
                    let (at, there, wanted) = (quoted(new.at), there.word(), wanted.word());
                    let reason = format!("{at} is a {there}, a {wanted} cannot be mounted on it");
                    return self.stop("StartError", reason, new.from.clone());
                }
                self.push(Some((place.mount, inode)), new);
            }
            Err(reason) => {
                let reason = format!("the mount point {} cannot be made: {reason}", quoted(new.at));
                self.stop("StartError", reason, new.from.clone());
            }
        }
    }

    fn push(&mut self, on: Option<(MountId, InodeId)>, new: &Attachment<'_>) {
        self.mounts.push(Mount {
            on,
            at: Arc::from(new.at),
            variants: new.volume.variants.clone(),
            question: new.volume.question.clone(),
            root: new.root,
            flags: new.flags,
            ids: new.ids.clone(),
            origin: new.origin,
            kind: new.volume.kind.clone(),
            label: new.volume.label.clone(),
            from: new.from.clone(),
        });
    }

    fn block(&mut self, class: &'static str, reason: String, mount: &VolumeMount) {
        let from = mount.sub_path.as_ref().map_or_else(|| mount.at.from.clone(), |path| path.from.clone());
        self.stop(class, reason, from);
    }

    fn stop(&mut self, class: &'static str, reason: String, from: Provenance) {
        self.blocked.get_or_insert(Refusal { class, reason, from, whole_pod: false });
    }
}

fn flags_of(mount: &VolumeMount, volume: &Prepared) -> MountFlags {
    let read_only = if mount.read_only { MountFlags::READ_ONLY } else { MountFlags::default() };
    volume.flags.with(mount.flags).with(read_only)
}

fn image_source(scene: &Scene, container: &Container) -> Source {
    let name = image_name(container);
    let image = container.image.as_ref().and_then(|image| scene.images.get(&image.value));
    let tree = image.and_then(|image| image.tree.clone()).unwrap_or_else(|| {
        let settle = format!("give `images: {{ {name}: {{ tree: ... }} }}` in a scene file");
        let unknown = Unknown::new(&format!("what image {name} holds"), &settle);
        let root = Certainty::Assumed(format!("the root of image {name} is 0:0 0755").into());
        Arc::new(Tree::unlisted(root, &unknown))
    });
    Source {
        name: Arc::from(format!("image {name}")),
        filesystem: Some(Arc::from("overlay")),
        tree,
        read_only: false,
        native: Certainty::Known,
        personality: Personality::Overlay,
    }
}

fn parts(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    path.split(|byte| *byte == b'/').filter(|part| !part.is_empty())
}

fn depth(path: &[u8]) -> usize {
    parts(path).count()
}

fn same_path(a: &[u8], b: &[u8]) -> bool {
    parts(a).eq(parts(b))
}
