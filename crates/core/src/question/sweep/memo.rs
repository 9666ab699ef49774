//! What was found for inodes that no check can tell apart.

use std::collections::BTreeSet;

use indexmap::IndexMap;
use mivask_model::mount::{MountId, SourceId};
use mivask_model::tree::{Certainty, InodeId, Likeness, Marks, Tree};
use mivask_rules::decide::after_walk;
use mivask_rules::view::{Place, View};
use rustc_hash::FxBuildHasher;

use super::column::Endings;

/// All that the columns of an entry depend on: its own likeness, that of its directory (for deleting), the mount, and
/// whether anything is in it. Of whole words only: a byte among them would cost padding, which cannot be compared or hashed
/// in one go.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub(super) struct Key {
    mount: MountId,
    directory: usize,
    entry: Likeness,
    /// What is not known of the entry.
    doubts: usize,
    /// 1 where something is in it, else 0.
    full: usize,
}

pub(super) struct Memo {
    known: IndexMap<Key, Endings, FxBuildHasher>,
    directories: IndexMap<(Likeness, usize), (), FxBuildHasher>,
    /// The directory asked about last, and its number among the likenesses.
    latest: Option<(Place, usize)>,
    /// The entry asked about last: the files of a directory are mostly alike, and comparing costs less than hashing.
    repeated: Option<(Key, Endings)>,
    /// Inodes that something is mounted on, by source.
    covered: BTreeSet<(SourceId, InodeId)>,
}

impl Memo {
    pub(super) fn new(view: &View<'_>) -> Self {
        let on = view.mounts().iter().filter_map(|(_, mount)| mount.on);
        let covered = on.flat_map(|(mount, inode)| {
            view.mount(mount).variants.iter().map(move |variant| (variant.source, inode))
        });
        Self {
            known: IndexMap::default(),
            directories: IndexMap::default(),
            latest: None,
            repeated: None,
            covered: covered.collect(),
        }
    }

    /// Whether something may be mounted on the inode, through this mount or another.
    pub(super) fn is_covered(&self, place: Place) -> bool {
        place.inode.is_some_and(|inode| self.covered.contains(&(place.source, inode)))
    }

    /// What the entry is looked up by; `None` where it is one of its kind: unknown facts or mounts are about.
    pub(super) fn key(&mut self, view: &View<'_>, found: after_walk::Found<'_>) -> Option<Key> {
        let tree = &view.source(found.place).tree;
        let entry = found.place.inode?;
        let directory = found.directory.inode?;
        if found.there != found.place || self.is_covered(found.place) {
            return None;
        }
        let (doubts, of_directory) = (doubts(tree, entry)?, doubts(tree, directory)?);
        let directory = match self.latest {
            Some((place, number)) if place == found.directory => number,
            _ => {
                let known = (tree.likeness(directory), of_directory);
                let (number, _) = self.directories.insert_full(known, ());
                self.latest = Some((found.directory, number));
                number
            }
        };
        let full = usize::from(tree.child_count(entry) > 0);
        Some(Key { mount: found.place.mount, directory, entry: tree.likeness(entry), doubts, full })
    }

    pub(super) fn get(&mut self, key: &Key) -> Option<Endings> {
        if let Some((last, endings)) = &self.repeated
            && last == key
        {
            return Some(*endings);
        }
        let endings = *self.known.get(key)?;
        self.repeated = Some((*key, endings));
        Some(endings)
    }

    /// The number of what was found under this key, from 0.
    pub(super) fn number(&self, key: &Key) -> Option<usize> {
        self.known.get_index_of(key)
    }

    pub(super) fn insert(&mut self, key: Key, endings: Endings) {
        self.known.insert(key, endings);
    }
}

/// What is not known of an inode, as bits. The questions differ from inode to inode, their answers do not: each is asked for
/// itself. `None` where something is taken for granted, which is named for each inode, or where not even the kind is known.
fn doubts(tree: &Tree, id: InodeId) -> Option<usize> {
    if !tree.inode(id).marks.has(Marks::DOUBTED) {
        return Some(0);
    }
    let Some(doubt) = tree.doubt(id) else { return Some(0) };
    if doubt.kind != Certainty::Known {
        return None;
    }
    [&doubt.owner, &doubt.mode, &doubt.contents].into_iter().try_fold(0, |bits, certainty| match certainty {
        Certainty::Known => Some(bits << 1),
        Certainty::Unknown(_) => Some(bits << 1 | 1),
        Certainty::Assumed(_) => None,
    })
}
