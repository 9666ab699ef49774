//! Walking one tree alone, as root and without mounts: links are followed, `..` stops at the root.

use super::{Certainty, InodeId, Tree};
use crate::mode::FileKind;

/// Links that are followed before giving up (`MAXSYMLINKS`).
const MOST_LINKS: usize = 40;

/// What a path leads to.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Spot {
    /// An inode.
    There(InodeId),
    /// Nothing: `dir` is the last directory that is there, `names` are missing below it.
    Missing {
        /// The last directory that is there.
        dir: InodeId,
        /// What is missing below it.
        names: Vec<Vec<u8>>,
    },
    /// The same, but `dir` may hold more than what is listed.
    Unlisted {
        /// The last directory that is there.
        dir: InodeId,
        /// What is not listed below it.
        names: Vec<Vec<u8>>,
    },
    /// It cannot be walked: the errno's name.
    Nowhere(&'static str),
}

impl Tree {
    /// What `path` leads to from the root; the last link is followed if given so.
    pub fn resolve(&self, path: &[u8], follow: bool) -> Spot {
        let mut pending: Vec<Vec<u8>> = parts(path).rev().map(<[u8]>::to_vec).collect();
        let mut here = Self::ROOT;
        let mut links = 0;
        while let Some(name) = pending.pop() {
            if self.inode(here).kind != FileKind::Directory {
                return Spot::Nowhere("ENOTDIR");
            }
            if name == b".." {
                here = self.parent(here);
                continue;
            }
            let Some(next) = self.lookup(here, &name) else {
                pending.push(name);
                pending.reverse();
                let dir = here;
                let names = pending;
                return if self.is_unlisted(here) {
                    Spot::Unlisted { dir, names }
                } else {
                    Spot::Missing { dir, names }
                };
            };
            match self.target(next) {
                // The last component is followed only where that is asked for.
                Some(target) if follow || !pending.is_empty() => {
                    links += 1;
                    if links > MOST_LINKS {
                        return Spot::Nowhere("ELOOP");
                    }
                    if target.first() == Some(&b'/') {
                        here = Self::ROOT;
                    }
                    pending.extend(parts(target).rev().map(<[u8]>::to_vec));
                }
                Some(_) | None => here = next,
            }
        }
        Spot::There(here)
    }

    /// The directory that `path` leads to, links followed as root would without mounts; `None` where it leads to none.
    #[must_use]
    pub fn directory_at(&self, path: &[u8]) -> Option<InodeId> {
        match self.resolve(path, true) {
            Spot::There(id) if self.inode(id).kind == FileKind::Directory => Some(id),
            Spot::There(_) | Spot::Missing { .. } | Spot::Unlisted { .. } | Spot::Nowhere(_) => None,
        }
    }

    /// The path of directory `dir` from the root.
    pub fn path_of(&self, dir: InodeId) -> Vec<u8> {
        let mut parts = Vec::new();
        let mut here = dir;
        while here != Self::ROOT {
            let above = self.parent(here);
            let name = self.children(above).find(|(_, child)| *child == here).map(|(name, _)| name.to_vec());
            parts.push(name.unwrap_or_default());
            here = above;
        }
        parts.iter().rev().flat_map(|part| [b"/", part.as_slice()].concat()).collect()
    }

    /// Whether `dir` may hold more than what is listed.
    pub fn is_unlisted(&self, dir: InodeId) -> bool {
        self.doubt(dir).is_some_and(|doubt| matches!(doubt.contents, Certainty::Unknown(_)))
    }
}

fn parts(path: &[u8]) -> impl DoubleEndedIterator<Item = &[u8]> {
    path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fact::Provenance;
    use crate::mode::Mode;
    use crate::tree::Entry;

    #[test]
    fn links_lead_on_and_dots_stop_at_the_root() {
        let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("test"));
        let usr = tree.add(Tree::ROOT, b"usr", Entry::directory(0, 0, 0o755)).unwrap();
        let bin = tree.add(usr, b"bin", Entry::directory(0, 0, 0o755)).unwrap();
        for (name, target) in [(&b"bin"[..], &b"usr/bin"[..]), (b"top", b"/usr"), (b"loop", b"loop")] {
            let mut link = Entry::new(FileKind::Link, 0, 0, Mode::new(0o777));
            link.target = target.into();
            tree.add(Tree::ROOT, name, link).unwrap();
        }
        assert_eq!(tree.resolve(b"/bin", true), Spot::There(bin));
        assert_eq!(tree.resolve(b"/bin", false), Spot::There(tree.find(b"bin").unwrap()));
        assert_eq!(tree.resolve(b"../../top/./bin/", true), Spot::There(bin));
        assert_eq!(tree.resolve(b"/loop/x", true), Spot::Nowhere("ELOOP"));
        let names = vec![b"a".to_vec(), b"b".to_vec()];
        assert_eq!(tree.resolve(b"/bin/a/b", true), Spot::Missing { dir: bin, names });
    }
}
