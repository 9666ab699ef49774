//! What a shell does before a command starts, and the commands that only look.

use mivask_model::act::Verb;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::tree::{Certainty, Content, Entry, InodeId, Spot};

use super::done::{Done, bare};
use super::ground::{BuildState, Number};
use crate::recipe::{BuildStep, Output, ShellCommand, ShellWord};

/// Commands that read the files they name, and fail without them.
pub(super) const READERS: [&str; 6] = ["cat", "head", "ls", "stat", "tail", "wc"];
/// Commands that only look, whatever they find.
pub(super) const LOOKERS: [&str; 29] = [
    "basename",
    "cmp",
    "cut",
    "date",
    "df",
    "diff",
    "dirname",
    "du",
    "expr",
    "file",
    "getent",
    "grep",
    "egrep",
    "fgrep",
    "hostname",
    "id",
    "ldd",
    "locale",
    "md5sum",
    "nproc",
    "printenv",
    "pwd",
    "readlink",
    "realpath",
    "sha1sum",
    "sha256sum",
    "type",
    "uname",
    "which",
];

impl BuildState<'_> {
    /// A command with patterns or with output that goes to files.
    pub(super) fn shell(
        &mut self,
        command: &ShellCommand,
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Done {
        let Some(words) = self.expanded(&command.words) else {
            return self.removes_unlisted(command, runner, step);
        };
        for output in &command.outputs {
            self.output(output, runner, step);
            if self.failed {
                return Done::Known;
            }
        }
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        words.split_first().map_or(Done::Known, |(tool, rest)| self.plain(tool, rest, runner, step))
    }

    /// `rm` of a pattern in a directory that nobody listed: what is listed of it goes, and whatever else there was.
    fn removes_unlisted(
        &mut self,
        command: &ShellCommand,
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> Done {
        let Some((tool, words)) = command.words.split_first() else { return Done::Unread };
        let forced = words.iter().any(|word| word.text.starts_with('-') && word.text.contains('f'));
        if bare(&tool.text) != "rm" || !forced || !command.outputs.is_empty() {
            return Done::Unread;
        }
        let mut all = Vec::new();
        for word in words {
            if word.pattern {
                all.extend(self.matches(&word.text, false).unwrap_or_default());
            } else {
                all.push(word.text.clone());
            }
        }
        let words: Vec<&str> = all.iter().map(String::as_str).collect();
        self.plain(&tool.text, &words, runner, step)
    }

    /// Words with what their patterns match in their place; `None` where a directory is not listed.
    fn expanded(&self, words: &[ShellWord]) -> Option<Vec<String>> {
        let mut all = Vec::with_capacity(words.len());
        for word in words {
            if !word.pattern {
                all.push(word.text.clone());
                continue;
            }
            let found = self.matches(&word.text, true)?;
            // A pattern that matches nothing stands for itself (POSIX shell, 2.13.3).
            if found.is_empty() { all.push(word.text.clone()) } else { all.extend(found) }
        }
        Some(all)
    }

    /// What of the listed names a pattern matches; with `all` nothing where others may be there.
    fn matches(&self, pattern: &str, all: bool) -> Option<Vec<String>> {
        let begin = if pattern.starts_with('/') { "/" } else { "" };
        let mut found = vec![begin.to_owned()];
        for part in pattern.split('/').filter(|part| !part.is_empty()) {
            let mut next = Vec::new();
            for before in found {
                let join = |name: &str| match before.as_str() {
                    "" | "/" => format!("{before}{name}"),
                    _ => format!("{before}/{name}"),
                };
                if !part.contains(['*', '?', '[']) {
                    next.push(join(part));
                    continue;
                }
                let here = if before.is_empty() { "." } else { &before };
                match self.tree.resolve(&self.absolute(here.as_bytes()), true) {
                    Spot::There(dir) if self.tree.inode(dir).kind == FileKind::Directory => {
                        if all && self.tree.is_unlisted(dir) {
                            return None;
                        }
                        let fits = |name: &[u8]| {
                            (part.starts_with('.') || !name.starts_with(b".")) && fits(part.as_bytes(), name)
                        };
                        let names = self.tree.children(dir).filter(|(name, _)| fits(name));
                        for (name, _) in names {
                            next.push(join(std::str::from_utf8(name).ok()?));
                        }
                    }
                    Spot::Unlisted { .. } if all => return None,
                    Spot::Unlisted { .. } | Spot::There(_) | Spot::Missing { .. } | Spot::Nowhere(_) => {}
                }
            }
            found = next;
        }
        // What stands behind the last pattern has to be there as well.
        found.retain(|path| {
            !matches!(
                self.tree.resolve(&self.absolute(path.as_bytes()), false),
                Spot::Missing { .. } | Spot::Nowhere(_)
            )
        });
        Some(found)
    }

    /// The shell opens a file for output.
    fn output(&mut self, output: &Output, runner: &(Number, Number), step: &BuildStep) {
        if output.path.starts_with("/dev/") {
            return;
        }
        let path = self.absolute(output.path.as_bytes());
        let (dir, names, listed) = match self.tree.resolve(&path, true) {
            Spot::There(id) if self.tree.inode(id).kind == FileKind::Directory => {
                return self.fail(&step.words, "EISDIR", &step.from);
            }
            Spot::There(id) => {
                self.written(id, &path, runner, step);
                return;
            }
            Spot::Nowhere(errno) => return self.fail(&step.words, errno, &step.from),
            Spot::Missing { names, .. } if names.len() > 1 => {
                return self.fail(&step.words, "ENOENT", &step.from);
            }
            Spot::Unlisted { names, .. } if names.len() > 1 => return self.has_to_be_there(&path, step),
            Spot::Missing { dir, names } => (dir, names, true),
            Spot::Unlisted { dir, names } => (dir, names, false),
        };
        if !self.permitted(&Verb::Creates(Mode::new(0o666)), &path, runner, step) {
            return;
        }
        let mode = Mode::new(0o666).without(self.umask);
        let mut entry = self.entry(FileKind::File, runner, mode.bits(), &step.from);
        if !listed {
            entry = self.unlisted(entry, &path);
        }
        if let Some(name) = names.first() {
            self.add(dir, name, entry);
        }
    }

    /// Bytes are written to a file that is there: who is not root takes its set-id bits with that
    /// (`file_remove_privs`). Whether that is permitted.
    pub(super) fn written(
        &mut self,
        id: InodeId,
        path: &[u8],
        runner: &(Number, Number),
        step: &BuildStep,
    ) -> bool {
        if !self.permitted(&Verb::Writes, path, runner, step) {
            return false;
        }
        let inode = *self.tree.inode(id);
        let root = runner.0 == Ok(0);
        let mode = if root { inode.stored_mode() } else { inode.stored_mode().without(Mode::new(0o6000)) };
        let entry = Entry {
            content: Content::Unknown,
            doubt: self.tree.doubt(id).cloned(),
            ..Entry::new(inode.kind, inode.stored_owner().uid.raw(), inode.stored_owner().gid.raw(), mode)
        };
        self.tree.replace(id, entry);
        true
    }

    /// A command that reads the files it names.
    pub(super) fn reads(&mut self, words: &[&str], runner: &(Number, Number), step: &BuildStep) -> Done {
        for word in words.iter().filter(|word| word.contains('/') && !word.starts_with('-')) {
            let path = self.absolute(word.as_bytes());
            match self.tree.resolve(&path, true) {
                Spot::There(id) if self.tree.inode(id).kind == FileKind::File => {
                    self.permitted(&Verb::Reads, &path, runner, step);
                }
                Spot::Missing { .. } => self.fail(&step.words, "ENOENT", &step.from),
                Spot::Nowhere(errno) => self.fail(&step.words, errno, &step.from),
                Spot::There(_) | Spot::Unlisted { .. } => {}
            }
        }
        Done::Known
    }

    /// `test` and `[`.
    pub(super) fn test(&mut self, words: &[&str], step: &BuildStep) -> Done {
        let words = words.strip_suffix(&["]"]).unwrap_or(words);
        let (words, negated) = words.strip_prefix(&["!"]).map_or((words, false), |rest| (rest, true));
        let answer = match words {
            ["-n", text] | [text] => Some(!text.is_empty()),
            ["-z", text] => Some(text.is_empty()),
            [one, "=" | "==", other] => Some(one == other),
            [one, "!=", other] => Some(one != other),
            [kind @ ("-d" | "-e" | "-f" | "-L" | "-h"), path] => {
                let path = self.absolute(path.as_bytes());
                match self.tree.resolve(&path, !matches!(*kind, "-L" | "-h")) {
                    Spot::There(id) => {
                        let there = self.tree.inode(id).kind;
                        let sure = self.tree.doubt(id).is_none_or(|doubt| doubt.kind == Certainty::Known);
                        sure.then_some(match *kind {
                            "-d" => there == FileKind::Directory,
                            "-f" => there == FileKind::File,
                            "-e" => true,
                            _ => there == FileKind::Link,
                        })
                    }
                    Spot::Missing { .. } | Spot::Nowhere(_) => Some(false),
                    Spot::Unlisted { .. } => None,
                }
            }
            _ => None,
        };
        match answer {
            Some(answer) if answer != negated => Done::Known,
            Some(_) => {
                self.fail(&step.words, "it is not so", &step.from);
                Done::Known
            }
            None => Done::Unsure,
        }
    }
}

/// Whether a component matches (fnmatch(3)).
fn fits(pattern: &[u8], name: &[u8]) -> bool {
    let Some((first, rest)) = pattern.split_first() else { return name.is_empty() };
    match first {
        b'*' => (0..=name.len()).any(|at| fits(rest, &name[at..])),
        b'?' => name.split_first().is_some_and(|(_, name)| fits(rest, name)),
        b'[' => match (class(rest), name.split_first()) {
            (Some((set, behind)), Some((byte, name))) => set.holds(*byte) && fits(behind, name),
            (Some(_), None) => false,
            (None, _) => name.split_first().is_some_and(|(byte, name)| byte == first && fits(rest, name)),
        },
        _ => name.split_first().is_some_and(|(byte, name)| byte == first && fits(rest, name)),
    }
}

/// `[a-z]`
struct Class<'a> {
    negated: bool,
    inside: &'a [u8],
}

impl Class<'_> {
    fn holds(&self, byte: u8) -> bool {
        let mut inside = self.inside;
        let mut found = false;
        while let Some((first, rest)) = inside.split_first() {
            inside = rest;
            if let [b'-', last, behind @ ..] = rest {
                found |= (*first..=*last).contains(&byte);
                inside = behind;
            } else {
                found |= *first == byte;
            }
        }
        found != self.negated
    }
}

/// A bracket expression without its first bracket, and what is behind it.
fn class(pattern: &[u8]) -> Option<(Class<'_>, &[u8])> {
    let negated = matches!(pattern.first(), Some(b'!' | b'^'));
    let inside = if negated { &pattern[1..] } else { pattern };
    let end = inside.iter().skip(1).position(|byte| *byte == b']')? + 1;
    Some((Class { negated, inside: &inside[..end] }, &inside[end + 1..]))
}

#[cfg(test)]
mod tests {
    use super::fits;

    #[test]
    fn patterns_match_as_shells_have_it() {
        for (pattern, name, expected) in [
            ("*", "abc", true),
            ("a*c", "abc", true),
            ("a*c", "abd", false),
            ("?b?", "abc", true),
            ("?", "", false),
            ("[a-c]x", "bx", true),
            ("[!a-c]x", "bx", false),
            ("[]]", "]", true),
            ("[", "[", true),
            ("*.[ch]", "walk.c", true),
        ] {
            assert_eq!(fits(pattern.as_bytes(), name.as_bytes()), expected, "{pattern} {name}");
        }
    }
}
