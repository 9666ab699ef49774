//! `chmod`, `chown` and `chgrp`.

use mivask_model::act::{Owner, Verb, quoted};
use mivask_model::fact::Unknown;
use mivask_model::mode::{FileKind, Mode, ModeChange};
use mivask_model::tree::{Certainty, InodeId, Spot};

use super::ground::{BuildState, Number};
use super::names::Found;
use super::options::Grammar;
use crate::recipe::BuildStep;

const CHANGE: Grammar = Grammar {
    valued: "",
    plain: "Rvcfh",
    long: &[
        ("recursive", 'R'),
        ("verbose", 'v'),
        ("changes", 'c'),
        ("silent", 'f'),
        ("quiet", 'f'),
        ("no-dereference", 'h'),
    ],
};

impl BuildState<'_> {
    pub(super) fn change_modes(
        &mut self,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<()> {
        // A symbolic change may begin with a minus, which is not an option.
        let at = words.iter().position(|word| !word.starts_with('-') || is_change(word))?;
        let parsed = CHANGE.parse(&[&words[..at], &words[at + 1..]].concat())?;
        let change: ModeChange = words[at].parse().ok()?;
        let exact = matches!(change, ModeChange::Exact(_));
        for (id, path) in self.targets(&parsed.words, (parsed.has('R'), true), parsed.has('f'), step) {
            let inode = *self.tree.inode(id);
            let directory = inode.kind == FileKind::Directory;
            if !self.permitted(&Verb::SetsMode(change.clone()), &path, runner, step) {
                continue;
            }
            let mode = change.applied_to(inode.stored_mode(), directory, self.umask);
            self.set_mode(id, mode, exact, &step.from);
            let set_id = Mode::new(0o6000).masked(inode.stored_mode());
            let sets = exact || words[at].contains('=');
            if directory && sets && set_id != Mode::default() && (!exact || !mode.has(set_id)) {
                let fact = format!("whether {} leaves {} its set-id bits", step.words, quoted(&path));
                let unknown =
                    Unknown::new(&fact, "tools differ: write u-s,g-s or set them in the same number");
                self.tree.doubt_attributes(id, Certainty::Unknown(unknown));
            }
        }
        Some(())
    }

    pub(super) fn change_owners(
        &mut self,
        group_only: bool,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<()> {
        let parsed = CHANGE.parse(words)?;
        let (owner, paths) = parsed.words.split_first()?;
        let (user, group) = match (group_only, owner.split_once(':')) {
            (true, _) => ("", Some(*owner)),
            (false, Some((user, group))) => (user, Some(group)),
            (false, None) => (*owner, None),
        };
        let account = (!user.is_empty()).then(|| self.account(user));
        let is_number = |text: &str| text.parse::<u32>().ok();
        let (uid, login) = match account {
            None => (None, None),
            Some((uid, login)) => (Some(self.owner_number(uid, is_number(user), user, step)?), Some(login)),
        };
        let gid = match (group, login) {
            (None, _) => None,
            (Some(""), Some(login)) => Some(self.owner_number(login, None, user, step)?),
            (Some(""), None) => None,
            (Some(group), _) => {
                let found = self.group(group);
                Some(self.owner_number(found, is_number(group), group, step)?)
            }
        };
        for (id, path) in self.targets(paths, (parsed.has('R'), !parsed.has('h')), parsed.has('f'), step) {
            let known = |number: &Option<Number>| number.clone().and_then(Result::ok);
            let owner = Owner { uid: known(&uid), gid: known(&gid) };
            if !self.permitted(&Verb::SetsOwner(owner), &path, runner, step) {
                continue;
            }
            self.own(id, uid.as_ref(), gid.as_ref(), &step.from);
        }
        Some(())
    }

    /// A name comes before a number, as POSIX has it for chown; not every tool does.
    fn owner_number(
        &mut self,
        found: Found,
        number: Option<u32>,
        text: &str,
        step: &BuildStep,
    ) -> Option<Number> {
        match (found, number) {
            (Found::Number(Ok(id)), Some(number)) if id != number => {
                let fact = format!("whether {} takes {text} for a name or a number", step.words);
                Some(Err(Unknown::new(&fact, "give the tree of the built image in a scene file")))
            }
            (Found::Number(Ok(id)), _) => Some(Ok(id)),
            (Found::Number(Err(_)) | Found::Missing, Some(number)) => Some(Ok(number)),
            (Found::Number(Err(unknown)), None) => Some(Err(unknown)),
            (Found::Missing, None) => {
                self.fail(&step.words, &format!("there is no user or group `{text}`"), &step.from);
                None
            }
        }
    }

    /// The inodes that paths name, each with its path, with what is below where asked for.
    fn targets(
        &mut self,
        paths: &[&str],
        (below, follow): (bool, bool),
        quiet: bool,
        step: &BuildStep,
    ) -> Vec<(InodeId, Vec<u8>)> {
        let mut all = Vec::new();
        for path in paths {
            let path = self.absolute(path.as_bytes());
            match self.tree.resolve(&path, follow) {
                Spot::There(id) if below => {
                    let mut next = all.len();
                    all.push((id, path));
                    while let Some((here, path)) = all.get(next).cloned() {
                        next += 1;
                        let inside = self.tree.children(here);
                        all.extend(
                            inside.map(|(name, child)| (child, [path.as_slice(), b"/", name].concat())),
                        );
                    }
                }
                Spot::There(id) => all.push((id, path)),
                Spot::Missing { .. } if !quiet => self.fail(&step.words, "ENOENT", &step.from),
                Spot::Nowhere(errno) if !quiet => self.fail(&step.words, errno, &step.from),
                Spot::Unlisted { .. } => self.has_to_be_there(&path, step),
                Spot::Missing { .. } | Spot::Nowhere(_) => {}
            }
        }
        all
    }
}

/// Whether a word that begins with a minus is a change of a mode: `-w`, `-x`.
fn is_change(word: &str) -> bool {
    word.parse::<ModeChange>().is_ok() && !matches!(word, "-R" | "-v" | "-c" | "-f" | "-h")
}
