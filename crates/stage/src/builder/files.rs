//! `cp`.

use mivask_model::act::{Verb, quoted};
use mivask_model::fact::Unknown;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Doubt, Entry, InodeId, Spot, Tree};

use super::copy::leaf;
use super::done::Done;
use super::entries::inside;
use super::ground::{BuildState, Number};
use super::options::Grammar;
use crate::recipe::BuildStep;

const COPY: Grammar = Grammar {
    valued: "",
    plain: "arRpfvdPLT",
    long: &[
        ("archive", 'a'),
        ("recursive", 'r'),
        ("force", 'f'),
        ("verbose", 'v'),
        ("dereference", 'L'),
        ("no-dereference", 'P'),
        ("no-target-directory", 'T'),
    ],
};
/// How `cp` copies.
#[derive(Clone, Copy)]
struct How {
    /// Directories with what is in them.
    recursive: bool,
    /// Owner, group and mode as they are.
    keeps: bool,
}

impl BuildState<'_> {
    pub(super) fn copies(
        &mut self,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<Done> {
        let parsed = COPY.parse(words)?;
        let (to, sources) = parsed.words.split_last()?;
        let recursive = parsed.has('a') || parsed.has('r') || parsed.has('R');
        let links = !parsed.has('L') && (recursive || parsed.has('d') || parsed.has('P'));
        // Links below would be followed as well.
        if recursive && parsed.has('L') {
            return None;
        }
        let how = How { recursive, keeps: parsed.has('a') || parsed.has('p') };
        let (to, into) = self.destination(to, sources.len(), parsed.has('T'));
        for source in sources {
            let path = self.absolute(source.as_bytes());
            let target = if into { inside(&to, source) } else { to.clone() };
            match self.tree.resolve(&path, !links) {
                Spot::There(id) if self.tree.inode(id).kind == FileKind::Directory && !recursive => {
                    self.fail(&step.words, "-r is not given for a directory", &step.from);
                }
                Spot::There(id) => {
                    let before = self.tree.clone();
                    self.copy_all((&before, id), target, how, (runner, step));
                }
                Spot::Missing { .. } => self.fail(&step.words, "ENOENT", &step.from),
                Spot::Nowhere(errno) => self.fail(&step.words, errno, &step.from),
                Spot::Unlisted { .. } => {
                    self.has_to_be_there(&path, step);
                    let what = format!("what {} puts at {}", step.words, quoted(&target));
                    self.touched(
                        &target,
                        &Unknown::new(&what, "give the tree of the built image in a scene file"),
                    );
                }
            }
        }
        Some(Done::Known)
    }

    /// `id` of `before` and what is below it at `target`.
    fn copy_all(
        &mut self,
        (before, id): (&Tree, InodeId),
        target: Vec<u8>,
        how: How,
        who: (&(Number, Number), &BuildStep),
    ) {
        let mut pending = vec![(id, target)];
        while let Some((id, target)) = pending.pop() {
            if !self.copy_one((before, id), &target, how, who) || !how.recursive {
                continue;
            }
            if let Some(doubt) = before.doubt(id)
                && let Certainty::Unknown(unknown) = &doubt.contents
                && let Spot::There(made) = self.tree.resolve(&target, true)
            {
                self.may_hold_more(made, unknown);
            }
            let below =
                before.children(id).map(|(name, child)| (child, [&target, b"/".as_slice(), name].concat()));
            pending.extend(below);
        }
    }

    /// One inode; whether what is below it is to be copied, too.
    fn copy_one(
        &mut self,
        (before, id): (&Tree, InodeId),
        target: &[u8],
        how: How,
        (runner, step): (&(Number, Number), &BuildStep),
    ) -> bool {
        let source = leaf(before, id);
        let directory = source.kind == FileKind::Directory;
        let follow = source.kind != FileKind::Link;
        let (dir, names, listed) = match self.tree.resolve(target, follow) {
            Spot::There(there) => {
                let onto = self.tree.inode(there).kind == FileKind::Directory;
                if onto != directory {
                    let errno = if onto { "EISDIR" } else { "ENOTDIR" };
                    self.fail(&step.words, errno, &step.from);
                    return false;
                }
                // A copy that is refused keeps nothing.
                if !directory && follow && !self.written(there, target, runner, step) {
                    return false;
                }
                if !directory && !follow {
                    let entry = self.entry(FileKind::Link, runner, 0o777, &step.from);
                    self.tree.replace(there, Entry { target: source.target.clone(), ..entry });
                }
                if how.keeps {
                    self.keep(there, &source, runner, step);
                }
                return directory;
            }
            Spot::Nowhere(errno) => {
                self.fail(&step.words, errno, &step.from);
                return false;
            }
            Spot::Missing { dir, names } if names.len() == 1 => (dir, names, true),
            Spot::Unlisted { dir, names } if names.len() == 1 => (dir, names, false),
            Spot::Missing { .. } => {
                self.fail(&step.words, "ENOENT", &step.from);
                return false;
            }
            Spot::Unlisted { .. } => {
                self.has_to_be_there(target, step);
                return false;
            }
        };
        let verb = if directory { Verb::MakesDirectory(source.mode) } else { Verb::Creates(source.mode) };
        if !self.permitted(&verb, target, runner, step) {
            return false;
        }
        let mut entry = self.copied(&source, runner, step);
        if !listed {
            entry = self.unlisted(entry, target);
        }
        let Some(made) = names.first().and_then(|name| self.add(dir, name, entry)) else { return false };
        if how.keeps {
            self.keep(made, &source, runner, step);
        }
        directory
    }

    /// What is made of `source` where nothing is there.
    fn copied(&self, source: &Entry, runner: &(Number, Number), step: &BuildStep) -> Entry {
        // Without -p the mode goes through the umask, and tools differ about set-id bits.
        let special = source.mode.masked(Mode::new(0o6000)) != Mode::default();
        let mode = source.mode.without(Mode::new(0o6000)).without(self.umask);
        let mut entry = self.entry(source.kind, runner, mode.bits(), &step.from);
        entry.content = source.content.clone();
        entry.target = source.target.clone();
        let mut doubt = entry.doubt.clone().unwrap_or_default();
        doubt.mode = source.doubt.as_ref().map(|doubt| doubt.mode.clone()).unwrap_or_default();
        if special && source.kind != FileKind::Link {
            let fact = format!("whether {} keeps the set-id bits", step.words);
            doubt.mode = Certainty::Unknown(Unknown::new(&fact, "tools differ: set them with chmod"));
        }
        entry.doubt = (doubt != Doubt::default()).then_some(doubt);
        entry
    }

    /// Owner, group and mode of the source; who is not root keeps the mode alone.
    fn keep(&mut self, id: InodeId, source: &Entry, runner: &(Number, Number), step: &BuildStep) {
        let doubt = source.doubt.clone().unwrap_or_default();
        if runner.0 == Ok(0) {
            self.tree.own(
                id,
                mivask_model::ids::DiskOwner { uid: source.uid, gid: source.gid },
                source.mode,
                step.from.clone(),
            );
            self.tree.doubt_owner_and_mode(id, doubt.owner, doubt.mode);
            return;
        }
        if source.kind != FileKind::Link {
            let mode = source.mode.without(Mode::new(0o6000));
            let owner = self.tree.doubt(id).map(|doubt| doubt.owner.clone()).unwrap_or_default();
            self.tree.set_mode(id, mode, step.from.clone());
            self.tree.doubt_owner_and_mode(id, owner, doubt.mode);
        }
    }
}
