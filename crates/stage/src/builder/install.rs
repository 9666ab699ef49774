//! `install`.

use mivask_model::act::Verb;
use mivask_model::mode::{FileKind, Mode, ModeChange};
use mivask_model::tree::{Entry, InodeId, Spot};

use super::done::Done;
use super::entries::{entry_of, inside};
use super::ground::{BuildState, Number};
use super::names::Found;
use super::options::{Grammar, Parsed};
use crate::recipe::BuildStep;

const INSTALL: Grammar = Grammar {
    valued: "mogt",
    plain: "dDvpcCsT",
    long: &[
        ("mode", 'm'),
        ("owner", 'o'),
        ("group", 'g'),
        ("directory", 'd'),
        ("target-directory", 't'),
        ("verbose", 'v'),
    ],
};

/// User, group and mode that something is given.
type Given<'a> = (Option<&'a Number>, Option<&'a Number>, Mode);

impl BuildState<'_> {
    pub(super) fn installs(
        &mut self,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<Done> {
        let parsed = INSTALL.parse(words)?;
        let mode = match parsed.value('m') {
            Some(text) => {
                text.parse::<ModeChange>().ok()?.applied_to(Mode::default(), false, Mode::default())
            }
            None => Mode::new(0o755),
        };
        let uid = match parsed.value('o') {
            Some(name) => Some(self.named(name, self.account(name).0, step)?),
            None => None,
        };
        let gid = match parsed.value('g') {
            Some(name) => Some(self.named(name, self.group(name), step)?),
            None => None,
        };
        let owner = (uid.as_ref(), gid.as_ref(), mode);
        if parsed.has('d') {
            // Tools differ about other umasks.
            if self.umask != Mode::new(0o022) {
                return None;
            }
            for word in &parsed.words {
                let path = self.absolute(word.as_bytes());
                let id = self.ensure_for(&path, runner, step)?;
                self.give(id, owner, step);
            }
            return Some(Done::Known);
        }
        self.install_files(&parsed, owner, runner, step)
    }

    fn install_files(
        &mut self,
        parsed: &Parsed<'_>,
        owner: Given<'_>,
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<Done> {
        let mode = owner.2;
        let (to, sources) = match parsed.value('t') {
            Some(to) => (to, parsed.words.as_slice()),
            None => parsed.words.split_last().map(|(to, sources)| (*to, sources))?,
        };
        let (to, into) = self.destination(to, sources.len(), parsed.has('T'));
        let into = into || parsed.value('t').is_some();
        for source in sources {
            let target = if into { inside(&to, source) } else { to.clone() };
            let Spot::There(id) = self.tree.resolve(&self.absolute(source.as_bytes()), true) else {
                return None;
            };
            if self.tree.inode(id).kind != FileKind::File {
                return None;
            }
            if parsed.has('D') {
                let end = target.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
                self.ensure_for(&target[..end.max(1)], runner, step)?;
            }
            let Some((dir, name)) = entry_of(&self.tree, &target) else {
                self.fail(&step.words, "ENOENT", &step.from);
                continue;
            };
            if self.tree.is_unlisted(dir) {
                return None;
            }
            if !self.permitted(&Verb::Creates(mode), &target, runner, step) {
                continue;
            }
            let content = self.tree.content(id).clone();
            let entry = Entry { content, ..self.entry(FileKind::File, runner, mode.bits(), &step.from) };
            self.tree.forget(dir, &name);
            let made = self.add(dir, &name, entry)?;
            self.give(made, owner, step);
        }
        Some(Done::Known)
    }

    /// The number that a name or a number means; the build fails on a name that the image has not.
    fn named(&mut self, text: &str, found: Found, step: &BuildStep) -> Option<Number> {
        match (found, text.parse()) {
            (Found::Number(number), _) => Some(number),
            (Found::Missing, Ok(number)) => Some(Ok(number)),
            (Found::Missing, Err(_)) => {
                self.fail(&step.words, &format!("there is no user or group `{text}`"), &step.from);
                None
            }
        }
    }

    fn give(&mut self, id: InodeId, (uid, gid, mode): Given<'_>, step: &BuildStep) {
        if uid.is_some() || gid.is_some() {
            self.own(id, uid, gid, &step.from);
        }
        self.set_mode(id, mode, true, &step.from);
    }

    /// The directory at `path`, made by whoever runs the command; `None` where no one knows what is there.
    fn ensure_for(&mut self, path: &[u8], runner: &(Number, Number), step: &BuildStep) -> Option<InodeId> {
        match self.tree.resolve(path, true) {
            Spot::There(id) => Some(id),
            Spot::Missing { dir, names } => {
                let entry = self.entry(FileKind::Directory, runner, 0o755, &step.from);
                if !self.permitted(&Verb::MakesDirectory(Mode::new(0o755)), path, runner, step) {
                    return Some(dir);
                }
                Some(self.make_directories(dir, &names, |_| entry.clone()))
            }
            Spot::Unlisted { .. } => None,
            Spot::Nowhere(errno) => {
                self.fail(&step.words, errno, &step.from);
                None
            }
        }
    }
}
