//! The commands of `RUN` that are understood, and what the others leave unknown.

use std::sync::Arc;

use mivask_model::act::{Owner, Verb, quoted};
use mivask_model::fact::Unknown;
use mivask_model::mode::{FileKind, Mode, ModeChange};
use mivask_model::tree::{Certainty, Content, Entry, InodeId, Spot};

use super::account_change::changes_accounts;
use super::ground::{BuildState, Number};
use super::names::Found;
use super::options::Grammar;
use crate::recipe::{BuildStep, Command};

const MAKE_DIRECTORY: Grammar =
    Grammar { valued: "m", plain: "pv", long: &[("mode", 'm'), ("parents", 'p'), ("verbose", 'v')] };
const TOUCH: Grammar = Grammar { valued: "", plain: "amf", long: &[] };
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

/// Commands that neither touch files nor accounts.
const HARMLESS: [&str; 8] = [":", "true", "set", "export", "unset", "echo", "printf", "sleep"];

impl BuildState<'_> {
    /// One command of a `RUN`.
    pub(super) fn run(&mut self, command: &Command, may_fail: bool, step: &BuildStep) {
        let runner = self.runner();
        if self.to_make {
            self.make_working_directory(step);
        }
        self.volumes_begin(step);
        self.forgiving = may_fail;
        let done = match command {
            // What depends on one that may have failed may not have run.
            Command::Plain(_) if self.stumbled => None,
            Command::Plain(words) => {
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                words.split_first().map_or(Some(()), |(tool, rest)| self.plain(tool, rest, &runner, step))
            }
            Command::Opaque { .. } => None,
        };
        self.forgiving = false;
        self.stumbled |= may_fail && done.is_none();
        if done.is_none() || self.stumbled {
            let own: Vec<Vec<u8>>;
            let names = match command {
                Command::Opaque { names } => names,
                Command::Plain(words) => {
                    own = words.iter().skip(1).map(|word| word.clone().into_bytes()).collect();
                    &own
                }
            };
            self.not_understood(names, step);
        }
    }

    /// The shell of a `RUN` ends, and with it its directory and umask.
    pub(super) fn shell_ends(&mut self) {
        self.volumes_end();
        self.shell_directory = None;
        self.umask = Mode::new(0o022);
        self.stumbled = false;
    }

    /// A builder mounts something over every volume before a `RUN`...
    fn volumes_begin(&mut self, step: &BuildStep) {
        if self.volumes.is_empty() || self.started.is_some() {
            return;
        }
        for volume in self.volumes.clone() {
            self.ensure(&volume.value, &(Ok(0), Ok(0)), &volume.from, step);
        }
        self.started = Some(Box::new(self.tree.clone()));
    }

    /// ...and what the commands did there is lost with it (seen with both builders).
    fn volumes_end(&mut self) {
        let Some(started) = self.started.take() else { return };
        for volume in &self.volumes {
            if let Spot::There(top) = started.resolve(&volume.value, true) {
                self.tree.put_back(&started, top);
            }
        }
    }

    fn plain(
        &mut self,
        tool: &str,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Option<()> {
        let tool = tool.strip_prefix("/bin/").or(tool.strip_prefix("/usr/bin/")).unwrap_or(tool);
        let tool = tool.strip_prefix("/usr/sbin/").or(tool.strip_prefix("/sbin/")).unwrap_or(tool);
        match tool {
            "mkdir" => self.make_all(words, runner, step),
            "touch" => self.touch_all(words, runner, step),
            "chmod" => self.change_modes(words, runner, step),
            "chown" | "chgrp" => self.change_owners(tool == "chgrp", words, runner, step),
            "cd" => {
                let [directory] = words else { return None };
                let directory = self.absolute(directory.as_bytes());
                match self.tree.resolve(&directory, true) {
                    Spot::Missing { .. } => self.fail(&step.words, "ENOENT", &step.from),
                    Spot::Nowhere(errno) => self.fail(&step.words, errno, &step.from),
                    Spot::There(_) | Spot::Unlisted { .. } => {}
                }
                self.shell_directory = Some(directory);
                Some(())
            }
            "umask" => {
                let [mask] = words else { return None };
                self.umask = mask.parse().ok()?;
                Some(())
            }
            "adduser" | "addgroup" | "useradd" | "groupadd" | "usermod" => {
                if runner.0 != Ok(0) {
                    self.fail(&step.words, "it does not run as root", &step.from);
                }
                self.account_command(tool, words, step)
            }
            "groupmod" | "groupdel" | "userdel" | "gpasswd" | "deluser" | "delgroup" => {
                if runner.0 != Ok(0) {
                    self.fail(&step.words, "it does not run as root", &step.from);
                }
                self.account_change(tool, words, step)
            }
            _ => HARMLESS.contains(&tool).then_some(()),
        }
    }

    fn make_all(&mut self, words: &[&str], runner: &(Number, Number), step: &BuildStep) -> Option<()> {
        let parsed = MAKE_DIRECTORY.parse(words)?;
        let parents = parsed.has('p');
        let plain = Mode::new(0o777).without(self.umask);
        let mode = match parsed.value('m') {
            Some(text) => text.parse::<ModeChange>().ok()?.applied_to(Mode::new(0o777), true, self.umask),
            None => plain,
        };
        for word in &parsed.words {
            let path = self.absolute(word.as_bytes());
            let path = path.as_slice();
            let (dir, names, listed) = match self.tree.resolve(path, true) {
                Spot::There(_) if parents => continue,
                Spot::There(_) => {
                    self.fail(&step.words, "EEXIST", &step.from);
                    continue;
                }
                Spot::Nowhere(errno) => {
                    self.fail(&step.words, errno, &step.from);
                    continue;
                }
                Spot::Missing { names, .. } if names.len() > 1 && !parents => {
                    self.fail(&step.words, "ENOENT", &step.from);
                    continue;
                }
                Spot::Missing { dir, names } => (dir, names, true),
                // Without -p it would fail on something that is there, and what is above it has to be.
                Spot::Unlisted { names, .. } if names.len() > 1 && !parents => {
                    self.has_to_be_there(path, step);
                    continue;
                }
                Spot::Unlisted { dir, names } => (dir, names, !parents),
            };
            self.permitted(&Verb::MakesDirectory(plain), &without_last(path, names.len() - 1), runner, step);
            let mut above = self.entry(FileKind::Directory, runner, plain.bits(), &step.from);
            if !listed {
                above = self.unlisted(above, path);
            }
            let last = Entry { mode, ..above.clone() };
            self.make_directories(dir, &names, |is_last| if is_last { last.clone() } else { above.clone() });
        }
        Some(())
    }

    fn touch_all(&mut self, words: &[&str], runner: &(Number, Number), step: &BuildStep) -> Option<()> {
        let parsed = TOUCH.parse(words)?;
        for word in &parsed.words {
            let path = self.absolute(word.as_bytes());
            let (dir, names, listed) = match self.tree.resolve(&path, true) {
                Spot::There(_) => continue,
                Spot::Nowhere(errno) => {
                    self.fail(&step.words, errno, &step.from);
                    continue;
                }
                Spot::Missing { names, .. } if names.len() > 1 => {
                    self.fail(&step.words, "ENOENT", &step.from);
                    continue;
                }
                Spot::Unlisted { names, .. } if names.len() > 1 => {
                    self.has_to_be_there(&path, step);
                    continue;
                }
                Spot::Missing { dir, names } => (dir, names, true),
                Spot::Unlisted { dir, names } => (dir, names, false),
            };
            self.permitted(&Verb::Creates(Mode::new(0o666)), &path, runner, step);
            let mode = Mode::new(0o666).without(self.umask);
            let mut entry = self.entry(FileKind::File, runner, mode.bits(), &step.from);
            entry.content = Content::Empty;
            if !listed {
                entry = self.unlisted(Entry { content: Content::Unknown, ..entry }, &path);
            }
            self.add(dir, names.first()?, entry);
        }
        Some(())
    }

    fn change_modes(&mut self, words: &[&str], runner: &(Number, Number), step: &BuildStep) -> Option<()> {
        // A symbolic change may begin with a minus, which is not an option.
        let at = words.iter().position(|word| !word.starts_with('-') || is_change(word))?;
        let parsed = CHANGE.parse(&[&words[..at], &words[at + 1..]].concat())?;
        let change: ModeChange = words[at].parse().ok()?;
        let exact = matches!(change, ModeChange::Exact(_));
        for (id, path) in self.targets(&parsed.words, parsed.has('R'), parsed.has('f'), step) {
            let inode = *self.tree.inode(id);
            let directory = inode.kind == FileKind::Directory;
            self.permitted(&Verb::SetsMode(change.clone()), &path, runner, step);
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

    fn change_owners(
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
        for (id, path) in self.targets(paths, parsed.has('R'), parsed.has('f'), step) {
            let known = |number: &Option<Number>| number.clone().and_then(Result::ok);
            let owner = Owner { uid: known(&uid), gid: known(&gid) };
            self.permitted(&Verb::SetsOwner(owner), &path, runner, step);
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
        below: bool,
        quiet: bool,
        step: &BuildStep,
    ) -> Vec<(InodeId, Vec<u8>)> {
        let mut all = Vec::new();
        for path in paths {
            let path = self.absolute(path.as_bytes());
            match self.tree.resolve(&path, true) {
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

    /// No one listed `path`, but the command needs it.
    fn has_to_be_there(&mut self, path: &[u8], step: &BuildStep) {
        let fact = format!("what {} is before {}", quoted(path), step.words);
        self.presume(path, &Unknown::new(&fact, "give the tree of the base image in a scene file"));
    }

    /// Something that is not understood may have added files and accounts, and changed what it names.
    fn not_understood(&mut self, names: &[Vec<u8>], step: &BuildStep) {
        let settle = "give `accounts` or `tree` for the built image in a scene file";
        let unknown = |what: &str| Unknown::new(&format!("{what} {}", step.words), settle);
        if changes_accounts(&step.words, names) {
            self.forget_accounts(unknown("what becomes of the accounts in"));
        }
        self.may_have_more_accounts(unknown("which accounts are added by"));
        let text: Arc<str> =
            format!("{} changes and removes nothing that was there, except what it names", step.words).into();
        let adds = unknown("which files are added by");
        for id in self.tree.ids().collect::<Vec<_>>() {
            let doubt = self.tree.doubt(id).cloned().unwrap_or_default();
            if doubt.knows_attributes() {
                self.tree.doubt_attributes(id, Certainty::Assumed(text.clone()));
            }
            let listed = !matches!(doubt.contents, Certainty::Unknown(_));
            if listed && self.tree.inode(id).kind == FileKind::Directory {
                self.may_hold_more(id, &adds);
            }
        }
        let named: Vec<Vec<u8>> = names
            .iter()
            .filter(|name| name.contains(&b'/') && !name.contains(&b'*'))
            .map(|name| self.absolute(name))
            .filter(|path| path.iter().any(|byte| !matches!(byte, b'/' | b'.')))
            .collect();
        for path in named {
            let what = format!("what becomes of {} in", quoted(&path));
            self.touched(&path, &unknown(&what));
        }
    }
}

/// `path` without its last `count` components.
fn without_last(path: &[u8], count: usize) -> Vec<u8> {
    let parts: Vec<&[u8]> = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty()).collect();
    let kept = &parts[..parts.len().saturating_sub(count)];
    [b"/", kept.join(&b'/').as_slice()].concat()
}

/// Whether a word that begins with a minus is a change of a mode: `-w`, `-x`.
fn is_change(word: &str) -> bool {
    word.parse::<ModeChange>().is_ok() && !matches!(word, "-R" | "-v" | "-c" | "-f" | "-h")
}
