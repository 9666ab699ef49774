//! A tree that grows member by member, as an unpacker would make it.

use mivask_model::act::quoted;
use mivask_model::fact::Provenance;
use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Doubt, Entry, InodeId, Tree, TreeError};

use crate::gathered::Holes;

/// The longest path that is taken for one.
const LONGEST_PATH: usize = 1 << 16;

pub(crate) struct Grower {
    pub tree: Tree,
    holes: Holes,
    /// Whether the sizes of files are kept.
    pub sizes: bool,
    implied: Entry,
    /// The directory of the last member, since neighbours share it.
    latest: Option<(Vec<u8>, InodeId)>,
    /// Whether something gave way.
    orphans: bool,
    /// Whether the root itself was given.
    pub root_told: bool,
}

impl Grower {
    /// With nothing in it yet; `what` is for words. Directories that are only named on the way hold nothing else.
    pub(crate) fn new(origin: Provenance, what: &str, sizes: bool) -> Self {
        Self::with_rest(origin, what, sizes, Certainty::Known)
    }

    /// The same, with what else may be in directories that are only named on the way.
    pub(crate) fn with_rest(origin: Provenance, what: &str, sizes: bool, contents: Certainty) -> Self {
        let text = format!("a directory that {what} does not list is 0:0 0755");
        let doubt = Doubt::new(Certainty::Assumed(text.into()), contents);
        let implied = Entry::directory(0, 0, 0o755).doubting(doubt);
        Self {
            tree: Tree::new(implied.clone(), origin),
            holes: Holes::default(),
            sizes,
            implied,
            latest: None,
            orphans: false,
            root_told: false,
        }
    }

    /// Gives what is at `first` the further name `path`.
    pub(crate) fn same(&mut self, path: &[u8], first: &[u8]) -> Result<(), String> {
        let plain = self.plain(path)?;
        let first = self.plain(first)?;
        let Some((above, name)) = split(&plain) else { return Ok(()) };
        let given = |error: TreeError| format!("{}: {error}", quoted(path));
        let dir = self.directory(above).map_err(given)?;
        let Some(inode) = self.tree.find(&first).filter(|id| self.is_file(*id)) else {
            self.holes.failed += 1;
            return Ok(());
        };
        if self.tree.lookup(dir, name) != Some(inode) {
            self.clear(dir, name);
            self.tree.link(dir, name, inode).map_err(given)?;
        }
        Ok(())
    }

    /// The directory at a path, made where it is missing.
    pub(crate) fn at(&mut self, path: &[u8]) -> Result<InodeId, String> {
        let plain = self.plain(path)?;
        self.directory(&plain).map_err(|error| format!("{}: {error}", quoted(path)))
    }

    /// As [`Self::put`]; what is above becomes a directory where it was only taken for a file.
    pub(crate) fn put_below(&mut self, path: &[u8], entry: Entry) -> Result<InodeId, String> {
        let plain = self.plain(path)?;
        if let Some((above, _)) = split(&plain)
            // Neighbours follow each other, and what the last one was put into is a directory.
            && self.latest.as_ref().is_none_or(|(latest, _)| latest != above)
            && let Some(file) =
                self.tree.find(above).filter(|id| self.is_file(*id) && self.tree.doubt(*id).is_some())
        {
            let parent = split(above).and_then(|(parent, _)| self.tree.find(parent)).unwrap_or(Tree::ROOT);
            self.tree
                .turn_into_directory(file, parent)
                .map_err(|error| format!("{}: {error}", quoted(path)))?;
        }
        self.put(path, entry)
    }

    /// Puts an inode at a path; a directory keeps what is in it, anything else gives way.
    pub(crate) fn put(&mut self, path: &[u8], entry: Entry) -> Result<InodeId, String> {
        let plain = self.plain(path)?;
        let Some((above, name)) = split(&plain) else {
            if entry.kind == FileKind::Directory {
                self.tree.become_like(Tree::ROOT, &entry);
                self.root_told = true;
            }
            return Ok(Tree::ROOT);
        };
        let given = |error: TreeError| format!("{}: {error}", quoted(path));
        let dir = self.directory(above).map_err(given)?;
        let there = self.tree.lookup(dir, name);
        let both = entry.kind == FileKind::Directory && there.is_some_and(|id| !self.is_file(id));
        if let Some(id) = there
            && both
        {
            self.tree.become_like(id, &entry);
            return Ok(id);
        }
        if there.is_some() {
            self.clear(dir, name);
        }
        self.tree.add(dir, name, entry).map_err(given)
    }

    /// Whether something took the place of something else.
    pub(crate) const fn gave_way(&self) -> bool {
        self.orphans
    }

    /// The tree, without what gave way.
    pub(crate) fn finish(self) -> (Tree, Holes) {
        (if self.orphans { self.tree.compacted() } else { self.tree }, self.holes)
    }

    /// Takes away what a later layer says is gone: one name, or everything that is in a directory.
    pub(crate) fn whiteout(&mut self, path: &[u8], all: bool) -> Result<(), String> {
        let path = self.plain(path)?;
        if all {
            if let Some(dir) = self.tree.directory_at(&path) {
                self.latest = None;
                self.orphans = true;
                self.tree.forget_all(dir);
            }
        } else if let Some((above, name)) = split(&path)
            && let Some(dir) = self.tree.directory_at(above)
        {
            self.clear(dir, name);
        }
        Ok(())
    }

    fn clear(&mut self, dir: InodeId, name: &[u8]) {
        if self.tree.lookup(dir, name).is_some() {
            self.latest = None;
            self.orphans = true;
            self.tree.forget(dir, name);
        }
    }

    fn is_file(&self, id: InodeId) -> bool {
        self.tree.inode(id).kind != FileKind::Directory
    }

    /// The directory at a path; what is missing on the way is made as an unpacker makes it, and a file gives way.
    fn directory(&mut self, path: &[u8]) -> Result<InodeId, TreeError> {
        if let Some((latest, id)) = &self.latest
            && latest == path
        {
            return Ok(*id);
        }
        let mut here = Tree::ROOT;
        let mut end = 0;
        for name in path.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            end += name.len() + usize::from(end > 0);
            let there = match self.tree.lookup(here, name) {
                // A link on the way is followed, as far as it leads to a directory.
                Some(id) if self.is_file(id) => self.tree.directory_at(&path[..end]),
                other => other,
            };
            here = match there {
                Some(id) => id,
                None => {
                    self.clear(here, name);
                    self.tree.add(here, name, self.implied.clone())?
                }
            };
        }
        self.latest = Some((path.to_vec(), here));
        Ok(here)
    }

    /// A path without empty parts and dots.
    pub(crate) fn plain(&self, path: &[u8]) -> Result<Vec<u8>, String> {
        let shown = || quoted(&path[..path.len().min(80)]).to_string();
        if path.len() > LONGEST_PATH {
            return Err(format!("{}...: a path of {} bytes", shown(), path.len()));
        }
        let mut parts: Vec<&[u8]> = Vec::new();
        for part in path.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".") {
            if part == b".." {
                return Err(format!("{}: the path climbs out of the archive", shown()));
            }
            if part.len() > 255 || part.contains(&0) {
                return Err(format!("{}: a name has at most 255 bytes, none of them NUL", shown()));
            }
            parts.push(part);
        }
        Ok(parts.join(&b'/'))
    }
}

/// The directory and the name; `None` for the root.
fn split(path: &[u8]) -> Option<(&[u8], &[u8])> {
    if path.is_empty() {
        return None;
    }
    Some(match path.iter().rposition(|byte| *byte == b'/') {
        Some(slash) => (&path[..slash], &path[slash + 1..]),
        None => (&[], path),
    })
}
