//! From the listings of single directories to rows, in the order of paths, a directory at a time.

use std::io;
use std::sync::Arc;

use mivask_model::mode::FileKind;
use mivask_model::tree::{Content, Entry as Told, Marks};

use super::finished::Finished;
use super::listing::{Found, Listing, Rare};
use crate::dataset::{Class, Entry, Holds, WayId, Writer};
use crate::gathered::Holes;

/// Entries that wait to be written at most, about: some 60 bytes each.
pub(super) const MOST_KEPT: usize = 1 << 20;

/// A directory whose row and names are still to be written.
struct Pending {
    /// The path of the directory that it is in.
    above: Arc<[u8]>,
    name: Box<[u8]>,
    /// The way to it.
    way: WayId,
    /// What is said of it, but for what is in it.
    class: Class,
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
    let (extended, marks) = (root.extended.clone(), root.marks.given());
    let class = Class { extended, marks, ..Class::new(FileKind::Directory, who, None) };
    let (above, name) = (b"".as_slice().into(), b"/".as_slice().into());
    let mut pending = vec![Pending { above, name, way: WayId::NONE, class, number: Some(0) }];
    while let Some(next) = pending.pop() {
        let path = next.path();
        let Some(number) = next.number else {
            writer.directory(&path, next.way, Class { holds: Holds::Unlisted, ..next.class })?;
            continue;
        };
        let Some(listing) = finished.wait_for(number as usize) else { break };
        holes = holes.and(listing.holes);
        let holds = match (&listing.unlisted, listing.entries.is_empty()) {
            (Some(_), _) => Holds::Unlisted,
            (None, true) => Holds::Nothing,
            (None, false) => Holds::Entries,
        };
        let way = writer.directory(&path, next.way, Class { holds, ..next.class })?;
        let first = pending.len();
        for found in &listing.entries {
            let (name, rare) = (listing.name(found), rare(&listing, found));
            if found.kind == FileKind::Directory {
                let (above, name, class) = (path.clone(), name.into(), special(found, rare));
                pending.push(Pending { above, name, way, class, number: found.directory });
                continue;
            }
            let class = match rare {
                Some(_) => writer.class(special(found, rare)),
                None => {
                    writer.plain(found.kind, found.marks, (found.uid, found.gid, found.mode), found.empty)
                }
            };
            let inode = rare.and_then(|rare| rare.shared).map(|shared| numbered(shared, device));
            let size = (found.kind == FileKind::File).then_some(found.size);
            let target = rare.map(|rare| &*rare.target).filter(|_| found.kind == FileKind::Link);
            writer.entry(&Entry { name, kind: found.kind, size, class, inode, target })?;
        }
        pending[first..].reverse();
    }
    Ok(holes)
}

fn rare<'l>(listing: &'l Listing, found: &Found) -> Option<&'l Rare> {
    found.rare.checked_sub(1).map(|index| &listing.rare[index as usize])
}

/// A class with whatever is special about it.
fn special(found: &Found, rare: Option<&Rare>) -> Class {
    let doubt = rare.and_then(|rare| rare.doubt.as_ref());
    let told = rare.and_then(|rare| rare.content.clone());
    let content = told.unwrap_or(if found.empty { Content::Empty } else { Content::Unknown });
    Class {
        extended: rare.map(|rare| rare.extended.clone()).unwrap_or_default(),
        marks: Marks::given(found.marks),
        content,
        device: rare.and_then(|rare| rare.device),
        ..Class::new(found.kind, (found.uid, found.gid, found.mode), doubt)
    }
}

/// A number for an inode of several names: its own, or of another file system one that none of this has.
const fn numbered((device, inode): (u64, u64), of_root: u64) -> u64 {
    if device == of_root { inode } else { inode ^ (device << 20) ^ (1 << 63) }
}
