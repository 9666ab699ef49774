//! Which inode of a volume a mount shows.

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::Unknown;
use mivask_model::mode::FileKind;
use mivask_model::mount::{Preparation, Source};
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::{InodeId, Tree};

use super::container_mounts::ContainerMounts;
use super::path_parts::{depth, parts};
use super::prepared::{Prepared, unknown_source};
use super::{nested, sub_path};
use crate::scene::VolumeMount;

impl ContainerMounts<'_> {
    /// The inode that `mount` shows of `volume`, which becomes what that is on; `Some(None)` where not even its kind is
    /// known, `None` where it cannot be mounted.
    pub(super) fn shown(&mut self, volume: &mut Prepared, mount: &VolumeMount) -> Option<Option<InodeId>> {
        if let Some(unknown) = &mount.unknown_part {
            let name = format!("part of {}", self.stage.source(volume.variants[0].source).facts.name);
            let unknown = unknown_source(self.stage, &name, volume.kind.clone(), unknown.clone());
            *volume = Prepared { root: None, flags: volume.flags, ..unknown };
        }
        let mut root = volume.root;
        if let Some(path) = &mount.sub_path {
            root = match self.part(volume, &path.value) {
                Ok(root) => root,
                Err(reason) => {
                    self.stop(RefusalClass::CreateContainerConfigError, reason, path.from.clone());
                    return None;
                }
            };
            if root.is_none() {
                self.part_of_unknown_kind(volume, mount);
            }
        }
        // What something is mounted in is a directory, whatever else is known of it.
        Some(root.or_else(|| self.holds_mounts(&mount.at.value).then_some(Tree::ROOT)))
    }

    /// Nobody listed the part: what is known of the file system holds for it all the same.
    fn part_of_unknown_kind(&mut self, volume: &mut Prepared, mount: &VolumeMount) {
        let whole = self.stage.source(volume.variants[0].source).clone();
        let name = format!("part of {}", whole.facts.name);
        let unlisted = whole.tree.doubt(Tree::ROOT).and_then(|doubt| doubt.contents.unknown());
        // What is usual of the volume's root is not of a part: the filesystem group reaches it in another way.
        let unknown = unlisted.map(|unknown| unknown.clone().usually(None)).unwrap_or_else(|| {
            let fact = format!("what {name} is mounted at {}", quoted(&mount.at.value));
            Unknown::new(&fact, "list it in the volume's tree")
        });
        let tree = Arc::new(Tree::of_unknown_kind(&unknown, FileKind::File, None));
        let source = self.stage.add_source(
            Source { tree, ..whole }.with(|facts| (facts.name, facts.disk) = (name.into(), None)),
        );
        let part = Prepared::single(source, volume.kind.clone(), Preparation::default());
        *volume = Prepared { root: None, flags: volume.flags, ..part };
    }

    /// What shows of the part of `volume` that `path` names; the volume becomes the mount that the part is on.
    fn part(&mut self, volume: &mut Prepared, path: &[u8]) -> Result<Option<InodeId>, String> {
        let Some(part) = sub_path::resolve(self.stage, volume, path)? else { return Ok(None) };
        match nested::part(self.stage, volume, part, path)? {
            None => Ok(Some(part.inode)),
            Some(on) => {
                *volume = on;
                Ok(volume.root)
            }
        }
    }

    /// Whether the description mounts something below `at`.
    fn holds_mounts(&self, at: &[u8]) -> bool {
        self.container.mounts.iter().any(|mount| {
            let below = &mount.at.value;
            depth(below) > depth(at) && parts(below).take(depth(at)).eq(parts(at))
        })
    }
}
