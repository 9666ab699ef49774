//! The mounts of one actor, and which of them is on top of what.

use super::{Mount, MountId};
use crate::tree::InodeId;

/// An inode of a mount.
type Point = (MountId, InodeId);

/// The mounts one actor sees, the root first; later mounts may cover earlier ones.
#[derive(Clone, Debug, Default)]
pub struct MountTable {
    mounts: Vec<Mount>,
    /// Every inode that something is mounted on, and the newest that is: sorted, since a pod may have a thousand mounts and a walk asks at each step.
    covered: Vec<(Point, MountId)>,
}

impl MountTable {
    /// The root mount's number.
    pub const ROOT: MountId = MountId(0);

    /// Adds a mount on top of what is there.
    pub fn push(&mut self, mount: Mount) -> MountId {
        let id = MountId::at(self.mounts.len());
        if let Some(point) = mount.on {
            self.cover(point, id);
        }
        self.mounts.push(mount);
        id
    }

    /// Gives back what was kept free for more: nothing is mounted behind the last one.
    pub fn close(&mut self) {
        self.mounts.shrink_to_fit();
        self.covered.shrink_to_fit();
    }

    /// The mount `id`.
    #[must_use]
    pub fn get(&self, id: MountId) -> &Mount {
        &self.mounts[id.number()]
    }

    /// Every mount, the root first, in the order they were made.
    pub fn iter(&self) -> impl Iterator<Item = (MountId, &Mount)> {
        self.mounts.iter().enumerate().map(|(index, mount)| (MountId::at(index), mount))
    }

    /// Changes every mount, the root first.
    pub fn change(&mut self, mut change: impl FnMut(MountId, &mut Mount)) {
        let mut moved = false;
        for (index, mount) in self.mounts.iter_mut().enumerate() {
            let on = mount.on;
            change(MountId::at(index), mount);
            moved |= mount.on != on;
        }
        if moved {
            self.covered.clear();
            let points: Vec<(Point, MountId)> =
                self.iter().filter_map(|(id, mount)| Some((mount.on?, id))).collect();
            points.into_iter().for_each(|(point, id)| self.cover(point, id));
        }
    }

    /// Makes the possible source number `variant` of `id` the only one.
    pub fn choose(&mut self, id: MountId, variant: usize) {
        let variants = &mut self.mounts[id.number()].variants;
        *variants = variants.get(variant).cloned().into_iter().collect();
    }

    /// Takes the flags of the same mounts of `other`.
    pub fn take_flags(&mut self, other: &Self) {
        for (mount, model) in self.mounts.iter_mut().zip(&other.mounts) {
            if mount.facts.at == model.facts.at {
                mount.flags = model.flags;
            }
        }
    }

    /// The mount that covers `inode` of `mount`, the newest if several do.
    #[must_use]
    pub fn covering(&self, mount: MountId, inode: InodeId) -> Option<MountId> {
        let at = self.place((mount, inode)).ok()?;
        Some(self.covered[at].1)
    }

    /// Every inode that something is mounted on, sorted.
    pub fn covered(&self) -> impl Iterator<Item = (MountId, InodeId)> {
        self.covered.iter().map(|(point, _)| *point)
    }

    fn place(&self, point: Point) -> Result<usize, usize> {
        self.covered.binary_search_by_key(&point, |(covered, _)| *covered)
    }

    /// A newer mount is on top from now on.
    fn cover(&mut self, point: Point, id: MountId) {
        match self.place(point) {
            Ok(at) => self.covered[at].1 = id,
            Err(at) => self.covered.insert(at, (point, id)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fact::Provenance;
    use crate::mode::{FileKind, Mode};
    use crate::mount::{MountKind, SourceId};
    use crate::tree::{Entry, Tree};

    fn mount(on: Option<Point>) -> Mount {
        Mount { on, ..Mount::root(SourceId::at(0), MountKind::Host, Provenance::rule("test")) }
    }

    #[test]
    fn the_newest_mount_is_on_top_wherever_points_move() {
        let directory = || Entry::new(FileKind::Directory, 0, 0, Mode::new(0o755));
        let mut tree = Tree::new(directory(), Provenance::rule("test"));
        let [a, b, c] = [b"a", b"b", b"c"]
            .map(|name| tree.add(Tree::ROOT, name, directory()).expect("there are few inodes"));
        let mut table = MountTable::default();
        let root = table.push(mount(None));
        let first = table.push(mount(Some((root, b))));
        let second = table.push(mount(Some((root, a))));
        let third = table.push(mount(Some((root, b))));
        assert_eq!(table.covering(root, b), Some(third));
        assert_eq!(table.covering(root, a), Some(second));
        assert_eq!((table.covering(root, c), table.covering(first, b)), (None, None));
        table.change(|id, mount| {
            if id == third {
                mount.on = Some((first, b));
            }
        });
        assert_eq!(table.covering(root, b), Some(first));
        assert_eq!(table.covering(first, b), Some(third));
        assert_eq!(table.covered().collect::<Vec<_>>(), [(root, a), (root, b), (first, b)]);
    }
}
