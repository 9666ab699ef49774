//! A `.container` file: keys of `[Container]`, and `PodmanArgs=` for what has none (podman-systemd.unit(5)).

use std::collections::BTreeSet;

use mivask_core::change::Process;
use mivask_core::runtime::Runtime;
use mivask_core::scene::{Container, Who};

use super::super::{PatchError, document, no_field};
use super::{At, Edits, Given, Options, level_of};
use crate::command_line::unit::{Key, SECTION, Setting, Unit, key, key_of, split};

/// A unit file being edited.
pub(super) struct UnitFile<'t> {
    text: &'t str,
    unit: Unit,
    pub edits: Edits,
}

impl<'t> UnitFile<'t> {
    /// # Errors
    /// There is no container in it.
    pub(super) fn open(text: &'t str) -> Result<Self, PatchError> {
        let unit = Unit::parse(text, &mut |_| {});
        if unit.settings(SECTION).next().is_none() {
            return Err(PatchError::Lost);
        }
        Ok(Self { text, unit, edits: Edits::default() })
    }

    /// That what is to be changed is said in this file, and not in a drop-in or in its pod.
    ///
    /// # Errors
    /// It is said elsewhere.
    pub(super) fn told_here(&self, container: &Container, what: &Process) -> Result<(), PatchError> {
        let Who::Plain(plain) = &container.who else { return Ok(()) };
        let (key, from) = match what {
            Process::Becomes(..) => ("User", plain.user.as_ref().map(|user| &user.from)),
            Process::Level(_) => {
                ("SecurityLabelLevel", container.label.level.as_ref().map(|level| &level.from))
            }
            Process::UserNamespace(_) => {
                if let Some(pod) = self.unit.last(SECTION, "Pod") {
                    return Err(no_field(&format!(
                        "its pod has the user namespace: give {} that `UserNS=`",
                        pod.value
                    )));
                }
                ("UserNS", plain.user_namespace.as_ref().map(|mode| &mode.from))
            }
            Process::Umask(_)
            | Process::Drops(_)
            | Process::Adds(_)
            | Process::Joins(_)
            | Process::FilesystemGroup(_)
            | Process::StartsAgain
            | Process::IsMadeAgain
            | Process::Mounts(..)
            | Process::Only(_)
            | Process::Scratch(_) => return Ok(()),
        };
        let Some((_, line)) = from.and_then(document) else { return Ok(()) };
        // What a drop-in says stands where the file's first section begins, above all that is ever added.
        let head = self.text.find('[').unwrap_or_default();
        if line == 1 + self.text[..head].matches('\n').count() {
            return Err(no_field(&format!("a drop-in says `{key}=`: change it there")));
        }
        Ok(())
    }

    /// The assignments of the file, in order.
    fn settings(&self) -> Vec<&Setting> {
        self.unit.settings(SECTION).collect()
    }

    /// The number of the last assignment of a key that counts.
    fn last(&self, key: &str) -> Option<usize> {
        let counts = |one: &Setting| one.key == key && !one.value.is_empty();
        self.settings().iter().rposition(|one| counts(one))
    }

    /// What is given in `PodmanArgs=` is not edited there, and comes behind every key.
    fn not_among_arguments(&self, option: &str) -> Result<(), PatchError> {
        let arguments = self.unit.all(SECTION, "PodmanArgs").into_iter().flat_map(split);
        let long = format!("--{option}");
        let named = |word: &str| {
            word.strip_prefix(&long).is_some_and(|rest| rest.is_empty() || rest.starts_with('='))
        };
        if arguments.into_iter().any(|word| named(&word.text)) {
            return Err(no_field(&format!("`PodmanArgs=` has `{long}`: change it there")));
        }
        Ok(())
    }

    /// One assignment more, behind those of the same key or else behind the last of the section.
    fn insert(&mut self, key: &str, value: &str) {
        let settings = self.settings();
        let behind = settings.iter().rev().find(|one| one.key == key).or_else(|| settings.last());
        let Some(end) = behind.map(|one| one.lines.end) else { return };
        let line = if self.text.contains("\r\n") { "\r\n" } else { "\n" };
        self.edits.put(end..end, format!("{line}{key}={}", value.replace('%', "%%")));
    }

    /// Another value for the assignment of that number.
    fn put(&mut self, at: usize, value: &str) {
        let settings = self.settings();
        let place = settings[at].span.start..settings[at].lines.end;
        self.edits.put(place, value.to_owned());
    }

    /// Gives a key this value alone.
    fn alone(&mut self, key: &str, value: &str) {
        match self.last(key) {
            Some(at) => self.put(at, &value.replace('%', "%%")),
            None => self.insert(key, value),
        }
    }
}

impl Options for UnitFile<'_> {
    fn engine(&self) -> Runtime {
        Runtime::Podman
    }

    fn values(&self, option: &str) -> Vec<Given> {
        let Some(name) = key_of(option) else { return Vec::new() };
        let counting = self.unit.all(SECTION, name);
        let counts = |one: &Setting| counting.iter().any(|known| known.lines == one.lines);
        let settings = self.settings();
        let all = settings.iter().enumerate().filter(|(_, one)| one.key == name && counts(one));
        all.flat_map(|(at, one)| match key(name) {
            Some(Key::Words(_)) => {
                let words = split(one).into_iter().enumerate();
                words
                    .map(|(word, known)| Given { raw: known.text.clone(), text: known.text, at: (at, word) })
                    .collect()
            }
            _ => vec![Given { text: one.value.clone(), raw: one.value.clone(), at: (at, 0) }],
        })
        .collect()
    }

    fn set(&mut self, option: &str, value: &str) -> Result<(), PatchError> {
        self.not_among_arguments(option)?;
        match (option, key_of(option)) {
            ("user", _) => {
                let (user, group) =
                    value.split_once(':').map_or((value, None), |(user, group)| (user, Some(group)));
                let together = self.last("User").is_some_and(|at| self.settings()[at].value.contains(':'));
                match group {
                    Some(group) if self.last("Group").is_some() || !together => {
                        self.alone("User", user);
                        self.alone("Group", group);
                    }
                    Some(_) | None => self.alone("User", value),
                }
            }
            ("userns", _) if self.last("RemapUsers").is_some() => {
                return Err(no_field(&format!(
                    "`RemapUsers=` says who it is: put `UserNS={value}` in its place by hand"
                )));
            }
            (_, Some(key)) => self.alone(key, value),
            (_, None) => self.insert("PodmanArgs", &format!("--{option}={value}")),
        }
        Ok(())
    }

    fn add(&mut self, option: &str, value: &str) -> Result<(), PatchError> {
        if let Some(level) = level_of(value).filter(|_| option == "security-opt") {
            self.not_among_arguments(option)?;
            self.alone("SecurityLabelLevel", level);
            return Ok(());
        }
        match key_of(option) {
            Some(key) => self.insert(key, value),
            None => self.insert("PodmanArgs", &format!("--{option}={value}")),
        }
        Ok(())
    }

    fn switch(&mut self, option: &str, on: bool) -> Result<(), PatchError> {
        self.set(option, if on { "true" } else { "false" })
    }

    fn replace(&mut self, (place, _): At, raw: &str) -> Result<(), PatchError> {
        // A value of several lines is one text only once they are joined.
        let one = &self.settings()[place];
        if self.text.get(one.span.clone()) != Some(one.value.as_str()) {
            return Err(PatchError::Layout);
        }
        self.put(place, raw);
        Ok(())
    }

    fn remove(&mut self, at: &[At]) {
        let places: BTreeSet<usize> = at.iter().map(|(place, _)| *place).collect();
        for place in places {
            let setting = self.settings()[place].clone();
            let words = split(&setting).into_iter().enumerate();
            let kept: Vec<String> =
                words.filter(|(word, _)| !at.contains(&(place, *word))).map(|(_, word)| word.text).collect();
            if kept.is_empty() {
                // With the end of the line before, which a section's head is at least.
                let before =
                    self.text[..setting.lines.start].trim_end_matches('\n').trim_end_matches('\r').len();
                self.edits.put(before..setting.lines.end, String::new());
            } else {
                self.put(place, &kept.join(" "));
            }
        }
    }
}
