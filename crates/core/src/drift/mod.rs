//! What is different between two trees of one disk: by path, and summed by what changed and where.

mod sum;

use std::sync::Arc;

use mivask_model::acl::Acl;
use mivask_model::ids::DiskOwner;
use mivask_model::mode::{FileKind, Mode, symbolic};
use mivask_model::tree::{InodeId, Tree};

pub use sum::{DriftGroup, summed};

/// What is stored of one entry; `None` where it is not known.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct StoredFacts {
    /// What it is.
    pub kind: FileKind,
    /// Owner and group as stored.
    pub owner: Option<DiskOwner>,
    /// Permission bits.
    pub mode: Option<Mode>,
    /// Its access ACL, where that says more than the mode.
    pub acl: Option<Arc<str>>,
    /// The default ACL of a directory.
    pub default_acl: Option<Arc<str>>,
    /// What a link points at.
    pub target: Option<Vec<u8>>,
    /// Its file capabilities, in words.
    pub capabilities: Option<Arc<str>>,
}

impl StoredFacts {
    fn of(tree: &Tree, id: InodeId) -> Self {
        let text = |acl: &Acl| Arc::from(acl.to_string());
        Self {
            kind: tree.inode(id).kind,
            owner: tree.owner(id).value(),
            mode: tree.mode(id).value(),
            acl: tree.acl(id).map(text),
            default_acl: tree.default_acl(id).map(text),
            target: tree.target(id).map(<[u8]>::to_vec),
            capabilities: tree.capabilities(id).map(|held| Arc::from(held.to_string())),
        }
    }

    /// Owner and mode in words.
    #[must_use]
    pub fn in_words(&self) -> String {
        let mode = self.mode.map_or_else(
            || self.kind.noun().to_owned(),
            |mode| format!("{} {mode}", symbolic(self.kind, mode)),
        );
        let owner = self.owner.map_or_else(|| "?:?".to_owned(), |owner| owner.to_string());
        format!("{mode} {owner}")
    }
}

/// One path that is different.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Drift {
    /// It is there in both, and not the same.
    Changed {
        /// Before.
        before: StoredFacts,
        /// After.
        after: StoredFacts,
    },
    /// It is there only afterwards, with so many entries below.
    Appeared {
        /// What it is.
        after: StoredFacts,
        /// Entries below it.
        below: usize,
    },
    /// It was there only before, with so many entries below.
    Gone {
        /// What it was.
        before: StoredFacts,
        /// Entries below it.
        below: usize,
    },
}

/// What was compared.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
#[non_exhaustive]
pub struct Compared {
    /// Entries that are in both.
    pub both: usize,
    /// Entries of which a fact is known on one side only, so that nothing is said of it.
    pub unknown: usize,
}

/// Compares `before` with `after` and gives each path that differs to `found`, in the order of paths. What appeared or is gone
/// with everything in it comes once.
pub fn drift(before: &Tree, after: &Tree, found: &mut dyn FnMut(&[u8], Drift)) -> Compared {
    let mut walk = Walk { trees: (before, after), compared: Compared::default(), found };
    walk.both(b"/", (Tree::ROOT, Tree::ROOT));
    let mut pending = vec![(Vec::new(), Tree::ROOT, Tree::ROOT)];
    while let Some((path, old, new)) = pending.pop() {
        pending.extend(walk.directory(&path, (old, new)).into_iter().rev());
    }
    walk.compared
}

struct Walk<'a> {
    trees: (&'a Tree, &'a Tree),
    compared: Compared,
    found: &'a mut dyn FnMut(&[u8], Drift),
}

/// A directory that is in both, with its path.
type Pending = (Vec<u8>, InodeId, InodeId);

impl Walk<'_> {
    /// Compares the entries of a directory; those that are directories in both come back.
    fn directory(&mut self, path: &[u8], (old, new): (InodeId, InodeId)) -> Vec<Pending> {
        let (before, after) = self.trees;
        let mut deeper = Vec::new();
        let mut olds = before.children(old).peekable();
        let mut news = after.children(new).peekable();
        let join = |name: &[u8]| [path, b"/", name].concat();
        loop {
            // Both are sorted by name.
            let order = match (olds.peek(), news.peek()) {
                (None, None) => return deeper,
                (Some(_), None) => std::cmp::Ordering::Less,
                (None, Some(_)) => std::cmp::Ordering::Greater,
                (Some((left, _)), Some((right, _))) => left.cmp(right),
            };
            let left = if order.is_le() { olds.next() } else { None };
            let right = if order.is_ge() { news.next() } else { None };
            match (left, right) {
                (Some((name, old)), Some((_, new))) => {
                    let directory = |tree: &Tree, id| tree.inode(id).kind == FileKind::Directory;
                    let path = self.named(path, name, (old, new));
                    if directory(before, old) && directory(after, new) {
                        deeper.push((path.unwrap_or_else(|| join(name)), old, new));
                    }
                }
                (Some((name, old)), None) => {
                    let below = before.below(old).len().saturating_sub(1);
                    (self.found)(&join(name), Drift::Gone { before: StoredFacts::of(before, old), below });
                }
                (None, Some((name, new))) => {
                    let below = after.below(new).len().saturating_sub(1);
                    (self.found)(&join(name), Drift::Appeared { after: StoredFacts::of(after, new), below });
                }
                (None, None) => {}
            }
        }
    }

    /// Compares one entry; its path comes back where it had to be written.
    fn named(&mut self, directory: &[u8], name: &[u8], both: (InodeId, InodeId)) -> Option<Vec<u8>> {
        if self.is_same(both) {
            return None;
        }
        let path = [directory, b"/", name].concat();
        self.both(&path, both);
        Some(path)
    }

    /// Whether two entries are the same as far as they are known; counts them.
    fn is_same(&mut self, (old, new): (InodeId, InodeId)) -> bool {
        self.compared.both += 1;
        let (before, after) = self.trees;
        let (left, right) = (before.inode(old), after.inode(new));
        let owners = (before.owner(old).value(), after.owner(new).value());
        let modes = (before.mode(old).value(), after.mode(new).value());
        let told = |left: bool, right: bool| left == right;
        if !told(owners.0.is_some(), owners.1.is_some()) || !told(modes.0.is_some(), modes.1.is_some()) {
            self.compared.unknown += 1;
        }
        let known = |same: bool, left: bool, right: bool| same || !left || !right;
        left.kind == right.kind
            && known(owners.0 == owners.1, owners.0.is_some(), owners.1.is_some())
            && known(modes.0 == modes.1, modes.0.is_some(), modes.1.is_some())
            && before.acl(old) == after.acl(new)
            && before.default_acl(old) == after.default_acl(new)
            && before.capabilities(old) == after.capabilities(new)
            && before.target(old) == after.target(new)
    }

    fn both(&mut self, path: &[u8], (old, new): (InodeId, InodeId)) {
        let (before, after) = self.trees;
        if path == b"/" && self.is_same((old, new)) {
            return;
        }
        let (before, after) = (StoredFacts::of(before, old), StoredFacts::of(after, new));
        (self.found)(path, Drift::Changed { before, after });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mivask_model::fact::Provenance;
    use mivask_model::tree::Entry;

    fn tree(entries: &[(&str, Entry)]) -> Tree {
        let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("test"));
        for (path, entry) in entries {
            let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
            let directory = tree.find(above.as_bytes()).expect("its directory");
            tree.add(directory, name.as_bytes(), entry.clone()).expect("a new name");
        }
        tree
    }

    #[test]
    fn what_changed_appeared_and_is_gone() {
        let file = Entry::file;
        let before = tree(&[
            ("a", file(1, 1, 0o644)),
            ("d", Entry::directory(1, 1, 0o755)),
            ("d/x", file(1, 1, 0o644)),
            ("e", Entry::directory(1, 1, 0o755)),
            ("e/y", file(1, 1, 0o644)),
        ]);
        let after = tree(&[
            ("a", file(1, 1, 0o666)),
            ("b", Entry::directory(1, 1, 0o755)),
            ("b/z", file(1, 1, 0o600)),
            ("d", Entry::directory(1, 1, 0o755)),
            ("d/x", Entry::directory(1, 1, 0o755)),
        ]);
        let mut found = Vec::new();
        let compared = drift(&before, &after, &mut |path, one| {
            let word = match one {
                Drift::Changed { before, after } => format!("{} -> {}", before.in_words(), after.in_words()),
                Drift::Appeared { below, .. } => format!("appeared {below}"),
                Drift::Gone { below, .. } => format!("gone {below}"),
            };
            found.push(format!("{} {word}", String::from_utf8_lossy(path)));
        });
        let wanted = [
            "/a -rw-r--r-- 0644 1:1 -> -rw-rw-rw- 0666 1:1",
            "/b appeared 1",
            "/e gone 1",
            "/d/x -rw-r--r-- 0644 1:1 -> drwxr-xr-x 0755 1:1",
        ];
        assert_eq!(found, wanted);
        assert_eq!(compared, Compared { both: 4, unknown: 0 });
    }
}
