//! From the listings of single directories to rows, in the order of paths, a directory at a time.

use std::io;
use std::sync::Arc;

use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Content, Entry as Told, Marks};

use super::finished::Finished;
use super::listing::{Found, Listing, Rare};
use crate::dataset::{Class, ClassId, Entry, WayId, Writer};
use crate::gathered::Holes;

/// Entries that wait to be written at most, about: some 60 bytes each.
pub(super) const MOST_KEPT: usize = 1 << 20;

/// A directory whose names are still to be written.
struct Pending {
    /// The path of the directory that it is in.
    above: Arc<[u8]>,
    name: Box<[u8]>,
    way: WayId,
    /// The number of its listing; `None` of one that was not looked into.
    number: Option<u32>,
}

impl Pending {
    fn path(&self) -> Arc<[u8]> {
        match (&*self.above, &*self.name) {
            (b"", name) => name.into(),
            (b"/", name) => [b"/", name].concat().into(),
            (above, name) => [above, b"/", name].concat().into(),
        }
    }
}

/// Writes the listings as they come; number 0 is the root's. A listing that never comes is a failure of the thread that was to bring
/// it, which whoever started that thread sees.
pub(super) fn rows(root: &Told, device: u64, finished: &Finished, writer: &mut Writer) -> io::Result<Holes> {
    let mut holes = Holes::default();
    let who = (root.uid.raw(), root.gid.raw(), root.mode.bits());
    let class = writer.class(Class {
        extended: root.extended.clone(),
        marks: root.marks.given(),
        ..Class::new(FileKind::Directory, who, None)
    });
    writer.enter(b"/", WayId::NONE);
    let (kind, inode) = (FileKind::Directory, None);
    writer.entry(&Entry { name: b"", kind, size: None, class, inode, target: None })?;
    let way = writer.through(WayId::NONE, class);
    let mut pending = vec![Pending { above: b"".as_slice().into(), name: b"/".as_slice().into(), way, number: Some(0) }];
    while let Some(next) = pending.pop() {
        let path = next.path();
        writer.enter(&path, next.way);
        let Some(number) = next.number else {
            writer.unlisted()?;
            continue;
        };
        let Some(listing) = finished.wait_for(number as usize) else { break };
        holes = holes.and(listing.holes);
        if listing.unlisted.is_some() {
            writer.unlisted()?;
        }
        let first = pending.len();
        for found in &listing.entries {
            let (name, rare) = (listing.name(found), rare(&listing, found));
            let class = class_of(writer, found, rare);
            let inode = rare.and_then(|rare| rare.shared).map(|shared| numbered(shared, device));
            let size = (found.kind == FileKind::File).then_some(found.size);
            let target = rare.map(|rare| &*rare.target).filter(|_| found.kind == FileKind::Link);
            writer.entry(&Entry { name, kind: found.kind, size, class, inode, target })?;
            let hidden = rare.and_then(|rare| rare.doubt.as_ref()).map(|doubt| &doubt.contents);
            let hidden = matches!(hidden, Some(Certainty::Unknown(_)));
            if found.directory.is_some() || hidden && found.kind == FileKind::Directory {
                let way = writer.through(next.way, class);
                pending.push(Pending { above: path.clone(), name: name.into(), way, number: found.directory });
            }
        }
        pending[first..].reverse();
    }
    Ok(holes)
}

fn rare<'l>(listing: &'l Listing, found: &Found) -> Option<&'l Rare> {
    found.rare.checked_sub(1).map(|index| &listing.rare[index as usize])
}

fn class_of(writer: &mut Writer, found: &Found, rare: Option<&Rare>) -> ClassId {
    let who = (found.uid, found.gid, found.mode);
    let Some(rare) = rare else { return writer.plain(found.kind, found.marks, who, found.empty) };
    let content = match &rare.content {
        Some(content) => content.clone(),
        None if found.empty => Content::Empty,
        None => Content::Unknown,
    };
    writer.class(Class {
        extended: rare.extended.clone(),
        marks: Marks::given(found.marks),
        content,
        device: rare.device,
        ..Class::new(found.kind, who, rare.doubt.as_ref())
    })
}

/// A number for an inode of several names: its own, or of another file system one that none of this has.
const fn numbered((device, inode): (u64, u64), of_root: u64) -> u64 {
    if device == of_root { inode } else { inode ^ (device << 20) ^ (1 << 63) }
}
