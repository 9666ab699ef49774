//! What a source gave.

use std::sync::Arc;

use mivask_core::tree::Tree;

/// The facts of one source.
#[derive(Debug)]
pub struct Gathered {
    /// The tree.
    pub tree: Arc<Tree>,
    /// What it could not tell.
    pub holes: Holes,
}

/// Parts of a source that stayed unknown, counted.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Holes {
    /// Entries that went away while they were looked at.
    pub vanished: u64,
    /// Entries and directories that the reader may not look at.
    pub denied: u64,
    /// Entries that could not be read for another reason.
    pub failed: u64,
    /// Directories on which another file system is mounted, which were not entered.
    pub boundaries: u64,
}

impl Holes {
    /// Whether something that belongs to the source stayed unknown; a boundary is no such thing.
    #[must_use]
    pub const fn any(&self) -> bool {
        self.vanished + self.denied + self.failed > 0
    }

    /// Both together.
    #[must_use]
    pub const fn and(self, other: Self) -> Self {
        Self {
            vanished: self.vanished + other.vanished,
            denied: self.denied + other.denied,
            failed: self.failed + other.failed,
            boundaries: self.boundaries + other.boundaries,
        }
    }
}
