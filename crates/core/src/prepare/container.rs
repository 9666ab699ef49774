//! One container: its root, its mounts in order, and who it is.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::mount_point::{MakeMode, find_or_make};
use super::volume::Prepared;
use super::{defaults, identify, image_name, sub_path};
use crate::fact::{Provenance, Unknown};
use crate::identity::Refusal;
use crate::ids::MountIds;
use crate::mode::FileKind;
use crate::mount::{Mount, MountFlags, MountOrigin, MountTable, Preparation, Source};
use crate::scene::{Container, Scene, VolumeMount, Who, Workload};
use crate::stage::{Actor, Stage};
use crate::tree::{Certainty, Doubt, Entry, InodeId, Tree};

/// The actor that `container` becomes.
pub(super) fn actor(
    stage: &mut Stage,
    scene: &Scene,
    workload: &Workload,
    container: &Container,
    volumes: &BTreeMap<String, Prepared>,
) -> Actor {
    let (identity, credentials) = identify(scene, workload, container);
    let mut builder = Builder { stage, mounts: MountTable::default(), blocked: None };
    let mut wanted: Vec<&VolumeMount> = container.mounts.iter().collect();
    // Outer mounts first, whatever the order in the description; equal depth keeps its order.
    wanted.sort_by_key(|mount| depth(&mount.at.value));
    let whole = wanted.iter().position(|mount| depth(&mount.at.value) == 0).map(|index| wanted.remove(index));
    builder.root(scene, container, whole, volumes);
    if matches!(container.who, Who::Kubernetes(_)) {
        let declared: Vec<&[u8]> = wanted.iter().map(|mount| mount.at.value.as_slice()).collect();
        for default in defaults::mounts(builder.stage, workload, container) {
            if !declared.iter().any(|at| same_path(at, default.at)) {
                builder.attach(
                    default.at,
                    &default.volume,
                    default.volume.root,
                    default.volume.flags,
                    MountOrigin::Default,
                    default.from,
                    default.kind,
                );
            }
        }
    }
    for mount in wanted {
        builder.declared(mount, volumes);
    }
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

struct Builder<'a> {
    stage: &'a mut Stage,
    mounts: MountTable,
    blocked: Option<Refusal>,
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
            self.push(None, b"/", volume, volume.root, flags, MountOrigin::Root, mount.at.from.clone());
            return;
        }
        let source = image_source(scene, container);
        let source = self.stage.add_source(source);
        let from =
            container.image.as_ref().map_or_else(|| container.from.clone(), |image| image.from.clone());
        let volume = Prepared::single(source, "image", Preparation::default());
        self.push(None, b"/", &volume, Tree::ROOT, read_only, MountOrigin::Root, from);
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
        let kind = self.stage.source(volume.variants[0].source).tree.inode(root).kind;
        let flags = flags_of(mount, volume);
        let from = mount.at.from.clone();
        self.attach(&mount.at.value, volume, root, flags, MountOrigin::Declared, from, kind);
    }

    #[expect(clippy::too_many_arguments, reason = "each is one field of the mount")]
    fn attach(
        &mut self,
        at: &[u8],
        volume: &Prepared,
        root: InodeId,
        flags: MountFlags,
        origin: MountOrigin,
        from: Provenance,
        kind: FileKind,
    ) {
        let wanted = if kind == FileKind::Directory { FileKind::Directory } else { FileKind::File };
        match find_or_make(self.stage, &self.mounts, at, wanted, MakeMode::RUNC) {
            Ok(place) => {
                let Some(inode) = place.inode else { return };
                let there = self.stage.source(place.source).tree.inode(inode).kind;
                if (there == FileKind::Directory) != (wanted == FileKind::Directory) {
                    let reason = format!(
                        "{} is a {}, a {} cannot be mounted on it",
                        crate::act::quoted(at),
                        there.word(),
                        wanted.word()
                    );
                    return self.stop("StartError", reason, from);
                }
                self.push(Some((place.mount, inode)), at, volume, root, flags, origin, from);
            }
            Err(reason) => {
                let reason = format!("the mount point {} cannot be made: {reason}", crate::act::quoted(at));
                self.stop("StartError", reason, from);
            }
        }
    }

    #[expect(clippy::too_many_arguments, reason = "each is one field of the mount")]
    fn push(
        &mut self,
        on: Option<(crate::mount::MountId, InodeId)>,
        at: &[u8],
        volume: &Prepared,
        root: InodeId,
        flags: MountFlags,
        origin: MountOrigin,
        from: Provenance,
    ) {
        self.mounts.push(Mount {
            on,
            at: Arc::from(at),
            variants: volume.variants.clone(),
            question: volume.question.clone(),
            root,
            flags,
            ids: MountIds::default(),
            origin,
            kind: volume.kind.clone(),
            label: volume.label.clone(),
            from,
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
        let text = format!("the root of image {name} is 0:0 0755");
        let doubt = Doubt {
            attributes: Certainty::Assumed(text.into()),
            contents: Certainty::Unknown(unknown.clone()),
        };
        Arc::new(Tree::new(Entry::directory(0, 0, 0o755).doubting(doubt), Provenance::Unknown(unknown.fact)))
    });
    Source {
        name: Arc::from(format!("image {name}")),
        filesystem: Some(Arc::from("overlay")),
        tree,
        read_only: false,
        native: Certainty::Known,
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
