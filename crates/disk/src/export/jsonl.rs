//! One JSON object an entry.

use std::io::{self, Write};

use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Marks, Tree};
use serde::Serialize;

use super::{Row, each, has_unknown_attributes};

/// An entry; parts it does not have are left out, unknown ones are null.
#[derive(Debug, Serialize)]
struct EntryJson {
    mivask: u8,
    path: Bytes,
    kind: &'static str,
    uid: Option<u32>,
    gid: Option<u32>,
    mode: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    acl: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    default_acl: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    capabilities: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    label: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    flags: Vec<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    target: Option<Bytes>,
    #[serde(skip_serializing_if = "Option::is_none")]
    device: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    size: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    same_file_as: Option<Bytes>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    unknown: Vec<String>,
}

/// Text where it is UTF-8, hexadecimal where it is not: no name is mangled.
#[derive(Debug, Serialize)]
#[serde(untagged)]
enum Bytes {
    Text(String),
    Hex { hex: String },
}

impl Bytes {
    fn new(bytes: &[u8]) -> Self {
        match std::str::from_utf8(bytes) {
            Ok(text) => Self::Text(text.to_owned()),
            Err(_) => Self::Hex { hex: bytes.iter().map(|byte| format!("{byte:02x}")).collect() },
        }
    }
}

pub(super) fn write(out: &mut dyn Write, tree: &Tree) -> io::Result<()> {
    each(tree, &mut |row| {
        crate::json::compact(out, &entry(tree, &row))?;
        writeln!(out)
    })
}

fn entry(tree: &Tree, row: &Row<'_>) -> EntryJson {
    let id = row.id;
    let inode = tree.inode(row.id);
    let given = !has_unknown_attributes(tree, id);
    let flags = [(Marks::IMMUTABLE, "immutable"), (Marks::APPEND_ONLY, "append-only")];
    let mut unknown = Vec::new();
    if let Some(doubt) = tree.doubt(id) {
        for certainty in [&doubt.owner, &doubt.mode, &doubt.contents] {
            match certainty {
                Certainty::Unknown(missing) => unknown.push(missing.fact.to_string()),
                Certainty::Known | Certainty::Assumed(_) => {}
            }
        }
    }
    EntryJson {
        mivask: 1,
        path: Bytes::new(row.path),
        kind: inode.kind.word(),
        uid: given.then(|| inode.stored_owner().uid.raw()),
        gid: given.then(|| inode.stored_owner().gid.raw()),
        mode: given.then(|| inode.stored_mode().to_string()),
        acl: tree.acl(id).map(ToString::to_string),
        default_acl: tree.default_acl(id).map(ToString::to_string),
        capabilities: tree.capabilities(id).map(ToString::to_string),
        label: tree.extended(id).and_then(|extended| extended.label.as_deref()).map(str::to_owned),
        flags: flags.into_iter().filter(|(mark, _)| inode.marks.has(*mark)).map(|(_, flag)| flag).collect(),
        target: tree.target(id).map(Bytes::new),
        device: tree.device(id).map(|device| format!("{}:{}", device.major, device.minor)),
        size: if inode.kind == FileKind::File { tree.size(id) } else { None },
        same_file_as: row.same.map(Bytes::new),
        unknown,
    }
}
