//! Ways: the chains of directories' classes above entries.

use rustc_hash::FxHashMap;

use super::class::{ClassId, digest};

/// The number of a way: a digest of the way before it and the class of its last directory. 0 is that of the root itself, above
/// which nothing is.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(crate) struct WayId(pub(crate) i64);

impl WayId {
    /// Above the root there is nothing.
    pub(crate) const NONE: Self = Self(0);
}

/// The number of the way through a directory of `class` at the end of `above`.
pub(super) fn id(above: i64, class: i64) -> i64 {
    digest(&[b"way", &above.to_le_bytes(), &class.to_le_bytes()])
}

/// The ways of a volume so far: the way above, the last directory's class, and how many directories there are.
#[derive(Debug, Default)]
pub(super) struct Ways {
    all: FxHashMap<i64, (i64, ClassId, u32)>,
    known: FxHashMap<(i64, ClassId), WayId>,
}

impl Ways {
    /// The way through a directory of this class, which is itself at the end of `above`.
    pub(super) fn through(&mut self, above: WayId, class: ClassId) -> WayId {
        if let Some(known) = self.known.get(&(above.0, class)) {
            return *known;
        }
        let depth = self.all.get(&above.0).map_or(0, |(_, _, depth)| *depth) + 1;
        let id = WayId(id(above.0, class.0));
        self.all.insert(id.0, (above.0, class, depth));
        self.known.insert((above.0, class), id);
        id
    }

    /// Every way: its number, the way above it, the class of its last directory and how many directories it has.
    pub(super) fn sorted(&self) -> Vec<(i64, i64, ClassId, u32)> {
        let mut all: Vec<_> =
            self.all.iter().map(|(id, (above, class, depth))| (*id, *above, *class, *depth)).collect();
        all.sort_unstable_by_key(|(id, _, _, depth)| (*depth, *id));
        all
    }
}
