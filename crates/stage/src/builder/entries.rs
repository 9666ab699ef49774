//! `mv`, `rm` and `ln`.

use mivask_model::act::Verb;
use mivask_model::mode::FileKind;
use mivask_model::tree::{InodeId, Spot, Tree};

use super::done::Done;
use super::ground::{BuildState, Number};
use super::options::Grammar;
use crate::recipe::BuildStep;

const MOVE: Grammar = Grammar { valued: "", plain: "fvT", long: &[("force", 'f'), ("verbose", 'v')] };
const REMOVE: Grammar =
    Grammar { valued: "", plain: "rRfvd", long: &[("recursive", 'r'), ("force", 'f'), ("verbose", 'v')] };
const LINK: Grammar = Grammar {
    valued: "",
    plain: "sfnvT",
    long: &[("symbolic", 's'), ("force", 'f'), ("no-dereference", 'n'), ("verbose", 'v')],
};
impl BuildState<'_> {
    /// Where the words behind the sources lead: the target of each, by its name where they go into a directory.
    pub(super) fn destination(&self, to: &str, count: usize, never: bool) -> (Vec<u8>, bool) {
        let path = self.absolute(to.as_bytes());
        let there = matches!(self.tree.resolve(&path, true),
            Spot::There(id) if self.tree.inode(id).kind == FileKind::Directory);
        (path, !never && (there || count > 1))
    }

    pub(super) fn moves(
        &mut self,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<Done> {
        let parsed = MOVE.parse(words)?;
        let (to, sources) = parsed.words.split_last()?;
        let (to, into) = self.destination(to, sources.len(), parsed.has('T'));
        for source in sources {
            let path = self.absolute(source.as_bytes());
            let target = if into { inside(&to, source) } else { to.clone() };
            let (from, new) = (entry_of(&self.tree, &path), entry_of(&self.tree, &target));
            let found = self.tree.resolve(&path, false);
            // What nobody listed may be a directory, and then it goes into that.
            if matches!(self.tree.resolve(&target, false), Spot::Unlisted { .. }) {
                return None;
            }
            match (found, from, new) {
                (Spot::There(_), Some((dir, name)), Some((into, new))) => {
                    if !self.permitted(&Verb::Renames(target.clone()), &path, runner, step) {
                        continue;
                    }
                    if self.tree.move_entry((dir, &name), (into, &new)).is_err() {
                        return None;
                    }
                }
                (Spot::Missing { .. }, ..) | (Spot::There(_), None, _) => {
                    self.fail(&step.words, "ENOENT", &step.from);
                }
                (Spot::Nowhere(errno), ..) => self.fail(&step.words, errno, &step.from),
                // Where it goes is not listed, or what goes there.
                (Spot::There(_) | Spot::Unlisted { .. }, ..) => return None,
            }
        }
        Some(Done::Known)
    }

    pub(super) fn removes(
        &mut self,
        tool: &str,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<Done> {
        let parsed = REMOVE.parse(words)?;
        let recursive = parsed.has('r') || parsed.has('R');
        for word in &parsed.words {
            let path = self.absolute(word.as_bytes());
            let place = entry_of(&self.tree, &path);
            match (self.tree.resolve(&path, false), place) {
                (Spot::There(id), Some((dir, name))) => {
                    let directory = self.tree.inode(id).kind == FileKind::Directory;
                    let full = directory && (self.tree.child_count(id) > 0 || self.tree.is_unlisted(id));
                    let alone = tool == "rmdir" || parsed.has('d');
                    if directory && !recursive && !alone {
                        self.fail(&step.words, "EISDIR", &step.from);
                        continue;
                    }
                    if directory && !recursive && full {
                        self.fail(&step.words, "ENOTEMPTY", &step.from);
                        continue;
                    }
                    // Whether somebody else than root may remove all of it is a question of every entry.
                    if full && runner.0 != Ok(0) {
                        return None;
                    }
                    let verb = if directory { Verb::RemovesDirectory } else { Verb::Deletes };
                    if self.permitted(&verb, &path, runner, step) {
                        self.tree.forget(dir, &name);
                    }
                }
                (Spot::There(_), None) => return None,
                (Spot::Missing { .. }, _) if !parsed.has('f') => self.fail(&step.words, "ENOENT", &step.from),
                (Spot::Nowhere(errno), _) if !parsed.has('f') => self.fail(&step.words, errno, &step.from),
                (Spot::Missing { .. } | Spot::Nowhere(_) | Spot::Unlisted { .. }, _) => {}
            }
        }
        Some(Done::Known)
    }

    pub(super) fn links(
        &mut self,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<Done> {
        let parsed = LINK.parse(words)?;
        let (targets, to) = match parsed.words.split_last()? {
            (_, []) => (parsed.words.as_slice(), "."),
            (to, targets) => (targets, *to),
        };
        let path = self.absolute(to.as_bytes());
        let link = matches!(self.tree.resolve(&path, false),
            Spot::There(id) if self.tree.inode(id).kind == FileKind::Link);
        let (path, into) = self.destination(to, targets.len(), parsed.has('T') || parsed.has('n') && link);
        for target in targets {
            let at = if into { inside(&path, target) } else { path.clone() };
            let (dir, name) = match (entry_of(&self.tree, &at), self.tree.resolve(&at, false)) {
                (Some((dir, name)), Spot::There(there)) => {
                    if self.tree.inode(there).kind == FileKind::Directory || !parsed.has('f') {
                        self.fail(&step.words, "EEXIST", &step.from);
                        continue;
                    }
                    (dir, name)
                }
                (Some(place), Spot::Missing { .. }) => place,
                (_, Spot::Unlisted { .. }) => return None,
                (_, Spot::Nowhere(errno)) => {
                    self.fail(&step.words, errno, &step.from);
                    continue;
                }
                (None, _) => {
                    self.fail(&step.words, "ENOENT", &step.from);
                    continue;
                }
            };
            if parsed.has('s') {
                if !self.permitted(&Verb::Points(target.as_bytes().to_vec()), &at, runner, step) {
                    continue;
                }
                let mut entry = self.entry(FileKind::Link, runner, 0o777, &step.from);
                entry.target = target.as_bytes().into();
                self.tree.forget(dir, &name);
                self.add(dir, &name, entry);
                continue;
            }
            match self.tree.resolve(&self.absolute(target.as_bytes()), false) {
                Spot::There(id) if self.tree.inode(id).kind != FileKind::Directory => {
                    self.tree.forget(dir, &name);
                    self.tree.link(dir, &name, id).ok()?;
                }
                Spot::There(_) => self.fail(&step.words, "EPERM", &step.from),
                Spot::Missing { .. } => self.fail(&step.words, "ENOENT", &step.from),
                Spot::Nowhere(errno) => self.fail(&step.words, errno, &step.from),
                Spot::Unlisted { .. } => return None,
            }
        }
        Some(Done::Known)
    }
}

/// `source` by its own name in the directory `to`; what it holds where it ends in a dot.
pub(super) fn inside(to: &[u8], source: &str) -> Vec<u8> {
    let name = source.trim_end_matches('/').rsplit('/').next().unwrap_or_default();
    if matches!(name, "." | ".." | "") { to.to_vec() } else { [to, b"/", name.as_bytes()].concat() }
}

/// The directory that the last component of `path` is in, and that component; `None` where no such directory is listed.
pub(super) fn entry_of(tree: &Tree, path: &[u8]) -> Option<(InodeId, Vec<u8>)> {
    let end = path.iter().rposition(|byte| *byte != b'/').map(|end| end + 1)?;
    let path = &path[..end];
    let cut = path.iter().rposition(|byte| *byte == b'/')?;
    let name = path[cut + 1..].to_vec();
    if matches!(name.as_slice(), b"." | b"..") {
        return None;
    }
    match tree.resolve(if cut == 0 { b"/" } else { &path[..cut] }, true) {
        Spot::There(dir) if tree.inode(dir).kind == FileKind::Directory => Some((dir, name)),
        Spot::There(_) | Spot::Missing { .. } | Spot::Unlisted { .. } | Spot::Nowhere(_) => None,
    }
}
