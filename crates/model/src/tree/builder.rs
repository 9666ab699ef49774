//! Building a tree from paths.

use super::{Certainty, Doubt, Entry, Tree, TreeError};
use crate::fact::{Provenance, Unknown};

/// Adds entries by path, in any order.
///
/// A directory that is added lists everything in it. One that is only named as a parent is taken to be
/// root:root 0755, by a named assumption, and may hold more than what is listed.
#[derive(Debug)]
pub struct TreeBuilder {
    tree: Tree,
    waiting: Vec<(Vec<u8>, Entry)>,
    root: Option<Entry>,
    implied: Entry,
}

impl TreeBuilder {
    /// A builder for the tree of `what`, such as `image tides/gauge:3`, which is only for words.
    #[must_use]
    pub fn new(origin: Provenance, what: &str) -> Self {
        let implied = implied(what);
        Self { tree: Tree::new(implied.clone(), origin), waiting: Vec::new(), root: None, implied }
    }

    /// Adds `entry` at `path`; the root is `/`.
    ///
    /// # Errors
    /// The path is listed twice or is not plain.
    pub fn add(&mut self, path: &[u8], entry: Entry) -> Result<(), TreeError> {
        let parts = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty());
        if parts.clone().any(|part| part == b"..") || path.contains(&0) {
            return Err(TreeError::Name);
        }
        let path = normal(path);
        if path.is_empty() {
            return match self.root.replace(entry) {
                None => Ok(()),
                Some(_) => Err(TreeError::Twice),
            };
        }
        self.waiting.push((path, entry));
        Ok(())
    }

    /// The finished tree, or the path that cannot be placed and why.
    ///
    /// # Errors
    /// The first path, in path order, that is below a non-directory or appears twice.
    pub fn finish(mut self) -> Result<Tree, (Vec<u8>, TreeError)> {
        if let Some(root) = self.root.take() {
            self.tree = Tree::new(root, self.tree.origin.clone());
        }
        // Sorted by path a parent comes before what is in it.
        self.waiting.sort_by(|a, b| a.0.cmp(&b.0));
        for (path, entry) in std::mem::take(&mut self.waiting) {
            let (parent, name) = match path.iter().rposition(|byte| *byte == b'/') {
                Some(slash) => (&path[..slash], &path[slash + 1..]),
                None => (&[][..], path.as_slice()),
            };
            let implied = &self.implied;
            let placed = self
                .tree
                .ensure(parent, |_, _| implied.clone())
                .and_then(|dir| self.tree.add(dir, name, entry));
            if let Err(error) = placed {
                return Err((path, error));
            }
        }
        Ok(self.tree)
    }
}

/// A directory that a tree of `what` only names on the way.
pub(super) fn implied(what: &str) -> Entry {
    let text = "a directory that the tree does not list is 0:0 0755";
    let fact = format!("what else is in the directories that the tree of {what} does not list");
    let unlisted = Unknown::new(&fact, "list the directory itself, with all that is in it");
    let doubt = Doubt::new(Certainty::Assumed(text.into()), Certainty::Unknown(unlisted));
    Entry::directory(0, 0, 0o755).doubting(doubt)
}

fn normal(path: &[u8]) -> Vec<u8> {
    let parts: Vec<&[u8]> =
        path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".").collect();
    parts.join(&b'/')
}

#[cfg(test)]
mod tests {
    use super::*;

    fn origin() -> Provenance {
        Provenance::rule("test")
    }

    #[test]
    fn entries_come_in_any_order_and_unlisted_parents_are_an_assumption() {
        let mut builder = TreeBuilder::new(origin(), "a test");
        builder.add(b"/srv/a/b", Entry::file(1, 2, 0o600)).unwrap();
        builder.add(b"/srv/a", Entry::directory(7, 8, 0o700)).unwrap();
        let tree = builder.finish().unwrap();
        let dir = tree.find(b"/srv/a").unwrap();
        assert_eq!(tree.inode(dir).uid.raw(), 7);
        let srv = tree.find(b"srv").unwrap();
        assert!(matches!(tree.doubt(srv).unwrap().owner, Certainty::Assumed(_)));
        assert_eq!(tree.parent(dir), srv);
    }

    #[test]
    fn what_cannot_be_placed_is_named() {
        let mut builder = TreeBuilder::new(origin(), "a test");
        builder.add(b"/a", Entry::file(0, 0, 0o600)).unwrap();
        builder.add(b"/a/b", Entry::file(0, 0, 0o600)).unwrap();
        assert_eq!(builder.finish().unwrap_err(), (b"a/b".to_vec(), TreeError::NotDirectory));
        assert_eq!(
            TreeBuilder::new(origin(), "a test").add(b"/a/../b", Entry::file(0, 0, 0)),
            Err(TreeError::Name)
        );
    }
}
