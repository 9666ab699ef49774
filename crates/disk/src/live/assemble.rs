//! From the listings of single directories to one tree, in the order of paths whoever was first.

use mivask_model::fact::Provenance;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Content, Doubt, Entry, InodeId, Tree, TreeError};
use rustc_hash::FxHashMap;

use super::finished::Finished;
use super::listing::{Found, Listing};
use crate::gathered::Holes;

/// Puts the listings together as they come; number 0 is the root's. `whole` is told of each directory whose entries are in the tree, in
/// the order of paths. A listing that never comes is a failure of the
/// thread that was to bring it, which whoever started that thread sees.
pub(super) fn assemble(
    root: Entry,
    finished: &Finished,
    origin: Provenance,
    sizes: bool,
    whole: &mut dyn FnMut(&Tree, InodeId),
) -> Result<(Tree, Holes), TreeError> {
    let mut tree = Tree::new(root, origin);
    let mut holes = Holes::default();
    let mut shared: FxHashMap<(u64, u64), InodeId> = FxHashMap::default();
    // Most inodes of a disk are like one before.
    let mut models = FxHashMap::default();
    let mut pending = vec![(Tree::ROOT, 0_usize)];
    while let Some((dir, number)) = pending.pop() {
        let Some(listing) = finished.wait_for(number) else { break };
        holes = holes.and(listing.holes);
        if let Some(doubt) = &listing.unlisted {
            tree.doubt_contents(dir, doubt.contents.clone());
        }
        tree.expect_entries(dir, listing.entries.len());
        let first = pending.len();
        for found in &listing.entries {
            let name = listing.name(found);
            let rare = found.rare.checked_sub(1).map(|index| &listing.rare[index as usize]);
            let identity = rare.and_then(|rare| rare.shared);
            if let Some(known) = identity.and_then(|identity| shared.get(&identity)) {
                tree.link(dir, name, *known)?;
                continue;
            }
            let plain = !sizes && found.rare == 0 && found.directory.is_none();
            let alike = (found.kind, found.marks.given(), found.mode, found.uid, found.gid, found.empty);
            let model = if plain { models.get(&alike).copied() } else { None };
            let id = match model {
                Some(model) => tree.add_like(dir, name, model)?,
                None => {
                    let id = tree.add(dir, name, entry(&listing, found, sizes))?;
                    if plain && found.kind != FileKind::Directory {
                        models.insert(alike, id);
                    }
                    id
                }
            };
            if let Some(identity) = identity {
                shared.insert(identity, id);
            }
            pending.extend(found.directory.map(|number| (id, number as usize)));
        }
        whole(&tree, dir);
        pending[first..].reverse();
    }
    Ok((tree, holes))
}

pub(super) fn entry(listing: &Listing, found: &Found, sizes: bool) -> Entry {
    let mut entry = Entry::new(found.kind, found.uid, found.gid, Mode::new(found.mode));
    entry.marks = found.marks;
    if found.empty {
        entry.content = Content::Empty;
    }
    entry.size = (sizes && found.kind == FileKind::File).then_some(found.size);
    if let Some(rare) = found.rare.checked_sub(1).map(|index| &listing.rare[index as usize]) {
        entry.extended = rare.extended.clone();
        entry.target = rare.target.clone();
        entry.device = rare.device;
        if let Some(content) = &rare.content {
            entry.content = content.clone();
        }
        entry.doubt = rare.doubt.clone().filter(|doubt| *doubt != Doubt::default());
    }
    entry
}
