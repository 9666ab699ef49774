//! mtree(5), with whole paths.

use std::io::{self, Write};

use mivask_model::mode::FileKind;
use mivask_model::tree::{Marks, Tree};

use super::{Row, each, has_unknown_attributes};

pub(super) fn write(out: &mut dyn Write, tree: &Tree) -> io::Result<()> {
    writeln!(out, "#mtree")?;
    each(tree, &mut |row| {
        let Row { path, id, .. } = row;
        let inode = tree.inode(id);
        escaped(out, path)?;
        write!(out, " type={}", word(inode.kind))?;
        // What is not known is left out, as the format has it.
        if !has_unknown_attributes(tree, id) {
            write!(
                out,
                " uid={} gid={} mode={}",
                inode.stored_owner().uid,
                inode.stored_owner().gid,
                inode.stored_mode()
            )?;
        }
        if let Some(size) = tree.size(id) {
            write!(out, " size={size}")?;
        }
        if let Some(target) = tree.target(id) {
            write!(out, " link=")?;
            escaped(out, target)?;
        }
        if let Some(device) = tree.device(id) {
            write!(out, " device=linux,{},{}", device.major, device.minor)?;
        }
        let flags = [(Marks::IMMUTABLE, "schg"), (Marks::APPEND_ONLY, "sappnd")];
        let flags: Vec<&str> =
            flags.into_iter().filter(|(mark, _)| inode.marks.has(*mark)).map(|(_, flag)| flag).collect();
        if !flags.is_empty() {
            write!(out, " flags={}", flags.join(","))?;
        }
        writeln!(out)
    })
}

const fn word(kind: FileKind) -> &'static str {
    match kind {
        FileKind::File => "file",
        FileKind::Directory => "dir",
        FileKind::Link => "link",
        FileKind::Fifo => "fifo",
        FileKind::Socket => "socket",
        FileKind::CharDevice => "char",
        FileKind::BlockDevice => "block",
    }
}

/// Octal escapes for whatever is not a plain letter of a name.
fn escaped(out: &mut dyn Write, name: &[u8]) -> io::Result<()> {
    for byte in name {
        if byte.is_ascii_graphic() && !matches!(byte, b'\\' | b'#' | b'=' | b'*' | b'?' | b'[') {
            out.write_all(&[*byte])?;
        } else {
            write!(out, "\\{byte:03o}")?;
        }
    }
    Ok(())
}
