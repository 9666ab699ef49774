//! What an engine does to volumes and tmpfs mounts when a container is made: it looks into the image at the same path
//! (docs/facts/runtimes.md sections 3 and 5).

use mivask_model::ids::DiskOwner;
use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::labels::Labels;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{MountFlags, MountTable, Preparation, SourceId};
use mivask_model::mount_kind::MountKind;
use mivask_model::path::cleaned;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::{Certainty, Doubt, Entry, InodeId, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::view::Place;
use mivask_rules::walk::Follow;

use super::container_mounts::ContainerMounts;
use super::prepared::{Fills, Prepared, local_source};
use crate::runtime::Flavour;
use crate::scene::TmpfsAsked;

/// What the image has at a path.
pub(super) enum InImage {
    Directory(SourceId, InodeId),
    Other(SourceId, InodeId),
    Missing,
    Unlisted(Unknown),
}

impl ContainerMounts<'_> {
    /// Fills `volume` from the image's `at`, or leaves it alone.
    pub(super) fn fill(&mut self, volume: &mut Prepared, at: &Fact<Vec<u8>>, no_copy: bool) {
        let (Some(root), source) = (volume.root, volume.variants[0].source) else { return };
        // Without an image no container is made that could fill a volume.
        let failed = self.image.is_some_and(|image| image.failure.is_some());
        if volume.fills == Fills::Never || failed || self.image_table.iter().next().is_none() {
            return;
        }
        let in_image = self.in_image(&at.value);
        let once = self.profile().volumes.owns_root_at_first_mount;
        let first = self.filled.mounted.insert(source) && volume.fills == Fills::New;
        if once && first && volume.flags.has(MountFlags::READ_ONLY) {
            let reason = format!(
                "{} is read-only by its driver's options, so the engine cannot give it away when it is first mounted",
                quoted(&at.value)
            );
            return self.stop(RefusalClass::StartRefused, reason, at.from.clone());
        }
        if once && first {
            let elsewhere = self.leads_to_the_host(&at.value).then(|| {
                let fact = format!(
                    "what the host has where the image's link on the way to {} leads",
                    quoted(&at.value)
                );
                InImage::Unlisted(Unknown::new(
                    &fact,
                    "no scene can supply it: name the path behind the link",
                ))
            });
            self.own_root(volume, root, elsewhere.as_ref().unwrap_or(&in_image), &at.value);
        }
        match in_image {
            InImage::Other(..) => {
                let reason = format!(
                    "{} is not a directory in the image, so the volume cannot be filled",
                    quoted(&at.value)
                );
                self.stop(RefusalClass::StartRefused, reason, at.from.clone());
            }
            InImage::Directory(image, dir) => {
                let empty = self.is_empty(source, root);
                // Podman remembers that it has filled a volume, so one that was emptied since stays empty; Docker
                // looks each time.
                let copied = once && (self.filled.copied.contains(&source) || volume.fills == Fills::Used);
                if !no_copy && empty && !copied && self.copy(source, root, (image, dir), !once) {
                    self.filled.copied.insert(source);
                    let what = if once { "content is" } else { "content, owner and mode are" };
                    volume.note(format!("empty, so {what} copied from the image's {}", quoted(&at.value)));
                }
            }
            InImage::Missing if !once => {
                volume.note("the image has nothing there, so the volume stays as it is")
            }
            InImage::Missing => {}
            // Whatever the image has there would be copied, its owner and mode with it.
            InImage::Unlisted(unknown) if !no_copy && self.is_empty(source, root) => {
                let certainty = Certainty::Unknown(unknown);
                let tree = Arc::make_mut(&mut self.stage.storage.source_mut(source).tree);
                tree.set_doubt(root, Doubt::new(certainty.clone(), certainty));
            }
            InImage::Unlisted(_) => {}
        }
    }

    /// Podman gives the root to whom the image's directory belongs, or to the process, once and for all.
    fn own_root(&mut self, volume: &mut Prepared, root: InodeId, in_image: &InImage, at: &[u8]) {
        let source = volume.variants[0].source;
        match in_image {
            InImage::Directory(image, inode) | InImage::Other(image, inode) => {
                let link = self.profile().volumes.link_gives_its_mode && self.is_link(at);
                self.take_after(source, root, (*image, *inode));
                if link {
                    let rule = Provenance::rule(
                        "the path is a link in the image, whose own mode 0777 the root gets",
                    );
                    let tree = Arc::make_mut(&mut self.stage.storage.source_mut(source).tree);
                    tree.own(root, self.creator.unmapped(), Mode::new(0o777), rule);
                }
                volume.note(
                    "mounted for the first time, so its root gets owner and mode of the image's directory",
                );
            }
            InImage::Missing => {
                let rule =
                    Provenance::rule("the image has nothing there, so the root goes to the process's user");
                let tree = Arc::make_mut(&mut self.stage.storage.source_mut(source).tree);
                let mode = tree.inode(root).stored_mode();
                match self.process {
                    Some(owner) => tree.own(root, owner.unmapped(), mode, rule),
                    None => {
                        let fact = "the process's user, who owns the new volume";
                        let unknown = Unknown::new(fact, "give `user` and `accounts` of the image");
                        tree.doubt_attributes(root, Certainty::Unknown(unknown));
                    }
                }
                volume.note("mounted for the first time at a path the image lacks, so its root goes to the process's user");
            }
            InImage::Unlisted(unknown) => {
                let tree = Arc::make_mut(&mut self.stage.storage.source_mut(source).tree);
                tree.doubt_attributes(root, Certainty::Unknown(unknown.clone()));
            }
        }
    }

    pub(super) fn in_image(&self, at: &[u8]) -> InImage {
        match look(&self.stage.storage, &self.image_table, at, Follow::Links) {
            Ok(Sight::There(Place { source, inode: Some(inode), .. })) => {
                if self.stage.source(source).tree.inode(inode).kind == FileKind::Directory {
                    InImage::Directory(source, inode)
                } else {
                    InImage::Other(source, inode)
                }
            }
            Ok(Sight::There(_) | Sight::Unlisted) => InImage::Unlisted(self.image_unknown(at)),
            Ok(Sight::Missing) | Err(_) => InImage::Missing,
        }
    }

    fn image_unknown(&self, at: &[u8]) -> Unknown {
        let image = super::image_name(self.container);
        let settle = format!(
            "list {} under `images: {{ {image}: {{ tree: ... }} }}` in a scene file, or let it be looked for with --images-from",
            quoted(at)
        );
        Unknown::new(&format!("what image {image} has at {}", quoted(at)), &settle)
    }

    /// Whether a link of the image before the last component begins at the root: Podman then looks at the host's own files
    /// (`fixVolumePermissions` joins paths and leaves links to the kernel).
    pub(super) fn leads_to_the_host(&self, at: &[u8]) -> bool {
        let at = cleaned(at);
        let ends = at.iter().enumerate().skip(1).filter(|(_, byte)| **byte == b'/').map(|(end, _)| end);
        ends.into_iter().any(|end| {
            let sight = look(&self.stage.storage, &self.image_table, &at[..end], Follow::AllButLast);
            let Ok(Sight::There(Place { source, inode: Some(inode), .. })) = sight else { return false };
            self.stage.source(source).tree.target(inode).is_some_and(|target| target.first() == Some(&b'/'))
        })
    }

    fn is_link(&self, at: &[u8]) -> bool {
        let sight = look(&self.stage.storage, &self.image_table, at, Follow::AllButLast);
        matches!(sight, Ok(Sight::There(Place { source, inode: Some(inode), .. }))
            if self.stage.source(source).tree.inode(inode).kind == FileKind::Link)
    }

    /// Whether nothing is at `at` of the image, nor in what is mounted there.
    pub(super) fn is_missing_in_image(&self, at: &[u8]) -> bool {
        let missing = |table: &MountTable| {
            matches!(look(&self.stage.storage, table, at, Follow::Links), Ok(Sight::Missing))
        };
        let mounted = self
            .mounts
            .iter()
            .skip(1)
            .any(|(_, mount)| at.starts_with(&mount.facts.at) && mount.facts.at.len() > 1);
        // Below another mount it is that volume's own directory, which the image knows nothing of.
        !mounted && missing(&self.mounts)
    }

    fn is_empty(&self, source: SourceId, root: InodeId) -> bool {
        let tree = &self.stage.source(source).tree;
        let open = tree.doubt(root).is_some_and(|doubt| matches!(doubt.contents, Certainty::Unknown(_)));
        tree.child_count(root) == 0 && !open
    }

    /// Copies a directory of the image; whether anything was copied. With `root` the root looks like it too.
    fn copy(&mut self, source: SourceId, root: InodeId, image: (SourceId, InodeId), whole: bool) -> bool {
        let from = self.stage.source(image.0).tree.clone();
        let renumber = self.renumbering();
        let tree = Arc::make_mut(&mut self.stage.storage.source_mut(source).tree);
        // An empty directory of the image copies nothing, and the volume counts as new at its next mount.
        let before = tree.len();
        // The volume is empty and the image's own names are distinct, so only a table can be full.
        if tree.graft(root, &from, image.1, &renumber).is_err() {
            return false;
        }
        let contents = from.doubt(image.1).map(|doubt| doubt.contents.clone()).unwrap_or_default();
        let unlisted = matches!(contents, Certainty::Unknown(_));
        if whole {
            tree.take_after(root, &from, image.1, &renumber);
        }
        if unlisted {
            tree.doubt_contents(root, contents);
        }
        whole || unlisted || tree.len() > before
    }

    fn take_after(&mut self, source: SourceId, root: InodeId, image: (SourceId, InodeId)) {
        let from = self.stage.source(image.0).tree.clone();
        let renumber = self.renumbering();
        let tree = Arc::make_mut(&mut self.stage.storage.source_mut(source).tree);
        tree.take_after(root, &from, image.1, &renumber);
    }

    /// Stored ids of the image to stored ids of a volume, which no map is before.
    pub(super) fn renumbering(&self) -> impl Fn(DiskOwner) -> DiskOwner + use<> {
        let ids = self.storage_ids.clone();
        // What the map lacks stays what it is to the engine.
        let engine = self.context.starter_of().0.map(|starter| starter.namespace.clone()).unwrap_or_default();
        move |owner| {
            let uid = owner.uid.raw();
            let gid = owner.gid.raw();
            let uid = ids.uids.forward(uid).or_else(|| engine.uids.forward(uid)).unwrap_or(uid);
            let gid = ids.gids.forward(gid).or_else(|| engine.gids.forward(gid)).unwrap_or(gid);
            DiskOwner::new(uid, gid)
        }
    }

    /// Why the engine does not make such a tmpfs.
    fn refuses_tmpfs(&self, asked: &TmpfsAsked) -> Option<String> {
        let rules = self.profile().tmpfs;
        let other = asked.other.as_ref().filter(|_| !rules.takes_others);
        if let Some(option) = asked.refused.as_ref().or(other) {
            return Some(format!("the option `{}` of a tmpfs is refused", option.escape_debug()));
        }
        let engine = self.context.workload.flavour == Flavour::Compose;
        if engine && asked.copies_up.is_some() && !rules.copies_up {
            return Some("`tmpcopyup` and `notmpcopyup` of a tmpfs are Podman's alone".to_owned());
        }
        let owned = asked.uid.is_some() || asked.gid.is_some();
        (owned && !rules.takes_owner).then(|| "`uid=` and `gid=` of a tmpfs are refused here".to_owned())
    }

    /// A new tmpfs at `at`, with the owner and mode that the runtime gives it.
    pub(super) fn tmpfs(&mut self, asked: &TmpfsAsked, at: &Fact<Vec<u8>>) -> Option<Prepared> {
        let rules = self.profile().tmpfs;
        if let Some(reason) = self.refuses_tmpfs(asked) {
            self.stop(RefusalClass::StartRefused, reason, at.from.clone());
            return None;
        }
        let copies_up = asked.copies_up.unwrap_or(rules.copies_up);
        let sight = look(&self.stage.storage, &self.mounts, &at.value, Follow::Links);
        let there = match sight {
            Ok(Sight::There(Place { source, inode: Some(inode), .. })) => Some((source, inode)),
            Ok(Sight::There(_) | Sight::Missing | Sight::Unlisted) | Err(_) => None,
        };
        let asked_mode = asked.mode.unwrap_or(Mode::new(0o1777));
        let existing = there.map(|(source, inode)| self.stage.source(source).tree.inode(inode).stored_mode());
        let open = matches!(sight, Ok(Sight::Unlisted)) && rules.keeps_directory_mode;
        let (mode, rule) = match existing {
            // The image is not listed, so whether it has a directory there decides, and nobody knows.
            _ if open => (
                asked_mode,
                "runc 1.1 gives a tmpfs the mode of the directory it covers, if the image has one there",
            ),
            Some(mode) if rules.keeps_directory_mode => {
                (mode, "runc 1.1 gives a tmpfs the mode of the directory it covers, whatever `mode=` says")
            }
            Some(_) | None if asked.mode.is_some() => (asked_mode, "the tmpfs's own `mode=`"),
            Some(_) | None => (asked_mode, "a tmpfs is 0:0 1777"),
        };
        let uid = asked.uid.unwrap_or(0);
        let gid = asked.gid.unwrap_or(0);
        let mut tree = Tree::new(Entry::new(FileKind::Directory, uid, gid, mode), Provenance::rule(rule));
        if matches!(sight, Ok(Sight::Unlisted)) && (rules.keeps_directory_mode || copies_up) {
            let open = Certainty::Unknown(self.image_unknown(&at.value));
            let mode = if rules.keeps_directory_mode { open.clone() } else { Certainty::Known };
            let contents = if copies_up { open } else { Certainty::Known };
            tree.set_doubt(Tree::ROOT, Doubt { mode, contents, ..Doubt::default() });
        } else if let (Some((source, inode)), true) = (there, rules.keeps_directory_mode) {
            let mode = self.stage.source(source).tree.doubt(inode).map(|doubt| doubt.mode.clone());
            tree.doubt_owner_and_mode(Tree::ROOT, Certainty::Known, mode.unwrap_or_default());
        }
        let name = format!("tmpfs at {}", quoted(&at.value));
        let source = local_source(self.stage, &name, Some(Arc::from("tmpfs")), (tree, Labels::Container));
        let mut volume = Prepared::single(source, MountKind::Tmpfs, Preparation::default());
        volume.note(rule);
        volume.flags = rules.flags.without(asked.cleared).with(asked.added);
        if let (Some((from, inode)), true) = (there, copies_up) {
            let from_tree = self.stage.source(from).tree.clone();
            let tree = Arc::make_mut(&mut self.stage.storage.source_mut(source).tree);
            if tree.graft(Tree::ROOT, &from_tree, inode, &|owner| owner).is_ok() && tree.len() > 1 {
                if rules.keeps_directory_mode {
                    without_umask(tree);
                }
                volume.note("the image's content is copied in; the root keeps its own owner and mode");
            }
        }
        Some(volume)
    }
}

/// runc copies with its umask, and without set-id and sticky bits (`fileutils.CopyDirectory`, measured with runc 1.1).
fn without_umask(tree: &mut Tree) {
    for id in tree.below(Tree::ROOT).into_iter().filter(|id| *id != Tree::ROOT) {
        let inode = *tree.inode(id);
        if inode.kind != FileKind::Link {
            tree.set_mode(
                id,
                inode.stored_mode().masked(Mode::new(0o755)),
                Provenance::rule("runc copies it in"),
            );
        }
    }
}
