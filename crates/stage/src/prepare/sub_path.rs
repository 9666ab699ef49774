//! The part of a volume that a mount shows (docs/facts/kubelet.md section 8).

use std::sync::Arc;

use mivask_model::fact::{Provenance, Unknown};
use mivask_model::ids::DiskGid;
use mivask_model::mode::{FileKind, Mode};
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
/// it `(root mode & 0777) & ~022`. Links are followed as long as they stay inside the volume. `None` where no one
/// listed what is there.
///
/// # Errors
/// Why it cannot be prepared, in words.
pub(super) fn resolve(stage: &mut Stage, volume: &Prepared, path: &[u8]) -> Result<Option<Part>, String> {
    let Some(root) = volume.root else { return Ok(None) };
    let mut found = None;
    for variant in &volume.variants {
        let source = stage.storage.source_mut(variant.source);
        found = in_tree(Arc::make_mut(&mut source.tree), root, path)?;
    }
    Ok(found)
}

fn in_tree(tree: &mut Tree, root: InodeId, path: &[u8]) -> Result<Option<Part>, String> {
    let mut pending: Vec<Vec<u8>> = parts(path).rev().map(<[u8]>::to_vec).collect();
    let mut here = root;
    let mut directory = root;
    let mut links = 0;
    while let Some(name) = pending.pop() {
        if name == b".." {
            here = if here == root { root } else { tree.parent(here) };
            continue;
        }
        if tree.inode(here).kind != FileKind::Directory {
            return Err("failed to prepare subPath: a component is not a directory".to_owned());
        }
        let next = match tree.lookup(here, &name) {
            Some(next) => next,
            // It may be there, and then it may be of any kind.
            None if tree.is_unlisted(here) => return Ok(None),
            None if links > 0 => {
                return Err(
                    "failed to create subPath directory: a link on the way points at nothing".to_owned()
                );
            }
            None => make(tree, root, here, &name, pending.is_empty())?,
        };
        directory = here;
        match tree.target(next).map(<[u8]>::to_vec) {
            None => here = next,
            Some(target) => {
                links += 1;
                if links > 40 || target.first() == Some(&b'/') {
                    return Err("failed to prepare subPath: a link leads out of the volume".to_owned());
                }
                pending.extend(parts(&target).rev().map(<[u8]>::to_vec));
            }
        }
    }
    if tree.inode(here).kind == FileKind::Directory {
        directory = here;
    }
    Ok(Some(Part { inode: here, directory }))
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
                in_tree(&mut tree, Tree::ROOT, $path).unwrap();
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
        for (name, target) in [(&b"in"[..], &b"real"[..]), (b"out", b"/etc"), (b"dangling", b"nowhere")] {
            let mut link = Entry::new(FileKind::Link, 0, 0, Mode::new(0o777));
            link.target = target.into();
            tree.add(Tree::ROOT, name, link).unwrap();
        }
        assert_eq!(in_tree(&mut tree, Tree::ROOT, b"in"), Ok(Some(Part { inode: real, directory: real })));
        assert!(in_tree(&mut tree, Tree::ROOT, b"out").unwrap_err().contains("out of the volume"));
        assert!(in_tree(&mut tree, Tree::ROOT, b"dangling").unwrap_err().contains("points at nothing"));
    }
}
