//! Mode, owner, size and name, a line an entry.

use std::io::{self, Write};

use mivask_model::act::quoted;
use mivask_model::mode::symbolic;
use mivask_model::tree::Tree;

use super::{Row, each, has_unknown_attributes};

pub(super) fn write(out: &mut dyn Write, tree: &Tree) -> io::Result<()> {
    each(tree, &mut |row| {
        let Row { path, id, same } = row;
        let inode = tree.inode(id);
        if has_unknown_attributes(tree, id) {
            write!(out, "?????????? ?/?")?;
        } else {
            write!(
                out,
                "{} {}/{}",
                symbolic(inode.kind, inode.stored_mode()),
                inode.stored_owner().uid,
                inode.stored_owner().gid
            )?;
        }
        match (tree.device(id), tree.size(id)) {
            (Some(device), _) => write!(out, " {},{}", device.major, device.minor)?,
            (None, Some(size)) => write!(out, " {size}")?,
            (None, None) => write!(out, " -")?,
        }
        write!(out, " {}", quoted(path))?;
        if let Some(target) = tree.target(id) {
            write!(out, " -> {}", quoted(target))?;
        }
        if let Some(same) = same {
            write!(out, " link to {}", quoted(same))?;
        }
        writeln!(out)
    })
}
