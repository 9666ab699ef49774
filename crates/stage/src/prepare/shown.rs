//! Which inode of a volume a mount shows.

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::Unknown;
use mivask_model::ids::DiskOwner;
use mivask_model::mode::FileKind;
use mivask_model::mount::{Preparation, Source, Variant};
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::{InodeId, Tree};
use mivask_model::usual::{Usual, UsualRule};

use super::container_mounts::ContainerMounts;
use super::path_parts::{depth, parts};
use super::prepared::{Prepared, unknown_source};
use super::{nested, sub_path};
use crate::scene::VolumeMount;

/// What `path` of a claim is made like where that is new; `None` of any other volume.
fn usual_part(whole: &Source, path: &[u8]) -> Option<Usual> {
    let of_root = whole.tree.doubt(Tree::ROOT)?.contents.unknown()?;
    let usual = of_root.usual.as_deref().filter(|usual| usual.rule == UsualRule::NewClaim)?;
    let (owner, mode) = usual.leaves?;
    // A root that is known in part is one that the filesystem group was given (`group_variants::stepped`).
    let root = whole.tree.inode(Tree::ROOT);
    let is_stepped = whole.tree.doubt(Tree::ROOT)?.unknown_attribute().is_none();
    let (owner, mode) = if is_stepped {
        (DiskOwner { gid: root.stored_owner().gid, ..owner }, mode.with(root.stored_mode()))
    } else {
        (owner, mode)
    };
    let leaves = sub_path::made_in_new(owner, mode, path)?;
    let name = &whole.facts.name;
    let says = format!("{name} is new, and {} is made in it, {} {}", quoted(path), leaves.0, leaves.1);
    Some(Usual { leaves: Some(leaves), ..Usual::new(UsualRule::NewClaim, &says) })
}

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
        let name: Arc<str> = format!("part of {}", whole.facts.name).into();
        let path = mount.sub_path.as_ref().map_or(&[][..], |path| &path.value);
        // Of a new claim the filesystem group decides what a part is made like.
        let is_new = usual_part(&whole, path).is_some();
        let variants = if is_new { &volume.variants[..] } else { &volume.variants[..1] };
        let mut parts = Vec::new();
        for variant in variants {
            let whole = self.stage.source(variant.source).clone();
            let unlisted = whole.tree.doubt(Tree::ROOT).and_then(|doubt| doubt.contents.unknown());
            let unknown = unlisted.cloned().unwrap_or_else(|| {
                let fact = format!("what {name} is mounted at {}", quoted(&mount.at.value));
                Unknown::new(&fact, "list it in the volume's tree")
            });
            let unknown = unknown.usually(usual_part(&whole, path).map(Arc::new));
            let tree = Arc::new(Tree::of_unknown_kind(&unknown, FileKind::File, None));
            let part = Source { tree, ..whole }.with(|facts| (facts.name, facts.disk) = (name.clone(), None));
            let source = self.stage.add_source(part);
            parts.push(Variant { when: variant.when.clone(), ..Variant::only(source) });
        }
        let first = parts[0].source;
        let part = Prepared::single(first, volume.kind.clone(), Preparation::default());
        let question = volume.question.clone().filter(|_| is_new);
        *volume = Prepared { root: None, flags: volume.flags, variants: parts, question, ..part };
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
