//! Rows of a tree that is in memory: of images, archives, listings and surveys.

use std::collections::BTreeMap;
use std::io;

use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Content, InodeId, Marks, Tree};

use super::class::{Class, ClassId, Holds};
use super::ways::WayId;
use super::writer::{Entry, Writer};

/// Writes every name of `tree`, each directory's together.
///
/// # Errors
/// The dataset cannot be written.
pub(super) fn write(writer: &mut Writer, tree: &Tree) -> io::Result<()> {
    let mut shared = names(tree);
    shared.retain(|_, count| *count > 1);
    let mut pending = vec![(Tree::ROOT, b"/".to_vec(), WayId::NONE)];
    while let Some((directory, path, above)) = pending.pop() {
        let way = writer.directory(&path, above, class(tree, directory))?;
        let first = pending.len();
        for (name, id) in tree.children(directory) {
            if tree.inode(id).kind == FileKind::Directory {
                let below =
                    if path == b"/" { [b"/", name].concat() } else { [&path, &b"/"[..], name].concat() };
                pending.push((id, below, way));
                continue;
            }
            let class = writer.class(class(tree, id));
            let inode = shared.contains_key(&id).then(|| u64::from(id.number()));
            writer.entry(&row(tree, id, name, class, inode))?;
        }
        pending[first..].reverse();
    }
    Ok(())
}

/// How many names each inode has.
fn names(tree: &Tree) -> BTreeMap<InodeId, u32> {
    let mut all = BTreeMap::new();
    for directory in tree.ids() {
        for (_, id) in tree.children(directory) {
            if tree.inode(id).kind != FileKind::Directory {
                *all.entry(id).or_insert(0) += 1;
            }
        }
    }
    all
}

fn class(tree: &Tree, id: InodeId) -> Class {
    let inode = tree.inode(id);
    let (owner, mode) = (inode.stored_owner(), inode.stored_mode());
    let who = (owner.uid.raw(), owner.gid.raw(), mode.bits());
    let holds = match tree.doubt(id).map(|doubt| &doubt.contents) {
        Some(Certainty::Unknown(_)) => Holds::Unlisted,
        _ if inode.kind == FileKind::Directory && tree.children(id).next().is_none() => Holds::Nothing,
        Some(Certainty::Known | Certainty::Assumed(_)) | None => Holds::Entries,
    };
    Class {
        extended: tree.extended(id).cloned().unwrap_or_default(),
        marks: Marks::given(inode.marks),
        content: if inode.kind == FileKind::File { tree.content(id).clone() } else { Content::Unknown },
        holds,
        device: tree.device(id),
        ..Class::new(inode.kind, who, tree.doubt(id))
    }
}

fn row<'a>(tree: &'a Tree, id: InodeId, name: &'a [u8], class: ClassId, inode: Option<u64>) -> Entry<'a> {
    let kind = tree.inode(id).kind;
    let size = if kind == FileKind::File { tree.size(id) } else { None };
    Entry { name, kind, size, class, inode, target: tree.target(id) }
}
