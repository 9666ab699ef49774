//! A directory's entries sorted by what is told of them, before they are.

use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{InodeId, Marks, Tree};
use mivask_rules::decide::after_walk;
use mivask_rules::profile::is_near;
use mivask_rules::view::Place;

use super::alike::Entries;
use super::column::{Cell, Ending, Endings};
use super::pass::Pass;

impl Pass<'_, '_> {
    /// The entries of the last directory, the first of those of which the same is told for all of them. Where that takes more than their
    /// likeness, each is by itself.
    pub(super) fn sorted(&mut self, count: usize) -> Entries {
        let alone = Entries::Single(0..count);
        let Some(level) = self.levels.last() else { return alone };
        let (directory, closed, length) = (level.place, level.closed, level.path);
        self.path.truncate(length);
        // An engine's profile goes by paths, and what is perhaps not reached is told in other words.
        let by_path = self.view.profile.is_some() && is_near(&[&self.path, &b"/"[..]].concat());
        let Some(dir) = directory.inode.filter(|_| !by_path) else { return alone };
        if closed.is_some_and(|shut| shut.cell == Cell::Open) {
            return alone;
        }
        self.sets.begin();
        let mut groups = Vec::new();
        for entry in 0..count {
            let view = self.view;
            let tree = &view.source(directory).tree;
            let Some((name, inode)) = tree.child(dir, entry) else { break };
            let place = Place { inode: Some(inode), ..directory };
            if is_own(tree, inode) || self.memo.is_covered(place) || view.is_of_either_kind(place) {
                groups.push((entry, 1));
                continue;
            }
            let found = after_walk::Found { directory, name, place, there: place };
            let Some(told) = self.told(found, inode, closed) else { return alone };
            self.sets.add(told, entry, &mut groups);
        }
        Entries::Together(groups.into_iter())
    }

    /// The number of what is told of an entry; `None` where it does not hold for all that are like it.
    fn told(
        &mut self,
        found: after_walk::Found<'_>,
        inode: InodeId,
        closed: Option<Ending>,
    ) -> Option<usize> {
        let tree = &self.view.source(found.place).tree;
        let facts = tree.inode(inode);
        let (kind, runs) = (facts.kind, facts.stored_mode().has_any(Mode::ANY_EXECUTE));
        if let Some(shut) = closed {
            return Some(self.sets.number((Endings::all(kind, shut), kind, runs)));
        }
        let key = self.memo.key(self.view, found)?;
        if let Some(told) = self.memo.number(&key).and_then(|number| self.sets.of_memo(number)) {
            return Some(told);
        }
        let length = self.path.len();
        self.path.push(b'/');
        self.path.extend_from_slice(found.name);
        let endings = self.endings(found, kind, closed);
        self.path.truncate(length);
        // What was not kept holds for this one alone.
        let number = self.memo.number(&key)?;
        Some(self.sets.insert(number, (endings, kind, runs)))
    }
}

/// Whether an entry has facts of its own: what a link points to, what is not known of it, what is in a directory.
fn is_own(tree: &Tree, id: InodeId) -> bool {
    let inode = tree.inode(id);
    matches!(inode.kind, FileKind::Directory | FileKind::Link) || inode.marks.has(Marks::DOUBTED)
}
