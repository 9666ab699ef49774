//! The part of a volume that a mount shows (docs/facts/kubelet.md section 8).

use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::{DiskGid, DiskOwner};
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::MountFlags;
use mivask_model::mount_kind::MountKind;
use mivask_model::tree::{Certainty, Doubt, Entry, InodeId, Tree};

use super::prepared::Prepared;
use crate::stage::Stage;

/// A part of a volume.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) struct Part {
    pub inode: InodeId,
    /// The directory it is or is in.
    pub directory: InodeId,
}

/// The inode that `path` names within `volume`, made where it is missing.
///
/// The last component gets exactly the mode of the volume's root, but root's ownership; those before
/// it `(root mode & 0777) & ~022`. Links are followed as the node follows them, and have to end inside the volume; where that is on
/// the node is known of a host path alone. `None` where no one listed what is there.
///
/// # Errors
/// Why it cannot be prepared, in words.
pub(super) fn resolve(stage: &mut Stage, volume: &Prepared, path: &[u8]) -> Result<Option<Part>, String> {
    let Some(root) = volume.root else { return Ok(None) };
    let mut found = None;
    let base = if volume.kind == MountKind::HostPath { volume.host_path.clone() } else { None };
    let read_only = base.is_some() && volume.flags.has(MountFlags::READ_ONLY);
    for variant in &volume.variants {
        let source = stage.storage.source_mut(variant.source);
        let before = source.tree.len();
        found = in_tree(Arc::make_mut(&mut source.tree), root, path, base.as_deref())?;
        if read_only && source.tree.len() > before {
            return Err(
                "failed to create subPath directory: the host's file system there is read-only".to_owned()
            );
        }
    }
    Ok(found)
}

/// Owner and mode of the directory that `path` is made to be on an empty volume, whose root has `owner` and `mode`; `None` where it
/// cannot be, or is the root.
pub(super) fn made_in_new(owner: DiskOwner, mode: Mode, path: &[u8]) -> Option<(DiskOwner, Mode)> {
    let root = Entry::directory(owner.uid.raw(), owner.gid.raw(), mode.bits());
    let mut tree = Tree::new(root, Provenance::rule("a new file system"));
    let part = in_tree(&mut tree, Tree::ROOT, path, None).ok()??;
    let inode = tree.inode(part.inode);
    (part.inode != Tree::ROOT).then(|| (inode.stored_owner(), inode.stored_mode()))
}

/// Where a walk is: in the volume, or on the host around it.
enum Here {
    In(InodeId),
    /// Components of the path from the host's root.
    Around(Vec<Vec<u8>>),
}

/// One step on the node around the volume; whether it leads to the volume again. The kubelet follows links there, and looks at the
/// end where it is.
fn steps_back_in(around: &mut Vec<Vec<u8>>, name: Vec<u8>, base: Option<&[&[u8]]>) -> bool {
    if name == b".." {
        around.pop();
    } else {
        around.push(name);
    }
    base.is_some_and(|base| around.iter().map(Vec::as_slice).eq(base.iter().copied()))
}

/// What is above `dir`; `None` where that is not in the volume, and nobody knows where the volume is.
fn above(tree: &Tree, root: InodeId, dir: InodeId, base: Option<&[&[u8]]>) -> Option<Here> {
    if dir != root {
        return Some(Here::In(tree.parent(dir)));
    }
    let (_, above) = base?.split_last()?;
    Some(Here::Around(above.iter().map(|name| name.to_vec()).collect()))
}

fn in_tree(tree: &mut Tree, root: InodeId, path: &[u8], base: Option<&[u8]>) -> Result<Option<Part>, String> {
    // Each component with whether a link on the way brought it.
    let mut pending: Vec<(Vec<u8>, bool)> = parts(path).rev().map(|name| (name.to_vec(), false)).collect();
    let base: Option<Vec<&[u8]>> = base.map(|base| parts(base).collect());
    let leads_out = || Err("failed to prepare subPath: a link leads out of the volume".to_owned());
    let mut here = Here::In(root);
    let mut directory = root;
    let mut links = 0;
    while let Some((name, by_link)) = pending.pop() {
        let dir = match &mut here {
            Here::Around(around) => {
                if steps_back_in(around, name, base.as_deref()) {
                    here = Here::In(root);
                }
                continue;
            }
            Here::In(dir) => *dir,
        };
        if name == b".." {
            here = match above(tree, root, dir, base.as_deref()) {
                Some(above) => above,
                None => return leads_out(),
            };
            continue;
        }
        if tree.inode(dir).kind != FileKind::Directory {
            return Err("failed to prepare subPath: a component is not a directory".to_owned());
        }
        let next = match tree.lookup(dir, &name) {
            Some(next) => next,
            // It may be there, and then it may be of any kind.
            None if tree.is_unlisted(dir) => return Ok(None),
            None if by_link => {
                return Err(
                    "failed to create subPath directory: a link on the way points at nothing".to_owned()
                );
            }
            None => make(tree, root, dir, &name, pending.is_empty())?,
        };
        directory = dir;
        match tree.target(next).map(<[u8]>::to_vec) {
            None => here = Here::In(next),
            Some(target) => {
                links += 1;
                let whole = target.first() == Some(&b'/');
                if links > 40 || whole && base.is_none() {
                    return leads_out();
                }
                if whole {
                    here = Here::Around(Vec::new());
                }
                pending.extend(parts(&target).rev().map(|name| (name.to_vec(), true)));
            }
        }
    }
    let Here::In(inode) = here else { return leads_out() };
    if tree.inode(inode).kind == FileKind::Directory {
        directory = inode;
    }
    Ok(Some(Part { inode, directory }))
}

fn parts(path: &[u8]) -> impl DoubleEndedIterator<Item = &[u8]> {
    path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".")
}

fn make(tree: &mut Tree, root: InodeId, dir: InodeId, name: &[u8], last: bool) -> Result<InodeId, String> {
    let model = *tree.inode(root);
    let parent = *tree.inode(dir);
    let inherits = parent.stored_mode().has(Mode::SET_GROUP_ID);
    let group = if inherits { parent.stored_owner().gid } else { DiskGid::new(0) };
    let mut mode = if last {
        model.stored_mode()
    } else {
        model.stored_mode().masked(Mode::new(0o777)).without(Mode::new(0o022))
    };
    if !last && inherits {
        mode = mode.with(Mode::SET_GROUP_ID);
    }
    let entry = Entry::directory(0, group.raw(), mode.bits())
        .at(Provenance::rule("a missing subPath is made by root with the mode of the volume's root"));
    let unless =
        |certainty: Option<&Unknown>| certainty.cloned().map_or(Certainty::Known, Certainty::Unknown);
    let doubt = |id: InodeId| tree.doubt(id).cloned().unwrap_or_default();
    let (above, of_root) = (doubt(dir), doubt(root));
    // A set-group-id bit above decides about group and mode of what is made.
    let owner = unless(above.mode.unknown().or(if inherits { above.owner.unknown() } else { None }));
    let by_mode = unless(of_root.mode.unknown().or(above.mode.unknown()));
    let entry = entry.doubting(match above.contents {
        // It is made because nothing was there, which is only assumed.
        Certainty::Assumed(text) => Doubt::new(Certainty::Assumed(text.clone()), Certainty::Assumed(text)),
        Certainty::Known | Certainty::Unknown(_) => Doubt { owner, mode: by_mode, ..Doubt::default() },
    });
    tree.add(dir, name, entry).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    macro_rules! made {
        ($($name:ident: $uid:literal:$gid:literal $mode:literal, $path:literal => $($at:literal $agid:literal $amode:literal),+;)+) => {$(
            #[test]
            fn $name() {
                let mut tree = Tree::new(Entry::directory($uid, $gid, $mode), Provenance::rule("test"));
                in_tree(&mut tree, Tree::ROOT, $path, None).unwrap();
                $(
                    let inode = tree.inode(tree.find($at).unwrap());
                    assert_eq!((inode.stored_owner().uid.raw(), inode.stored_owner().gid.raw(), inode.stored_mode()), (0, $agid, Mode::new($amode)));
                )+
            }
        )+};
    }

    // The rows of docs/facts/kubelet.md section 8.
    made! {
        in_an_empty_dir: 0:0 0o777, b"n" => b"n" 0 0o777;
        two_deep_in_an_empty_dir: 0:0 0o777, b"x/y" => b"x" 0 0o755, b"x/y" 0 0o777;
        with_a_filesystem_group: 0:7000 0o2777, b"x/y" => b"x" 7000 0o2755, b"x/y" 7000 0o2777;
        in_memory: 0:0 0o1777, b"x/y" => b"x" 0 0o755, b"x/y" 0 0o1777;
        a_host_path_keeps_its_owner_to_itself: 405:50 0o755, b"n" => b"n" 0 0o755;
        below_a_setgid_host_path: 405:50 0o2770, b"x/y" => b"x" 50 0o2750, b"x/y" 50 0o2770;
        a_closed_host_path: 405:50 0o700, b"x/y" => b"x" 0 0o700, b"x/y" 0 0o700;
    }

    #[test]
    fn links_stay_inside_or_fail() {
        let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("test"));
        let real = tree.add(Tree::ROOT, b"real", Entry::directory(1, 1, 0o700)).unwrap();
        let links: [(&[u8], &[u8]); 6] = [
            (b"in", b"real"),
            (b"out", b"/etc"),
            (b"dangling", b"nowhere"),
            (b"whole", b"/srv/x/real"),
            (b"above", b"../../../etc"),
            (b"around", b"../x/real"),
        ];
        for (name, target) in links {
            let mut link = Entry::new(FileKind::Link, 0, 0, Mode::new(0o777));
            link.target = target.into();
            tree.add(Tree::ROOT, name, link).unwrap();
        }
        let of_real = Ok(Some(Part { inode: real, directory: real }));
        let mut at = |path: &[u8], base: Option<&[u8]>| in_tree(&mut tree, Tree::ROOT, path, base);
        for base in [None, Some(&b"/srv/x"[..])] {
            assert_eq!(at(b"in", base), of_real);
            assert!(at(b"out", base).unwrap_err().contains("out of the volume"));
            assert!(at(b"above", base).unwrap_err().contains("out of the volume"));
            assert!(at(b"dangling", base).unwrap_err().contains("points at nothing"));
            // What is missing behind a link is made, what the link itself leads to is not.
            assert_eq!(
                at(b"in/new", base).unwrap().unwrap().directory,
                at(b"real/new", base).unwrap().unwrap().directory
            );
        }
        // On the node a link may go around by the volume's own path.
        assert_eq!(at(b"whole", Some(b"/srv/x")), of_real);
        assert_eq!(at(b"around", Some(b"/srv/x")), of_real);
        assert!(at(b"whole", None).unwrap_err().contains("out of the volume"));
        assert!(at(b"whole", Some(b"/srv/y")).unwrap_err().contains("out of the volume"));
    }
}
