//! The commands of `RUN` that are understood, and what the others leave unknown.

use mivask_model::act::{Verb, quoted};
use mivask_model::fact::Unknown;
use mivask_model::mode::{FileKind, Mode, ModeChange};
use mivask_model::tree::{Content, Entry, Spot};

use super::account_change::changes_accounts;
use super::done::{Done, bare};
use super::ground::{BuildState, Number};
use super::options::Grammar;
use super::shell::{LOOKERS, READERS};
use crate::recipe::{BuildStep, Command};

const MAKE_DIRECTORY: Grammar =
    Grammar { valued: "m", plain: "pv", long: &[("mode", 'm'), ("parents", 'p'), ("verbose", 'v')] };
const TOUCH: Grammar = Grammar { valued: "", plain: "amf", long: &[] };
/// Commands that neither touch files nor accounts.
const HARMLESS: [&str; 10] =
    [":", "true", "set", "export", "unset", "echo", "printf", "sleep", "sync", "wait"];

impl BuildState<'_> {
    /// One command of a `RUN`; one that `begins` runs whatever became of the one before.
    pub(super) fn run(&mut self, command: &Command, (begins, may_fail): (bool, bool), step: &BuildStep) {
        if begins {
            (self.failed, self.stumbled) = (false, false);
        }
        let runner = self.runner();
        self.runner_exists(step);
        if self.to_make {
            self.make_working_directory(step);
        }
        self.volumes_begin(step);
        // What is chained to one that failed does not run.
        if self.failed {
            return;
        }
        self.forgiving = may_fail;
        // What depends on one that may have failed may not have run.
        let done = if self.stumbled { Done::Unread } else { self.command(command, &runner, step) };
        self.forgiving = false;
        self.stumbled |= may_fail && done != Done::Known;
        self.writes_accounts(command, step);
        if done == Done::Unread {
            let (tool, names) = named(command);
            self.not_understood(tool, &names, step);
        }
    }

    /// In an image that began with nothing, what nobody copied into it does not run.
    pub(super) fn has_to_start(&mut self, program: &[u8], step: &BuildStep) {
        if self.bare && matches!(self.tree.resolve(program, true), Spot::Missing { .. }) {
            self.fail(&step.words.clone(), &format!("there is no {} in it", quoted(program)), &step.from);
        }
    }

    /// What a known command puts in the place of the account files is not read.
    fn writes_accounts(&mut self, command: &Command, step: &BuildStep) {
        const TOOLS: [&str; 5] = ["cp", "mv", "rm", "ln", "install"];
        let (tool, names) = named(command);
        let outputs = if let Command::Shell(command) = command { command.outputs.as_slice() } else { &[] };
        let outputs = outputs.iter().map(|output| output.path.clone().into_bytes());
        let changed = match tool {
            Some(tool) if TOOLS.contains(&bare(tool)) => changes_accounts("", &names),
            Some(_) | None => changes_accounts("", &outputs.collect::<Vec<_>>()),
        };
        if changed {
            let fact = format!("what becomes of the accounts in {}", step.words);
            self.forget_accounts(Unknown::new(&fact, "give `accounts` for the built image in a scene file"));
        }
    }

    fn command(&mut self, command: &Command, runner: &(Number, Number), step: &BuildStep) -> Done {
        match command {
            Command::Plain(words) => {
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                words.split_first().map_or(Done::Known, |(tool, rest)| self.plain(tool, rest, runner, step))
            }
            Command::Shell(command) => self.shell(command, runner, step),
            Command::Opaque { .. } => Done::Unread,
        }
    }

    /// The shell of a `RUN` ends, and with it its directory and umask.
    pub(super) fn shell_ends(&mut self) {
        self.volumes_end();
        self.shell_directory = None;
        self.umask = Mode::new(0o022);
        (self.stumbled, self.failed) = (false, false);
    }

    /// A builder mounts something over every volume before a `RUN`...
    fn volumes_begin(&mut self, step: &BuildStep) {
        if self.rules.keeps_volumes || self.volumes.is_empty() || self.started.is_some() {
            return;
        }
        for volume in self.volumes.clone() {
            self.ensure(&volume.value, (&(Ok(0), Ok(0)), false), &volume.from, step);
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

    /// One command whose words are known.
    pub(super) fn plain(
        &mut self,
        tool: &str,
        words: &[&str],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Done {
        let tool = bare(tool);
        let known = |done: Option<()>| done.map_or(Done::Unread, |()| Done::Known);
        let or_unread = |done: Option<Done>| done.unwrap_or(Done::Unread);
        match tool {
            "mkdir" => known(self.make_all(words, runner, step)),
            "touch" => known(self.touch_all(words, runner, step)),
            "chmod" => known(self.change_modes(words, runner, step)),
            "chown" | "chgrp" => known(self.change_owners(tool == "chgrp", words, runner, step)),
            "cp" => or_unread(self.copies(words, runner, step)),
            "mv" => or_unread(self.moves(words, runner, step)),
            "rm" | "rmdir" | "unlink" => or_unread(self.removes(tool, words, runner, step)),
            "ln" => or_unread(self.links(words, runner, step)),
            "install" => or_unread(self.installs(words, runner, step)),
            "test" | "[" => self.test(words, step),
            "false" => {
                self.fail(&step.words, "it always fails", &step.from);
                Done::Known
            }
            // These start what comes behind them.
            "command" if matches!(words.first(), Some(&("-v" | "-V"))) => Done::Unsure,
            "command" => {
                words.split_first().map_or(Done::Known, |(tool, rest)| self.plain(tool, rest, runner, step))
            }
            "cd" => known(self.change_directory(words, step)),
            "umask" => {
                let [mask] = words else { return Done::Unread };
                let Ok(mask) = mask.parse() else { return Done::Unread };
                self.umask = mask;
                Done::Known
            }
            "adduser" | "addgroup" | "useradd" | "groupadd" | "usermod" => {
                if runner.0 != Ok(0) {
                    self.fail(&step.words, "it does not run as root", &step.from);
                }
                known(self.account_command(tool, words, step))
            }
            "groupmod" | "groupdel" | "userdel" | "gpasswd" | "deluser" | "delgroup" => {
                if runner.0 != Ok(0) {
                    self.fail(&step.words, "it does not run as root", &step.from);
                }
                known(self.account_change(tool, words, step))
            }
            _ if READERS.contains(&tool) => self.reads(words, runner, step),
            _ if LOOKERS.contains(&tool) => Done::Unsure,
            _ if HARMLESS.contains(&tool) => Done::Known,
            _ => Done::Unread,
        }
    }

    fn change_directory(&mut self, words: &[&str], step: &BuildStep) -> Option<()> {
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
            if !self.permitted(
                &Verb::MakesDirectory(plain),
                &without_last(path, names.len() - 1),
                runner,
                step,
            ) {
                continue;
            }
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
            if !self.permitted(&Verb::Creates(Mode::new(0o666)), &path, runner, step) {
                continue;
            }
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

    /// No one listed `path`, but the command needs it.
    pub(super) fn has_to_be_there(&mut self, path: &[u8], step: &BuildStep) {
        let fact = format!("what {} is before {}", quoted(path), step.words);
        self.presume(path, &Unknown::new(&fact, "give the tree of the base image in a scene file"));
    }
}

/// The tool of a command, and the paths that it names.
fn named(command: &Command) -> (Option<&str>, Vec<Vec<u8>>) {
    let bytes = |word: &String| word.clone().into_bytes();
    match command {
        Command::Opaque { names } => (None, names.clone()),
        Command::Plain(words) => {
            (words.first().map(String::as_str), words.iter().skip(1).map(bytes).collect())
        }
        Command::Shell(command) => {
            let words = command.words.iter().skip(1).map(|word| match word.text.find(['*', '?', '[']) {
                // What a pattern names is in the directory before it.
                Some(at) if word.pattern => {
                    let end = word.text[..at].rfind('/').unwrap_or(0);
                    word.text.as_bytes()[..end].to_vec()
                }
                Some(_) | None => bytes(&word.text),
            });
            let outputs = command.outputs.iter().map(|output| bytes(&output.path));
            (command.words.first().map(|word| word.text.as_str()), words.chain(outputs).collect())
        }
    }
}

/// `path` without its last `count` components.
fn without_last(path: &[u8], count: usize) -> Vec<u8> {
    let parts: Vec<&[u8]> = path.split(|byte| *byte == b'/').filter(|part| !part.is_empty()).collect();
    let kept = &parts[..parts.len().saturating_sub(count)];
    [b"/", kept.join(&b'/').as_slice()].concat()
}
